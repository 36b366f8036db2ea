package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/ground/say"
	"imbricat/internal/remote/checkout"
)

// elsewhere lets a command take its project from a revision of a repository, in place of a folder of this machine.
func elsewhere(c *cli.Command) *cli.Command {
	c.Flags = append(c.Flags,
		&cli.StringFlag{Name: "source", Usage: "`ADDRESS` of a git repository that the project is taken from, in place of --dir: a path, https://…, ssh://…, USER@HOST:PATH or git://…", Sources: env("SOURCE")},
		&cli.StringFlag{Name: "revision", Usage: "`BRANCH`, tag or commit of --source", Sources: env("REVISION")},
		&cli.StringFlag{Name: "folder", Usage: "`FOLDER` of --source that the project lies in (default: its top)", Sources: env("FOLDER")})
	run := c.Action
	c.Action = func(ctx context.Context, c *cli.Command) error {
		if c.String("source") == "" {
			if c.String("revision") != "" || c.String("folder") != "" {
				return flow.Usagef("--revision and --folder are of a --source")
			}
			return run(ctx, c)
		}
		tree, err := newSession(c).bring(ctx)
		if err != nil {
			return err
		}
		dir, err := inTree(tree, c.String("folder"))
		if err == nil {
			err = c.Set("dir", dir)
		}
		if err != nil {
			return errors.Join(err, tree.Close())
		}
		return errors.Join(run(ctx, c), tree.Close())
	}
	return c
}

// inTree returns a folder of what was brought, wherever links of the repository lead.
func inTree(tree *checkout.Tree, folder string) (string, error) {
	if folder == "" {
		return tree.Dir, nil
	}
	root, err := os.OpenRoot(tree.Dir)
	if err != nil {
		return "", err
	}
	defer root.Close()
	info, err := root.Stat(filepath.FromSlash(folder))
	if err != nil || !info.IsDir() {
		return "", flow.Usagef("the repository has no folder %s at that revision", folder)
	}
	return filepath.Join(tree.Dir, filepath.FromSlash(folder)), nil
}

// bring brings the revision that is asked for, and tells what it does not have.
func (s *session) bring(ctx context.Context) (*checkout.Tree, error) {
	revision, folder := s.cmd.String("revision"), s.cmd.String("folder")
	switch {
	case revision == "":
		return nil, flow.Usagef("--source needs --revision: a branch, a tag or a commit")
	case folder != "" && !filepath.IsLocal(filepath.FromSlash(folder)):
		return nil, flow.Usagef("--folder stays inside the repository: %q leads out of it", folder)
	}
	_, logins, err := personalLogins()
	if err != nil {
		return nil, err
	}
	home, _ := os.UserHomeDir() // without one there are no keys
	tree, err := checkout.Bring(ctx, checkout.Options{Address: s.cmd.String("source"), Revision: revision, Cache: filepath.Join(xdg.CacheHome, "imbricat", "sources"), Logins: logins, Home: home,
		Waits: func() { fmt.Fprintln(s.err, "note: another command works on this repository; waiting for it") }})
	switch {
	case errors.Is(err, checkout.ErrAddress), errors.Is(err, checkout.ErrRevision):
		return nil, flow.WrongUse(err)
	case errors.Is(err, checkout.ErrDenied):
		return nil, fmt.Errorf("%w; `imbricat login %s --user NAME` keeps a login", err, s.cmd.String("source"))
	case err != nil:
		return nil, err
	}
	if len(tree.Submodules) > 0 {
		fmt.Fprintf(s.err, "note: submodules are not fetched, and their folders are empty: %s\n", say.Some(tree.Submodules))
	}
	if len(tree.Pointers) > 0 {
		fmt.Fprintf(s.err, "note: large files are not fetched, and these only tell where their bytes are: %s\n", say.Some(tree.Pointers))
	}
	return tree, nil
}
