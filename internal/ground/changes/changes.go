// Package changes tells when files of a folder change, by what the system tells of them, or by looking again and again where it tells nothing.
//
// It believes too much rather than too little: what is told as changed may be as it was. It reads no file.
package changes

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"imbricat/internal/ground/paths"
)

// Scope is what is watched of a folder.
type Scope struct {
	Files paths.Set                // relative to the folder
	Skip  func(folder string) bool // folders that none of the files lies in, unless one is named below it; nil: none
	// Beside are other folders, absolute. When something happens in one of them Mark is asked: what it returns tells whether something changed.
	Beside []string
	Mark   func() string
}

// enters reports whether files of the scope may lie in a folder.
func (s *Scope) enters(dir string) bool {
	skip := func(dir string) bool { return s.Skip != nil && s.Skip(dir) }
	if dir == "" {
		return true
	}
	if s.Files.Below == nil {
		return !s.Files.Empty() && !skip(dir)
	}
	return slices.ContainsFunc(s.Files.Below, func(named string) bool {
		return named == dir || within(named, dir) || within(dir, named) && (!skip(dir) || skip(named))
	})
}

// within reports whether a path lies in a folder.
func within(p, dir string) bool { return dir == "" || dir == "." || strings.HasPrefix(p, dir+"/") }

// Changed is what changed.
type Changed struct {
	Paths []string // relative to the folder, sorted
	Mark  bool     // what Mark returns
	All   bool     // anything may have: the system told too much to be followed
}

// None reports whether nothing changed.
func (c Changed) None() bool { return len(c.Paths) == 0 && !c.Mark && !c.All }

// And returns what changed in either.
func (c Changed) And(other Changed) Changed {
	all := slices.Concat(c.Paths, other.Paths)
	slices.Sort(all)
	return Changed{slices.Compact(all), c.Mark || other.Mark, c.All || other.All}
}

// Options say how a folder is watched. Durations of 0 stand for those of the constants.
type Options struct {
	Poll     bool          // look again and again, whatever the system offers
	Interval time.Duration // between looks
	Quiet    time.Duration // without a change, before what changed is told
	Longest  time.Duration // that is waited for that
	Say      func(string)  // is told why it looks again and again; may be nil
}

const (
	interval = 500 * time.Millisecond
	quiet    = 40 * time.Millisecond
	longest  = time.Second
)

// Watcher watches a folder.
type Watcher struct {
	root string
	o    Options

	aiming sync.Mutex // one Aim, or one look at a new folder, at a time
	mutex  sync.Mutex // of what is below
	scope  Scope
	system *fsnotify.Watcher // nil: it looks again and again
	watch  map[string]bool   // folders that the system tells of, relative
	beside map[string]bool
	mark   string
	marks  bool            // it was asked for
	seen   map[string]seen // when it looks again and again
	fresh  Changed
	last   time.Time // of the last change
	wake   chan struct{}
	stop   chan struct{}
	done   sync.WaitGroup
}

// Open watches a folder, and nothing of it until Aim.
func Open(root string, o Options) (*Watcher, error) {
	root, err := filepath.Abs(root)
	if err != nil {
		return nil, err
	}
	for _, d := range []struct {
		of       *time.Duration
		standard time.Duration
	}{{&o.Interval, interval}, {&o.Quiet, quiet}, {&o.Longest, longest}} {
		if *d.of == 0 {
			*d.of = d.standard
		}
	}
	w := &Watcher{root: root, o: o, watch: map[string]bool{}, beside: map[string]bool{}, wake: make(chan struct{}, 1), stop: make(chan struct{})}
	why := silent(root)
	if !o.Poll && why == "" {
		if w.system, err = fsnotify.NewWatcher(); err != nil {
			why = err.Error()
		}
	}
	if w.system == nil {
		w.poll(why)
		return w, nil
	}
	system := w.system
	w.done.Go(func() { w.listen(system) })
	return w, nil
}

// Close ends it.
func (w *Watcher) Close() {
	close(w.stop)
	w.mutex.Lock()
	system := w.system
	w.mutex.Unlock()
	if system != nil {
		system.Close()
	}
	w.done.Wait()
}

