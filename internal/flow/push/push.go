// Package push sends built images to their destinations: all content first, and then every tag. A fixed tag never moves, a moving
// one never goes back, and no tag lies about the commit that it names. It builds nothing and prints nothing.
package push

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/flow/published"
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
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/retention"
)

// Options are what a person may decide otherwise.
type Options struct {
	Moves
	Dirty    bool // tags that name a commit may name what differs from it
	ByDigest bool // no tag is written
}

// Moves are what moving tags may do that they do not do by themselves. Fixed tags never move.
type Moves struct {
	Back           bool // go back to an older build
	FewerPlatforms bool // lose platforms, and lack some that the recipe requires
}

// Shipment is one image on its way to one destination: its index, or what it is for one platform.
type Shipment struct {
	Image      string
	Index      digest.Descriptor // of the image
	Descriptor digest.Descriptor // of what goes there
	To         plan.Destination
	OnFailure  bool // it goes there for a look, since a check of it does not hold
	Held       []receipt.Held
	Wanted     []string // tags that are left for later
	Began      time.Time
	Result     *transfer.Result // when its tags are written
	under      *transfer.Transfer
	there      bool // all content is
}

// Record notes in a receipt how far shipments came.
func Record(ctx context.Context, k *receipts.Recorder, st *store.Store, shipments []*Shipment) {
	for _, one := range shipments {
		to := receipt.Destination{Name: one.To.Name, Repository: one.To.Repository.String(), Platform: one.To.Single(), Held: one.Held, Fixed: one.To.Fixed, Prefixes: one.To.Prefixes, OnFailure: one.OnFailure}
		for _, p := range one.To.Requires {
			to.Requires = append(to.Requires, p.String())
		}
		to.Wanted = append(append([]string{}, one.To.Tags...), one.Wanted...)
		if one.under != nil {
			r := one.under.Sofar()
			to.Tags, to.Sent, to.SentBytes, to.Mounted, to.MountedBytes, to.Skipped, to.SkippedBytes = r.Named, r.Sent, r.SentBytes, r.Mounted, r.MountedBytes, r.Skipped, r.SkippedBytes
			to.Seconds = time.Since(one.Began).Seconds()
		}
		i := k.Image(ctx, st, one.Image, one.Index)
		if one.there {
			to.Reference = to.Repository + "@" + string(one.Descriptor.Digest)
		}
		i.Destinations = append(i.Destinations, to)
	}
}

// Send asks all destinations first, then sends all content everywhere, and then writes the tags. part is told when the
// tags' turn comes.
func Send(ctx context.Context, w *workspace.Workspace, shipments []*Shipment, may Moves, sink event.Sink, part *string) error {
	for _, one := range shipments {
		one.Began = time.Now()
		from, err := w.Places.Source(reference.Reference{Kind: reference.Store, Digest: one.Descriptor.Digest})
		if err != nil {
			return err
		}
		to, err := w.Places.Destination(one.To.Repository)
		if err != nil {
			return err
		}
		guard := one.Guard(may, func(ctx context.Context, stands registry.Document) (string, error) {
			return older(ctx, w, one.Index, stands)
		})
		if one.under, err = transfer.Begin(ctx, from, to, transfer.Options{Root: one.Descriptor, Names: one.To.Tags, Guard: guard, Sink: sink}); err != nil {
			return err
		}
	}
	for _, one := range shipments {
		if err := one.under.Content(ctx); err != nil {
			return err
		}
		one.there = true
	}
	for _, one := range shipments {
		if err := putIndexes(ctx, w, one); err != nil {
			sink.Send(event.Warning{Code: event.Layers, Text: fmt.Sprintf("the indexes of %s are not published, so later divisions learn less: %s", one.Image, err)})
		}
	}
	*part = "tags"
	for _, one := range shipments {
		if err := one.under.Ready(ctx); err != nil {
			return fmt.Errorf("%w; all content is in place, and no tag was written", err)
		}
	}
	for i, one := range shipments {
		var err error
		if one.Result, err = one.under.Name(ctx); err != nil {
			if i > 0 {
				err = fmt.Errorf("%w; the tags of %s were written before", err, report.Count(i, "destination"))
			}
			return err
		}
	}
	return nil
}

