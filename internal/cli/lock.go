package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"imbricat/internal/digest"
	"imbricat/internal/lock"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/reference"
	"imbricat/internal/report"
)

func lockCommand() *cli.Command {
	return &cli.Command{
		Name: "lock", Usage: "writes or refreshes imbricat.lock: what the recipe's bases stand for now",
		Description: "A base that the lock names is taken by its digest until the lock is refreshed. Keep the file in version control.\n\n" +
			"Example: imbricat lock --check",
		Flags: []cli.Flag{factFlag(), &cli.BoolFlag{Name: "check", Usage: "only compare; exit code 3 when the lock is stale"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			return runLock(ctx, newSession(c))
		},
	}
}

// lockPath is the lock beside the recipe.
func (s *session) lockPath() string {
	return filepath.Join(filepath.Dir(s.recipePath()), recipe.LockName)
}

// readLock reads the lock; without one it is nil.
func (s *session) readLock() (*lock.Lock, error) {
	text, err := os.ReadFile(s.lockPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, usagef("reading the lock: %w", err)
	}
	l, err := lock.Parse(s.lockPath(), text)
	if err != nil {
		return nil, usageError{err}
	}
	return l, nil
}

func runLock(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	p, st, err := s.planAndStore()
	if err != nil {
		return err
	}
	old, err := s.readLock()
	if err != nil && !s.cmd.Bool("check") {
		old, err = nil, nil // it is written anew
	}
	if err != nil {
		return err
	}
	missing := old == nil
	if missing {
		old = &lock.Lock{}
	}
	now := &lock.Lock{Bases: map[string]digest.Digest{}}
	for _, ref := range moving(p.plan) {
		place, err := s.source(st, ref)
		if err != nil {
			return err
		}
		root, err := place.Root(ctx)
		if err != nil {
			return fmt.Errorf("the base %s: %w", ref, err)
		}
		now.Bases[ref.String()] = root.Digest
	}
	document := &report.Lock{File: s.lockPath(), Bases: now.Bases, Differences: old.Differences(now)}
	if document.Stale = missing && len(now.Bases) > 0 || len(document.Differences) > 0; document.Stale && !s.cmd.Bool("check") {
		if err := replaceFile(s.lockPath(), now.Encode()); err != nil {
			return err
		}
		document.Written = true
	}
	if err := s.result(document, func() error { return report.WriteLock(s.out, s.paint, document) }); err != nil {
		return err
	}
	if document.Stale && !document.Written {
		return &exitError{exitDiffers, s.lockPath() + " is stale; `imbricat lock` refreshes it"}
	}
	return nil
}

// moving lists the images that the plan names by a tag alone.
func moving(p *plan.Plan) []reference.Reference {
	var list []reference.Reference
	add := func(ref reference.Reference) {
		if ref.Kind == reference.Registry && ref.Digest == "" && !slices.Contains(list, ref) {
			list = append(list, ref)
		}
	}
	for _, u := range p.Units {
		if u.Base.Kind == recipe.ReferenceBase {
			add(u.Base.Reference)
		}
		for _, step := range u.Steps {
			if take, ok := step.Do.(plan.Take); ok && take.Unit == nil {
				add(take.Reference)
			}
		}
	}
	return list
}

// replaceFile writes a file as one act.
func replaceFile(name string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(0o644), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}
