package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/ground/ignore"
)

// found is what the system tells of a name in a folder.
type found struct {
	kind Kind // 0: a socket, a pipe or a device
	mode uint32
	stat Stat
	twin FileID
}

// handle is an open folder. Its methods never follow a link and never leave the folder.
type handle interface {
	names() ([]string, error)
	lookup(name string) (found, error)
	readlink(name string) (string, error)
	folder(name string) (handle, error)
	xattrs(name string, keep func(string) bool) (map[string]string, error)
	close()
}

// walk is one Pick: folders are read side by side, and what they give is put together in the order of the names.
type walk struct {
	source  *Source
	options PickOptions
	base    string // folder that the pattern is relative to
	pattern string
	spare   chan struct{} // permits for more goroutines
}

func newWalk(s *Source, o PickOptions, base, pattern string) *walk {
	return &walk{source: s, options: o, base: base, pattern: pattern, spare: make(chan struct{}, 2*runtime.GOMAXPROCS(0))}
}

// branch is what was found in a folder, without what lies in the folders below it.
type branch struct {
	survey Survey
	below  []twig
	err    error
	wait   sync.WaitGroup // for the goroutine that reads the folder
}

// twig is the branch of a folder below, and how many picked entries stand before it.
type twig struct {
	at     int
	branch *branch
}

// count waits for all folders below and tells how much they hold.
func (b *branch) count() int {
	b.wait.Wait()
	n := len(b.survey.Picked)
	for _, t := range b.below {
		n += t.branch.count()
	}
	return n
}

// flatten puts what was found into one survey, in the order of the names.
func (b *branch) flatten(into *Survey) error {
	if b.err != nil {
		return b.err
	}
	from := 0
	for _, t := range b.below {
		into.Picked = append(into.Picked, b.survey.Picked[from:t.at]...)
		from = t.at
		if err := t.branch.flatten(into); err != nil {
			return err
		}
	}
	into.Picked = append(into.Picked, b.survey.Picked[from:]...)
	into.LeftOut = append(into.LeftOut, b.survey.LeftOut...)
	into.Special = append(into.Special, b.survey.Special...)
	into.meant = into.meant || b.survey.meant
	return nil
}

// step is where the walk stands in a folder.
type step struct {
	dir     string // path below the project folder, "." for itself
	shown   string // the same by the links that led there, for patterns; empty: no link did
	rel     string // where it lands
	inside  bool   // everything below is taken
	depth   int
	matcher ignore.Matcher
	through []string // folders that links have led into, against circles
}

// single takes in one file that was named.
func (w *walk) single(survey *Survey) error {
	dir, name := Parent(w.base), path.Base(w.base)
	open, err := w.source.folder(dir)
	if err != nil {
		return err
	}
	defer open.close()
	b := &branch{}
	rel := name
	if w.options.Structure {
		rel = w.options.keeps(w.base)
	}
	info, err := open.lookup(name)
	if err == nil {
		err = w.take(b, open, name, w.base, rel, info, step{dir: dir})
	}
	if err != nil {
		return fmt.Errorf("reading %q: %w", w.base, plain(err))
	}
	return b.flatten(survey)
}

// whole takes in a folder.
func (w *walk) whole(matcher ignore.Matcher, survey *Survey) error {
	open, err := w.source.folder(w.base)
	if err != nil {
		return err
	}
	at := step{dir: w.base, inside: w.pattern == "", matcher: matcher, through: []string{w.base}}
	if w.options.Structure && w.base != "." {
		at.rel = w.options.keeps(w.base)
	}
	b := &branch{}
	w.folder(b, open, at)
	survey.Picked = make([]Picked, 0, b.count())
	return b.flatten(survey)
}

// folder reads what an open folder holds, and closes it.
func (w *walk) folder(b *branch, open handle, at step) {
	defer open.close()
	if at.depth > 0 && w.source.honours(at.dir) {
		if at.matcher, b.err = w.source.withFile(at.matcher, at.dir); b.err != nil {
			return
		}
	}
	names, err := open.names()
	if err != nil {
		b.err = fmt.Errorf("reading %q: %w", at.dir, plain(err))
		return
	}
	slices.Sort(names)
	prefix := at.dir + "/"
	if at.dir == "." {
		prefix = ""
	}
	if at.inside {
		b.survey.Picked = slices.Grow(b.survey.Picked, len(names))
	}
	for _, name := range names {
		if b.err = w.entry(b, open, prefix+name, name, at); b.err != nil {
			return
		}
	}
}

func (w *walk) matches(p string) bool {
	if w.base != "." {
		p = strings.TrimPrefix(p, w.base+"/")
	}
	matched, _ := doublestar.Match(w.pattern, p)
	return matched
}

