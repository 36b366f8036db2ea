package tags

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/push"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
)

// Past is a tag whose history is asked for, and where from.
type Past struct {
	Repository *registry.Repository
	Tag        string
	Store      *store.Store
	Seen       *Seen
	Receipts   map[string]*receipt.Receipt // by their names
}

// backMark begins the reason of a move back, so that going back once more goes further.
const backMark = "back: "

// History tells what a tag stood on, the oldest first: by the registry's own log where it keeps one, else by receipts and by what this
// machine saw. The last is what it stands on now.
func (p *Past) History(ctx context.Context) (*report.TagHistory, error) {
	document := &report.TagHistory{Repository: p.Repository.String(), Tag: p.Tag, History: []report.TagStood{}}
	now, err := p.standing(ctx)
	if err != nil {
		return nil, err
	}
	logged, known, err := p.Repository.History(ctx, p.Tag)
	if err != nil {
		return nil, err
	}
	document.Logged = known
	var list []report.TagStood
	for _, one := range logged {
		list = append(list, report.TagStood{Time: one.Time, Digest: one.Digest, Who: one.Who, Why: one.Why, From: "registry"})
	}
	list = older(list, slices.Concat(p.ofReceipts(), p.ofMachine()))
	if last := len(list) - 1; now.Digest != "" && (last < 0 || list[last].Digest != now.Digest) {
		list = append(list, report.TagStood{Time: time.Now().UTC().Truncate(time.Second), Digest: now.Digest, From: "seen now"})
	}
	for i := range list {
		one := &list[i]
		if same := slices.IndexFunc(list[:i], func(o report.TagStood) bool { return o.Digest == one.Digest }); same >= 0 {
			one.There, one.Revision, one.Version = list[same].There, list[same].Revision, list[same].Version
			continue
		}
		p.describe(ctx, one)
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s:%s is not there, and nothing is known of it", p.Repository, p.Tag)
	}
	document.History = list
	return document, nil
}

// standing is what the tag stands on; without a digest it is not there.
func (p *Past) standing(ctx context.Context) (digest.Descriptor, error) {
	document, err := p.Repository.Tagged(ctx, p.Tag, image.Accepted)
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return digest.Descriptor{}, nil
	}
	return document.Descriptor, err
}

// older puts before what the registry logged, of which the times are one clock's, what others tell of the time before that; and tells of the
// digests that it logged what receipts know of them. Without a log all of it counts.
func older(logged, others []report.TagStood) []report.TagStood {
	slices.SortStableFunc(others, func(a, b report.TagStood) int { return a.Time.Compare(b.Time) })
	var before []report.TagStood
	for _, one := range others {
		at := slices.IndexFunc(logged, func(l report.TagStood) bool { return l.Digest == one.Digest })
		switch {
		case at >= 0 && logged[at].Receipt == "":
			logged[at].Receipt = one.Receipt
		case at < 0 && (len(logged) == 0 || one.Time.Before(logged[0].Time)):
			before = append(before, one)
		}
	}
	var list []report.TagStood
	for _, one := range slices.Concat(before, logged) {
		last := len(list) - 1
		if last < 0 || list[last].Digest != one.Digest {
			list = append(list, one)
		} else if list[last].Receipt == "" {
			list[last].Receipt = one.Receipt
		}
	}
	return list
}

// ofReceipts are the times that receipts tell of.
func (p *Past) ofReceipts() (list []report.TagStood) {
	for name, r := range p.Receipts {
		for _, i := range r.Images {
			for _, d := range i.Destinations {
				if d.Repository == p.Repository.String() && slices.Contains(d.Tags, p.Tag) {
					at := r.Began.Add(time.Duration(r.Seconds * float64(time.Second))).Truncate(time.Second)
					list = append(list, report.TagStood{Time: at, Digest: i.At(d), From: "receipt", Receipt: name})
				}
			}
		}
	}
	return list
}

// ofMachine are the times that this machine knows of.
func (p *Past) ofMachine() (list []report.TagStood) {
	for _, one := range p.Seen.of(p.Store, p.Repository.String(), p.Tag) {
		from := "seen here"
		if one.Wrote {
			from = "written here"
		}
		list = append(list, report.TagStood{Time: one.Time, Digest: one.Digest, From: from, Why: one.Why})
	}
	return list
}