// poll has the folder looked at again and again from now on.
func (w *Watcher) poll(why string) {
	w.mutex.Lock()
	say := w.o.Say
	w.mutex.Unlock()
	if why != "" && say != nil {
		say(why)
	}
	w.done.Go(func() {
		for {
			select {
			case <-w.stop:
				return
			case <-time.After(w.o.Interval):
				w.aiming.Lock()
				w.look(w.aim())
				w.aiming.Unlock()
			}
		}
	})
}

func (w *Watcher) aim() Scope {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.scope
}

// Aim says what is watched from now on, and reports whether that is more than before. What was watched before goes on being watched meanwhile.
func (w *Watcher) Aim(scope Scope) (more bool) {
	w.aiming.Lock()
	defer w.aiming.Unlock()
	w.mutex.Lock()
	system := w.system
	w.mutex.Unlock()
	if system == nil {
		return w.look(scope)
	}
	w.mutex.Lock()
	w.scope = scope
	w.mutex.Unlock()
	keep := map[string]bool{}
	more, err := w.enter(system, "", keep, nil)
	besides := map[string]bool{}
	for _, dir := range scope.Beside {
		besides[dir] = true
		if err == nil && !w.beside[dir] {
			if err = system.Add(dir); errors.Is(err, fs.ErrNotExist) {
				err = nil
			}
			more = true
		}
	}
	if err != nil {
		w.giveUp(system, scope, err)
		return true
	}
	w.mutex.Lock()
	for dir := range w.watch {
		if !keep[dir] {
			_ = system.Remove(w.absolute(dir)) // it may be gone
		}
	}
	for dir := range w.beside {
		if !besides[dir] {
			_ = system.Remove(dir)
		}
	}
	w.watch, w.beside = keep, besides
	first := !w.marks && scope.Mark != nil
	w.marks = w.marks || first
	w.mutex.Unlock()
	if scope.Mark == nil {
		return more
	}
	now := scope.Mark()
	if !first {
		w.marked(now)
		return more
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.mark = now
	return more
}

// giveUp looks again and again where the system tells of no more folders.
func (w *Watcher) giveUp(system *fsnotify.Watcher, scope Scope, err error) {
	w.mutex.Lock()
	w.system, w.seen = nil, nil
	w.mutex.Unlock()
	system.Close()
	w.look(scope)
	w.note(Changed{All: true}) // only now: what changes before it looked is not told otherwise
	w.poll(err.Error())
}

func (w *Watcher) absolute(rel string) string { return filepath.Join(w.root, filepath.FromSlash(rel)) }

// enter has the system tell of a folder and of those in it that the scope enters. The paths found are shown to each, which may be nil. What
// vanishes meanwhile is passed over.
func (w *Watcher) enter(system *fsnotify.Watcher, dir string, keep map[string]bool, each func(p string)) (more bool, err error) {
	scope := w.aim()
	if !scope.enters(dir) {
		return false, nil
	}
	w.mutex.Lock()
	known := w.watch[dir]
	w.mutex.Unlock()
	if !known {
		if err := system.Add(w.absolute(dir)); err != nil {
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
				return false, nil
			}
			return false, err
		}
		more = true
	}
	keep[dir] = true
	entries, err := os.ReadDir(w.absolute(dir))
	if err != nil {
		return more, nil
	}
	for _, e := range entries {
		p := e.Name()
		if dir != "" {
			p = dir + "/" + p
		}
		if each != nil && !known {
			each(p)
		}
		if e.IsDir() {
			deeper, err := w.enter(system, p, keep, each)
			if more = more || deeper; err != nil {
				return more, err
			}
		}
	}
	return more, nil
}

// listen takes what the system tells.
func (w *Watcher) listen(system *fsnotify.Watcher) {
	for {
		select {
		case e, open := <-system.Events:
			if !open {
				return
			}
			w.event(system, e)
		case err, open := <-system.Errors:
			if !open {
				return
			}
			if errors.Is(err, fsnotify.ErrEventOverflow) {
				w.note(Changed{All: true})
				w.again(system, "")
			}
		}
	}
}

// again looks for folders that came, in one of them or in all, and notes what is in those.
func (w *Watcher) again(system *fsnotify.Watcher, dir string) {
	w.aiming.Lock()
	defer w.aiming.Unlock()
	scope, keep := w.aim(), map[string]bool{}
	_, err := w.enter(system, dir, keep, func(p string) {
		if !scope.Files.Empty() && scope.Files.Has(p) {
			w.note(Changed{Paths: []string{p}})
		}
	})
	w.mutex.Lock()
	for one := range keep {
		w.watch[one] = true
	}
	w.mutex.Unlock()
	if err != nil {
		w.giveUpSoon(system, err)
	}
}

