// Package weight tells where the bytes of an image are: by layer, folder, kind of file and package, and which of them nobody ever sees or needs.
//
// It works on the indexes of layers and what their entries take; it reads no blob and prints nothing.
package weight

import (
	"cmp"
	"slices"
	"strings"

	"imbricat/internal/content/installed"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Layer is a layer with what is known of its bytes.
type Layer struct {
	Size     int64 // of the blob
	Index    *layer.Indexed
	Weights  *layer.Weights
	Evidence installed.Evidence
	Step     string // what made it, as the history says; may be empty
}

// Bytes are those of some files: as they lie in the blobs, as they are on a disk, and how many files there are.
type Bytes struct {
	Packed   int64 `json:"packed"`
	Unpacked int64 `json:"unpacked"`
	Files    int   `json:"files"`
}

func (b *Bytes) add(packed, unpacked int64, files int) {
	b.Packed, b.Unpacked, b.Files = b.Packed+packed, b.Unpacked+unpacked, b.Files+files
}

// Share is what something takes of an image.
type Share struct {
	Name string `json:"name"`
	Bytes
}

// LayerShare is what a layer takes. Files count that are in it, seen or not.
type LayerShare struct {
	Step   string `json:"step,omitempty"`
	Hidden int64  `json:"hidden"`           // packed bytes of what nobody sees
	Shared bool   `json:"shared,omitempty"` // what the image is weighed against, or its base, has it too
	Bytes
}

// PackageShare is what a package takes.
type PackageShare struct {
	Manager string `json:"manager"`
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	Bytes
}

// Image is where the bytes of an image for a platform are. What is seen, and what is not, is all that the layers have: Total.Packed is the sum of
// their blobs, and of what the root folder has and what is hidden; Kinds and Managers are of what is seen.
type Image struct {
	Total    Bytes          `json:"total"`
	Layers   []LayerShare   `json:"layers"`   // the lowest first
	Folders  []Share        `json:"folders"`  // paths with a slash at their beginning; the largest first
	Kinds    []Share        `json:"kinds"`    // of files; the largest first
	Packages []PackageShare `json:"packages"` // the largest first
	Managers []Share        `json:"managers"` // all packages of one; "" is what is in none
	Wasted   Bytes          `json:"wasted"`
	Waste    []Waste        `json:"waste"` // the largest first
}

// weighing is one look at an image.
type weighing struct {
	layers []Layer
	view   *tree.View
	image  *Image
	hits   []hit
	seen   [][]bool // entries of each layer that were met
}

// Nothing is an image of no layers.
func Nothing() *Image {
	return &Image{Layers: []LayerShare{}, Folders: []Share{}, Kinds: []Share{}, Packages: []PackageShare{}, Managers: []Share{}, Waste: []Waste{}}
}

// Of weighs an image of layers, the lowest first.
func Of(layers []Layer) (*Image, error) {
	w, err := begin(layers)
	if err != nil {
		return nil, err
	}
	for l := range layers {
		one := &layers[l]
		share := LayerShare{Step: one.Step}
		share.Packed, share.Unpacked, share.Files = one.Size, one.Index.Unpacked, files(one)
		w.image.Layers = append(w.image.Layers, share)
		w.image.Total.Packed += one.Size
	}
	w.look()
	w.hidden()
	w.finish()
	return w.image, nil
}

// begin lays the layers of an image together.
func begin(layers []Layer) (*weighing, error) {
	w := &weighing{layers: layers, view: tree.NewView(), image: Nothing()}
	for l := range layers {
		entries := layers[l].Index.Entries
		if err := w.view.Apply(entries, tree.LayerNumber(l)); err != nil {
			return nil, err
		}
		w.seen = append(w.seen, make([]bool, len(entries)))
	}
	return w, nil
}

// file returns the entry of a layer that is a file at a path. Indexes are sorted by it.
func (w *weighing) file(l int, p string) (int, bool) {
	entries := w.layers[l].Index.Entries
	i, is := slices.BinarySearchFunc(entries, p, func(e tree.Entry, p string) int { return strings.Compare(e.Path, p) })
	return i, is && entries[i].Kind == tree.File
}

func files(l *Layer) (n int) {
	for i := range l.Index.Entries {
		if l.Index.Entries[i].Kind == tree.File {
			n++
		}
	}
	return n
}

// meet reports whether an entry is met for the first time.
func (w *weighing) meet(l, i int) bool {
	first := !w.seen[l][i]
	w.seen[l][i] = true
	return first
}

// installed finds the packages of what is seen.
func (w *weighing) installed() *installed.Installed {
	return installed.In(w.view, func(n *tree.Node) []installed.Package {
		if l, is := n.From.(tree.LayerNumber); is {
			return w.layers[l].Evidence[n.At]
		}
		return nil
	})
}

// look visits what is seen.
func (w *weighing) look() {
	found := w.installed()
	folders, kinds, managers := map[string]*Bytes{}, map[string]*Bytes{}, map[string]*Bytes{}
	packages := map[*installed.Package]*Bytes{}
	contents := map[digest.Content]*twins{}
	w.view.Each(func(n *tree.Node) {
		l, i, is := w.place(n)
		if !is || !w.meet(l, i) {
			return // another name of a file that was met
		}
		e, packed := &w.layers[l].Index.Entries[i], w.layers[l].Weights.Packed[i]
		w.image.Total.Unpacked += e.Size
		w.image.Total.Files++
		w.below(folders, n.Path, packed, e.Size, 1)
		seldom, root := needless(n.Path)
		kind := seldom
		if kind != Documents {
			kind = kindOf(n.Path, e.Mode)
		}
		addTo(kinds, kind, packed, e.Size)
		owner := found.Owner(n.Path)
		if owner != nil {
			addTo(managers, owner.Manager, packed, e.Size)
			own, ownPacked := e.Size, packed
			found.Parts(n.Path, e.Size, func(p *installed.Package, bytes int64) {
				share := int64(float64(packed) * float64(bytes) / float64(e.Size))
				addTo(packages, p, share, bytes)
				own, ownPacked = own-bytes, ownPacked-share
			})
			addTo(packages, owner, ownPacked, own)
		} else {
			addTo(managers, "", packed, e.Size)
		}
		if seldom != "" {
			w.hits = append(w.hits, hit{seldom, root, true, l, -1, packed, e.Size})
		} else if e.Size >= smallestTwin {
			if contents[e.Content] == nil {
				contents[e.Content] = &twins{}
			}
			contents[e.Content].all = append(contents[e.Content].all, twin{n.Path, l, packed, e.Size})
		}
	})
	w.names(folders, kinds)
	w.twins(contents)
	w.image.Folders = largest(folders, func(dir string) string { return "/" + dir })
	w.image.Kinds = largest(kinds, func(name string) string { return name })
	w.image.Managers = largest(managers, func(name string) string { return name })
	for p, b := range packages {
		w.image.Packages = append(w.image.Packages, PackageShare{p.Manager, p.Name, p.Version, *b})
	}
	sortPackages(w.image.Packages)
	w.image.Packages = w.image.Packages[:min(len(w.image.Packages), mostTold)]
}

// sortPackages puts packages in order, the largest first.
func sortPackages(all []PackageShare) {
	slices.SortFunc(all, func(a, b PackageShare) int {
		return cmp.Or(cmp.Compare(b.Packed, a.Packed), cmp.Compare(b.Unpacked, a.Unpacked), strings.Compare(a.Manager, b.Manager), strings.Compare(a.Name, b.Name), strings.Compare(a.Version, b.Version))
	})
}

// below counts bytes for all folders that a path lies in.
func (w *weighing) below(folders map[string]*Bytes, p string, packed, size int64, files int) {
	for dir := tree.Parent(p); ; dir = tree.Parent(dir) {
		if folders[dir] == nil {
			folders[dir] = &Bytes{}
		}
		if folders[dir].add(packed, size, files); dir == "" {
			return
		}
	}
}

// Names is the kind of what is no file: folders, links, deletions, and the ends of archives.
const Names = "folders and links"

// names counts what is no file.
func (w *weighing) names(folders, kinds map[string]*Bytes) {
	names := &Bytes{}
	for l := range w.layers {
		one := &w.layers[l]
		w.below(folders, "", one.Weights.Rest, 0, 0)
		names.add(one.Weights.Rest, 0, 0)
		for i := range one.Index.Entries {
			if e := &one.Index.Entries[i]; e.Kind != tree.File {
				w.below(folders, e.Path, one.Weights.Packed[i], 0, 0)
				names.add(one.Weights.Packed[i], 0, 0)
			}
		}
	}
	kinds[Names] = names
}

// place finds the entry of a layer that a file of the view comes from.
func (w *weighing) place(n *tree.Node) (l, i int, is bool) {
	if n.Kind != tree.File {
		return 0, 0, false
	}
	origin, is := n.From.(tree.LayerNumber)
	if !is {
		return 0, 0, false
	}
	i, is = w.file(int(origin), n.At)
	return int(origin), i, is
}

func addTo[K comparable](to map[K]*Bytes, key K, packed, size int64) {
	if to[key] == nil {
		to[key] = &Bytes{}
	}
	to[key].add(packed, size, 1)
}

// largest lists shares, the largest first.
func largest(all map[string]*Bytes, name func(string) string) []Share {
	list := make([]Share, 0, len(all))
	for key, b := range all {
		list = append(list, Share{name(key), *b})
	}
	slices.SortFunc(list, func(a, b Share) int {
		return cmp.Or(cmp.Compare(b.Packed, a.Packed), cmp.Compare(b.Unpacked, a.Unpacked), strings.Compare(a.Name, b.Name))
	})
	return list[:min(len(list), mostTold)]
}

// mostTold bounds lists of folders and packages. A folder is never told without those that it lies in.
const mostTold = 1000

// Share is which part of what the layers have is waste, from 0 to 1.
func (i *Image) Share() float64 {
	if i.Total.Packed == 0 {
		return 0
	}
	return float64(i.Wasted.Packed) / float64(i.Total.Packed)
}
