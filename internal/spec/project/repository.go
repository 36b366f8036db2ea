package project

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sync/errgroup"
)

// repository is what is looked up while manifests are read.
type repository struct {
	files  Files
	paths  []string            // sorted
	byName map[string][]string // paths, by their last element in lower case
	read   sync.Map            // the paths of files that were read
}

// content reads a file.
func (r *repository) content(p string) ([]byte, error) {
	r.read.Store(p, true)
	return r.files.Read(p)
}

// foreign are folders with packages from elsewhere.
const foreign = "node_modules"

func newRepository(files Files, paths []string) *repository {
	r := &repository{files: files, byName: map[string][]string{}}
	for _, p := range paths {
		if strings.HasPrefix(p, foreign+"/") || strings.Contains(p, "/"+foreign+"/") {
			continue
		}
		name := strings.ToLower(path.Base(p))
		r.paths, r.byName[name] = append(r.paths, p), append(r.byName[name], p)
	}
	slices.Sort(r.paths)
	return r
}

// named returns the paths whose last element is one of some names.
func (r *repository) named(names ...string) (all []string) {
	for _, name := range names {
		for _, p := range r.byName[strings.ToLower(name)] {
			if path.Base(p) == name {
				all = append(all, p)
			}
		}
	}
	slices.Sort(all)
	return all
}

// ending returns the paths with one of some extensions.
func (r *repository) ending(extensions ...string) (all []string) {
	for _, p := range r.paths {
		if slices.Contains(extensions, path.Ext(p)) {
			all = append(all, p)
		}
	}
	return all
}

// has reports whether a file is there.
func (r *repository) has(p string) bool {
	_, found := slices.BinarySearch(r.paths, p)
	return found
}

// folder reports whether there is a folder with files.
func (r *repository) folder(dir string) bool { return dir == "." || len(r.below(dir)) > 0 }

// below returns the files at and below a path.
func (r *repository) below(p string) []string {
	if r.has(p) {
		return []string{p}
	}
	begin, _ := slices.BinarySearch(r.paths, p+"/")
	end, _ := slices.BinarySearch(r.paths, p+"0") // "0" comes next to "/"
	return r.paths[begin:end]
}

// some returns those of some files and folders of a folder that are there, by names or patterns.
func (r *repository) some(dir string, names ...string) (all []string) {
	for _, name := range names {
		p := path.Join(dir, name)
		switch {
		case !strings.ContainsAny(name, "*?[{"):
			if len(r.below(p)) > 0 {
				all = append(all, p)
			}
		default:
			for _, file := range r.in(dir) {
				if matched, _ := path.Match(name, path.Base(file)); matched {
					all = append(all, file)
				}
			}
		}
	}
	return all
}

// in returns the files of a folder itself.
func (r *repository) in(dir string) (all []string) {
	files := r.paths
	if dir != "." {
		files = r.below(dir)
	}
	for _, p := range files {
		if path.Dir(p) == dir {
			all = append(all, p)
		}
	}
	return all
}

// first returns the path of the first of some files of a folder that is there; empty for none.
func (r *repository) first(dir string, names ...string) string {
	for _, name := range names {
		if p := path.Join(dir, name); r.has(p) {
			return p
		}
	}
	return ""
}

// above lists a folder and those above it, the nearest first.
func above(dir string) (all []string) {
	for ; ; dir = path.Dir(dir) {
		all = append(all, dir)
		if dir == "." {
			return all
		}
	}
}

// each reads manifests side by side. A failure is that of its package.
func each[T any](r *repository, manifests []string, kind Kind, parse func(p *Package, text []byte) (T, error)) ([]*Package, map[*Package]T) {
	all, parsed := make([]*Package, len(manifests)), make([]T, len(manifests))
	var group errgroup.Group
	group.SetLimit(8)
	for i, manifest := range manifests {
		group.Go(func() error {
			p := &Package{Kind: kind, Manifest: manifest, Dir: path.Dir(manifest)}
			all[i] = p
			text, err := r.content(manifest)
			if err == nil {
				parsed[i], err = parse(p, text)
			}
			if err != nil {
				p.Failure = place{file: manifest}.malformed(err)
			}
			return nil
		})
	}
	_ = group.Wait()
	out := make(map[*Package]T, len(all))
	for i, p := range all {
		out[p] = parsed[i]
	}
	return all, out
}

// malformed is an error about a file that cannot be understood, on one line.
func (p place) malformed(err error) error {
	var in *lineError
	if errors.As(err, &in) {
		p = in.at
	}
	line, _, _ := strings.Cut(err.Error(), "\n")
	return fmt.Errorf("%s: %s", p, line)
}

// lineError is an error in a line of the file that is read.
type lineError struct {
	at  place
	err error
}

func (e *lineError) Error() string { return e.err.Error() }

// byDir maps folders to their packages.
func byDir(all []*Package) map[string]*Package {
	out := make(map[string]*Package, len(all))
	for _, p := range all {
		out[p.Dir] = p
	}
	return out
}

// lineOf is the first line of a text that holds all of some words, in this order; 0 for none.
func lineOf(text []byte, words ...string) int {
	number := 0
	for line := range strings.Lines(string(text)) {
		number++
		rest, found := line, true
		for _, word := range words {
			if _, rest, found = strings.Cut(rest, word); !found {
				break
			}
		}
		if found {
			return number
		}
	}
	return 0
}

// offsetLine is the line of an offset in bytes.
func offsetLine(text []byte, offset int64) int {
	return 1 + strings.Count(string(text[:min(int64(len(text)), max(offset, 0))]), "\n")
}

// members returns the packages whose folders some patterns match, relative to a folder. A pattern after ! leaves out again.
func members(all []*Package, dir string, patterns []string) (out []*Package) {
	for _, p := range all {
		below, is := inside(dir, p.Dir)
		if !is {
			continue
		}
		in := false
		for _, pattern := range patterns {
			pattern, without := strings.CutPrefix(pattern, "!")
			if matched, _ := doublestar.Match(path.Clean(strings.TrimSuffix(pattern, "/")), below); matched {
				in = !without
			}
		}
		if in {
			out = append(out, p)
		}
	}
	return out
}
