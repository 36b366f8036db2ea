package filetree

import (
	"slices"
	"strings"

	"imbricat/internal/content/tree"
)

// Above returns what must lie on some trees, which lie on one another, the lowest first, so that they show what another tree
// shows in their place; nothing where they do already. Every folder on the way is among the entries, all of which but
// deletions are entries of the other tree. Reports whether there is such a thing: a deletion would also hide what lies below
// all of them. Below reports whether something there has a path. Entries are sorted by path.
func Above(trees [][]tree.Entry, whole []tree.Entry, below func(path string) bool) (above []tree.Entry, exists bool) {
	wanted := byPath(whole)
	if len(trees) == 0 || hides(whole) || hides(trees[0]) || exposes(trees, wanted, below) {
		return nil, false
	}
	now := lieTogether(trees)
	wasNames, names := namesOf(now), namesOf(wanted)
	add := map[string]tree.Entry{}
	for i := range whole {
		e := &whole[i]
		if was := now[e.Path]; was != nil && sameLine(was, e) && slices.Equal(wasNames[e.Path], names[e.Path]) {
			continue
		}
		if e.Kind == tree.CharDevice || e.Kind == tree.BlockDevice {
			return nil, false // is never laid down, so what is there would show
		}
		add[e.Path] = *e
		for _, name := range names[e.Path] { // one file under all of its names
			add[name] = *wanted[name]
		}
	}
	for p := range now {
		if wanted[p] == nil && isFolder(wanted, tree.Parent(p)) {
			add[p] = tree.Entry{Path: p, Kind: tree.Whiteout}
		}
	}
	for _, p := range pathsOf(add) {
		for at := tree.Parent(p); at != ""; at = tree.Parent(at) {
			if _, known := add[at]; known {
				continue
			}
			if wanted[at] == nil {
				return nil, false
			}
			add[at] = *wanted[at]
		}
	}
	for _, e := range add {
		above = append(above, e)
	}
	slices.SortFunc(above, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	return above, true
}

// hides reports whether a tree has marks for what lies below it.
func hides(entries []tree.Entry) bool {
	return slices.ContainsFunc(entries, func(e tree.Entry) bool { return e.Kind == tree.Whiteout || e.Kind == tree.Opaque })
}

// exposes reports whether another tree, in the place of some trees, shows something that lies below them.
func exposes(trees [][]tree.Entry, wanted map[string]*tree.Entry, below func(path string) bool) bool {
	for _, entries := range trees {
		for i := range entries {
			e := &entries[i]
			at := wanted[e.Path]
			uncovered := at == nil && isFolder(wanted, tree.Parent(e.Path)) || at != nil && at.Kind == tree.Folder && e.Kind != tree.Folder
			if uncovered && below(e.Path) {
				return true
			}
		}
	}
	return false
}

// lieTogether returns what trees hold that lie on one another, without what they hide.
func lieTogether(trees [][]tree.Entry) map[string]*tree.Entry {
	now := byPath(trees[0])
	for _, entries := range trees[1:] {
		replaced := map[string]bool{}
		for i := range entries {
			if entries[i].Kind != tree.Folder {
				replaced[entries[i].Path] = true
			}
		}
		for p := range now {
			for at := p; at != ""; at = tree.Parent(at) {
				if replaced[at] {
					delete(now, p)
					break
				}
			}
		}
		for i := range entries {
			if entries[i].Kind != tree.Whiteout {
				now[entries[i].Path] = &entries[i]
			}
		}
	}
	return now
}

func byPath(entries []tree.Entry) map[string]*tree.Entry {
	all := make(map[string]*tree.Entry, len(entries))
	for i := range entries {
		all[entries[i].Path] = &entries[i]
	}
	return all
}

func pathsOf(entries map[string]tree.Entry) (all []string) {
	for p := range entries {
		all = append(all, p)
	}
	return all
}

func isFolder(entries map[string]*tree.Entry, p string) bool {
	return p == "" || entries[p] != nil && entries[p].Kind == tree.Folder
}

// namesOf returns all names, sorted, of each thing that has several, by each of these.
func namesOf(entries map[string]*tree.Entry) map[string][]string {
	together := map[string][]string{}
	for p, e := range entries {
		if e.Kind == tree.Hardlink {
			together[e.Target] = append(together[e.Target], p)
		}
	}
	all := map[string][]string{}
	for target, list := range together {
		list = append(list, target)
		slices.Sort(list)
		for _, name := range list {
			all[name] = list
		}
	}
	return all
}

// sameLine reports whether two entries of one path are laid down alike. Nobody is to depend on times of folders.
func sameLine(a, b *tree.Entry) bool {
	x, y := *a, *b
	if x.Kind == tree.Folder && y.Kind == tree.Folder {
		x.Time, y.Time = 0, 0
	}
	return x.Equal(&y)
}
