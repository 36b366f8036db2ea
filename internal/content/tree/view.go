package tree

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
)

// View is the file system that layers give together, lowest first. It is not safe for use by several goroutines while
// a layer is applied. Views that were cloned from each other share their nodes: what one changes it copies first.
type View struct {
	root   *Node
	watch  func(path string, n *Node)
	owner  *owner      // of the nodes that no other view shares
	shared atomic.Bool // another view has all nodes too

	mutex sync.Mutex
	names map[inode][]string // of files with several, where they were asked for since the last layer
}

// LayerNumber stands for the contents of a layer, by its number, in a view that only tells which layer a file is from.
type LayerNumber int

// Open implements Contents: there is nothing to open.
func (LayerNumber) Open(string) (io.ReadCloser, error) { return nil, errors.ErrUnsupported }

// inode is what names that are hard links to each other have in common.
type inode struct {
	from Contents
	at   string
}

// owner tells the nodes of one view from those that it shares.
type owner struct{ _ byte } // not empty, so that each has an address of its own

// Node is one path of a view.
type Node struct {
	Entry             // Path is where the view shows it
	From     Contents // where a file's bytes are
	At       string   // the path under which From has them
	Linked   bool     // nodes with one From and At are hard links to each other
	Together int      // of a linked file: how many names the layer that it comes from has for it
	children map[string]*Node
	owner    *owner
}

// Watched is the view as one who looks at it through watch: it is called with every path that is looked up and with what
// is there, nil for nothing. The names that a folder holds are not looked up by Children.
func (v *View) Watched(watch func(path string, n *Node)) *View {
	return &View{root: v.root, watch: watch}
}

// Root returns the root's node.
func (v *View) Root() *Node { return v.root }

// Names returns the paths at which the view shows a file that is linked, in order.
func (v *View) Names(n *Node) []string {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	if v.names == nil {
		v.names = map[inode][]string{}
		v.Each(func(n *Node) {
			if n.Linked {
				v.names[inode{n.From, n.At}] = append(v.names[inode{n.From, n.At}], n.Path)
			}
		})
	}
	return v.names[inode{n.From, n.At}]
}

// look is node, watched.
func (v *View) look(p string) *Node {
	n := v.node(p)
	if v.watch != nil {
		v.watch(p, n)
	}
	return n
}

// NewView is a view of nothing but an empty root.
func NewView() *View {
	own := &owner{}
	return &View{owner: own, root: &Node{Entry: Entry{Kind: Folder, Mode: 0o755}, children: map[string]*Node{}, owner: own}}
}

// Clone returns a view that can be built on without changing this one. It costs nothing: what is changed is copied then.
func (v *View) Clone() *View {
	v.shared.Store(true)
	return &View{root: v.root, owner: &owner{}}
}

// own returns a node that the view alone has, in place of one that it may share.
func (v *View) own(n *Node) *Node {
	if n.owner == v.owner {
		return n
	}
	c := *n
	c.owner, c.children = v.owner, maps.Clone(n.children)
	return &c
}

// change finds a path without following links and makes it the view's own, with all folders above it; nil where it is not.
func (v *View) change(p string) *Node {
	if v.node(p) == nil {
		return nil
	}
	v.root = v.own(v.root)
	n := v.root
	for p != "" {
		name, rest, _ := strings.Cut(p, "/")
		child := v.own(n.children[name])
		n.children[name] = child
		n, p = child, rest
	}
	return n
}

// Apply lays the entries of one layer over the view. Deletions take effect on what lay below, whatever their place
// among the entries.
func (v *View) Apply(entries []Entry, from Contents) error {
	v.names = nil
	if v.shared.Swap(false) {
		v.owner = &owner{}
	}
	for i := range entries {
		switch e := &entries[i]; e.Kind {
		case Whiteout:
			v.remove(e.Path)
		case Opaque:
			if n := v.node(e.Path); n != nil && n.Kind == Folder {
				v.change(e.Path).children = map[string]*Node{}
			}
		}
	}
	var links []*Entry
	for i := range entries {
		e := &entries[i]
		switch e.Kind {
		case Whiteout, Opaque:
		case Hardlink:
			links = append(links, e)
		default:
			if err := v.put(&Node{Entry: *e, From: from, At: e.Path, owner: v.owner}); err != nil {
				return err
			}
		}
	}
	// Targets of hard links may stand behind them in the archive's order.
	together := map[string]int{}
	for _, e := range links {
		together[e.Target]++
	}
	for _, e := range links {
		target := v.node(e.Target)
		if target == nil || target.Kind == Folder {
			return fmt.Errorf("the hard link %q points to %q, which is not a file", e.Path, e.Target)
		}
		target = v.change(e.Target)
		target.Linked = true
		own := target.From == from && target.At == e.Target
		if own {
			target.Together = 1 + together[e.Target]
		}
		linked := *target
		if linked.Path, linked.children = e.Path, nil; !own {
			linked.Together = 1 // of a file of another layer each name is laid down by itself
		}
		if err := v.put(&linked); err != nil {
			return err
		}
	}
	return nil
}

