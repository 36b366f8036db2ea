package cli

import (
	"context"
	"errors"
	"slices"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/flow"
	"imbricat/internal/flow/prove"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/verify"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

func verifyCommand() *cli.Command {
	return elsewhere(&cli.Command{
		Name: "verify", Usage: "rebuilds images under other conditions and proves them equal, or shows what differs and why; or checks what was published", ArgsUsage: "[IMAGE|STAGE…] | RECEIPT|REFERENCE…",
		Description: "Images of the recipe (all, where none is named) are built once more without reuse, in a store of their own, with another\n" +
			"clock, order of folders, numbers of processes, machine, file system, number of processors, timing and builder. The digests\n" +
			"must be equal; else the step, the files, the bytes and the condition that causes it are told, and the usual cure.\n\n" +
			"A receipt (a file that ends in .json) is held against the registry: every image that it tells of must be there by its\n" +
			"digest, with the platforms it names, and its tags must stand on it. Of a reference all that it lists must be there.\n" +
			"Documents are read and compared with their digests; with --contents layers are, too. Exit code 3 tells that something\n" +
			"differs. REFERENCE with --receipt or --source is built again from there, and compared.\n\nExample: imbricat verify gauge --cure",
		Flags: []cli.Flag{&cli.StringFlag{Name: "receipt", Usage: "build what the `FILE` tells of again, from this folder or from --source, and compare it with what was published"},
			&cli.BoolFlag{Name: "contents", Usage: "read every layer and compare it with its digest, in place of asking whether it is there"},
			&cli.BoolFlag{Name: "cure", Usage: "try changes of steps that are not reproducible, and print those that hold"},
			&cli.IntFlag{Name: "rounds", Value: 1, Usage: "how `OFTEN` all is built again, each time under other conditions"},
			&cli.IntFlag{Name: "records", HideDefault: true, Usage: "read the whole store, and run so `MANY` of the commands again whose records the recipe's steps reuse, those that were reused most with most chance"},
			&cli.StringFlag{Name: "statement", Usage: "write what was proved to `FILE`, as an in-toto statement (with --receipt: beside it, NAME.proof.json, unless this names another)"},
			&cli.BoolFlag{Name: "attach", Usage: "push that statement beside the images where they are published, as an artifact that refers to them"},
			platformFlag(), factFlag(), sandboxFlag(), jobsFlag(), topFlag(20)},
		Action: func(ctx context.Context, c *cli.Command) error { return runVerify(ctx, newSession(c)) },
	})
}

func runVerify(ctx context.Context, s *session) error {
	args := s.cmd.Args().Slice()
	if s.cmd.IsSet("receipt") || s.cmd.IsSet("source") && len(args) == 1 && isReference(args[0]) {
		return s.rebuild(ctx, args)
	}
	own, err := s.ownUnits(args)
	switch {
	case s.cmd.IsSet("records") && err == nil && own:
		return s.proveStore(ctx, args)
	case s.cmd.IsSet("records") && err == nil:
		return flow.Usagef("--records is of the store and of the recipe's steps: it takes images of the recipe, or no arguments")
	case err != nil:
		return err
	case own:
		return s.prove(ctx, args)
	}
	return s.verifyPublished(ctx, args)
}

// ownUnits reports whether names are those of images and stages of the recipe; no names stand for all images.
func (s *session) ownUnits(args []string) (bool, error) {
	if len(args) == 0 {
		return true, nil
	}
	r, err := s.project().Recipe()
	if err != nil {
		return false, nil // who needs it tells why
	}
	own := slices.ContainsFunc(args, r.Has)
	for _, name := range args {
		if r.Has(name) || receipts.IsFile(name) || isReference(name) {
			continue
		}
		if near := recipe.Nearest(name, r.Names()); near != "" && !s.stored(name) {
			return false, flow.Usagef("no image and no stage is named %q: did you mean %q?", name, near)
		}
	}
	if own && slices.ContainsFunc(args, func(name string) bool { return !r.Has(name) }) {
		return false, flow.Usagef("verify takes images and stages of the recipe, or receipts and references, not both at once")
	}
	return own, nil
}

// stored reports whether the store has an image of a name.
func (s *session) stored(name string) bool {
	st, err := s.openStore()
	if err != nil {
		return false
	}
	_, err = st.Lookup(name)
	return err == nil
}

// verifyPublished holds what was published against what is said of it.
func (s *session) verifyPublished(ctx context.Context, args []string) error {
	st, err := s.openStore()
	if err != nil {
		return err
	}
	places, err := s.places(st)
	if err != nil {
		return err
	}
	view := s.view(ctx)
	document, err := verify.Published(ctx, places, args, s.cmd.Bool("contents"), view)
	view.Close("")
	if err != nil {
		return err
	}
	if err := s.result(document, func() string { return report.VerificationText(s.paint, document) }); err != nil {
		return err
	}
	if n := document.Findings(); n > 0 {
		return flow.Differsf("%s found; nothing was changed", report.Count(n, "thing"))
	}
	return nil
}

// prove builds images again under other conditions.
func (s *session) prove(ctx context.Context, names []string) error {
	if s.cmd.Int("rounds") < 1 {
		return flow.Usagef("--rounds takes a number from 1")
	}
	w, choice, err := s.proven(names)
	if err != nil {
		return err
	}
	if err := s.mayState(s.cmd.String("statement"), s.besideOf(w)); err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	document, err := prove.Images(ctx, s.proving(w, choice, view))
	if err != nil {
		return err
	}
	view.Close("")
	if err := s.result(document, func() string { return report.ProofText(s.paint, document, int(s.cmd.Int("top"))) }); err != nil {
		return err
	}
	if !document.Reproducible {
		return flow.Differsf("what was built again differs; nothing was changed")
	}
	return s.stateProof(ctx, w, document)
}

// proven opens what it takes to prove images and stages that are named.
func (s *session) proven(names []string) (*workspace.Workspace, workspace.Choice, error) {
	choice := workspace.Choice{Images: names, Stages: true}
	p, err := s.plan(choice)
	if err != nil {
		return nil, choice, err
	}
	w, err := s.workOn(p)
	return w, choice, err
}

// proveStore reads the store, and runs commands of records again.
func (s *session) proveStore(ctx context.Context, names []string) error {
	most := int(s.cmd.Int("records"))
	if most < 0 {
		return flow.Usagef("--records takes a number from 0")
	}
	w, choice, err := s.proven(names)
	if err != nil {
		return err
	}
	s.snapshotChecker(ctx, w.Store)
	checked, err := w.Store.Check(ctx, false)
	if err != nil {
		return err
	}
	if checked.Findings == nil {
		checked.Findings = []store.Finding{}
	}
	book, err := s.openLogbook(w.Store)
	if err != nil {
		return err
	}
	reuses, err := book.Reuses()
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	document, err := prove.Records(ctx, s.proving(w, choice, view), most, reuses)
	if err != nil {
		return err
	}
	view.Close("")
	document.Store = checked
	if err := s.result(document, func() string { return report.StoreProofText(s.paint, document) }); err != nil {
		return err
	}
	switch {
	case len(checked.Findings) > 0:
		return flow.Differsf("the store %s has %s; `imbricat store check --repair` removes what is damaged", w.Store.Dir(), report.Count(len(checked.Findings), "finding"))
	case document.Wrong() > 0:
		return flow.Differsf("%s must not be reused; --fresh runs the steps again", report.Count(document.Wrong(), "record"))
	}
	return nil
}

// proveIn plans the same again from another folder, for another store.
func (s *session) proveIn(w *workspace.Workspace, where prove.Where, c workspace.Choice, sink event.Sink) (*prove.Elsewhere, error) {
	project := w.Project
	project.Dir = where.Dir
	p, err := s.planOf(project, c)
	if err != nil {
		return nil, err
	}
	st, err := store.Open(where.Store)
	if err != nil {
		return nil, err
	}
	other, err := s.workIn(p, st)
	if err != nil {
		return nil, errors.Join(err, st.Close())
	}
	box := once.NewValue(s.sandbox(st)) // one for all conditions
	return &prove.Elsewhere{Workspace: other, Close: func() { st.Close() },
		Executor: func(ctx context.Context, under func(c *executor.Command) conditions.Conditions) *local.Local {
			o := s.executing(st, sink, other.Vouched)
			o.Under, o.Open = under, box.Get
			return local.New(ctx, o)
		}}, nil
}
