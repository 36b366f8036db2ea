package trace

import (
	"slices"
	"strings"

	"imbricat/internal/content/tree"
)

// Resolver works out from notes what was learnt of a view. Every link on the way is part of that.
type Resolver struct {
	view    *tree.View
	outside func(path string) bool
	owners  bool
	asked   map[string]Asked
}

// NewResolver starts with nothing learnt. Paths for which outside holds are shown to the command from elsewhere and are no
// part of the view. With owners the permissions of folders on the way count.
func NewResolver(view *tree.View, outside func(path string) bool, owners bool) *Resolver {
	return &Resolver{view, outside, owners, map[string]Asked{}}
}

// maxLinks is how many links the kernel follows for one path.
const maxLinks = 40

// Add takes in a note.
func (r *Resolver) Add(n Note) {
	root := strings.Trim(n.Root, "/")
	at, rest := n.Start()
	at = strings.Trim(at, "/")
	folder, _ := r.view.Lookup(at)
	if r.owners {
		r.pass(at, folder)
	}
	for links := 0; rest != ""; {
		name, below, deeper := strings.Cut(rest, "/")
		rest = below
		switch name {
		case "", ".":
			continue
		case "..":
			if at != root {
				at = tree.Parent(at)
				folder, _ = r.view.Lookup(at)
			}
			continue
		}
		next := tree.Join(at, name)
		if r.outside(next) {
			at, folder = next, nil
			continue
		}
		if folder == nil || folder.Kind != tree.Folder {
			// It is absent with what would hold it, unless the command made that; dots may still lead back.
			at, folder = next, nil
			continue
		}
		node, _ := r.view.Lookup(next)
		r.pass(next, node)
		if node != nil && node.Kind == tree.Symlink && (deeper || n.Acts&NoFollow == 0) {
			r.asked[next] |= Sticky
			if links++; links > maxLinks {
				return
			}
			if strings.HasPrefix(node.Target, "/") {
				at = root
				folder, _ = r.view.Lookup(at)
			}
			if rest = node.Target + "/" + rest; !deeper {
				rest = node.Target
			}
			continue
		}
		at, folder = next, node
	}
	r.end(at, n.Acts)
}

// pass notes that a path was gone through.
func (r *Resolver) pass(path string, n *tree.Node) {
	asked := Kind
	if r.owners && n != nil && n.Kind == tree.Folder {
		asked |= Meta
	}
	r.asked[path] |= asked
}

// end notes what was done with the path that a name led to.
func (r *Resolver) end(path string, acts Act) {
	if r.outside(path) {
		return
	}
	n, exists := r.view.Lookup(path)
	if !exists {
		if parent, there := r.view.Lookup(tree.Parent(path)); there && parent.Kind == tree.Folder {
			r.asked[path] |= Kind
		}
		return
	}
	asked := Kind
	isFolder := n.Kind == tree.Folder
	if acts&(Look|Read|List|Change|Overwrite|Move) != 0 {
		asked |= Meta
	}
	if acts&(Read|Change|Move) != 0 && n.Kind == tree.File {
		asked |= Content
	}
	if isFolder && acts&(List|Remove) != 0 {
		asked |= Names
	}
	if isFolder && acts&Move != 0 {
		asked |= Whole
	}
	if acts&(Create|Overwrite) != 0 || r.owners && acts&(Remove|Move) != 0 {
		asked |= Sticky
	}
	r.asked[path] |= asked
}

// Wrote takes in what a command left: whatever of it comes from below was read, whether or not anybody saw how. Hidden are
// folders of which the layer hides all that the view has.
func (r *Resolver) Wrote(entries []tree.Entry, hidden []string) {
	for i := range entries {
		e := &entries[i]
		n, exists := r.view.Lookup(e.Path)
		if r.outside(e.Path) {
			continue
		}
		if !exists {
			r.end(e.Path, Make)
			continue
		}
		switch {
		case e.Kind == tree.Whiteout:
			r.end(e.Path, Pass)
		case n.Kind == tree.Folder || n.Kind == tree.Symlink || e.Kind != tree.File && e.Kind != tree.Hardlink:
			r.end(e.Path, Look)
		case e.Kind == tree.Hardlink || e.Content == n.Content:
			r.end(e.Path, Change)
		default:
			r.end(e.Path, Overwrite)
		}
	}
	for _, path := range hidden {
		if n, exists := r.view.Lookup(path); exists && n.Kind == tree.Folder {
			r.end(path, List)
		}
	}
}

// Trace returns what was learnt, with the view's answers.
func (r *Resolver) Trace() *Trace {
	t := &Trace{Entries: make([]Entry, 0, len(r.asked))}
	var answer []byte
	for path, asked := range r.asked {
		n, _ := r.view.Lookup(path)
		answer = appendAnswer(answer[:0], r.view, path, n, asked)
		t.Entries = append(t.Entries, Entry{path, asked, string(answer)})
	}
	slices.SortFunc(t.Entries, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) })
	return t
}