// put places a node of the view's own. Parents that no layer has get the permissions that runtimes give them.
func (v *View) put(n *Node) error {
	v.root = v.own(v.root)
	if n.Path == "" {
		if n.Kind != Folder {
			return fmt.Errorf("a layer replaces the root by a %s", n.Kind)
		}
		n.children = v.root.children
		v.root = n
		return nil
	}
	folder := v.root
	rest := n.Path
	for {
		name, below, deeper := strings.Cut(rest, "/")
		child := folder.children[name]
		switch {
		case !deeper:
			v.adopt(n, child)
			folder.children[name] = n
			return nil
		case child == nil || child.Kind != Folder:
			child = &Node{Entry: Entry{Path: Join(folder.Path, name), Kind: Folder, Mode: 0o755}, children: map[string]*Node{}, owner: v.owner}
		default:
			child = v.own(child)
		}
		folder.children[name] = child
		folder, rest = child, below
	}
}

// adopt gives a folder that replaces a folder the children of the old one.
func (v *View) adopt(n, old *Node) {
	switch {
	case n.Kind != Folder:
	case old == nil || old.Kind != Folder:
		n.children = map[string]*Node{}
	default:
		n.children = v.own(old).children
	}
}

func (v *View) remove(p string) {
	if p == "" {
		v.change("").children = map[string]*Node{}
		return
	}
	if v.node(p) != nil {
		delete(v.change(Parent(p)).children, path.Base(p))
	}
}

// node finds a path without following links.
func (v *View) node(p string) *Node {
	n := v.root
	for p != "" && n != nil {
		name, rest, _ := strings.Cut(p, "/")
		n, p = n.children[name], rest
	}
	return n
}

// Lookup finds a path without following links.
func (v *View) Lookup(p string) (*Node, bool) {
	n := v.look(p)
	return n, n != nil
}

// Children lists what a folder holds, sorted by name.
func (n *Node) Children() []*Node {
	list := make([]*Node, 0, len(n.children))
	for _, child := range n.children {
		list = append(list, child)
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Path < list[j].Path })
	return list
}

// Each visits every node, folders before what they hold, names in order.
func (v *View) Each(visit func(n *Node)) { v.root.each(visit) }

func (n *Node) each(visit func(n *Node)) {
	visit(n)
	if len(n.children) > 0 {
		for _, child := range n.Children() {
			child.each(visit)
		}
	}
}

// maxLinks is how many links a resolution follows, as in Linux.
const maxLinks = 40

// Resolve follows the links on the way to p (a clean path without leading slash) as a process inside the view would:
// nothing leads out of the root. The last element is followed only where last says so. What does not exist resolves to
// where it would be made.
func (v *View) Resolve(p string, last bool) (string, error) {
	resolved := ""
	todo := p
	for links := 0; todo != ""; {
		name, rest, deeper := strings.Cut(todo, "/")
		todo = rest
		switch name {
		case "", ".":
			continue
		case "..":
			resolved = Parent(resolved)
			continue
		}
		next := Join(resolved, name)
		n := v.look(next)
		if n == nil || n.Kind != Symlink || !deeper && !last {
			resolved = next
			continue
		}
		if links++; links > maxLinks {
			return "", fmt.Errorf("/%s goes through more than %d links", p, maxLinks)
		}
		if strings.HasPrefix(n.Target, "/") {
			resolved = ""
		}
		todo = strings.TrimPrefix(Join(n.Target, todo), "/")
	}
	return resolved, nil
}
