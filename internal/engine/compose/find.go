package compose

import (
	"fmt"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/content/tree"
)

// found is a node that a path or a pattern names.
type found struct {
	node *tree.Node
	path string // as it is named, without the first slash: through the links that lead there
	rel  string // below the folder that ignore patterns are relative to: one that is named, or from where a pattern matches; empty for that folder
}

// find returns the nodes that a path or a pattern names, through the links of the view, sorted by path.
func find(view *tree.View, wanted string) ([]found, bool, error) {
	n, err := lookup(view, wanted)
	switch {
	case err != nil:
		return nil, false, err
	case n != nil && n.Kind == tree.Folder:
		return []found{{node: n, path: wanted}}, false, nil
	case n != nil:
		return []found{{node: n, path: wanted, rel: path.Base(wanted)}}, false, nil
	case !strings.ContainsAny(wanted, "*?[{"):
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
func match(view *tree.View, pattern string) ([]found, error) {
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
	var all []found
	var visit func(n *tree.Node) error
	visit = func(n *tree.Node) error {
		for _, child := range n.Children() {
			rel := strings.TrimPrefix(strings.TrimPrefix(child.Path, top.Path), "/")
			matched, err := doublestar.Match(rest, rel)
			if err != nil {
				return fmt.Errorf("%q is not a valid pattern: %w", pattern, err)
			}
			if matched {
				all = append(all, found{node: child, path: tree.Join(base, rel), rel: rel})
			} else if err := visit(child); err != nil {
				return err
			}
		}
		return nil
	}
	return all, visit(top)
}