// describe tells what an image says of itself, and whether it is still there.
func (p *Past) describe(ctx context.Context, one *report.TagStood) {
	if one.Digest == "" {
		return
	}
	document, err := p.Repository.Tagged(ctx, string(one.Digest), image.Accepted)
	if err != nil {
		return
	}
	one.There, one.Revision, one.Version = true, push.RevisionOf(document), push.SaidBy(document, v1.AnnotationVersion)
}

// Return is how a tag goes back.
type Return struct {
	To             digest.Digest // zero: what it stood on before
	Why            string
	Fixed          func(tag string) bool // tags that never move
	FewerPlatforms bool
	DryRun         bool
}

// Back moves a tag to what it stood on before, or to a digest.
func (p *Past) Back(ctx context.Context, o Return) (*report.TagBack, error) {
	if o.Fixed(p.Tag) {
		return nil, flow.Refusedf("%s:%s is a tag that never moves, as the recipe here says", p.Repository, p.Tag)
	}
	h, err := p.History(ctx)
	if err != nil {
		return nil, err
	}
	now := h.History[len(h.History)-1]
	if now.Digest == "" {
		return nil, fmt.Errorf("%s:%s is not there; `imbricat tags add` gives an image the tag", p.Repository, p.Tag)
	}
	wanted := o.To
	if wanted == "" {
		before := beforeThat(h.History)
		if before == nil {
			return nil, fmt.Errorf("nothing is known of what %s:%s stood on before; --to DIGEST names it, and --receipts tells more", p.Repository, p.Tag)
		}
		if !before.There {
			return nil, fmt.Errorf("%s:%s stood on %s before, which is not there any more; --to DIGEST goes elsewhere", p.Repository, p.Tag, before.Digest)
		}
		wanted = before.Digest
	}
	document, err := p.Repository.Tagged(ctx, string(wanted), image.Accepted)
	if err != nil {
		return nil, err
	}
	if err := p.losesNone(ctx, now.Digest, document, o); err != nil {
		return nil, err
	}
	back := &report.TagBack{Repository: p.Repository.String(), Tag: p.Tag, From: now.Digest, To: wanted, Why: o.Why, DryRun: o.DryRun}
	if o.DryRun || wanted == now.Digest {
		return back, nil
	}
	// Whoever moved it meanwhile has a reason too.
	if again, err := p.standing(ctx); err != nil || again.Digest != now.Digest {
		return nil, errors.Join(err, fmt.Errorf("%s:%s was moved by somebody else just now, to %s; look again", p.Repository, p.Tag, again.Digest))
	}
	if err := p.Repository.Because(backMark+o.Why).PutManifest(ctx, p.Tag, document.Descriptor.MediaType, document.Body); err != nil {
		return nil, err
	}
	p.Seen.because(p.Repository.String(), p.Tag, backMark+o.Why)
	return back, nil
}

// losesNone refuses an image that lacks platforms of the one that the tag stands on.
func (p *Past) losesNone(ctx context.Context, now digest.Digest, wanted registry.Document, o Return) error {
	if o.FewerPlatforms {
		return nil
	}
	stands, err := p.Repository.Tagged(ctx, string(now), image.Accepted)
	if err != nil {
		return err
	}
	if why := transfer.Loses(stands, transfer.PlatformsOf(wanted)); why != "" {
		return flow.Refusedf("%s:%s is not moved to %s: %s", p.Repository, p.Tag, wanted.Descriptor.Digest, why)
	}
	return nil
}

// beforeThat returns what a tag stood on before it was moved to where it stands now. What was moved back from counts as not having been.
func beforeThat(list []report.TagStood) *report.TagStood {
	var stack []*report.TagStood
	for i := range list {
		one := &list[i]
		if strings.HasPrefix(one.Why, backMark) {
			at := slices.IndexFunc(stack, func(s *report.TagStood) bool { return s.Digest == one.Digest })
			if at >= 0 {
				stack = stack[:at+1]
				continue
			}
		}
		if one.Digest != "" {
			stack = append(stack, one)
		}
	}
	for i := len(stack) - 2; i >= 0; i-- {
		if stack[i].Digest != stack[len(stack)-1].Digest {
			return stack[i]
		}
	}
	return nil
}
