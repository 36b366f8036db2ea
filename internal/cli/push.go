package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

func pushCommand() *cli.Command {
	return &cli.Command{
		Name: "push", Usage: "sends built images to their destinations, under every tag", ArgsUsage: "[RECEIPT] [IMAGE…]",
		Description: "Sends the images of the recipe, or those named, as this project built them last, or as the receipt of a build\n" +
			"(a file) tells where that was done in another folder. What a registry has already is not\n" +
			"sent again; tags are written last, when all content is everywhere. A fixed tag never moves, and a moving tag never\n" +
			"goes back to an older build. To push an image anywhere else, use copy.\n\nExample: imbricat push gauge",
		Flags:  append([]cli.Flag{platformFlag(), factFlag(), affectedSinceFlag(), forceFlag(), fewerPlatformsFlag(), dirtyFlag(), byDigestFlag(), toFlag(), tagFlag()}, runFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return runPush(ctx, newSession(c)) },
	}
}

func forceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "let moving tags go back to an older build (fixed tags never move)", Sources: env("FORCE")}
}

func fewerPlatformsFlag() cli.Flag {
	return &cli.BoolFlag{Name: "fewer-platforms", Usage: "let moving tags lose platforms, and have fewer than the recipe requires", Sources: env("FEWER_PLATFORMS")}
}

func toFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "to", Usage: "`REPOSITORY` to push to instead of the recipe's, or besides with + before it: [+][IMAGE=]HOST/REPOSITORY, or HOST/PREFIX/ for one below it that is called as the image"}
}

func tagFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "tag", Usage: "`TAG` to write instead of the recipe's, or besides: [+][IMAGE=]TAG"}
}

// moves are what moving tags may do.
func (s *session) moves() push.Moves {
	return push.Moves{Back: s.cmd.Bool("force"), FewerPlatforms: s.cmd.Bool("fewer-platforms")}
}

// redirected is what is planned, going where the command line says.
func (s *session) redirectedPlan(p *workspace.Planned) (*workspace.Planned, error) {
	r, err := plan.ParseRedirection(s.cmd.StringSlice("to"), s.cmd.StringSlice("tag"))
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	own := *p
	if own.Plan, err = p.Plan.Redirect(r, p.Recipe.Has); err != nil {
		return nil, flow.WrongUse(err)
	}
	return &own, nil
}

func dirtyFlag() cli.Flag {
	return &cli.BoolFlag{Name: "dirty", Usage: "push under tags that name a commit what was built from other files than that commit has", Sources: env("DIRTY")}
}

func byDigestFlag() cli.Flag {
	return &cli.BoolFlag{Name: "by-digest", Usage: "send the content to every destination and write no tag; join writes them later", Sources: env("BY_DIGEST")}
}

func (s *session) pushOptions() push.Options {
	return push.Options{Moves: s.moves(), Dirty: s.cmd.Bool("dirty"), ByDigest: s.cmd.Bool("by-digest")}
}

func runPush(ctx context.Context, s *session) (err error) {
	var p *workspace.Planned
	r, err := s.beginTelling("push", func(ctx context.Context, r *receipt.Receipt, err error) error {
		s.annotate(r, err)
		return s.notify(ctx, p, r)
	})
	if err != nil {
		return err
	}
	r.Receipt.Machine = s.machine(ctx)
	defer func() { err = r.Close(ctx, err) }()
	images, told, err := s.toPush()
	if err != nil {
		return err
	}
	p, err = s.expand(ctx, images)
	if err == nil {
		p, err = s.redirectedPlan(p)
	}
	if err != nil {
		return err
	}
	w, err := s.workOn(p)
	if err != nil {
		return err
	}
	r.From(w.Planned)
	if nothing := s.unaffected(w.Plan); nothing != "" {
		r.Receipt.Outcome, r.Receipt.Why = receipt.Nothing, nothing
		return s.result(&report.Push{Pushed: []report.Pushed{}}, func() string { return nothing + "\n" })
	}
	pushed, err := s.send(ctx, w, r, told)
	if err != nil {
		return err
	}
	r.Receipt.Outcome = receipt.Done
	return s.result(&report.Push{Pushed: pushed}, func() string { return report.ReceiptText(s.paint, r.Receipt, false) })
}

// send sends images as the project built them last, or as a receipt tells, to their destinations, and tells of it in the recorder.
func (s *session) send(ctx context.Context, w *workspace.Workspace, r *receipts.Recorder, told map[string]digest.Digest) ([]report.Pushed, error) {
	o := s.pushOptions()
	shipments, err := push.Shipments(ctx, w, o, func(name string) (digest.Descriptor, error) {
		if told == nil {
			return w.Store.LookupOf(w.Store.Project, name)
		}
		if desc, is := w.Store.Document(told[name]); is {
			return desc, nil
		}
		return digest.Descriptor{}, fmt.Errorf("the store has no image %s, which the receipt names for %s", told[name], name)
	})
	if err != nil {
		return nil, err
	}
	if err := push.HoldBackPrefixes(ctx, w.Places.Client, shipments, o.Moves); err != nil {
		return nil, err
	}
	view := s.view(ctx)
	r.Part = "push"
	err = push.Send(ctx, w, shipments, o.Moves, view, &r.Part)
	view.Close("")
	push.Record(ctx, r, w.Store, shipments)
	if err != nil {
		return nil, err
	}
	pushed := []report.Pushed{}
	for _, one := range shipments {
		line := one.Line(one.To.Repository, one.To.Tags)
		line.Held = one.Held
		if one.To.Whole() {
			if line.Platforms, err = image.PlatformDigests(ctx, w.Store, one.Descriptor); err != nil {
				return nil, err
			}
		}
		pushed = append(pushed, line)
	}
	return pushed, nil
}

// toPush reads the arguments of push: names of images, and the receipt of a build, which tells what they are where that build
// was made elsewhere: in another folder, or by another job.
func (s *session) toPush() (images []string, told map[string]digest.Digest, err error) {
	for _, arg := range s.cmd.Args().Slice() {
		if !receipts.IsFile(arg) {
			images = append(images, arg)
			continue
		}
		r, err := receipts.Read(arg)
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
