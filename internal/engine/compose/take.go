package compose

import (
	"context"
	"path"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/spec/plan"
)

type takeStep struct{ plan.Take }

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
	var folders []string
	for i, wanted := range do.Paths {
		nodes, pattern, err := find(view, strings.TrimPrefix(wanted, "/"))
		if err != nil {
			return err
		}
		if len(nodes) == 0 {
			return c.File.Problem(do.PathPos[i], "%s has nothing at %s", name, wanted)
		}
		if !pattern && nodes[0].Kind == tree.Folder {
			folders = append(folders, wanted)
		}
		for _, n := range nodes {
			if err := takeNode(c, do.To, a, n, pattern, len(do.Paths) > 1); err != nil {
				return err
			}
		}
	}
	c.tellMerged(c.step, folders, false, "a take for each with a to of its own keeps them")
	return nil
}

// takeNode lays a node of a view down, with all in it. A folder that was named itself gives what it holds.
func takeNode(c *Composer, target plan.Target, a access, n *tree.Node, pattern, several bool) error {
	to := inner(target)
	if n.Kind == tree.Folder {
		if pattern {
			to = tree.Join(to, path.Base(n.Path))
		}
		return takeFolder(c, a, n, to, pattern)
	}
	if target.Folder || pattern || several {
		to = tree.Join(to, path.Base(n.Path))
	}
	return takeFile(c, a, n, to)
}

// takeFolder takes a folder with all in it. A folder that was named itself lends its owner and mode to a new one only.
func takeFolder(c *Composer, a access, n *tree.Node, to string, within bool) error {
	e := n.Entry
	e.Path = to
	a.adopt(&e)
	if err := c.addFolder(e, within && a.given()); err != nil {
		return err
	}
	for _, child := range n.Children() {
		target := tree.Join(to, path.Base(child.Path))
		var err error
		if child.Kind == tree.Folder {
			err = takeFolder(c, a, child, target, true)
		} else {
			err = takeFile(c, a, child, target)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func takeFile(c *Composer, a access, n *tree.Node, to string) error {
	e := n.Entry
	e.Path = to
	a.adopt(&e)
	var twin any
	if n.Linked {
		twin = filetree.Place{From: n.From, At: n.At}
	}
	return c.add(e, filetree.Place{From: n.From, At: n.At}, twin)
}
