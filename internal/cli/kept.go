package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

func keptCommand(act func(run func(context.Context, *session) error) cli.ActionFunc) *cli.Command {
	return &cli.Command{
		Name: "kept", Usage: "the directories that outlive run steps: lists them, drops them, carries them elsewhere",
		Description: "Example: imbricat store kept export ./kept",
		Action:      leaf(act(runKeptList)),
		Commands: []*cli.Command{
			{Name: "list", Usage: "lists kept directories with their sizes", Description: "Example: imbricat store kept list", Action: act(runKeptList)},
			{Name: "drop", Usage: "removes kept directories", ArgsUsage: "NAME…", Description: "Example: imbricat store kept drop downloads", Action: act(runKeptDrop)},
			{Name: "export", Usage: "writes kept directories into a folder, a file each", ArgsUsage: "FOLDER [NAME…]",
				Description: "Example: imbricat store kept export ./kept downloads", Action: act(runKeptExport)},
			{Name: "import", Usage: "takes kept directories over from such a folder", ArgsUsage: "FOLDER [NAME…]",
				Description: "Those of the same names are replaced.\n\nExample: imbricat store kept import ./kept", Action: act(runKeptImport)},
		},
	}
}

// keptAndBox opens the store and the sandbox, and lists the kept directories that it can have.
func (s *session) keptAndBox(ctx context.Context) (*store.Store, *sandbox.Box, []store.KeptDir, error) {
	st, err := s.openStore()
	if err != nil {
		return nil, nil, nil, err
	}
	box, err := s.sandbox(st)(ctx)
	if err != nil {
		return nil, nil, nil, err
	}
	all, err := st.KeptDirs()
	if err != nil {
		return nil, nil, nil, err
	}
	return st, box, slices.DeleteFunc(all, func(k store.KeptDir) bool { return k.Owners != box.Owners() }), nil
}

func runKeptList(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	st, box, all, err := s.keptAndBox(ctx)
	if err != nil {
		return err
	}
	list := []report.KeptDirectory{}
	for _, k := range all {
		files, bytes, err := local.KeptSize(box, k)
		if err != nil {
			return err
		}
		one := report.KeptDirectory{Name: k.Name, Files: files, Bytes: bytes, Used: k.Used.UTC()}
		if h, known := st.KeptHolder(k); known {
			one.By = h.Step
		}
		list = append(list, one)
	}
	return s.result(list, func() string { return report.KeptText(s.paint, list, time.Now()) })
}

// namesOf returns the names of kept directories, those wanted or all.
func namesOf(all, wanted []string) ([]string, error) {
	for _, name := range wanted {
		if slices.Contains(all, name) {
			continue
		}
		hint := "there is none"
		if len(all) > 0 {
			hint = "there are " + strings.Join(all, ", ")
		}
		if near := recipe.Nearest(name, all); near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, flow.Usagef("no kept directory is named %q: %s", name, hint)
	}
	if len(wanted) > 0 {
		return wanted, nil
	}
	return all, nil
}

func keptNames(all []store.KeptDir) (names []string) {
	for _, k := range all {
		names = append(names, k.Name)
	}
	return names
}

func runKeptDrop(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "names")
	if err != nil {
		return err
	}
	st, box, all, err := s.keptAndBox(ctx)
	if err != nil {
		return err
	}
	names, err := namesOf(keptNames(all), args)
	if err != nil {
		return err
	}
	for _, name := range names {
		if gone, err := st.DropKept(box.Owners(), name); err != nil {
			return err
		} else if !gone {
			return local.KeptBusy(name)
		}
	}
	return nil
}

func runKeptExport(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "a folder and names")
	if err != nil {
		return err
	}
	st, box, all, err := s.keptAndBox(ctx)
	if err != nil {
		return err
	}
	names, err := namesOf(keptNames(all), args[1:])
	for _, name := range names {
		if err = local.ExportKept(ctx, st, box, name, args[0]); err != nil {
			break
		}
	}
	return err
}

func runKeptImport(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "a folder and names")
	if err != nil {
		return err
	}
	st, box, _, err := s.keptAndBox(ctx)
	if err != nil {
		return err
	}
	files, err := filepath.Glob(filepath.Join(args[0], "*"+local.KeptSuffix))
	if err != nil {
		return err
	}
	if len(files) == 0 && len(args) == 1 {
		// A pipeline's first run has nothing to carry over.
		fmt.Fprintf(s.err, "there is nothing to import in %s\n", args[0])
		return nil
	}
	var all []string
	for _, file := range files {
		all = append(all, strings.TrimSuffix(filepath.Base(file), local.KeptSuffix))
	}
	names, err := namesOf(all, args[1:])
	for _, name := range names {
		err = errors.Join(err, local.ImportKept(ctx, st, box, filepath.Join(args[0], name+local.KeptSuffix)))
	}
	return err
}
