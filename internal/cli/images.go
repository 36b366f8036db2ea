package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/flow"
	"imbricat/internal/flow/copying"
	"imbricat/internal/flow/push"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/transfer"
)

// describe writes an image as a tree. Unpacked sizes are known for layers in the store.
func (s *session) describe(ctx context.Context, st *store.Store, f image.Fetcher, name string, root digest.Descriptor, local bool) (shownDocument, error) {
	size := func(desc digest.Descriptor, id digest.DiffID) (int64, bool) {
		if !local && !st.Has(desc) {
			return 0, false
		}
		indexed, err := baseimage.ReadLayer(ctx, st, desc, id)
		if err != nil {
			return 0, false
		}
		return indexed.Unpacked, true
	}
	i, err := inspect.Describe(ctx, f, name, root, size)
	return shownDocument{i, func() string { return report.ImageText(s.paint, i, time.Now()) }}, err
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
		return flow.WrongUse(err)
	}
	if ref.Kind == reference.Registry && ref.Identifier() == "" {
		return flow.Usagef("%s needs a tag or a digest: none is assumed", ref)
	}
	if ref.Kind == reference.Store {
		return flow.Usagef("%s is in the store already, or names no registry: write HOST/REPOSITORY:TAG", ref)
	}
	name := push.NameOf(ref)
	if len(args) == 2 {
		given, err := reference.Parse(args[1])
		if err != nil || given.Kind != reference.Store || given.Name == "" {
			return flow.Usagef("%q is not a valid name for the store: write NAME or NAME:TAG", args[1])
		}
		name = given.StoreName()
	}
	return s.transfer(ctx, ref, reference.Reference{Kind: reference.Store, Name: name}, name)
}

func copyCommand() *cli.Command {
	return &cli.Command{
		Name: "copy", Usage: "copies an image between registry, store, layout directory and archive", ArgsUsage: "SOURCE DESTINATION",
		Description: "Each side is a registry (HOST/REPOSITORY:TAG), the store (NAME), a layout directory (./DIR#NAME) or an archive\n" +
			"(./FILE.tar#NAME). With --platform a new index is made over the platforms chosen.\n\n" +
			"Example: imbricat copy gauge ./gauge.tar",
		Flags: []cli.Flag{platformFlag(), &cli.BoolFlag{Name: "referrers", Usage: "take along what refers to the image: signatures, bills of materials and the like"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			s := newSession(c)
			args, err := s.args(2, 2, "a source and a destination")
			if err != nil {
				return err
			}
			from, err := reference.Parse(args[0])
			if err != nil {
				return flow.WrongUse(err)
			}
			to, err := reference.Parse(args[1])
			if err != nil {
				return flow.WrongUse(err)
			}
			name, err := push.NameAt(from, to)
			if err != nil {
				return err
			}
			return s.transfer(ctx, from, to, name)
		},
	}
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
	if s.cmd.Bool("referrers") && (from.Kind != reference.Registry || to.Kind != reference.Registry) {
		return flow.Usagef("--referrers copies between registries: a layout, an archive and the store do not tell what refers to what")
	}
	opener, err := s.places(st)
	if err != nil {
		return err
	}
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
	options := transfer.Options{Root: root, Platforms: wanted, Names: []string{name}, Referrers: s.cmd.Bool("referrers"), Sink: view}
	var result *transfer.Result
	if to.Kind == reference.Store {
		result, err = copying.IntoStore(ctx, st, source, destination, options)
	} else {
		result, err = transfer.Copy(ctx, source, destination, options)
	}
	view.Close("")
	if err != nil {
		return err
	}
	document := &report.Push{Pushed: []report.Pushed{(&push.Shipment{Image: from.String(), Began: began, Result: result}).Line(to, []string{name})}}
	document.Pushed[0].Fetched = to.Kind == reference.Store
	if name == "" {
		document.Pushed[0].Tags = []string{}
	}
	return s.result(document.Pushed[0], func() string { return report.PushText(s.paint, document) })
}
