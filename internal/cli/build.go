package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/stacks"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/share"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
)

func buildCommand() *cli.Command {
	return &cli.Command{
		Name: "build", Usage: "builds images into the store", ArgsUsage: "[IMAGE|STAGE…] [--fresh [STEP…]]",
		Description: "Builds the images of the recipe, or those named, for all their platforms; or stages that are named, for this\n" +
			"machine's platform unless --platform says otherwise. What has not changed is reused.\n\n" +
			"Example: imbricat build gauge --platform linux/arm64 --fact version=1.4.0",
		Flags: append([]cli.Flag{platformFlag(), factFlag(), affectedSinceFlag(), draftedFlag(),
			sandboxFlag(), jobsFlag(), keepGoingFlag(), freshFlag(),
			&cli.StringFlag{Name: "kit", Usage: "`FILE` that --kit-to wrote on another machine: bases, downloads and what commands left come from it, and no network is needed"},
			&cli.StringFlag{Name: "kit-to", Usage: "write what the build needs besides the project's files to this `FILE`, for a machine without a network"}}, slices.Concat(shareFlags(), runFlags())...),
		Action: func(ctx context.Context, c *cli.Command) error { return runBuild(ctx, newSession(c)) },
	}
}

func freshFlag() cli.Flag {
	return &cli.BoolFlag{Name: "fresh", Usage: "do every step again; with names of steps behind the images, only these"}
}

// buildOptions say how the command line wants a build. steps are to be done again; none with --fresh: all.
func (s *session) buildOptions(w *workspace.Workspace, steps []string) building.Options {
	return building.Options{FreshAll: s.cmd.Bool("fresh") && len(steps) == 0, Fresh: steps, KeepGoing: s.cmd.Bool("keep-going"), Gather: s.cmd.String("kit-to") != "",
		Command: "imbricat " + strings.Join(os.Args[1:], " "), Book: s.bookOf(w.Store),
		Cache: func(sink event.Sink) (*share.Cache, error) { return s.shared(w.Planned, w.Store, sink) }}
}

func runBuild(ctx context.Context, s *session) (err error) {
	r, err := s.begin("build")
	if err != nil {
		return err
	}
	defer func() { err = r.Close(ctx, err) }()
	names, steps, err := s.freshSteps()
	if err != nil {
		return err
	}
	p, err := s.choose(ctx, workspace.Choice{Images: names, Stages: true})
	if err != nil {
		return err
	}
	box, err := s.openKit(ctx, p)
	if err != nil {
		return err
	}
	r.From(p)
	if nothing := s.unaffected(p.Plan); nothing != "" {
		r.Receipt.Outcome, r.Receipt.Why = receipt.Nothing, nothing
		return s.result(&report.Build{Images: []report.BuiltImage{}, Steps: []receipt.Step{}, Warnings: []receipt.Warning{}}, func() string { return nothing + "\n" })
	}
	w, err := s.workOn(p)
	if err != nil {
		return err
	}
	if err := building.CheckSteps(p.Plan, steps); err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	r.Part = "build"
	document, result, err := building.Run(ctx, w, view, s.buildOptions(w, steps))
	r.Built(document)
	if err != nil && (result == nil || !s.cmd.Bool("keep-going")) {
		return err
	}
	summary := document.Summary(result.Took, len(p.Plan.Images)+len(p.Plan.Stages)-len(document.Images)-len(document.Stages))
	pushes := slices.ContainsFunc(p.Plan.Images, func(i *plan.Image) bool { return len(i.Destinations) > 0 })
	if next := document.Next(s.errPaint, pushes); next != "" && err == nil && s.live() {
		summary += "\n" + next
	}
	view.Close(summary)
	s.compareKit(box, document)
	if err == nil {
		err = s.makeKit(ctx, w, result)
	}
	return errors.Join(err, s.result(document, func() string { return report.BuildText(s.paint, document) }))
}

// freshSteps parts the arguments into names of images and stages and, with --fresh, steps.
func (s *session) freshSteps() (names, steps []string, err error) {
	names = s.cmd.Args().Slice()
	if !s.cmd.Bool("fresh") {
		return names, nil, nil
	}
	r, err := s.project().Recipe()
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		if !r.Has(name) {
			steps = append(steps, name)
		}
	}
	return slices.DeleteFunc(names, func(name string) bool { return slices.Contains(steps, name) }), steps, nil
}

