package weight

import (
	"cmp"
	"slices"
	"strings"

	"imbricat/internal/content/installed"
	"imbricat/internal/content/tree"
)

// Use is which files of an image commands opened, and what they never did.
type Use struct {
	Commands []string       `json:"commands"`
	Opened   Bytes          `json:"opened"`
	Never    Bytes          `json:"never"`
	Folders  []Share        `json:"folders"`  // in which nothing was opened, each without those in it; the largest first
	Packages []PackageShare `json:"packages"` // of which nothing was opened; the largest first
}

// UseOf tells what of an image was opened. Opened is asked for every file by its path in the image.
func UseOf(layers []Layer, opened func(path string) bool) (*Use, error) {
	w, err := begin(layers)
	if err != nil {
		return nil, err
	}
	found := w.installed()
	u := &Use{Folders: []Share{}, Packages: []PackageShare{}}
	folders, used := map[string]*Bytes{}, map[string]bool{}
	packages, touched := map[*installed.Package]*Bytes{}, map[*installed.Package]bool{}
	w.view.Each(func(n *tree.Node) {
		l, i, is := w.place(n)
		if !is || !w.meet(l, i) {
			return
		}
		size, packed := w.layers[l].Index.Entries[i].Size, w.layers[l].Weights.Packed[i]
		names := []string{n.Path}
		if n.Linked {
			names = w.view.Names(n)
		}
		owner := found.Owner(n.Path)
		if slices.ContainsFunc(names, opened) {
			u.Opened.add(packed, size, 1)
			touched[owner] = true
			for _, name := range names {
				for dir := tree.Parent(name); dir != "" && !used[dir]; dir = tree.Parent(dir) {
					used[dir] = true
				}
			}
			return
		}
		u.Never.add(packed, size, 1)
		w.below(folders, n.Path, packed, size, 1)
		if owner != nil {
			addTo(packages, owner, packed, size)
		}
	})
	for dir, b := range folders {
		if above := tree.Parent(dir); dir != "" && !used[dir] && (above == "" || used[above]) {
			u.Folders = append(u.Folders, Share{"/" + dir, *b})
		}
	}
	slices.SortFunc(u.Folders, func(a, b Share) int { return cmp.Or(cmp.Compare(b.Packed, a.Packed), strings.Compare(a.Name, b.Name)) })
	u.Folders = u.Folders[:min(len(u.Folders), mostTold)]
	for p, b := range packages {
		if !touched[p] {
			u.Packages = append(u.Packages, PackageShare{p.Manager, p.Name, p.Version, *b})
		}
	}
	sortPackages(u.Packages)
	u.Packages = u.Packages[:min(len(u.Packages), mostTold)]
	return u, nil
}
