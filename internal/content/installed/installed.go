// Package installed tells which packages are installed in a file tree, by the records that package managers leave in it: dpkg, apk, rpm, npm,
// Python, gems, programs of Go and of Cargo, and jars. It is shown files one by one, and believes no record: what cannot be read as one tells nothing.
//
// It opens nothing by itself and runs nothing.
package installed

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
)

// The package managers, by their usual names.
const (
	Dpkg   = "dpkg"
	APK    = "apk"
	RPM    = "rpm"
	NPM    = "npm"
	Python = "python"
	Gem    = "gem"
	Go     = "go"
	Cargo  = "cargo"
	Java   = "java"
)

// Package is a package that is installed.
type Package struct {
	Manager string `json:"manager"`
	Name    string `json:"name"`
	Version string `json:"version,omitempty"`
	// Record is the path of the file that tells of it.
	Record string `json:"record,omitempty"`
	// Files are the paths that it owns, and Folder is where all of it lies that no other package owns; either may be empty.
	Files  []string `json:"files,omitempty"`
	Folder string   `json:"folder,omitempty"`
	// Of is what records of one package have in common, where that is not its name or its folder. One without a name adds files to it.
	Of string `json:"of,omitempty"`
	// Inside is where in the file that tells of it one lies that is a part of this file, and Size how many bytes of the file it takes.
	Inside string `json:"inside,omitempty"`
	Size   int64  `json:"size,omitempty"`
}

// Evidence is what files of a tree tell, by their paths.
type Evidence map[string][]Package

// managers are in the order in which they own a file that several of them know of: what a system's own installed comes first.
var managers = []string{Dpkg, APK, RPM, Python, Gem, NPM, Go, Cargo, Java}

// shared are those whose records tell of all packages in one file.
var shared = map[string]bool{Dpkg: true, APK: true, RPM: true}

// Installed is what is installed in a file system.
type Installed struct {
	Packages []Package // sorted by manager and name
	owners   map[string]int
	parts    map[string][]int
}

// In puts together what the files of a view tell. The evidence of a path is asked for where the view has a file there.
func In(view *tree.View, evidence func(n *tree.Node) []Package) *Installed {
	all := map[string]*Package{}
	view.Each(func(n *tree.Node) {
		if n.Kind != tree.File {
			return
		}
		for _, p := range evidence(n) {
			key := p.Manager + "\x00" + cmp.Or(p.Inside, p.Folder, p.Of, p.Name)
			known := all[key]
			if known == nil {
				known = &Package{Manager: p.Manager}
				all[key] = known
			}
			known.Files = append(known.Files, p.Files...)
			if p.Name != "" {
				known.Name, known.Version, known.Record, known.Folder = p.Name, p.Version, n.Path, cmp.Or(known.Folder, p.Folder)
				known.Inside, known.Size = p.Inside, p.Size
			}
		}
	})
	i := &Installed{owners: map[string]int{}, parts: map[string][]int{}}
	for _, p := range all {
		if p.Name != "" { // else files of a package that is not there any more
			i.Packages = append(i.Packages, *p)
		}
	}
	slices.SortFunc(i.Packages, func(a, b Package) int {
		return cmp.Or(cmp.Compare(slices.Index(managers, a.Manager), slices.Index(managers, b.Manager)), strings.Compare(a.Name, b.Name), strings.Compare(a.Folder, b.Folder), strings.Compare(a.Version, b.Version), strings.Compare(a.Inside, b.Inside))
	})
	folders := map[string]int{}
	for n := range i.Packages {
		p := &i.Packages[n]
		if p.Inside != "" {
			i.parts[p.Record] = append(i.parts[p.Record], n)
			continue
		}
		if _, taken := folders[p.Folder]; p.Folder != "" && !taken {
			folders[p.Folder] = n
		}
		files := p.Files
		if !shared[p.Manager] {
			files = append(slices.Clip(files), p.Record)
		}
		for _, file := range files {
			if at, err := view.Resolve(file, false); err == nil {
				if _, taken := i.owners[at]; !taken {
					i.owners[at] = n
				}
			}
		}
	}
	if len(folders) > 0 {
		view.Each(func(n *tree.Node) {
			if _, taken := i.owners[n.Path]; taken || n.Kind == tree.Folder {
				return
			}
			for at := tree.Parent(n.Path); at != ""; at = tree.Parent(at) {
				if owner, is := folders[at]; is {
					i.owners[n.Path] = owner
					return
				}
			}
		})
	}
	return i
}

// Owner returns the package that a file of the view belongs to; nil: none that is known.
func (i *Installed) Owner(p string) *Package {
	if n, is := i.owners[p]; is {
		return &i.Packages[n]
	}
	return nil
}

// Parts visits the packages that a file of the view is made of, but for its owner, with what they take of its bytes: together no more than the size
// that is given. A file that belongs to another manager's package is all that one's.
func (i *Installed) Parts(file string, size int64, visit func(p *Package, bytes int64)) {
	for _, n := range i.parts[file] {
		p := &i.Packages[n]
		if owner := i.Owner(file); owner != nil && owner.Manager == p.Manager && p.Size > 0 && p.Size <= size {
			size -= p.Size
			visit(p, p.Size)
		}
	}
}

// clean returns a path of a record as trees have it; empty where it is none.
func clean(p string) string {
	clean, err := tree.CleanPath(path.Clean("/" + p))
	if err != nil {
		return ""
	}
	return clean
}