// Guard keeps fixed tags, moving prefixes of versions and other moving tags from going where they must not.
func (one *Shipment) Guard(may Moves, older func(ctx context.Context, stands registry.Document) (string, error)) transfer.Guard {
	prefix := func(name string) bool { return slices.Contains(one.To.Prefixes, name) }
	g := transfer.Guard{Fixed: func(tag string) bool { return !prefix(tag) && retention.Match(one.To.Fixed, tag) }, KeepPlatforms: !may.FewerPlatforms}
	if may.Back {
		return g
	}
	g.Older = func(ctx context.Context, name string, stands registry.Document) (string, error) {
		if !prefix(name) {
			return older(ctx, stands)
		}
		if there := versionOf(stands); there != "" && retention.Above(name, one.version(name), []string{there}) != "" {
			return "it is the version " + there, nil
		}
		return "", nil
	}
	return g
}

// version is the tag whose moving prefix a name is.
func (one *Shipment) version(prefix string) string {
	for _, tag := range one.To.Tags {
		if slices.Contains(retention.Prefixes(tag), prefix) {
			return tag
		}
	}
	return ""
}

// RevisionOf is the commit that an image says it was built from.
func RevisionOf(stands registry.Document) string { return SaidBy(stands, v1.AnnotationRevision) }

// versionOf is the version that an image says of itself.
func versionOf(stands registry.Document) string { return SaidBy(stands, v1.AnnotationVersion) }

// SaidBy returns an annotation of an image.
func SaidBy(stands registry.Document, key string) string {
	var there struct {
		Annotations map[string]string `json:"annotations"`
	}
	_ = json.Unmarshal(stands.Body, &there) // what is no document says nothing
	return there.Annotations[key]
}

// HoldBackPrefixes holds back the moving prefixes of versions whose repository has a higher version: 1 does not go from 1.4.0 back to
// 1.3.9. Where a registry lists no tags for us, what a prefix stands on is asked alone, when it is to move.
func HoldBackPrefixes(ctx context.Context, client *registry.Client, shipments []*Shipment, may Moves) error {
	for _, one := range shipments {
		if len(one.To.Prefixes) == 0 || len(one.To.Tags) == 0 || may.Back {
			continue
		}
		tags, err := client.Repository(one.To.Repository.Host, one.To.Repository.Repository).Tags(ctx)
		var answer *registry.Error
		if errors.As(err, &answer) && (answer.NotFound() || answer.Denied()) {
			err = nil
		}
		if err != nil {
			return err
		}
		for _, prefix := range one.To.Prefixes {
			higher := retention.Above(prefix, one.version(prefix), tags)
			if higher == "" {
				continue
			}
			one.Held = append(one.Held, receipt.Held{Tag: prefix, Why: higher + " is there, and a prefix never moves back"})
			one.To.Tags = slices.DeleteFunc(slices.Clone(one.To.Tags), func(tag string) bool { return tag == prefix })
		}
	}
	return nil
}

// putIndexes publishes what the layers of an image hold, where its division is kept or followed.
func putIndexes(ctx context.Context, w *workspace.Workspace, one *Shipment) error {
	to, err := w.Places.Destination(one.To.Repository)
	if err != nil {
		return err
	}
	return errors.Join(published.PutIndexes(ctx, w.Store, to, one.Descriptor), to.Close())
}

// older tells why an image is older than the one that a tag stands on: its commit comes before the other's, or where nobody
// knows their relation, it was made before.
func older(ctx context.Context, w *workspace.Workspace, own digest.Descriptor, stands registry.Document) (string, error) {
	index, err := image.ReadIndex(ctx, w.Store, own)
	if err != nil {
		return "", err
	}
	return Older(w.Facts.Git, index.Annotations, stands), nil
}

