package compose

import (
	"context"

	"imbricat/internal/content/tree"
	"imbricat/internal/spec/plan"
)

type makeStep struct{ plan.Make }

// Alone implements Kind.
func (makeStep) Alone() bool { return true }

// Lay makes folders. One that is there keeps what it holds, and all else that the step does not give.
func (m makeStep) Lay(ctx context.Context, c *Composer) error {
	given, err := c.accessOf(ctx, m.Owner, m.OwnerPos, m.Mode)
	if err != nil {
		return err
	}
	for _, target := range m.Folders {
		e := tree.Entry{Path: inner(target), Kind: tree.Folder, Mode: 0o755}
		real, err := c.view.Resolve(e.Path, true)
		if err != nil {
			return err
		}
		if below, exists := c.view.Lookup(real); exists && below.Kind == tree.Folder {
			e.Mode, e.UID, e.GID, e.Xattrs = below.Mode, below.UID, below.GID, below.Xattrs
		}
		given.adopt(&e)
		if err := c.addFolder(e, given.given()); err != nil {
			return err
		}
	}
	return nil
}
