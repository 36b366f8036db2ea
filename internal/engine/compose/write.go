package compose

import (
	"context"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
)

type writeStep struct{ plan.Write }

// Lay makes a file of a text.
func (w writeStep) Lay(ctx context.Context, c *Composer) error {
	owner, err := c.owner(ctx, w.Owner, w.OwnerPos)
	if err != nil {
		return err
	}
	content := digest.ContentBytes([]byte(w.Text))
	c.Marks.Note(content, census.ClassOf(w.To.Path, []byte(w.Text)))
	return c.add(tree.Entry{
		Path: inner(w.To), Kind: tree.File, Mode: w.Mode.Apply(0o644, false), UID: owner.UID, GID: owner.GID,
		Size: int64(len(w.Text)), Content: content,
	}, filetree.Place{From: filetree.Memory(w.Text)}, nil)
}
