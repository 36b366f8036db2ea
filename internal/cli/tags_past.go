package cli

import (
	"context"
	"maps"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/tags"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/spec/retention"
)

func receiptsFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "receipts", Usage: "`PLACE` of receipts that tell of it too: a file, a folder, or HOST/REPOSITORY:TAG as ship --receipt has it; may be given again"}
}

// tagsPastCommands are those about what a tag stood on.
func tagsPastCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "history", Usage: "tells what a moving tag stood on", ArgsUsage: "HOST/REPOSITORY:TAG",
			Description: "By the log of the registry, where it keeps one as the stand-in does, else by receipts and by what this machine saw and\n" +
				"wrote.\n\nExample: imbricat tags history registry.tideline.example/tides/gauge:newest --receipts ./receipts",
			Flags:  []cli.Flag{receiptsFlag()},
			Action: func(ctx context.Context, c *cli.Command) error { return tagHistory(ctx, newSession(c)) }},
		{Name: "back", Usage: "moves a tag to what it stood on before", ArgsUsage: "HOST/REPOSITORY:TAG",
			Description: "By its history. Going back once more goes further. The reason is kept in the log of a registry that keeps one, and here.\n" +
				"A tag that the recipe here says is fixed does not move.\n\n" +
				"Example: imbricat tags back registry.tideline.example/tides/gauge:newest --reason 'it loses the spring tide'",
			Flags: []cli.Flag{receiptsFlag(), fewerPlatformsFlag(),
				&cli.StringFlag{Name: "reason", Usage: "`TEXT` that says why, for the log"},
				&cli.StringFlag{Name: "to", Usage: "`DIGEST`, or a tag, to go to, in place of what it stood on before"},
				&cli.BoolFlag{Name: "dry-run", Usage: "only say where it would go"}},
			Action: func(ctx context.Context, c *cli.Command) error { return tagBack(ctx, newSession(c)) }},
	}
}

// past is the tag that the argument names.
func (s *session) past(ctx context.Context) (*tags.Past, error) {
	args, err := s.args(1, 1, "one tag: HOST/REPOSITORY:TAG")
	if err != nil {
		return nil, err
	}
	ref, err := reference.Parse(args[0])
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	if ref.Kind != reference.Registry || ref.Tag == "" || ref.Digest != "" {
		return nil, flow.Usagef("%s names no tag in a registry: write HOST/REPOSITORY:TAG", args[0])
	}
	st, err := s.openStore()
	if err != nil {
		return nil, err
	}
	client, err := s.client()
	if err != nil {
		return nil, err
	}
	p := &tags.Past{Repository: client.Repository(ref.Host, ref.Repository), Tag: ref.Tag, Store: st, Seen: &s.seenTags, Receipts: map[string]*receipt.Receipt{}}
	for _, place := range s.cmd.StringSlice("receipts") {
		found, err := s.receiptsAt(ctx, st, place)
		if err != nil {
			return nil, err
		}
		maps.Copy(p.Receipts, found)
	}
	return p, nil
}

// receiptsAt reads the receipts at a place. Of those that cannot be read the others are told.
func (s *session) receiptsAt(ctx context.Context, st *store.Store, place string) (map[string]*receipt.Receipt, error) {
	if ref, is := receipts.InRegistry(place); is {
		if ref.Tag == "" {
			return nil, flow.Usagef("--receipts %s needs a tag, with which those of the receipts begin", place)
		}
		opener, err := s.places(st)
		if err != nil {
			return nil, err
		}
		return receipts.Tagged(ctx, opener, ref)
	}
	if receipts.IsFile(place) {
		r, err := receipts.Read(place)
		return map[string]*receipt.Receipt{place: r}, err
	}
	return receipts.InFolder(place)
}

func tagHistory(ctx context.Context, s *session) error {
	p, err := s.past(ctx)
	if err != nil {
		return err
	}
	h, err := p.History(ctx)
	if err != nil {
		return err
	}
	return s.result(h, func() string { return report.TagHistoryText(s.paint, h, time.Now()) })
}

func tagBack(ctx context.Context, s *session) error {
	p, err := s.past(ctx)
	if err != nil {
		return err
	}
	o := tags.Return{Why: strings.TrimSpace(s.cmd.String("reason")), FewerPlatforms: s.cmd.Bool("fewer-platforms"), DryRun: s.cmd.Bool("dry-run")}
	if o.Why == "" && !o.DryRun {
		return flow.Usagef("say why it goes back, with --reason: whoever looks at the log will ask")
	}
	if text := s.cmd.String("to"); text != "" {
		if o.To, err = s.digestOrTag(ctx, p.Repository, text); err != nil {
			return err
		}
	}
	fixed, err := s.fixedTags(ctx, p.Repository.String())
	if err != nil {
		return err
	}
	o.Fixed = func(tag string) bool { return retention.Match(fixed, tag) }
	back, err := p.Back(ctx, o)
	if err != nil {
		return err
	}
	return s.result(back, func() string { return report.TagBackText(s.paint, back) })
}

// digestOrTag returns a digest, or what a tag of a repository stands on.
func (s *session) digestOrTag(ctx context.Context, r *registry.Repository, text string) (digest.Digest, error) {
	if d, err := digest.Parse(text); err == nil {
		return d, nil
	}
	if reference.CheckTag(text) != nil {
		return "", flow.Usagef("--to takes a digest or a tag of the repository, not %q", text)
	}
	document, err := r.Tagged(ctx, text, image.Accepted)
	return document.Descriptor.Digest, err
}

// fixedTags are patterns of the tags that the recipe here, where there is one, never moves in a repository.
func (s *session) fixedTags(ctx context.Context, repository string) (fixed []string, err error) {
	p, err := s.planSpeakingOf(ctx, repository)
	if p == nil {
		return nil, err
	}
	for _, i := range p.Plan.Images {
		for _, d := range i.Destinations {
			if d.Repository.String() == repository {
				fixed = append(fixed, d.Fixed...)
			}
		}
	}
	return fixed, nil
}

// keepSeen puts what was seen and written of tags into the store, which is opened only for what was written.
func (s *session) keepSeen() {
	st := s.store
	if st == nil {
		if !s.seenTags.Written() {
			return
		}
		var err error
		if st, err = store.Open(s.storeDir()); err != nil {
			return // it only helps later
		}
		defer st.Close()
	}
	_ = s.seenTags.Keep(st) // it only helps later
}