func (w *walk) entry(b *branch, open handle, p, name string, at step) error {
	info, err := open.lookup(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it went away between the listing and now
	}
	if err != nil {
		return fmt.Errorf("reading %q: %w", p, plain(err))
	}
	matched := at.inside || w.matches(p)
	shown := ""
	if at.shown != "" {
		shown = at.shown + "/" + name
	}
	if at.matcher.Match(p, info.kind == Folder) || shown != "" && at.matcher.Match(shown, info.kind == Folder) {
		b.survey.LeftOut = append(b.survey.LeftOut, p)
		b.survey.meant = b.survey.meant || matched
		return nil
	}
	to := Join(at.rel, name)
	switch {
	case w.options.Structure:
		to = w.options.keeps(p)
	case at.rel == "" && len(p) > len(name):
		to = p[len(p)-len(name):]
	case len(p) > len(to) && p[len(p)-len(to):] == to:
		to = p[len(p)-len(to):] // shares the memory
	}
	if matched {
		if err := w.take(b, open, name, p, to, info, at); err != nil {
			return fmt.Errorf("reading %q: %w", p, plain(err))
		}
	}
	if info.kind != Folder {
		return nil
	}
	if !matched {
		// Without "**" a pattern reaches no deeper than its elements.
		if !strings.Contains(w.pattern, "**") && at.depth+1 > strings.Count(w.pattern, "/") {
			return nil
		}
		to = ""
	}
	next := at
	next.dir, next.shown, next.rel, next.inside, next.depth = p, shown, to, matched, at.depth+1
	return w.descend(b, func() (handle, error) { return open.folder(name) }, next)
}

// descend reads a folder below, in a goroutine of its own where one is free.
func (w *walk) descend(b *branch, open func() (handle, error), at step) error {
	below, err := open()
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("reading %q: %w", at.dir, plain(err))
	}
	child := &branch{}
	b.below = append(b.below, twig{len(b.survey.Picked), child})
	select {
	case w.spare <- struct{}{}:
		child.wait.Go(func() {
			defer func() { <-w.spare }()
			w.folder(child, below, at)
		})
	default:
		w.folder(child, below, at)
	}
	return nil
}

// take adds what is called name in an open folder.
func (w *walk) take(b *branch, open handle, name, p, rel string, info found, at step) error {
	picked := Picked{Path: p, Rel: rel, Kind: info.kind, Mode: info.mode, Stat: info.stat, Twin: info.twin}
	switch info.kind {
	case 0:
		b.survey.Special = append(b.survey.Special, p)
		return nil
	case Symlink:
		if w.options.Follow {
			return w.follow(b, p, rel, at)
		}
		target, err := open.readlink(name)
		if err != nil {
			return err
		}
		picked.Link = filepath.ToSlash(target)
	}
	if len(w.options.Attributes) > 0 {
		all, err := open.xattrs(name, w.wanted)
		if err != nil {
			return fmt.Errorf("its extended attributes: %w", err)
		}
		picked.Xattrs = all
	}
	b.survey.Picked = append(b.survey.Picked, picked)
	return nil
}

// wanted reports whether an extended attribute is asked for by its name.
func (w *walk) wanted(name string) bool {
	return slices.ContainsFunc(w.options.Attributes, func(pattern string) bool {
		matched, _ := doublestar.Match(pattern, name)
		return matched
	})
}

// follow takes in what a link leads to, under the link's own name.
func (w *walk) follow(b *branch, p, rel string, at step) error {
	real, err := w.source.resolve(p)
	if err != nil {
		return err
	}
	open, err := w.source.folder(Parent(real))
	if err != nil {
		return err
	}
	defer open.close()
	info, name := found{kind: Folder, mode: 0o755}, path.Base(real)
	if real != "." {
		if info, err = open.lookup(name); err != nil {
			return fmt.Errorf("it leads to %q: %w", real, plain(err))
		}
	}
	if at.matcher.MatchAll(real, info.kind == Folder) {
		b.survey.LeftOut = append(b.survey.LeftOut, p)
		b.survey.meant = true
		return nil
	}
	if info.kind != Folder {
		return w.take(b, open, name, real, rel, info, at)
	}
	for _, above := range append([]string{at.dir}, at.through...) {
		if real == "." || real == above || strings.HasPrefix(above, real+"/") {
			return fmt.Errorf("the link leads to %q, which it lies in: that would never end", real)
		}
	}
	if err := w.take(b, open, name, real, rel, info, at); err != nil {
		return err
	}
	next := at
	next.dir, next.shown, next.rel, next.inside, next.depth = real, p, rel, true, at.depth+1
	if at.shown != "" {
		next.shown = at.shown + "/" + path.Base(p)
	}
	next.through = append(slices.Clone(at.through), at.dir)
	return w.descend(b, func() (handle, error) { return w.source.folder(real) }, next)
}

// resolve returns where a path of the project leads when every link is followed. Nothing outside the project is reached.
func (s *Source) resolve(p string) (string, error) {
	resolved, todo := "", p
	for links := 0; todo != ""; {
		name, rest, _ := strings.Cut(todo, "/")
		todo = rest
		switch name {
		case "", ".":
			continue
		case "..":
			if resolved == "" {
				return "", fmt.Errorf("the link %q leads out of the project folder", p)
			}
			resolved = Parent(resolved)
			continue
		}
		next := Join(resolved, name)
		target, err := s.root.Readlink(filepath.FromSlash(next))
		if err != nil {
			resolved = next // no link
			continue
		}
		if links++; links > maxLinks {
			return "", fmt.Errorf("%q goes through more than %d links", p, maxLinks)
		}
		if target = filepath.ToSlash(target); path.IsAbs(target) || filepath.IsAbs(target) {
			return "", fmt.Errorf("the link %q leads out of the project folder, to %s", p, target)
		}
		todo = strings.TrimSuffix(target+"/"+todo, "/")
	}
	if resolved == "" {
		return ".", nil
	}
	return resolved, nil
}