// giveUpSoon is giveUp for what listens to the system, which that ends.
func (w *Watcher) giveUpSoon(system *fsnotify.Watcher, err error) {
	w.done.Go(func() {
		w.aiming.Lock()
		defer w.aiming.Unlock()
		w.mutex.Lock()
		over := w.system != system
		w.mutex.Unlock()
		if !over {
			w.giveUp(system, w.aim(), err)
		}
	})
}

func (w *Watcher) event(system *fsnotify.Watcher, e fsnotify.Event) {
	scope := w.aim()
	if dir := filepath.Dir(e.Name); slices.Contains(scope.Beside, dir) || slices.Contains(scope.Beside, e.Name) {
		if scope.Mark != nil {
			w.marked(scope.Mark())
		}
		return
	}
	rel, err := filepath.Rel(w.root, e.Name)
	if err != nil {
		return
	}
	p := filepath.ToSlash(rel)
	w.mutex.Lock()
	folder := w.watch[p]
	w.mutex.Unlock()
	switch {
	case p == ".":
		if e.Has(fsnotify.Remove | fsnotify.Rename) {
			w.giveUpSoon(system, fmt.Errorf("%s was removed", w.root))
		}
		return
	case folder && e.Has(fsnotify.Remove|fsnotify.Rename): // with all that was in it
		w.gone(system, p, e.Has(fsnotify.Rename))
		w.note(Changed{Paths: []string{p}})
		if isFolder(e.Name) { // another one has its name by now
			w.again(system, p)
		}
		return
	case e.Has(fsnotify.Create) && scope.enters(p) && isFolder(e.Name):
		w.gone(system, p, false)
		w.again(system, p)
	}
	if !scope.Files.Empty() && scope.Files.Has(p) {
		w.note(Changed{Paths: []string{p}})
	}
}

func isFolder(name string) bool {
	info, err := os.Lstat(name)
	return err == nil && info.IsDir()
}

// gone forgets a folder. One that moved takes what is told of it along, under its old name, so that is ended, and it is looked for where it may be
// now.
func (w *Watcher) gone(system *fsnotify.Watcher, p string, moved bool) {
	w.mutex.Lock()
	for dir := range w.watch {
		if dir == p || within(dir, p) {
			if delete(w.watch, dir); moved {
				_ = system.Remove(w.absolute(dir)) // the system may have done it
			}
		}
	}
	w.mutex.Unlock()
	if moved {
		w.again(system, "")
	}
}

func (w *Watcher) marked(now string) {
	w.mutex.Lock()
	is := now != w.mark
	w.mark = now
	w.mutex.Unlock()
	if is {
		w.note(Changed{Mark: true})
	}
}

// note keeps what changed until Next tells it.
func (w *Watcher) note(c Changed) {
	if c.None() {
		return
	}
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.last = time.Now()
	if len(c.Paths) == 1 && slices.Contains(w.fresh.Paths[max(0, len(w.fresh.Paths)-8):], c.Paths[0]) {
		c.Paths = nil // a file is written in several pieces
	}
	w.fresh = Changed{append(w.fresh.Paths, c.Paths...), w.fresh.Mark || c.Mark, w.fresh.All || c.All}
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// Next waits until something changed and then nothing for a moment, and tells it once.
func (w *Watcher) Next(ctx context.Context) (Changed, error) {
	var first time.Time
	for {
		w.mutex.Lock()
		fresh, still := !w.fresh.None(), time.Since(w.last)
		w.mutex.Unlock()
		wait := time.Duration(-1)
		if fresh {
			if first.IsZero() {
				first = time.Now()
			}
			if wait = min(w.o.Quiet-still, w.o.Longest-time.Since(first)); wait <= 0 {
				w.mutex.Lock()
				defer w.mutex.Unlock()
				c := Changed{}.And(w.fresh)
				w.fresh = Changed{}
				return c, nil
			}
		}
		var timer <-chan time.Time
		if wait > 0 {
			timer = time.After(wait)
		}
		select {
		case <-ctx.Done():
			return Changed{}, ctx.Err()
		case <-w.wake:
		case <-timer:
		}
	}
}