// Older compares what an image says of itself with what stands at a registry.
func Older(git *facts.Git, own map[string]string, stands registry.Document) string {
	var there struct {
		Annotations map[string]string `json:"annotations"`
	}
	if json.Unmarshal(stands.Body, &there) != nil {
		return "" // nobody knows what it is
	}
	if git != nil && git.Known() {
		// An image of other files than its commit has is as old as the commit.
		ours, theirs := strings.TrimSuffix(own[v1.AnnotationRevision], engine.DirtyRevision), strings.TrimSuffix(there.Annotations[v1.AnnotationRevision], engine.DirtyRevision)
		switch git.Ancestry(ours, theirs) {
		case facts.Before:
			return "it was built from a later commit, " + there.Annotations[v1.AnnotationRevision][:12]
		case facts.After, facts.Same:
			return ""
		}
	}
	ours, theirs := madeAt(own), madeAt(there.Annotations)
	if !ours.IsZero() && !theirs.IsZero() && ours.Before(theirs) {
		return "it is from " + theirs.UTC().Format(time.RFC3339) + ", and this one is from " + ours.UTC().Format(time.RFC3339)
	}
	return ""
}

// madeAt is when an image says that it was made; zero where it does not say, or says the constant that stands for that.
func madeAt(annotations map[string]string) time.Time {
	at, err := time.Parse(time.RFC3339, annotations[v1.AnnotationCreated])
	if err != nil {
		return time.Time{}
	}
	return image.KnownTime(at)
}

// Shipments returns what is to go where, and refuses an image that is not what the recipe now tells. made finds images.
func Shipments(ctx context.Context, w *workspace.Workspace, o Options, made func(name string) (digest.Descriptor, error)) ([]*Shipment, error) {
	var list []*Shipment
	destinations := 0
	for _, i := range w.Plan.Images {
		for _, d := range i.Destinations {
			destinations++
			if len(d.Tags) == 0 && !o.ByDigest {
				continue
			}
			one := &Shipment{Image: i.Name, To: d}
			for _, h := range d.Held {
				one.Held = append(one.Held, HeldByCondition(h))
			}
			if o.ByDigest {
				one.Wanted, one.To.Tags = d.Tags, nil
			}
			desc, err := made(i.Name)
			if err != nil {
				return nil, fmt.Errorf("%w; run `imbricat build %s` first", err, i.Name)
			}
			if err := checkFresh(ctx, w, i, desc, one.To, o); err != nil {
				return nil, err
			}
			if err := RequirePlatforms(i.Name, one.To, o, BuiltFor(i)); err != nil {
				return nil, err
			}
			if one.Index, one.Descriptor = desc, desc; !d.Whole() {
				if one.Descriptor, err = forPlatform(ctx, w.Store, desc, d.Platform); err != nil {
					return nil, fmt.Errorf("%s: %w", i.Name, err)
				}
			}
			list = append(list, one)
		}
	}
	switch {
	case destinations == 0:
		return nil, flow.Usagef("the recipe names no destination: write publish: under the image, or use `imbricat copy IMAGE HOST/REPOSITORY:TAG`")
	case len(list) == 0:
		return nil, flow.Usagef("no tag's condition holds, so there is nothing to push; `imbricat plan` shows them")
	}
	return list, nil
}

// HeldByCondition tells of a tag whose condition does not hold.
func HeldByCondition(h plan.Held) receipt.Held {
	return receipt.Held{Tag: h.Tag, Why: "its condition does not hold: " + h.When}
}

