package changes

import (
	"io/fs"
	"os"
	"time"
)

// stat is what tells that a file has not changed.
type stat struct {
	size int64
	mode fs.FileMode
	time time.Time
	more any // what else the system tells
}

// look compares what is there with what was when it looked before, and reports whether the scope was smaller then.
func (w *Watcher) look(scope Scope) (more bool) {
	now := map[string]stat{}
	w.walk(&scope, "", now)
	mark := ""
	if scope.Mark != nil {
		mark = scope.Mark()
	}
	w.mutex.Lock()
	before, old, marked := w.seen, w.scope, w.mark
	w.seen, w.scope, w.mark = now, scope, mark
	w.mutex.Unlock()
	if before == nil {
		return true
	}
	c := Changed{Mark: mark != marked && old.Mark != nil}
	for p, is := range now {
		was, known := before[p]
		switch {
		case known && was != is, !known && !old.Files.Empty() && old.Files.Has(p):
			c.Paths = append(c.Paths, p)
		case !known:
			more = true
		}
	}
	for p := range before {
		if _, there := now[p]; !there && !scope.Files.Empty() && scope.Files.Has(p) {
			c.Paths = append(c.Paths, p)
		}
	}
	w.note(c)
	return more
}

// walk notes the files of a scope.
func (w *Watcher) walk(scope *Scope, dir string, into map[string]stat) {
	if !scope.enters(dir) {
		return
	}
	entries, err := os.ReadDir(w.absolute(dir))
	if err != nil {
		return // gone, or nobody's business
	}
	for _, e := range entries {
		p := e.Name()
		if dir != "" {
			p = dir + "/" + p
		}
		if !scope.Files.Empty() && scope.Files.Has(p) {
			if info, err := e.Info(); err == nil {
				one := stat{info.Size(), info.Mode(), info.ModTime(), identity(info)}
				if info.IsDir() { // what is in it is looked at by itself
					one = stat{mode: info.Mode()}
				}
				into[p] = one
			}
		}
		if e.IsDir() {
			w.walk(scope, p, into)
		}
	}
}
