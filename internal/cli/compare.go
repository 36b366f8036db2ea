package cli

import (
	"context"
	"slices"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/differ"
	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/published"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/weigh"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/platform"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
)

func compareCommand() *cli.Command {
	return &cli.Command{
		Name: "compare", Usage: "tells how two images differ: layers, settings, packages, folders, files", ArgsUsage: "REFERENCE REFERENCE | RECEIPT RECEIPT | IMAGE",
		Description: "The second is told as a change of the first: what a node that has the first fetches and unpacks, what is new, gone or\n" +
			"other, and the step that made it so. Of two receipts all images are compared by their names; one image of the recipe is\n" +
			"compared with the newest version where it is published. Images elsewhere are read as they come, and not kept. Exit code 3 where they differ.\n\n" +
			"Example: imbricat compare registry.tideline.example/tides/gauge:1.4.0 gauge",
		Flags: []cli.Flag{factFlag(), platformFlag(),
			&cli.StringSliceFlag{Name: "text", Usage: "`PATH` of a file in both, whose text is compared line by line"},
			topFlag(20)},
		Action: func(ctx context.Context, c *cli.Command) error { return runCompare(ctx, newSession(c)) },
	}
}

func runCompare(ctx context.Context, s *session) error {
	args, err := s.args(1, 2, "two references, two receipts, or one image of the recipe")
	if err != nil {
		return err
	}
	wanted, err := s.onePlatform()
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	if len(args) == 1 {
		before, err := s.publishedLast(ctx, args[0])
		if err != nil {
			return err
		}
		args = []string{before, args[0]}
	}
	if receipts.IsFile(args[0]) && receipts.IsFile(args[1]) {
		return s.compareReceipts(ctx, st, args[0], args[1], wanted)
	}
	compared, err := s.compare(ctx, st, args[0], args[1], wanted)
	if err != nil {
		return err
	}
	if err := s.result(compared, func() string { return report.ComparedText(s.paint, compared, int(s.cmd.Int("top"))) }); err != nil {
		return err
	}
	if !compared.Same || compared.First.Root != compared.Second.Root {
		return &statusError{code: exitDiffers}
	}
	return nil
}

func (s *session) compare(ctx context.Context, st *store.Store, first, second string, wanted []platform.Platform) (*report.Compared, error) {
	was, done, err := s.weighSource(ctx, st, first)
	if err != nil {
		return nil, err
	}
	defer done()
	now, done, err := s.weighSource(ctx, st, second)
	if err != nil {
		return nil, err
	}
	defer done()
	compared, err := weigh.Compare(ctx, was, now, wanted, s.cmd.StringSlice("text"))
	if err != nil {
		return nil, err
	}
	if book, err := s.openLogbook(st); err == nil { // it only adds to what is told
		weigh.Explain(compared, weigh.ByLogbook(book, string(compared.Second.Root)))
	}
	return compared, nil
}

// publishedLast returns the newest version of an image of the recipe where it is published.
func (s *session) publishedLast(ctx context.Context, name string) (string, error) {
	p, err := s.plan(workspace.Choice{Images: []string{name}})
	if err != nil {
		return "", err
	}
	for _, i := range p.Plan.Images {
		for _, d := range i.Destinations {
			client, err := s.client()
			if err != nil {
				return "", err
			}
			tags, err := published.NewestTags(ctx, client, d.Repository, 1)
			if err != nil {
				return "", err
			}
			if len(tags) > 0 {
				return d.Repository.String() + ":" + tags[0], nil
			}
		}
	}
	return "", flow.Usagef("%s is published nowhere yet: name two images, compare REFERENCE REFERENCE", name)
}

// compareReceipts compares the images that two receipts tell of, by their names.
func (s *session) compareReceipts(ctx context.Context, st *store.Store, first, second string, wanted []platform.Platform) error {
	was, err := receipts.Read(first)
	if err != nil {
		return err
	}
	now, err := receipts.Read(second)
	if err != nil {
		return err
	}
	list := []report.ComparedImage{}
	same := true
	for _, i := range now.Images {
		one := report.ComparedImage{Image: i.Name, What: differ.Added}
		at := slices.IndexFunc(was.Images, func(old receipt.Image) bool { return old.Name == i.Name })
		if at >= 0 {
			if one.What = report.Unchanged; was.Images[at].Digest != i.Digest {
				one.What = differ.Changed
				if one.Compared, err = s.compare(ctx, st, placeOf(was.Images[at]), placeOf(i), wanted); err != nil {
					return err
				}
				weigh.Explain(one.Compared, weigh.ByReceipt(now))
			}
		}
		same = same && one.What == report.Unchanged
		list = append(list, one)
	}
	for _, old := range was.Images {
		if !slices.ContainsFunc(now.Images, func(i receipt.Image) bool { return i.Name == old.Name }) {
			same = false
			list = append(list, report.ComparedImage{Image: old.Name, What: differ.Removed})
		}
	}
	if err := s.result(list, func() string { return report.ComparedImagesText(s.paint, list, int(s.cmd.Int("top"))) }); err != nil {
		return err
	}
	if !same {
		return &statusError{code: exitDiffers}
	}
	return nil
}

// placeOf returns where an image of a receipt is: where it was pushed, or in the store.
func placeOf(i receipt.Image) string {
	for _, d := range i.Destinations {
		if d.Reference != "" && d.Platform == "" {
			return d.Reference
		}
	}
	return string(i.Digest)
}
