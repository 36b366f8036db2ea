// Package project reads dependency manifests, and tells which packages a repository has and which of them need which others: Go modules,
// packages of npm, yarn and pnpm, Maven modules, projects of Gradle and .NET, Python packages, crates of Cargo.
//
// It is given the files, bounded, and reads no folder by itself. It runs nothing, asks no network, and knows nothing of packages from elsewhere.
package project

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"
)

// Files are those of a repository, by paths with slashes, relative to its top.
type Files interface {
	// Paths lists all files that are not ignored.
	Paths() ([]string, error)
	// Read returns what a file holds. One that is too large for a manifest is an error.
	Read(path string) ([]byte, error)
}

// Package is what one manifest describes, with the files of its folder.
type Package struct {
	Kind     Kind
	Name     string // as the manifest has it; may be empty
	Dir      string // "." for the top
	Manifest string // a path
	// Failure tells why it is not known what it needs; nil: it is.
	Failure error

	also  []string   // other names
	own   []string   // further files, and folders with all in them, that an install of it reads
	along []*Package // whose manifests its tools read, whatever it needs
	needs []need
	group string     // packages of one group have no files of each other's folders; "": it has all in its folder
	inner []*Package // those of its group whose folders lie in its own
}

// Kind is the trade that a package is of.
type Kind string

// The kinds.
const (
	Go     Kind = "Go module"
	NPM    Kind = "npm package"
	Maven  Kind = "Maven module"
	Gradle Kind = "Gradle project"
	DotNet Kind = ".NET project"
	Python Kind = "Python package"
	Cargo  Kind = "crate"
)

// need is that a package needs another one.
type need struct {
	at   place
	name string   // as it is written
	to   *Package // nil: the repository does not have it, though it says that it has
	// first: it counts where the one that needs it was asked for, and not where it is needed itself.
	first bool
	// manifest: nothing is taken of the other one but its manifest, and what it needs counts.
	manifest bool
	// strict: the trade's own tools refuse a circle of such needs.
	strict bool
}

// place is a line of a file.
type place struct {
	file string
	line int // 0: not known
}

func (p place) String() string {
	if p.line == 0 {
		return p.file
	}
	return fmt.Sprintf("%s:%d", p.file, p.line)
}

// errorf is an error at a place.
func (p place) errorf(format string, args ...any) error {
	return fmt.Errorf("%s: %w", p, fmt.Errorf(format, args...))
}

// String names the package for people.
func (p *Package) String() string {
	if p.Name == "" {
		return p.Dir
	}
	return p.Name
}

// Graph is what a repository has of packages.
type Graph struct {
	Packages []*Package // by folder and kind
	files    *repository
}

// readers find the packages of each kind.
var readers = []func(*repository) []*Package{goModules, npmPackages, mavenModules, gradleProjects, dotnetProjects, pythonPackages, crates}

// Read reads the manifests of a repository. What is wrong with one of them is told where something needs it.
func Read(files Files) (*Graph, error) {
	paths, err := files.Paths()
	if err != nil {
		return nil, err
	}
	r := newRepository(files, paths)
	found := make([][]*Package, len(readers))
	var group errgroup.Group
	for i, read := range readers {
		group.Go(func() error {
			found[i] = read(r)
			return nil
		})
	}
	_ = group.Wait()
	g := &Graph{Packages: slices.Concat(found...), files: r}
	slices.SortStableFunc(g.Packages, func(a, b *Package) int {
		return cmp.Or(strings.Compare(a.Dir, b.Dir), strings.Compare(string(a.Kind), string(b.Kind)), strings.Compare(a.Manifest, b.Manifest))
	})
	g.nest()
	return g, nil
}

