package compose

import (
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/content/tree"
)

// find returns the nodes that a path or a pattern names, through the links of the view, sorted by path.
func find(view *tree.View, wanted string) ([]*tree.Node, bool, error) {
	if n, err := lookup(view, wanted); err != nil || n != nil {
		return slices.DeleteFunc([]*tree.Node{n}, func(n *tree.Node) bool { return n == nil }), false, err
	}
	if !strings.ContainsAny(wanted, "*?[{") {
		return nil, false, nil
	}
	nodes, err := match(view, wanted)
	return nodes, true, err
}

func lookup(view *tree.View, wanted string) (*tree.Node, error) {
	real, err := view.Resolve(wanted, false)
	if err != nil {
		return nil, err
	}
	n, _ := view.Lookup(real)
	if n != nil && n.Kind == tree.Symlink {
		// A link to a folder stands for the folder; a link to a file is taken as a link.
		if real, err = view.Resolve(wanted, true); err != nil {
			return nil, err
		}
		if folder, exists := view.Lookup(real); exists && folder.Kind == tree.Folder {
			return folder, nil
		}
	}
	return n, nil
}

// match returns the nodes that a pattern names; what lies in a folder that matched belongs to it and is no match.
func match(view *tree.View, pattern string) ([]*tree.Node, error) {
	base, rest := doublestar.SplitPattern(pattern)
	if base == "." {
		base = ""
	}
	real, err := view.Resolve(base, true)
	if err != nil {
		return nil, err
	}
	top, exists := view.Lookup(real)
	if !exists {
		return nil, nil
	}
	var found []*tree.Node
	var visit func(n *tree.Node) error
	visit = func(n *tree.Node) error {
		for _, child := range n.Children() {
			matched, err := doublestar.Match(rest, strings.TrimPrefix(strings.TrimPrefix(child.Path, top.Path), "/"))
			if err != nil {
				return fmt.Errorf("%q is no valid pattern: %w", pattern, err)
			}
			if matched {
				found = append(found, child)
			} else if err := visit(child); err != nil {
				return err
			}
		}
		return nil
	}
	return found, visit(top)
}
