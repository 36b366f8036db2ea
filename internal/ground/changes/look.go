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
	time time.Time // of the last change of anything that is known of it
	more any       // what else the system tells
}

// seen is a file as it was when it was looked at. One that had changed just before may change again without that it shows: times are told in
// steps.
type seen struct {
	stat
	fresh bool
}

// steps are those in which file systems tell times, at the most: some know whole seconds, or every other one.
const (
	smallStep = 20 * time.Millisecond
	largeStep = 2 * time.Second
)

func (s *stat) fresh(now time.Time) bool {
	step := smallStep
	if s.time.Nanosecond() == 0 {
		step = largeStep
	}
	return now.Sub(s.time) < step
}

// look compares what is there with what was when it looked before, and reports whether the scope was smaller then.
func (w *Watcher) look(scope Scope) (more bool) {
	began, now := time.Now(), map[string]seen{}
	w.walk(&scope, "", now)
	mark := ""
	if scope.Mark != nil {
		mark = scope.Mark()
	}
	w.mutex.Lock()
	before, old, marked := w.seen, w.scope, w.mark
	w.seen, w.scope, w.mark = now, scope, mark // of the files only who looks knows, one at a time
	w.mutex.Unlock()
	if before == nil {
		for p, is := range now {
			is.fresh = is.stat.fresh(began)
			now[p] = is
		}
		return true
	}
	c := Changed{Mark: mark != marked && old.Mark != nil}
	for p, is := range now {
		was, known := before[p]
		is.fresh = is.stat.fresh(began) && !(was.fresh && was.stat == is.stat) // it is told twice, and not for ever
		now[p] = is
		switch {
		case known && (was.stat != is.stat || was.fresh), !known && !old.Files.Empty() && old.Files.Has(p):
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
func (w *Watcher) walk(scope *Scope, dir string, into map[string]seen) {
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
				one := stat{size: info.Size(), mode: info.Mode()}
				one.time, one.more = identity(info)
				if info.IsDir() { // what is in it is looked at by itself
					one = stat{mode: info.Mode()} // its own time is that of names
				}
				into[p] = seen{stat: one}
			}
		}
		if e.IsDir() {
			w.walk(scope, p, into)
		}
	}
}
