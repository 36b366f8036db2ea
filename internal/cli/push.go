package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/output/tui"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/retention"
)

func pushCommand() *cli.Command {
	return &cli.Command{
		Name: "push", Usage: "sends built images to their destinations, under every tag", ArgsUsage: "[RECEIPT] [IMAGE…]",
		Description: "Sends the images of the recipe, or those named, as this project built them last, or as the receipt of a build\n" +
			"(a file) tells where that was done in another folder. What a registry has already is not\n" +
			"sent again; tags are written last, when all content is everywhere. A fixed tag never moves, and a moving tag never\n" +
			"goes back to an older build. To push an image anywhere else, use copy.\n\nExample: imbricat push gauge",
		Flags:  append([]cli.Flag{platformFlag(), factFlag(), forceFlag(), dirtyFlag(), byDigestFlag()}, runFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return runPush(ctx, newSession(c)) },
	}
}

func forceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "let moving tags go back to an older build (fixed tags never move)", Sources: env("FORCE")}
}

func dirtyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "dirty", Usage: "push under tags that name a commit what was built from other files than that commit has", Sources: env("DIRTY")}
}

func byDigestFlag() cli.Flag {
	return &cli.BoolFlag{Name: "by-digest", Usage: "send the content to every destination and write no tag; join writes them later", Sources: env("BY_DIGEST")}
}

// shipment is one image on its way to one destination.
type shipment struct {
	image  string
	desc   digest.Descriptor
	to     plan.Destination
	under  *transfer.Transfer
	there  bool // all content is
	held   []receipt.Held
	wanted []string // tags that are left for later
	began  time.Time
	result *transfer.Result
}

func runPush(ctx context.Context, s *session) (err error) {
	r, err := s.begin("push")
	if err != nil {
		return err
	}
	defer func() { err = r.close(ctx, err) }()
	images, told, err := s.toPush()
	if err != nil {
		return err
	}
	p, st, err := s.planAndStoreOf(images)
	if err != nil {
		return err
	}
	r.from(p)
	shipments, err := s.shipments(ctx, p, st, s.cmd.Bool("by-digest"), func(name string) (digest.Descriptor, error) {
		if told == nil {
			return st.LookupOf(st.Project, name)
		}
		if desc, is := st.Document(told[name]); is {
			return desc, nil
		}
		return digest.Descriptor{}, fmt.Errorf("the store has no image %s, which the receipt names for %s", told[name], name)
	})
	if err != nil {
		return err
	}
	opener, err := s.opener(st)
	if err != nil {
		return err
	}
	if err := holdBackPrefixes(ctx, opener, shipments, s.cmd.Bool("force")); err != nil {
		return err
	}
	view := s.view(ctx)
	r.part = "push"
	err = s.ship(ctx, opener, p, st, shipments, view, &r.part)
	view.Close("")
	r.shipped(ctx, st, shipments)
	if err != nil {
		return err
	}
	document := &report.Push{Pushed: []report.Pushed{}}
	for _, one := range shipments {
		line := pushed(one.image, one.to.Repository, one.to.Tags, one.result, time.Since(one.began))
		line.Held = one.held
		if line.Platforms, err = platformDigests(ctx, st, one.desc); err != nil {
			return err
		}
		document.Pushed = append(document.Pushed, line)
	}
	r.r.Outcome = receipt.Done
	return s.result(document, func() error { return report.WriteReceipt(s.out, s.paint, r.r, false) })
}

// toPush reads the arguments of push: names of images, and the receipt of a build, which tells what they are where that build
// was made elsewhere: in another folder, or by another job.
func (s *session) toPush() (images []string, told map[string]digest.Digest, err error) {
	for _, arg := range s.cmd.Args().Slice() {
		if !receiptFile(arg) {
			images = append(images, arg)
			continue
		}
		r, err := readReceipt(arg)
		if err == nil {
			err = r.Finished()
		}
		if err != nil {
			return nil, nil, err
		}
		if told == nil {
			told = map[string]digest.Digest{}
		}
		for _, i := range r.Images {
			told[i.Name] = i.Digest
		}
	}
	if told != nil && len(images) == 0 {
		images = slices.Sorted(maps.Keys(told))
	}
	for _, name := range images {
		if _, known := told[name]; told != nil && !known {
			return nil, nil, flow.Usagef("the receipt names no image %q", name)
		}
	}
	return images, told, nil
}