// nest tells each package which of its group lie in its folder.
func (g *Graph) nest() {
	there := map[string][]*Package{}
	for _, p := range g.Packages {
		there[p.Dir] = append(there[p.Dir], p)
	}
	for _, q := range g.Packages {
		for _, dir := range above(q.Dir)[1:] {
			for _, p := range there[dir] {
				if p.group != "" && p.group == q.group {
					p.inner = append(p.inner, q)
				}
			}
		}
	}
}

// Has reports whether a file is there and may be of a package.
func (g *Graph) Has(file string) bool { return g.files.has(file) }

// Reads reports whether a file was read, so that what it holds counts.
func (g *Graph) Reads(file string) bool {
	_, read := g.files.read.Load(file)
	return read
}

// Find returns the packages that a text means: those of a folder, relative to another one, or the one of a name.
func (g *Graph) Find(text, in string) ([]*Package, error) {
	var there, named []*Package
	dir := path.Join(in, text)
	for _, p := range g.Packages {
		switch {
		case p.Dir == dir:
			there = append(there, p)
		case p.Name == text || slices.Contains(p.also, text):
			named = append(named, p)
		}
	}
	explicit := text == "." || strings.HasPrefix(text, "./")
	switch {
	case len(there) > 0 && (explicit || len(named) == 0):
		return there, nil
	case len(there) > 0:
		return nil, fmt.Errorf("%q is a folder with a package and the name of the one in %s: write ./%s or %s", text, named[0].Dir, text, named[0].Dir)
	case len(named) == 1:
		return named, nil
	case len(named) > 1:
		return nil, fmt.Errorf("%s and %s are both named %q: name the folder", named[0].Manifest, named[1].Manifest, text)
	case g.files.folder(dir):
		return nil, fmt.Errorf("the folder %s has no manifest of a package", dir)
	}
	return nil, &UnknownError{text, g.names()}
}

// UnknownError is that no package is meant by a text.
type UnknownError struct {
	Text  string
	Known []string // names and folders of those that are there
}

// Error implements error.
func (e *UnknownError) Error() string {
	if len(e.Known) == 0 {
		return fmt.Sprintf("%q names no package: none has a manifest in the project folder, or the ignore patterns leave them out", e.Text)
	}
	return fmt.Sprintf("%q is neither the folder nor the name of a package", e.Text)
}

