package cli

import (
	"context"

	"fmt"
	"path"
	"sort"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/build"
	"imbricat/internal/digest"
	"imbricat/internal/image"
	"imbricat/internal/inspect"
	"imbricat/internal/plan"
	"imbricat/internal/reference"
	"imbricat/internal/report"
	"imbricat/internal/store"
	"imbricat/internal/transfer"
	"imbricat/internal/tui"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// describe writes an image as a tree. Unpacked sizes are known for layers in the store.
func (s *session) describe(ctx context.Context, st *store.Store, f image.Fetcher, name string, root digest.Descriptor, local bool) error {
	size := func(desc digest.Descriptor, id digest.DiffID) (int64, bool) {
		if !local && !st.Has(desc) {
			return 0, false
		}
		indexed, err := build.ReadLayer(ctx, st, desc, id)
		if err != nil {
			return 0, false
		}
		return indexed.Unpacked, true
	}
	i, err := inspect.Describe(ctx, f, name, root, size)
	if err != nil {
		return err
	}
	return s.result(i, func() error { return report.WriteImage(s.out, s.paint, i, time.Now()) })
}

func pushCommand() *cli.Command {
	return &cli.Command{
		Name: "push", Usage: "sends built images to their destinations, under every tag", ArgsUsage: "[IMAGE…]",
		Description: "Sends the images of the recipe, or those named, as they were built last. What a registry has already is not\n" +
			"sent again; tags are written last. To push an image anywhere else, use copy.\n\nExample: imbricat push gauge",
		Flags:  []cli.Flag{platformFlag(), factFlag()},
		Action: func(ctx context.Context, c *cli.Command) error { return runPush(ctx, newSession(c)) },
	}
}

// shipment is one image on its way to one destination.
type shipment struct {
	image string
	desc  digest.Descriptor
	to    plan.Destination
}

func runPush(ctx context.Context, s *session) error {
	p, st, err := s.planAndStore()
	if err != nil {
		return err
	}
	shipments, err := s.shipments(ctx, p, st)
	if err != nil {
		return err
	}
	opener := s.opener(st)
	view := s.view(ctx)
	document := &report.Push{Pushed: []report.Pushed{}}
	for _, one := range shipments {
		began := time.Now()
		result, err := ship(ctx, opener, one, view)
		if err != nil {
			view.Close("")
			return err
		}
		document.Pushed = append(document.Pushed, pushed(one.image, one.to.Repository, one.to.Tags, result, time.Since(began)))
	}
	view.Close("")
	return s.result(document, func() error { return report.WritePush(s.out, s.paint, document) })
}

// shipments finds what is to go where, and refuses an image that is not what the recipe now tells.
func (s *session) shipments(ctx context.Context, p *planned, st *store.Store) ([]shipment, error) {
	var list []shipment
	destinations := 0
	for _, i := range p.plan.Images {
		for _, d := range i.Destinations {
			destinations++
			if len(d.Tags) == 0 {
				continue
			}
			desc, err := st.Lookup(i.Name)
			if err != nil {
				return nil, fmt.Errorf("%w; run `imbricat build %s` first", err, i.Name)
			}
			if err := checkFresh(ctx, st, p, i, desc); err != nil {
				return nil, err
			}
			list = append(list, shipment{i.Name, desc, d})
		}
	}
	switch {
	case destinations == 0:
		return nil, usagef("the recipe names no destination: write publish: under the image, or use `imbricat copy IMAGE HOST/REPOSITORY:TAG`")
	case len(list) == 0:
		return nil, usagef("no tag's condition holds, so there is nothing to push; `imbricat plan` shows them")
	}
	return list, nil
}

// checkFresh compares what an image says of its making with what the recipe's facts are now: its tags would lie else.
func checkFresh(ctx context.Context, st *store.Store, p *planned, i *plan.Image, desc digest.Descriptor) error {
	index, err := image.ReadIndex(ctx, st, desc)
	if err != nil {
		return fmt.Errorf("%s: %w", i.Name, err)
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

func ship(ctx context.Context, opener *transfer.Opener, one shipment, view tui.View) (*transfer.Result, error) {
	from, err := opener.Source(reference.Reference{Kind: reference.Store, Digest: one.desc.Digest})
	if err != nil {
		return nil, err
	}
	to, err := opener.Destination(one.to.Repository)
	if err != nil {
		return nil, err
	}
	return transfer.Copy(ctx, from, to, transfer.Options{Root: one.desc, Names: one.to.Tags, Sink: view})
}

func pushed(name string, to reference.Reference, tags []string, r *transfer.Result, took time.Duration) report.Pushed {
	return report.Pushed{
		Image: name, Repository: to.String(), Tags: tags, Digest: r.Descriptor.Digest,
		Sent: r.Sent, SentBytes: r.SentBytes, Skipped: r.Skipped, SkippedBytes: r.SkippedBytes, Seconds: took.Seconds(),
	}
}

func pullCommand() *cli.Command {
	return &cli.Command{
		Name: "pull", Usage: "brings an image into the store", ArgsUsage: "REFERENCE [NAME]",
		Description: "Without NAME the image is listed under the last part of its repository with its tag; pulled by digest it is\n" +
			"kept without a name.\n\nExample: imbricat pull registry.tideline.example/tides/gauge:1.4.0",
		Flags:  []cli.Flag{platformFlag()},
		Action: func(ctx context.Context, c *cli.Command) error { return runPull(ctx, newSession(c)) },
	}
}

func runPull(ctx context.Context, s *session) error {
	args, err := s.args(1, 2, "a reference and, if wanted, a name")
	if err != nil {
		return err
	}
	ref, err := reference.Parse(args[0])
	if err != nil {
		return usageError{err}
	}
	if ref.Kind == reference.Registry && ref.Identifier() == "" {
		return usagef("%s needs a tag or a digest: none is assumed", ref)
	}
	if ref.Kind == reference.Store {
		return usagef("%s is in the store already, or names no registry: write HOST/REPOSITORY:TAG", ref)
	}
	name := nameOf(ref)
	if len(args) == 2 {
		given, err := reference.Parse(args[1])
		if err != nil || given.Kind != reference.Store || given.Name == "" {
			return usagef("%q is no name for the store: write NAME or NAME:TAG", args[1])
		}
		name = given.StoreName()
	}
	return s.transfer(ctx, ref, reference.Reference{Kind: reference.Store, Name: name}, name)
}

// nameOf is what an image is called in a place of names, by where it comes from.
func nameOf(ref reference.Reference) string {
	switch {
	case ref.Kind == reference.Registry && ref.Tag != "":
		return path.Base(ref.Repository) + ":" + ref.Tag
	case ref.Kind == reference.Store && ref.Name != "":
		return ref.StoreName()
	}
	return ref.Member
}

func copyCommand() *cli.Command {
	return &cli.Command{
		Name: "copy", Usage: "copies an image between registry, store, layout directory and archive", ArgsUsage: "SOURCE DESTINATION",
		Description: "Each side is a registry (HOST/REPOSITORY:TAG), the store (NAME), a layout directory (./DIR#NAME) or an archive\n" +
			"(./FILE.tar#NAME). With --platform a new index is made over the platforms chosen.\n\n" +
			"Example: imbricat copy gauge ./gauge.tar",
		Flags: []cli.Flag{platformFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			s := newSession(c)
			args, err := s.args(2, 2, "a source and a destination")
			if err != nil {
				return err
			}
			from, err := reference.Parse(args[0])
			if err != nil {
				return usageError{err}
			}
			to, err := reference.Parse(args[1])
			if err != nil {
				return usageError{err}
			}
			name, err := destinationName(from, to)
			if err != nil {
				return err
			}
			return s.transfer(ctx, from, to, name)
		},
	}
}

// destinationName is the tag or the name that a copy writes.
func destinationName(from, to reference.Reference) (string, error) {
	switch {
	case from.Kind == reference.Registry && from.Identifier() == "":
		return "", usagef("%s needs a tag or a digest: none is assumed", from)
	case to.Digest != "":
		return "", usagef("%s: a digest cannot be chosen; give a tag or a name", to)
	case to.Kind == reference.Registry && to.Tag == "":
		return "", usagef("a push needs a tag, none is assumed: write %s:TAG", to)
	case to.Kind == reference.Registry:
		return to.Tag, nil
	case to.Kind == reference.Store:
		return to.StoreName(), nil
	case to.Member != "":
		return to.Member, nil
	}
	return nameOf(from), nil
}

// transfer copies an image and writes what was moved.
func (s *session) transfer(ctx context.Context, from, to reference.Reference, name string) error {
	wanted, err := s.platforms()
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	opener := s.opener(st)
	source, err := opener.Source(from)
	if err != nil {
		return err
	}
	defer source.Close()
	// An archive that cannot be read must not be replaced: the root is looked up first.
	root, err := source.Root(ctx)
	if err != nil {
		return err
	}
	destination, err := opener.Destination(to)
	if err != nil {
		return err
	}
	defer destination.Close()
	view := s.view(ctx)
	began := time.Now()
	result, err := transfer.Copy(ctx, source, destination, transfer.Options{Root: root, Platforms: wanted, Names: []string{name}, Sink: view})
	view.Close("")
	if err != nil {
		return err
	}
	document := &report.Push{Pushed: []report.Pushed{pushed(from.String(), to, []string{name}, result, time.Since(began))}}
	if name == "" {
		document.Pushed[0].Tags = []string{}
	}
	return s.result(document.Pushed[0], func() error { return report.WritePush(s.out, s.paint, document) })
}

func tagsCommand() *cli.Command {
	return &cli.Command{
		Name: "tags", Usage: "lists the tags of a repository", ArgsUsage: "HOST/REPOSITORY",
		Description: "Example: imbricat tags registry.tideline.example/tides/gauge",
		Action:      func(ctx context.Context, c *cli.Command) error { return runTags(ctx, newSession(c)) },
	}
}

func runTags(ctx context.Context, s *session) error {
	args, err := s.args(1, 1, "one repository")
	if err != nil {
		return err
	}
	ref, err := reference.ParseRepository(args[0])
	if err != nil {
		return usageError{err}
	}
	repository := s.client().Repository(ref.Host, ref.Repository)
	names, err := repository.Tags(ctx)
	if err != nil {
		return err
	}
	sort.Strings(names)
	document := &report.Tags{Repository: ref.String(), Tags: []report.Tag{}}
	for _, name := range names {
		d, found, err := repository.HasManifest(ctx, name, image.Accepted)
		if err != nil {
			return err
		}
		if found {
			document.Tags = append(document.Tags, report.Tag{Tag: name, Digest: d})
		}
	}
	return s.result(document, func() error { return report.WriteTags(s.out, s.paint, document) })
}
