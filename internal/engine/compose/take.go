package compose

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/ignore"
	"imbricat/internal/spec/plan"
)

type takeStep struct{ plan.Take }

// Alone implements Kind.
func (takeStep) Alone() bool { return true }

// Lay copies out of another unit's view or of an image elsewhere. A folder gives what it holds, a file itself, a
// pattern each match under its own name.
func (do takeStep) Lay(ctx context.Context, c *Composer) error {
	view, name := c.inputs.Images[do.Reference.String()], do.Reference.String()
	if do.Unit != nil {
		view, name = c.inputs.Units[do.Unit], do.Unit.ID.String()
	}
	a, err := c.accessOf(ctx, do.Owner, do.OwnerPos, do.Mode)
	if err != nil {
		return err
	}
	c.own(do.To, a.owner)
	t := &taker{c: c, do: do.Take, access: a, view: view, leave: ignore.New(do.LeaveOut...)}
	var folders []string
	for i, wanted := range do.Paths {
		found, pattern, err := find(view, strings.TrimPrefix(wanted, "/"))
		if err != nil {
			return err
		}
		if len(found) == 0 {
			return c.File.Problem(do.PathPos[i], "%s has nothing at %s", name, wanted)
		}
		if !pattern && found[0].node.Kind == tree.Folder {
			folders = append(folders, wanted)
		}
		for _, f := range found {
			if err := t.take(f, pattern); err != nil {
				return c.File.Problem(do.PathPos[i], "%s of %s: %s", wanted, name, err)
			}
		}
	}
	c.tellMerged(c.step, folders, do.Structure, "structure: keep keeps them, or a take for each with a to of its own")
	return nil
}

// taker takes nodes of a view.
type taker struct {
	c      *Composer
	do     plan.Take
	access access
	view   *tree.View
	leave  ignore.Matcher
	linked int // that were come to through links
}

// mostLinked bounds what links that are followed lead to, over and over: folders that lead to each other double with every one.
const mostLinked = 200_000

// place is a node on the way into the step's tree.
type place struct {
	to      string   // where it lands
	rel     string   // below the folder that patterns are relative to
	within  bool     // it was not named itself
	linked  bool     // a link led there
	through []string // the folders that it lies in, where links are followed
}

// take lays down what a path or a pattern named, with all in it. A folder that was named itself gives what it holds.
func (t *taker) take(f found, pattern bool) error {
	n, err := t.followed(f.node)
	if err != nil {
		return err
	}
	at := place{to: inner(t.do.To), within: pattern, linked: n != f.node}
	folder := n.Kind == tree.Folder
	switch {
	case t.do.Structure:
		at.to = tree.Join(at.to, f.path)
	case pattern, !folder && (t.do.To.Folder || len(t.do.Paths) > 1):
		at.to = tree.Join(at.to, path.Base(f.path))
	}
	if at.rel = f.rel; at.rel != "" && t.leave.MatchAll(at.rel, folder) {
		if !pattern {
			return fmt.Errorf("leave-out leaves it out")
		}
		return nil
	}
	return t.lay(n, at)
}

// followed returns what a link leads to, where links are followed; else the node itself.
func (t *taker) followed(n *tree.Node) (*tree.Node, error) {
	if n.Kind != tree.Symlink || !t.do.Follow {
		return n, nil
	}
	real, err := t.view.Resolve(n.Path, true)
	if err != nil {
		return nil, err
	}
	to, exists := t.view.Lookup(real)
	if !exists {
		return nil, fmt.Errorf("the link /%s leads to %s, and nothing is there", n.Path, n.Target)
	}
	return to, nil
}

// lay lays a node down. A folder that was named itself lends its owner and mode to a new one only.
func (t *taker) lay(n *tree.Node, at place) error {
	if at.linked {
		if t.linked++; t.linked > mostLinked {
			return fmt.Errorf("the links that are followed lead to more than %d files", mostLinked)
		}
	}
	e := n.Entry
	e.Path = at.to
	t.access.adopt(&e)
	if n.Kind != tree.Folder {
		var twin any
		if n.Linked {
			twin = filetree.Place{From: n.From, At: n.At}
		}
		return t.c.add(e, filetree.Place{From: n.From, At: n.At}, twin)
	}
	if slices.Contains(at.through, n.Path) {
		return fmt.Errorf("a link leads to /%s, in which it lies itself", n.Path)
	}
	if err := t.c.addFolder(e, at.within && t.access.given()); err != nil {
		return err
	}
	below := place{within: true, through: append(slices.Clone(at.through), n.Path)}
	for _, child := range n.Children() {
		name := path.Base(child.Path)
		link := child
		child, err := t.followed(child)
		if err != nil {
			return err
		}
		below.linked = at.linked || link != child
		below.to, below.rel = tree.Join(at.to, name), tree.Join(at.rel, name)
		if t.leave.Match(below.rel, child.Kind == tree.Folder) {
			continue
		}
		if err := t.lay(child, below); err != nil {
			return err
		}
	}
	return nil
}
