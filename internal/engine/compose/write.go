package compose

import (
	"context"
	"fmt"
	"strings"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

type writeStep struct{ plan.Write }

// Alone reports whether the text is all of the file.
func (w writeStep) Alone() bool { return !w.After }

// Lay makes a file of a text.
func (w writeStep) Lay(ctx context.Context, c *Composer) error {
	owner, err := c.owner(ctx, w.Owner, w.OwnerPos)
	if err != nil {
		return err
	}
	if w.After {
		return w.add(ctx, c, owner)
	}
	content := digest.ContentBytes([]byte(w.Text))
	c.Marks.Note(content, census.ClassOf(w.To.Path, []byte(w.Text)))
	return c.add(tree.Entry{
		Path: inner(w.To), Kind: tree.File, Mode: w.Mode.Apply(0o644, false), UID: owner.UID, GID: owner.GID,
		Size: int64(len(w.Text)), Content: content,
	}, filetree.Place{From: filetree.Memory(w.Text)}, nil)
}

// read reads a file below, through links: where it really is, what it is, or nil where nothing is there, and what it holds.
func (c *Composer) read(ctx context.Context, path string) (real string, below *tree.Node, text []byte, err error) {
	if real, err = c.view.Resolve(strings.TrimPrefix(path, "/"), true); err != nil {
		return real, nil, nil, err
	}
	below, exists := c.view.Lookup(real)
	switch {
	case !exists:
		return real, nil, nil, nil
	case below.Kind != tree.File:
		return real, nil, nil, fmt.Errorf("%s is a %s in what lies below, and no file", path, below.Kind)
	}
	text, err = c.accounts().Content(ctx, below, real)
	return real, below, text, err
}

// add writes what a file has below, and the text after it. What the step does not give stays as it is there.
func (w writeStep) add(ctx context.Context, c *Composer, owner account.IDs) error {
	real, below, text, err := c.read(ctx, w.To.Path)
	switch {
	case err != nil:
		return err
	case below == nil:
		return fmt.Errorf("there is no %s below this step to write after; without after: the file is made", w.To.Path)
	}
	text = append(text, w.Text...)
	e := tree.Entry{Path: real, Kind: tree.File, Mode: below.Mode, UID: below.UID, GID: below.GID, Xattrs: below.Xattrs, Size: int64(len(text)), Content: digest.ContentBytes(text)}
	if w.OwnerPos != (recipe.Pos{}) {
		e.UID, e.GID = owner.UID, owner.GID
	}
	if w.Mode.Given() {
		e.Mode = w.Mode.Apply(e.Mode, false)
	}
	c.Marks.Note(e.Content, census.ClassOf(real, text))
	return c.add(e, filetree.Place{From: filetree.Memory(text)}, nil)
}
