package compose

import (
	"context"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/spec/plan"
)

type linkStep struct{ plan.Link }

// Alone implements Kind.
func (linkStep) Alone() bool { return true }

// Lay makes a symbolic link.
func (l linkStep) Lay(ctx context.Context, c *Composer) error {
	owner, err := c.owner(ctx, l.Owner, l.OwnerPos)
	if err != nil {
		return err
	}
	return c.add(tree.Entry{Path: inner(l.At), Kind: tree.Symlink, Mode: 0o777, Target: l.Target, UID: owner.UID, GID: owner.GID}, filetree.Place{}, nil)
}
