package compose

import (
	"context"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

type removeStep struct{ plan.Remove }

// Alone reports false: what is removed lies below.
func (removeStep) Alone() bool { return false }

// Lay deletes what lies below. Of things in each other the outermost is enough.
func (do removeStep) Lay(_ context.Context, c *Composer) error {
	var gone []string
	for i, wanted := range do.Paths {
		nodes, err := toRemove(c.view, strings.TrimPrefix(wanted, "/"))
		if err != nil {
			return err
		}
		if len(nodes) == 0 {
			c.warn(event.NoMatch, c.File.Describe(do.PathPos[i], wanted+" is not there, so nothing is removed"))
		}
		for _, n := range nodes {
			if n.Path == "" {
				return c.File.Problem(do.PathPos[i], "the root itself cannot be removed")
			}
			gone = append(gone, n.Path)
		}
	}
	slices.Sort(gone)
	last := ""
	for _, p := range slices.Compact(gone) {
		if last != "" && strings.HasPrefix(p, last+"/") {
			continue
		}
		last = p
		if _, err := c.folder(tree.Parent(p)); err != nil {
			return err
		}
		c.put(tree.Entry{Path: p, Kind: tree.Whiteout})
	}
	return nil
}

// toRemove returns the nodes that a path or a pattern names. A link is removed itself, wherever it leads.
func toRemove(view *tree.View, wanted string) ([]*tree.Node, error) {
	real, err := view.Resolve(wanted, false)
	if err != nil {
		return nil, err
	}
	if n, exists := view.Lookup(real); exists {
		return []*tree.Node{n}, nil
	}
	if !strings.ContainsAny(wanted, "*?[{") {
		return nil, nil
	}
	matches, err := match(view, wanted)
	var nodes []*tree.Node
	for _, m := range matches {
		nodes = append(nodes, m.node)
	}
	return nodes, err
}