// forPlatform is what an index offers for a platform.
func forPlatform(ctx context.Context, st *store.Store, index digest.Descriptor, p platform.Platform) (digest.Descriptor, error) {
	offers, err := image.Offers(ctx, st, index)
	if err != nil {
		return digest.Descriptor{}, err
	}
	at := slices.IndexFunc(offers, func(o image.Offer) bool { return o.Platform == p })
	if at < 0 {
		return digest.Descriptor{}, fmt.Errorf("the image in the store is not for %s", p)
	}
	return offers[at].Descriptor, nil
}

// BuiltFor returns the platforms that an image is planned for.
func BuiltFor(i *plan.Image) (all []platform.Platform) {
	for _, u := range i.Units {
		all = append(all, u.ID.Platform)
	}
	return all
}

// RequirePlatforms refuses tags for an index that lacks platforms which the recipe requires of it.
func RequirePlatforms(image string, to plan.Destination, o Options, has []platform.Platform) error {
	if o.FewerPlatforms || len(to.Tags) == 0 {
		return nil
	}
	for _, p := range to.Requires {
		if !slices.Contains(has, p) {
			return flow.Refusedf("%s is not pushed to %s: its tags require %s; --by-digest has it joined with the others, and --fewer-platforms pushes it all the same", image, to.Repository, p)
		}
	}
	return nil
}

// checkFresh compares what an image says of its making with what the recipe's facts are now: its tags would lie else.
func checkFresh(ctx context.Context, w *workspace.Workspace, i *plan.Image, desc digest.Descriptor, to plan.Destination, o Options) error {
	index, err := image.ReadIndex(ctx, w.Store, desc)
	if err != nil {
		return fmt.Errorf("%s: %w", i.Name, err)
	}
	revision, dirty := strings.CutSuffix(index.Annotations[v1.AnnotationRevision], engine.DirtyRevision)
	if index.Annotations != nil {
		index.Annotations[v1.AnnotationRevision] = revision
	}
	if dirty {
		if err := RefuseDirty(i.Name, to, o, "it was built from files that differ from the commit "+shortCommit(revision)); err != nil {
			return err
		}
	}
	now, err := w.Revision(ctx, i)
	if err != nil {
		return fmt.Errorf("%s: %w", i.Name, err)
	}
	if revision == w.Facts.Git.Commit {
		now = revision // it takes in what no commit has
	}
	for _, check := range []struct{ name, key, now string }{
		{"commit", v1.AnnotationRevision, now},
		{"version", v1.AnnotationVersion, i.Units[0].Version},
	} {
		_, overridden := i.Units[0].Values.Annotations[check.key]
		if built := index.Annotations[check.key]; !overridden && built != "" && check.now != "" && built != check.now {
			return fmt.Errorf("%s in the store was built from %s %s, and it is %s now: run `imbricat build %s` first (with the same --fact)",
				i.Name, check.name, built, check.now, i.Name)
		}
	}
	return nil
}

// RefuseDirty refuses tags that name a commit, or a tag of version control, for an image that is made of something else.
func RefuseDirty(name string, to plan.Destination, o Options, why string) error {
	var lying []string
	for _, tag := range to.Named {
		if slices.Contains(to.Tags, tag) {
			lying = append(lying, tag)
		}
	}
	if len(lying) == 0 || o.Dirty {
		return nil
	}
	return flow.Refusedf("%s is not pushed as %s: %s; commit them and build again, or push it all the same with --dirty (its revision says so)",
		name, strings.Join(lying, ", "), why)
}

func shortCommit(commit string) string { return commit[:min(7, len(commit))] }

// Line tells of a shipment that went to a place.
func (one *Shipment) Line(to reference.Reference, tags []string) report.Pushed {
	r := one.Result
	return report.Pushed{
		Image: one.Image, Repository: to.String(), Tags: tags, Digest: r.Descriptor.Digest, Platform: one.To.Single(),
		Sent: r.Sent, SentBytes: r.SentBytes, Mounted: r.Mounted, MountedBytes: r.MountedBytes,
		Skipped: r.Skipped, SkippedBytes: r.SkippedBytes, Seconds: time.Since(one.Began).Seconds(),
	}
}
