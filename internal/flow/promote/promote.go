// Package promote takes an image from one repository to others, with all that refers to it, once the checks that the recipe has for those hold.
// It builds nothing, and moves no tag where push would not.
package promote

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
	"imbricat/internal/engine/check"
	"imbricat/internal/flow"
	"imbricat/internal/flow/checks"
	"imbricat/internal/flow/copying"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Options say what is promoted, and where to.
type Options struct {
	From reference.Reference
	To   []reference.Reference // each with a tag
	push.Moves
	Fresh bool // checks are held again that held for the digest before
}

// Promotion is a run of it.
type Promotion struct {
	Store  *store.Store
	Places *transfer.Places
	// Work is what the recipe here says; nil: there is none, or it does not speak of the destinations.
	Work *workspace.Workspace
	Sink event.Sink
	K    *receipts.Recorder
	// Unchecked is set where the recipe here has no check of what goes to the destinations.
	Unchecked bool

	o    Options
	root digest.Descriptor   // what is promoted
	has  []platform.Platform // that it is for
}

// Run holds the checks, sends all content, and then writes all tags.
func (p *Promotion) Run(ctx context.Context, o Options) error {
	p.o, p.K.Part = o, "destinations"
	from, err := p.Places.Source(o.From)
	if err != nil {
		return err
	}
	defer from.Close()
	if p.root, err = from.Root(ctx); err != nil {
		return err
	}
	document, err := p.Places.Client.Source(o.From.Host, o.From.Repository).Tagged(ctx, string(p.root.Digest), image.Accepted)
	if err != nil {
		return err
	}
	if p.has, err = p.platforms(ctx, from); err != nil {
		return err
	}
	shipments, err := p.shipments()
	if err != nil {
		return err
	}
	var under []*transfer.Transfer
	for _, one := range shipments {
		// Asked before the checks, which take longer.
		if err := p.Places.Client.Repository(one.To.Repository.Host, one.To.Repository.Repository).MayPush(ctx); err != nil {
			return fmt.Errorf("%s cannot be pushed to: %w", one.To.Repository, err)
		}
		to, err := p.Places.Destination(one.To.Repository)
		if err != nil {
			return err
		}
		defer to.Close()
		guard := one.Guard(o.Moves, func(_ context.Context, stands registry.Document) (string, error) {
			return push.Older(nil, said(document), stands), nil
		})
		t, err := transfer.Begin(ctx, from, to, transfer.Options{Root: p.root, Names: one.To.Tags, Referrers: true, Guard: guard, Sink: p.Sink})
		if err != nil {
			return err
		}
		under = append(under, t)
	}
	p.K.Part = "checks"
	if err := p.hold(ctx, from); err != nil {
		return err
	}
	p.K.Part = "push"
	for _, t := range under {
		if err := t.Content(ctx); err != nil {
			return err
		}
	}
	p.K.Part = "tags"
	for i, t := range under {
		_, err := t.Name(ctx)
		p.record(ctx, from, shipments[i], t.Sofar())
		if err != nil {
			return err
		}
	}
	return nil
}

// said are the annotations of an image.
func said(d registry.Document) map[string]string {
	all := map[string]string{}
	for _, key := range []string{v1.AnnotationCreated, v1.AnnotationRevision, v1.AnnotationVersion} {
		if text := push.SaidBy(d, key); text != "" {
			all[key] = text
		}
	}
	return all
}

// shipments are the destinations with what the recipe says of them.
func (p *Promotion) shipments() (list []*push.Shipment, err error) {
	for _, ref := range p.o.To {
		same := slices.IndexFunc(list, func(one *push.Shipment) bool {
			return one.To.Repository.Host == ref.Host && one.To.Repository.Repository == ref.Repository
		})
		if same >= 0 {
			list[same].To.Tags = append(list[same].To.Tags, ref.Tag)
			continue
		}
		to := plan.Destination{Repository: ref, Tags: []string{ref.Tag}}
		to.Repository.Tag = ""
		name := to.Repository.Repository
		for _, i := range p.images() {
			for _, d := range i.Destinations {
				if d.Whole() && d.Repository == to.Repository {
					to.Name, to.Fixed, to.Requires, name = d.Name, d.Fixed, d.Requires, i.Name
				}
			}
		}
		if err := push.RequirePlatforms(name, to, push.Options{Moves: p.o.Moves}, p.has); err != nil {
			return nil, err
		}
		list = append(list, &push.Shipment{Image: name, To: to, Began: time.Now()})
	}
	return list, nil
}

func (p *Promotion) images() []*plan.Image {
	if p.Work == nil {
		return nil
	}
	return p.Work.Plan.Images
}