func (g *Graph) names() (all []string) {
	for _, p := range g.Packages {
		all = append(all, p.Dir)
		if p.Name != "" {
			all = append(all, p.Name)
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// Of returns the package that a file belongs to: of the nearest folder above it that has one; nil for none.
func (g *Graph) Of(file string) *Package {
	for dir := path.Dir(file); ; dir = path.Dir(dir) {
		if at, found := slices.BinarySearchFunc(g.Packages, dir, func(p *Package, dir string) int { return strings.Compare(p.Dir, dir) }); found {
			return g.Packages[at]
		}
		if dir == "." {
			return nil
		}
	}
}

// Selection is what packages are, with all that they need in the repository.
type Selection struct {
	Packages  []*Package // those whose sources count, by folder
	Manifests []string   // files, sorted
	Folders   []Folder   // with the sources; none lies in another one
	Files     []string   // manifests outside of the folders, sorted
}

// Folder is one with sources.
type Folder struct {
	Dir     string
	Without []string // folders in it that are of packages which are not needed, relative to it
}

// Select gathers packages and all that they need. What is missing, malformed, or needs itself is an error with its place.
func (g *Graph) Select(of []*Package) (*Selection, error) {
	c := &closure{whole: map[*Package]bool{}}
	for _, p := range of {
		if err := c.add(p, true, false); err != nil {
			return nil, err
		}
	}
	if err := c.circles(); err != nil {
		return nil, err
	}
	s := &Selection{}
	manifests := map[string]bool{}
	for _, p := range g.Packages {
		whole, in := c.whole[p]
		if !in {
			continue
		}
		if whole {
			s.Packages = append(s.Packages, p)
		}
		if err := g.manifests(p, manifests); err != nil {
			return nil, err
		}
	}
	for file := range manifests {
		s.Manifests = append(s.Manifests, file)
	}
	slices.Sort(s.Manifests)
	in := map[string]Folder{}
	holds := func(p string) bool {
		return slices.ContainsFunc(above(p), func(dir string) bool { f, is := in[dir]; return is && f.has(p) })
	}
	for _, p := range s.Packages { // what lies in another one comes after it
		if !holds(p.Dir) {
			in[p.Dir] = c.within(p)
			s.Folders = append(s.Folders, in[p.Dir])
		}
	}
	for _, file := range s.Manifests {
		if !holds(file) {
			s.Files = append(s.Files, file)
		}
	}
	return s, nil
}

// closure gathers packages with what they need: true: with their sources.
type closure struct {
	whole map[*Package]bool
	order []*Package
}

// add adds a package. asked: it is not needed by another one.
func (c *closure) add(p *Package, asked, manifest bool) error {
	whole, known := c.whole[p]
	c.whole[p] = whole || !manifest
	if known && !asked {
		return nil // what it needs was added
	}
	c.order = append(c.order, p)
	for _, n := range p.needs {
		if n.first && !asked {
			continue
		}
		if n.to == nil {
			return n.at.errorf("%s needs %s, which is not there", p, n.name)
		}
		if err := c.add(n.to, false, n.manifest); err != nil {
			return err
		}
	}
	return nil
}

// circles finds packages that need themselves where their tools refuse that.
func (c *closure) circles() error {
	done, at := map[*Package]bool{}, map[*Package]int{}
	var way []need
	var visit func(p *Package) error
	visit = func(p *Package) error {
		at[p] = len(way)
		for _, n := range p.needs {
			if !n.strict || n.to == nil || done[n.to] {
				continue
			}
			way = append(way, n)
			if from, on := at[n.to]; on {
				return circle(way[from:])
			}
			if err := visit(n.to); err != nil {
				return err
			}
			way = way[:len(way)-1]
		}
		delete(at, p)
		done[p] = true
		return nil
	}
	for _, p := range c.order {
		if done[p] {
			continue
		}
		if err := visit(p); err != nil {
			return err
		}
	}
	return nil
}

// circle tells of needs, of which each leads to the next and the last to the first.
func circle(way []need) error {
	var steps []string
	for _, n := range way[1:] {
		steps = append(steps, fmt.Sprintf("which needs %s (%s)", n.to, n.at))
	}
	last := way[len(way)-1].to
	return way[0].at.errorf("%s needs itself: it needs %s", last, strings.Join(append([]string{way[0].to.String()}, steps...), ", "))
}

// manifests adds what an install of a package reads.
func (g *Graph) manifests(p *Package, to map[string]bool) error {
	for _, one := range append([]*Package{p}, p.along...) {
		if one.Failure != nil {
			return one.Failure
		}
		for _, file := range append([]string{one.Manifest}, one.own...) {
			for _, each := range g.files.below(file) {
				to[each] = true
			}
		}
	}
	return nil
}

// within is the folder of a package, without those of packages that are not needed.
func (c *closure) within(p *Package) Folder {
	f := Folder{Dir: p.Dir}
	for _, q := range p.inner {
		if !c.whole[q] && f.has(q.Dir) {
			below, _ := inside(p.Dir, q.Dir)
			f.Without = append(f.Without, below)
		}
	}
	return f
}

// inside returns a path relative to a folder, where it lies in it.
func inside(dir, p string) (string, bool) {
	switch {
	case dir == ".":
		return p, true
	case p == dir:
		return ".", true
	}
	return strings.CutPrefix(p, dir+"/")
}

// has reports whether a path belongs to the folder.
func (f Folder) has(p string) bool {
	below, is := inside(f.Dir, p)
	return is && !slices.ContainsFunc(f.Without, func(w string) bool { _, out := inside(w, below); return out })
}