func planCommand() *cli.Command {
	return &cli.Command{
		Name: "plan", Usage: "shows the steps, what would be reused and what is taken in; changes nothing", ArgsUsage: "[IMAGE|STAGE…]",
		Description: "Finds what a build would do, and what the checks of ship would build, with every mistake that can be found without building.\n\nExample: imbricat plan gauge",
		Flags: []cli.Flag{platformFlag(), factFlag(), affectedSinceFlag(), draftedFlag(),
			&cli.BoolFlag{Name: "facts", Usage: "list what can be given by hand with --fact, with the values that are allowed"},
			&cli.BoolFlag{Name: "graph", Usage: "draw what waits for what, with the times of earlier builds and the critical path"},
			shareFlags()[0], shareFlags()[1],
			&cli.BoolFlag{Name: "volatility", Usage: "list how often what the images hold changes, and what changes along with it; asks the destinations too"},
			&cli.BoolFlag{Name: "left-out", Usage: "name the files and folders of the project that patterns leave out"},
			&cli.BoolFlag{Name: "reasons", Usage: "tell every reason for a step that would run, not the first alone"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runPlan(ctx, newSession(c)) },
	}
}

func runPlan(ctx context.Context, s *session) error {
	p, err := s.choose(ctx, workspace.Choice{Images: s.cmd.Args().Slice(), Stages: true, Checks: true})
	if err != nil {
		return err
	}
	if s.cmd.Bool("facts") {
		return s.tellFacts(p)
	}
	if nothing := s.unaffected(p.Plan); nothing != "" && !s.json() {
		return s.print(nothing + "\n")
	}
	w, err := s.workOn(p)
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	o, done, err := w.Engine(ctx, view)
	if err != nil {
		return err
	}
	defer done()
	if cache, err := s.shared(w.Planned, w.Store, o.Sink); err != nil {
		return err
	} else if cache != nil {
		o.Shared = cache
	}
	o.Past = building.Past(w.Project, w.Store, s.bookOf(w.Store), view)
	volatility := s.cmd.Bool("volatility")
	h, err := w.History(volatility)
	if err != nil {
		return err
	}
	drawn := []report.Stack{}
	preview, err := engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs, Weigh: func(ctx context.Context, one *engine.UnitPreview, content *layering.Content) error {
		stack, err := stacks.Of(ctx, h, &o, one, content, volatility)
		drawn = append(drawn, stack)
		return err
	}})
	if err != nil {
		return err
	}
	view.Close("")
	document := planDocument(w.Planned, preview)
	document.Stacks = drawn
	if s.cmd.Bool("left-out") {
		for _, one := range preview.Left {
			document.LeftPaths = append(document.LeftPaths, report.LeftOut{Path: one.Path, Files: one.Files, Bytes: one.Bytes})
		}
	}
	return s.result(document, func() string {
		if volatility {
			return report.VolatilityText(s.paint, document.Stacks)
		}
		if s.cmd.Bool("graph") {
			return report.GraphText(s.paint, document)
		}
		return report.PlanText(s.paint, document, s.cmd.Bool("reasons"))
	})
}

func planDocument(p *workspace.Planned, preview *engine.Preview) *report.Plan {
	d := &report.Plan{Images: []report.PlannedImage{}, Files: preview.Files, Bytes: preview.Bytes, Seconds: preview.Expected.Seconds(), Left: preview.LeftFiles, LeftBytes: preview.LeftBytes}
	for _, i := range p.Plan.Images {
		one := report.PlannedImage{Name: i.Name, Destinations: []report.PlannedDestination{}}
		for _, u := range i.Units {
			one.Platforms = append(one.Platforms, u.ID.Platform.String())
		}
		for _, dest := range i.Destinations {
			one.Destinations = append(one.Destinations, report.PlannedDestination{
				Name: dest.Name, Repository: dest.Repository.String(), Platform: dest.Single(),
				Tags: append([]string{}, dest.Tags...), Held: heldNames(dest.Held), Because: heldBecause(dest.Held), Prefixes: dest.Prefixes})
		}
		d.Images = append(d.Images, one)
	}
	for _, u := range preview.Units {
		one := report.PlannedUnit{Needs: append([]string{}, u.Needs...), Name: u.Unit.ID.Name, Platform: u.Unit.ID.Platform.String(), Kind: "stage", Checks: u.Unit.ChecksOf, Base: u.Base, Digest: u.BaseDigest, Steps: []report.PlannedStep{}}
		if u.Unit.IsImage {
			one.Kind = "image"
		}
		for _, step := range u.Steps {
			one.Steps = append(one.Steps, report.PlannedStep{Step: step.Label, Files: step.Files, Bytes: step.Bytes, Outcome: string(step.Forecast), Reason: phrase.Line(step.Reason), Details: append([]string{}, phrase.More(step.Reason)...), Place: step.Place, Seconds: step.Expected.Seconds(), Critical: step.Critical})
		}
		d.Units = append(d.Units, one)
	}
	return d
}

// heldNames are the tags that are held back.
func heldNames(held []plan.Held) []string {
	names := []string{}
	for _, h := range held {
		names = append(names, h.Tag)
	}
	return names
}

func heldBecause(held []plan.Held) map[string]string {
	why := map[string]string{}
	for _, h := range held {
		why[h.Tag] = "its condition does not hold: " + h.When
	}
	return why
}

