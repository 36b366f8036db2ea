package cli

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/deliver"
	"imbricat/internal/content/filetree"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/say"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

func takeCommand() *cli.Command {
	return &cli.Command{
		Name: "take", Usage: "writes what a stage leaves into a folder of this machine", ArgsUsage: "STAGE|IMAGE PATH… DIR",
		Description: "Builds the stage, or reuses it, and writes files of it into DIR: of a folder what it holds, a file under its own name, of a\n" +
			"pattern each match. Files that are equal already are left alone, and so is all else in DIR.\n\n" +
			"Example: imbricat take tables /out ./bin",
		Flags: append([]cli.Flag{platformFlag(), factFlag(), draftedFlag(),
			sandboxFlag(), jobsFlag()}, slices.Concat(shareFlags(), runFlags())...),
		Action: func(ctx context.Context, c *cli.Command) error { return runTake(ctx, newSession(c)) },
	}
}

func runTake(ctx context.Context, s *session) (err error) {
	args, err := s.args(3, -1, "a stage or an image, paths in it, and a folder: imbricat take tables /out ./bin")
	if err != nil {
		return err
	}
	name, paths, dir := args[0], args[1:len(args)-1], args[len(args)-1]
	for i, p := range paths {
		if !strings.HasPrefix(p, "/") {
			return flow.Usagef("%q is not a path in %s: it begins with /", p, name)
		}
		paths[i] = path.Clean(p)
	}
	r, err := s.begin("take")
	if err != nil {
		return err
	}
	defer func() { err = r.Close(ctx, err) }()
	p, err := s.choose(ctx, workspace.Choice{Images: []string{name}, Stages: true})
	if err != nil {
		return err
	}
	r.From(p)
	unit, err := s.unitOf(p.Plan, name)
	if err != nil {
		return err
	}
	w, err := s.workOn(p)
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	r.Part = "build"
	var made *deliver.Report
	o := s.buildOptions(w, nil)
	project, err := filepath.Abs(p.Dir)
	if err != nil {
		return err
	}
	folder, _ := workspace.Inside(project, dir)
	o.Take = &engine.Taking{Unit: unit, Paths: paths, Folder: folder, Use: func(ctx context.Context, t *filetree.Tree) (err error) {
		made, err = deliver.Into(ctx, dir, t)
		return err
	}}
	document, result, err := building.Run(ctx, w, view, o)
	r.Built(document)
	if err != nil {
		return wordsOnly(err)
	}
	view.Close(document.Summary(result.Took, 0))
	taken := report.Taken{Name: name, Platform: unit.ID.Platform.String(), Folder: dir, Files: made.Files, Bytes: made.Bytes,
		Written: made.Written, Unchanged: made.Unchanged, Warnings: document.Warnings, Number: document.Number}
	return s.result(taken, func() string { return report.TakenText(s.paint, taken) })
}

// unitOf returns what a plan has of the one stage or image that is named, for the one platform that is asked for, or that this machine
// has.
func (s *session) unitOf(p *plan.Plan, name string) (*plan.Unit, error) {
	wanted, err := s.platforms()
	if err != nil {
		return nil, err
	}
	all := slices.Clone(p.Stages)
	for _, i := range p.Images {
		all = append(all, i.Units...)
	}
	var names []string
	for _, u := range all {
		names = append(names, u.ID.Name)
	}
	if names = slices.Compact(names); len(names) > 1 {
		return nil, flow.Usagef("take takes one stage or image, and %s is %s", name, say.Some(names))
	}
	here := slices.IndexFunc(all, func(u *plan.Unit) bool { return u.ID.Platform == platform.Here() })
	switch {
	case len(wanted) > 1 || len(all) > 1 && here < 0:
		return nil, flow.Usagef("take takes one --platform: the files of several would lie in one folder")
	case len(all) > 1:
		return all[here], nil
	}
	return all[0], nil
}

// wordsOnly returns mistakes in what was asked for on the command line, which have no place in the recipe, as such: of wrong use where
// nothing was run to find them.
func wordsOnly(err error) error {
	var wrong *recipe.Errors
	var late *engine.LateError
	if errors.As(err, &late) {
		wrong = late.Wrong
	}
	if wrong == nil && !errors.As(err, &wrong) || slices.ContainsFunc(wrong.Problems, func(p recipe.Problem) bool { return p.Pos != recipe.Pos{} }) {
		return err
	}
	var texts []string
	for _, p := range wrong.Problems {
		texts = append(texts, p.Message)
	}
	if late != nil {
		return errors.New(strings.Join(texts, "; "))
	}
	return flow.Usagef("%s", strings.Join(texts, "; "))
}