// platforms are those that the image is for; none of what is no image.
func (p *Promotion) platforms(ctx context.Context, from transfer.Place) (list []platform.Platform, err error) {
	offers, err := image.Offers(ctx, from, p.root)
	if errors.Is(err, image.ErrArtifact) || errors.Is(err, image.ErrMalformed) {
		return nil, nil
	}
	for _, o := range offers {
		list = append(list, o.Platform)
	}
	return list, err
}

// hold holds the checks that the recipe has for what goes to the destinations. Those of stages and bases are of the making of an image, and
// were held then.
func (p *Promotion) hold(ctx context.Context, from transfer.Place) error {
	work, wanted := p.checked()
	if !wanted {
		p.Unchecked = true
		return nil
	}
	into, err := p.Places.Destination(reference.Reference{Kind: reference.Store, Digest: p.root.Digest})
	if err != nil {
		return err
	}
	defer into.Close()
	if _, err := copying.IntoStore(ctx, p.Store, from, into, transfer.Options{Root: p.root, Sink: p.Sink}); err != nil {
		return fmt.Errorf("bringing it to be checked: %w", err)
	}
	made := checks.Made{Image: func(string) (digest.Descriptor, error) { return p.root, nil }}
	if p.K.Receipt.Checks, err = checks.All(ctx, work, made, p.o.Fresh, p.Sink); err != nil {
		return err
	}
	failed := 0
	for _, c := range p.K.Receipt.Checks {
		if c.Outcome != check.Holds {
			failed++
		}
	}
	if failed > 0 {
		return flow.Differsf("%d of %s for %s not hold; nothing was promoted", failed, report.Count(len(p.K.Receipt.Checks), "check"), does(failed, p.o.To[0]))
	}
	return nil
}

func does(n int, to reference.Reference) string {
	if n == 1 {
		return to.String() + " does"
	}
	return to.String() + " do"
}

// checked is the plan with the images that go to the destinations, for the platforms that are promoted, and the checks that can be held of
// them. wanted reports whether there is any.
func (p *Promotion) checked() (work *workspace.Workspace, wanted bool) {
	if p.Work == nil {
		return nil, false
	}
	own, planned, rest := *p.Work, *p.Work.Planned, *p.Work.Plan
	rest.Images = nil
	for _, i := range p.Work.Plan.Images {
		one := *i
		one.Destinations = slices.Clone(i.Destinations)
		one.Destinations = slices.DeleteFunc(one.Destinations, func(d plan.Destination) bool {
			return !slices.ContainsFunc(p.o.To, func(to reference.Reference) bool { to.Tag = ""; return d.Whole() && d.Repository == to })
		})
		if len(one.Destinations) == 0 {
			continue
		}
		for n := range one.Destinations {
			one.Destinations[n].Tags = []string{"promoted"} // it is to get one, whatever the recipe's conditions are here
		}
		one.Units = nil
		for _, u := range i.Units {
			if !slices.Contains(p.has, u.ID.Platform) {
				continue
			}
			unit := *u
			unit.Checks = slices.DeleteFunc(slices.Clone(u.Checks), func(c plan.Check) bool {
				switch c.Do.(type) {
				case *recipe.StageCheck, *recipe.BaseCheck:
					return true
				}
				return false
			})
			wanted = wanted || len(unit.Checks) > 0
			one.Units = append(one.Units, &unit)
		}
		rest.Images = append(rest.Images, &one)
	}
	planned.Plan, own.Planned = &rest, &planned
	return &own, wanted
}

// record notes in the receipt what came of one destination.
func (p *Promotion) record(ctx context.Context, from transfer.Place, one *push.Shipment, r transfer.Result) {
	all := &p.K.Receipt.Images
	at := slices.IndexFunc(*all, func(i receipt.Image) bool { return i.Name == one.Image })
	if at < 0 {
		i := receipt.Image{Name: one.Image, Digest: p.root.Digest, MediaType: p.root.MediaType, Size: p.root.Size}
		if digests, err := image.PlatformDigests(ctx, from, p.root); err == nil {
			for name, d := range digests {
				i.Platforms = append(i.Platforms, receipt.Platform{Platform: name, Digest: d})
			}
		}
		slices.SortFunc(i.Platforms, func(a, b receipt.Platform) int { return strings.Compare(a.Platform, b.Platform) })
		*all, at = append(*all, i), len(*all)
	}
	to := one.To.Repository.String()
	(*all)[at].Destinations = append((*all)[at].Destinations, receipt.Destination{Name: one.To.Name, Repository: to, Reference: to + "@" + string(p.root.Digest), Tags: r.Named, Wanted: one.To.Tags,
		Fixed: one.To.Fixed, Sent: r.Sent, SentBytes: r.SentBytes, Mounted: r.Mounted, MountedBytes: r.MountedBytes, Skipped: r.Skipped, SkippedBytes: r.SkippedBytes,
		Seconds: time.Since(one.Began).Seconds()})
}