func showCommand() *cli.Command {
	return &cli.Command{
		Name: "show", Usage: "shows images, indexes or receipts, or the raw document", ArgsUsage: "REFERENCE|RECEIPT…",
		Description: "REFERENCE is an image in the store (a name or the first digits of its digest), in a registry\n" +
			"(HOST/REPOSITORY:TAG), in a layout directory (./DIR) or in an archive (./FILE.tar); or a receipt, which is told as the\n" +
			"run told it: a file that ends in .json, or HOST/REPOSITORY:TAG.\n\nExample: imbricat show gauge",
		Flags: []cli.Flag{platformFlag(), &cli.BoolFlag{Name: "raw", Usage: "print the document itself, byte for byte"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			return runShow(ctx, newSession(c))
		},
	}
}

func runShow(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "references")
	if err != nil {
		return err
	}
	if len(args) > 1 && s.cmd.Bool("raw") {
		return flow.Usagef("show --raw takes one reference: documents have nothing between them")
	}
	var shown []shownDocument
	for _, arg := range args {
		one, err := s.show(ctx, arg)
		if err != nil {
			return err
		}
		if one.document != nil {
			shown = append(shown, one)
		}
	}
	switch len(shown) {
	case 0:
		return nil // it was raw
	case 1:
		return s.result(shown[0].document, shown[0].text)
	}
	var documents []any
	for _, one := range shown {
		documents = append(documents, one.document)
	}
	return s.result(documents, func() string {
		var texts []string
		for _, one := range shown {
			texts = append(texts, one.text())
		}
		return strings.Join(texts, "\n")
	})
}

// shownDocument is what show tells of one reference, as data and for people.
type shownDocument struct {
	document any
	text     func() string
}

// show finds what there is to tell of a reference. A raw document is printed at once.
func (s *session) show(ctx context.Context, arg string) (none shownDocument, err error) {
	if receipts.IsFile(arg) {
		r, err := receipts.Read(arg)
		if err != nil {
			return none, err
		}
		return s.shownReceipt(r), nil
	}
	ref, err := reference.Parse(arg)
	if err != nil {
		return none, flow.WrongUse(err)
	}
	st, err := s.openStore()
	if err != nil {
		return none, err
	}
	place, err := s.source(st, ref)
	if err != nil {
		return none, err
	}
	defer place.Close()
	root, err := place.Root(ctx)
	if err != nil {
		return none, err
	}
	wanted, err := s.platforms()
	if err != nil {
		return none, err
	}
	if len(wanted) > 0 {
		offers, err := image.Offers(ctx, place, root)
		if err != nil {
			return none, err
		}
		if len(wanted) > 1 {
			return none, flow.Usagef("show takes one --platform")
		}
		offer, err := image.Select(offers, wanted[0])
		if err != nil {
			return none, fmt.Errorf("%s: %w", arg, err)
		}
		root = offer.Descriptor
	}
	if s.cmd.Bool("raw") {
		text, err := image.ReadDocument(ctx, place, root)
		if err != nil {
			return none, err
		}
		to := s.out
		if !isTerminal(to) {
			to = printable.Unwrap(to) // byte by byte, so that its digest can be taken
		}
		_, err = to.Write(text)
		return none, err
	}
	if r, err := receipts.At(ctx, place, root); r != nil || err != nil {
		if err != nil {
			return none, err
		}
		return s.shownReceipt(r), nil
	}
	one, err := s.describe(ctx, st, place, arg, root, ref.Kind == reference.Store)
	if i, is := one.document.(*inspect.Image); is && err == nil && ref.Kind == reference.Registry {
		if unknown := s.attachedTo(ctx, ref, i); unknown != nil && ctx.Err() == nil {
			fmt.Fprintf(s.err, "warning: what is attached to %s is not known: %s\n", arg, unknown)
		}
	}
	return one, err
}

// attachedTo tells what refers to an image, and to its platforms.
func (s *session) attachedTo(ctx context.Context, ref reference.Reference, i *inspect.Image) error {
	client, err := s.client()
	if err != nil {
		return err
	}
	of := map[digest.Digest]string{i.Digest: ""}
	subjects := []digest.Digest{i.Digest}
	for _, p := range i.Platforms {
		if _, known := of[p.Digest]; !known {
			of[p.Digest], subjects = p.Platform, append(subjects, p.Digest)
		}
	}
	all, err := transfer.ReferrersOf(ctx, client.Source(ref.Host, ref.Repository), subjects)
	if err != nil {
		return err
	}
	for _, d := range subjects {
		for _, one := range all[d] {
			i.Referrers = append(i.Referrers, inspect.Referrer{Type: transfer.KindOf(one), Digest: one.Digest, Size: one.Size, Of: of[d], Created: one.Annotations[v1.AnnotationCreated]})
		}
	}
	return nil
}

func (s *session) shownReceipt(r *receipt.Receipt) shownDocument {
	return shownDocument{r, func() string { return report.ReceiptText(s.paint, r, true) }}
}
