package tree

import (
	"slices"
	"strings"
)

// Squashed is an entry of several layers laid together, with the layer that it came from and its path there.
type Squashed struct {
	Entry
	Layer int
	At    string
}

// Squash lays layers together, the lowest first, as one layer that does to whatever lies below what they do one after the
// other. The result is sorted by path, an opaque mark behind its folder. Of hard links the first name is the file.
func Squash(layers [][]Entry) []Squashed {
	if len(layers) == 1 && len(layers[0]) > 0 && isPlain(layers[0]) {
		all := make([]Squashed, len(layers[0]))
		for i := range layers[0] {
			all[i] = Squashed{layers[0][i], 0, layers[0][i].Path}
		}
		return all
	}
	return squash(layers)
}

// isPlain reports whether entries are sorted, and none of them says anything of another one.
func isPlain(entries []Entry) bool {
	for i := range entries {
		switch e := &entries[i]; {
		case e.Kind == Hardlink, e.Kind == Whiteout, e.Kind == Opaque, i > 0 && entries[i-1].Path >= e.Path:
			return false
		}
	}
	return true
}

func squash(layers [][]Entry) []Squashed {
	root := &squashNode{}
	for l, entries := range layers {
		for i := range entries {
			switch e := &entries[i]; e.Kind {
			case Whiteout:
				root.at(e.Path).hide(e, l)
			case Opaque:
				n := root.at(e.Path)
				n.below, n.opaque = nil, &Squashed{*e, l, e.Path}
			}
		}
		var later []*Squashed
		for i := range entries {
			switch e := &entries[i]; e.Kind {
			case Whiteout, Opaque:
			case Hardlink:
				later = append(later, &Squashed{*e, l, e.Path})
			default:
				root.at(e.Path).put(&Squashed{*e, l, e.Path})
			}
		}
		for _, link := range later {
			if target := root.find(link.Target); target != nil && target.is != nil && target.is.Kind != Folder {
				root.at(link.Path).put(target.is) // both names stand for one thing
				continue
			}
			root.at(link.Path).put(link) // to what lies below all
		}
	}
	var all []Squashed
	first := map[*Squashed]string{}
	root.each("", func(p string, s *Squashed) {
		one := *s
		one.Path = p
		if s.Kind != Folder && s.Kind != Whiteout && s.Kind != Opaque && s.Kind != Hardlink {
			if name, twin := first[s]; twin {
				one.Entry = Entry{Path: p, Kind: Hardlink, Mode: s.Mode, UID: s.UID, GID: s.GID, Target: name, Time: s.Time}
			} else {
				first[s] = p
			}
		}
		all = append(all, one)
	})
	// What a name sorts before its folder's contents, such as "a.b" before "a/c", is put right here.
	slices.SortStableFunc(all, func(a, b Squashed) int { return strings.Compare(a.Path, b.Path) })
	return renamed(all)
}

// renamed lets the first name in the order of paths be the file that the other names of a hard link point to.
func renamed(all []Squashed) []Squashed {
	names := map[string][]int{} // file → indexes of its names
	for i := range all {
		switch {
		case all[i].Kind == Hardlink:
			names[all[i].Target] = append(names[all[i].Target], i)
		default:
			names[all[i].Path] = append(names[all[i].Path], i)
		}
	}
	for _, at := range names {
		if len(at) < 2 || all[at[0]].Kind != Hardlink {
			continue
		}
		file := slices.IndexFunc(at, func(i int) bool { return all[i].Kind != Hardlink })
		if file < 0 {
			continue
		}
		was, head := all[at[file]], &all[at[0]]
		path := head.Path
		link := head.Entry
		*head = was
		head.Path = path
		link.Path = was.Path
		all[at[file]].Entry = link
		for _, i := range at[1:] {
			all[i].Target = path
		}
	}
	return all
}

type squashNode struct {
	is     *Squashed // nil: only on the way to something
	opaque *Squashed // hides what lies below the layers in the folder
	below  map[string]*squashNode
}

// at returns the node of a path and makes what is missing on the way.
func (n *squashNode) at(p string) *squashNode {
	for p != "" {
		name, rest, _ := strings.Cut(p, "/")
		next := n.below[name]
		if next == nil {
			next = &squashNode{}
			if n.below == nil {
				n.below = map[string]*squashNode{}
			}
			n.below[name] = next
		}
		n, p = next, rest
	}
	return n
}

func (n *squashNode) find(p string) *squashNode {
	for p != "" && n != nil {
		name, rest, _ := strings.Cut(p, "/")
		n, p = n.below[name], rest
	}
	return n
}

// hide deletes what is there, and below all layers too.
func (n *squashNode) hide(e *Entry, layer int) {
	*n = squashNode{is: &Squashed{*e, layer, e.Path}}
}

// put lays something down. A folder in the place of something that was deleted or no folder begins empty.
func (n *squashNode) put(s *Squashed) {
	if s.Kind != Folder {
		*n = squashNode{is: s}
		return
	}
	if n.is != nil && n.is.Kind != Folder {
		n.opaque = &Squashed{Entry{Path: s.Path, Kind: Opaque}, s.Layer, s.Path}
	}
	n.is = s
}

func (n *squashNode) each(p string, visit func(p string, s *Squashed)) {
	if n.is != nil {
		visit(p, n.is)
	}
	if n.opaque != nil {
		visit(p, n.opaque)
	}
	names := make([]string, 0, len(n.below))
	for name := range n.below {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		n.below[name].each(Join(p, name), visit)
	}
}

// Reach is what a layer touches: for telling whether two layers may change places.
type Reach struct {
	lines   map[string]string // path → its entry
	above   map[string]bool   // folders on the way to anything
	replace map[string]bool   // paths whose things below are replaced: all but folders, and opaque folders
	linked  map[string]bool   // targets of hard links to what the layer does not have
}

// ReachOf returns what a layer touches.
func ReachOf(entries []Entry) *Reach {
	r := &Reach{lines: map[string]string{}, above: map[string]bool{}, replace: map[string]bool{}, linked: map[string]bool{}}
	for i := range entries {
		e := &entries[i]
		if e.Kind == Opaque {
			r.replace[e.Path] = true
			continue
		}
		r.lines[e.Path] = string(e.AppendLine(nil))
		if e.Kind != Folder {
			r.replace[e.Path] = true
			r.lines[e.Path] += "\x00" // only folders are the same twice
		}
		for p := Parent(e.Path); p != "" && !r.above[p]; p = Parent(p) {
			r.above[p] = true
		}
	}
	for i := range entries {
		if e := &entries[i]; e.Kind == Hardlink && r.lines[e.Target] == "" {
			r.linked[e.Target] = true
		}
	}
	return r
}

// Commutes reports whether two neighbouring layers may change places: no path of one is equal to, above or below (as a
// deletion or a replacement) a path of the other, but for folders with the same metadata; an opaque folder stands against all
// that is below it; and neither links to a file of the other. Paths must not lead through symbolic links.
func (r *Reach) Commutes(other *Reach) bool {
	return r.stays(other) && other.stays(r)
}

func (r *Reach) stays(other *Reach) bool {
	for path, line := range r.lines {
		if there, both := other.lines[path]; both && (there != line || strings.HasSuffix(line, "\x00")) {
			return false
		}
		if r.replace[path] && other.above[path] {
			return false
		}
	}
	for path := range r.replace { // of opaque folders, whose own lines are equal
		if _, touched := other.lines[path]; other.above[path] || touched && other.replace[path] {
			return false
		}
	}
	for path := range r.linked {
		if _, there := other.lines[path]; there {
			return false
		}
	}
	return true
}
