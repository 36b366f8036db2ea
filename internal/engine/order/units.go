package order

import (
	"cmp"
	"slices"
	"strings"
)

// unit is items of one component that changed in the same versions, hence go together.
type unit struct {
	items     []int
	size      int64 // bytes
	component int
	changes   Versions
	hint      Hint
	hazard    Share // of a change, given an event of the component
}

// packageFolders hold a package in every folder below them.
var packageFolders = map[string]bool{"node_modules": true, "site-packages": true, "dist-packages": true, "gems": true}

// packageEnd returns the length of the prefix of a path that names the innermost package that it belongs to; 0 for none.
func packageEnd(path string) int {
	end := 0
	for start := 0; start < len(path); {
		next := strings.IndexByte(path[start:], '/')
		if next < 0 {
			break
		}
		name, after := path[start:start+next], start+next+1
		start = after
		rest := strings.IndexByte(path[after:], '/')
		if !packageFolders[name] || rest <= 0 {
			continue
		}
		end = after + rest
		if path[after] == '@' { // a scope holds packages
			if inner := strings.IndexByte(path[end+1:], '/'); inner > 0 {
				end += 1 + inner
			}
		}
	}
	return end
}

// folder is a node of the hierarchy of paths.
type folder struct {
	path  string
	items []int // directly in it
	below []*folder
	size  int64 // bytes of all in it
	count int   // items of all in it
	whole bool  // it is a package without packages below
}

// hierarchy returns the folders of items, which are sorted by path.
func hierarchy(items []Item) *folder {
	root := &folder{}
	byPath := map[string]*folder{"": root}
	var at func(path string) *folder
	at = func(path string) *folder {
		if f := byPath[path]; f != nil {
			return f
		}
		f := &folder{path: path, whole: packageEnd(path+"/") == len(path)}
		byPath[path] = f
		above := at(parent(path))
		above.below = append(above.below, f)
		return f
	}
	for i := range items {
		f := at(parent(items[i].Path))
		f.items = append(f.items, i)
	}
	root.sum(items)
	return root
}

// sum adds up what lies in a folder, and tells whether packages are there.
func (f *folder) sum(items []Item) (packages bool) {
	for _, i := range f.items {
		f.size += items[i].Size
	}
	f.count = len(f.items)
	for _, b := range f.below {
		packages = b.sum(items) || packages
		f.size, f.count = f.size+b.size, f.count+b.count
	}
	is := f.whole
	f.whole = f.whole && !packages
	return is || packages
}

// all returns the items in a folder and below it.
func (f *folder) all(into []int) []int {
	into = append(into, f.items...)
	for _, b := range f.below {
		into = b.all(into)
	}
	return into
}

func parent(p string) string {
	if at := strings.LastIndexByte(p, '/'); at >= 0 {
		return p[:at]
	}
	return ""
}

// components parts items, sorted by path, into those that are released as one, as far as paths tell: packages, else
// folders that hold no more than one in some pieces of the whole. It gives the number of each item's component.
func components(items []Item, pieces int64) (of []int, count int) {
	of = make([]int, len(items))
	root := hierarchy(items)
	mostCount, mostSize := max(1, int64(root.count)/pieces), max(1, root.size/pieces)
	var walk func(f *folder)
	walk = func(f *folder) {
		list := f.items
		whole := f.whole || int64(f.count) <= mostCount && f.size <= mostSize
		if whole {
			list = f.all(nil)
		}
		for _, i := range list {
			of[i] = count
		}
		if len(list) > 0 {
			count++
		}
		if !whole {
			for _, b := range f.below {
				walk(b)
			}
		}
	}
	walk(root)
	return of, count
}

// group gathers items with one component and one history into units, the largest first.
func group(items []Item, which []int, component []int) []*unit {
	type identity struct {
		component int
		hint      Hint
		changes   string
	}
	known := map[identity]*unit{}
	var all []*unit
	for _, i := range which {
		item := &items[i]
		id := identity{component[i], item.Hint, item.Changes.key()}
		u := known[id]
		if u == nil {
			u = &unit{component: component[i], changes: item.Changes, hint: item.Hint}
			known[id] = u
			all = append(all, u)
		}
		u.items = append(u.items, i)
		u.size += item.Size
	}
	slices.SortStableFunc(all, func(a, b *unit) int { return cmp.Compare(b.size, a.size) })
	return all
}

// mostUnits bounds what is agglomerated at once.
const mostUnits = 300

// coarsen joins small units, those of one component first, until no more than mostUnits are left.
func coarsen(units []*unit) []*unit {
	if len(units) <= mostUnits {
		return units
	}
	kept, rest := units[:mostUnits/2:mostUnits/2], units[mostUnits/2:]
	type kind struct {
		component int
		hint      Hint
	}
	by := map[kind]*unit{}
	last := map[Hint]*unit{}
	for _, u := range rest {
		k := kind{u.component, u.hint}
		into := by[k]
		if into == nil && len(by) >= mostUnits/2-3 {
			into = last[u.hint]
		}
		if into == nil {
			by[k], last[u.hint] = u, u
			kept = append(kept, u)
			continue
		}
		into.items = append(into.items, u.items...)
		into.size += u.size
		into.changes = into.changes.Clone().Or(u.changes)
		into.hazard += u.hazard
	}
	return kept
}