// ship asks all destinations first, then sends all content everywhere, and then writes the tags. part is told when the
// tags' turn comes.
func (s *session) ship(ctx context.Context, opener *transfer.Places, p *planned, st *store.Store, shipments []*shipment, view tui.View, part *string) error {
	for _, one := range shipments {
		one.began = time.Now()
		from, err := opener.Source(reference.Reference{Kind: reference.Store, Digest: one.desc.Digest})
		if err != nil {
			return err
		}
		to, err := opener.Destination(one.to.Repository)
		if err != nil {
			return err
		}
		guard := one.guard(s.cmd.Bool("force"), func(ctx context.Context, stands registry.Document) (string, error) {
			return older(ctx, p, st, one.desc, stands)
		})
		if one.under, err = transfer.Begin(ctx, from, to, transfer.Options{Root: one.desc, Names: one.to.Tags, Guard: guard, Sink: view}); err != nil {
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
		if err := s.shipIndexes(ctx, opener, st, one); err != nil {
			view.Send(event.Warning{Code: event.Layers, Text: fmt.Sprintf("the indexes of %s are not published, so later divisions learn less: %s", one.image, err)})
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
		if one.result, err = one.under.Name(ctx); err != nil {
			if i > 0 {
				err = fmt.Errorf("%w; the tags of %s were written before", err, report.Count(i, "destination"))
			}
			return err
		}
	}
	return nil
}

// guard keeps fixed tags, moving prefixes of versions and other moving tags from going where they must not.
func (one *shipment) guard(force bool, older func(ctx context.Context, stands registry.Document) (string, error)) transfer.Guard {
	prefix := func(name string) bool { return slices.Contains(one.to.Prefixes, name) }
	g := transfer.Guard{Fixed: func(tag string) bool { return !prefix(tag) && retention.Match(one.to.Fixed, tag) }}
	if force {
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
func (one *shipment) version(prefix string) string {
	for _, tag := range one.to.Tags {
		if slices.Contains(retention.Prefixes(tag), prefix) {
			return tag
		}
	}
	return ""
}

// versionOf is the version that an image says of itself.
func versionOf(stands registry.Document) string { return saidBy(stands, v1.AnnotationVersion) }

// saidBy gives an annotation of an image.
func saidBy(stands registry.Document, key string) string {
	var there struct {
		Annotations map[string]string `json:"annotations"`
	}
	_ = json.Unmarshal(stands.Body, &there) // what is no document says nothing
	return there.Annotations[key]
}

// holdBackPrefixes holds back the moving prefixes of versions whose repository has a higher version: 1 does not go from 1.4.0 back to
// 1.3.9. Where a registry lists no tags for us, what a prefix stands on is asked alone, when it is to move.
func holdBackPrefixes(ctx context.Context, opener *transfer.Places, shipments []*shipment, force bool) error {
	for _, one := range shipments {
		if len(one.to.Prefixes) == 0 || len(one.to.Tags) == 0 || force {
			continue
		}
		tags, err := opener.Client.Repository(one.to.Repository.Host, one.to.Repository.Repository).Tags(ctx)
		var answer *registry.Error
		if errors.As(err, &answer) && (answer.NotFound() || answer.Denied()) {
			err = nil
		}
		if err != nil {
			return err
		}
		for _, prefix := range one.to.Prefixes {
			higher := retention.Above(prefix, one.version(prefix), tags)
			if higher == "" {
				continue
			}
			one.held = append(one.held, receipt.Held{Tag: prefix, Why: higher + " is there, and a prefix never moves back"})
			one.to.Tags = slices.DeleteFunc(slices.Clone(one.to.Tags), func(tag string) bool { return tag == prefix })
		}
	}
	return nil
}

// shipIndexes publishes what the layers of an image hold, where its division is kept or followed.
func (s *session) shipIndexes(ctx context.Context, opener *transfer.Places, st *store.Store, one *shipment) error {
	to, err := opener.Destination(one.to.Repository)
	if err != nil {
		return err
	}
	return errors.Join(publishIndexes(ctx, st, to, one.desc), to.Close())
}

// older tells why an image is older than the one that a tag stands on: its commit comes before the other's, or where nobody
// knows their relation, it was made before.
func older(ctx context.Context, p *planned, st *store.Store, own digest.Descriptor, stands registry.Document) (string, error) {
	index, err := image.ReadIndex(ctx, st, own)
	if err != nil {
		return "", err
	}
	return olderThan(p.facts.Git, index.Annotations, stands), nil
}

// olderThan compares what an image says of itself with what stands at a registry.
func olderThan(git *facts.Git, own map[string]string, stands registry.Document) string {
	var there struct {
		Annotations map[string]string `json:"annotations"`
	}
	if json.Unmarshal(stands.Body, &there) != nil {
		return "" // nobody knows what it is
	}
	if git != nil && git.Known() && own[v1.AnnotationRevision] == git.Commit {
		switch git.Ancestry(there.Annotations[v1.AnnotationRevision]) {
		case facts.After:
			return "it was built from a later commit, " + there.Annotations[v1.AnnotationRevision][:12]
		case facts.Before, facts.Same:
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
	return known(at)
}

// known is a time, or zero for the constant that an image has where nobody knows when it was made.
func known(t time.Time) time.Time {
	if t.Equal(layer.Epoch) {
		return time.Time{}
	}
	return t
}

// platformDigests gives the digests of an image's platforms.
func platformDigests(ctx context.Context, f image.Fetcher, root digest.Descriptor) (map[string]digest.Digest, error) {
	offers, err := image.Offers(ctx, f, root)
	if errors.Is(err, image.ErrMalformed) {
		return nil, nil // an artifact
	}
	all := map[string]digest.Digest{}
	for _, o := range offers {
		all[o.Platform.String()] = o.Descriptor.Digest
	}
	return all, err
}

// shipments finds what is to go where, and refuses an image that is not what the recipe now tells. made finds images.
func (s *session) shipments(ctx context.Context, p *planned, st *store.Store, byDigest bool, made func(name string) (digest.Descriptor, error)) ([]*shipment, error) {
	var list []*shipment
	destinations := 0
	for _, i := range p.plan.Images {
		for _, d := range i.Destinations {
			destinations++
			if len(d.Tags) == 0 && !byDigest {
				continue
			}
			one := &shipment{image: i.Name, to: d}
			for _, h := range d.Held {
				one.held = append(one.held, receipt.Held{Tag: h.Tag, Why: "its condition does not hold: " + h.When})
			}
			if byDigest {
				one.wanted, one.to.Tags = d.Tags, nil
			}
			desc, err := made(i.Name)
			if err != nil {
				return nil, fmt.Errorf("%w; run `imbricat build %s` first", err, i.Name)
			}
			if err := s.checkFresh(ctx, st, p, i, desc, one.to); err != nil {
				return nil, err
			}
			one.desc = desc
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

// checkFresh compares what an image says of its making with what the recipe's facts are now: its tags would lie else.
func (s *session) checkFresh(ctx context.Context, st *store.Store, p *planned, i *plan.Image, desc digest.Descriptor, to plan.Destination) error {
	index, err := image.ReadIndex(ctx, st, desc)
	if err != nil {
		return fmt.Errorf("%s: %w", i.Name, err)
	}
	revision, dirty := strings.CutSuffix(index.Annotations[v1.AnnotationRevision], engine.DirtyRevision)
	if index.Annotations != nil {
		index.Annotations[v1.AnnotationRevision] = revision
	}
	if dirty {
		if err := s.refuseDirty(i.Name, to, "it was built from files that differ from the commit "+shortCommit(revision)); err != nil {
			return err
		}
	}
	for _, check := range []struct{ name, key, now string }{
		{"commit", v1.AnnotationRevision, p.facts.Git.Commit},
		{"version", v1.AnnotationVersion, i.Units[0].Version},
	} {
		_, overridden := i.Units[0].Annotations[check.key]
		if built := index.Annotations[check.key]; !overridden && built != "" && check.now != "" && built != check.now {
			return fmt.Errorf("%s in the store was built from %s %s, and it is %s now: run `imbricat build %s` first (with the same --fact)",
				i.Name, check.name, built, check.now, i.Name)
		}
	}
	return nil
}

// refuseDirty refuses tags that name a commit, or a tag of version control, for an image that is made of something else.
func (s *session) refuseDirty(name string, to plan.Destination, why string) error {
	var lying []string
	for _, tag := range to.Named {
		if slices.Contains(to.Tags, tag) {
			lying = append(lying, tag)
		}
	}
	if len(lying) == 0 || s.cmd.Bool("dirty") {
		return nil
	}
	return flow.Refusedf("%s is not pushed as %s: %s; commit them and build again, or push it all the same with --dirty (its revision says so)",
		name, strings.Join(lying, ", "), why)
}

func shortCommit(commit string) string { return commit[:min(7, len(commit))] }

func pushed(name string, to reference.Reference, tags []string, r *transfer.Result, took time.Duration) report.Pushed {
	return report.Pushed{
		Image: name, Repository: to.String(), Tags: tags, Digest: r.Descriptor.Digest,
		Sent: r.Sent, SentBytes: r.SentBytes, Mounted: r.Mounted, MountedBytes: r.MountedBytes,
		Skipped: r.Skipped, SkippedBytes: r.SkippedBytes, Seconds: took.Seconds(),
	}
}
