// Package paths tells which of many paths are of a set, without asking for each.
//
// It opens nothing and knows nothing of file systems.
package paths

import (
	"path"
	"slices"
	"sort"
	"strings"
)

// Set is a set of paths with slashes, relative to some folder. The zero value is empty.
type Set struct {
	// Has reports whether a path is of the set; nil: none is.
	Has func(path string) bool
	// Below are files and folders at or below which all of the set lies; nil: it may lie anywhere. They have no "." and "..".
	Below []string
}

// Empty reports whether no path can be of the set.
func (s Set) Empty() bool { return s.Has == nil }

// Or returns the set of what is of either.
func (s Set) Or(other Set) Set {
	switch {
	case s.Empty():
		return other
	case other.Empty():
		return s
	}
	both := Set{Has: func(path string) bool { return s.Has(path) || other.Has(path) }}
	if s.Below != nil && other.Below != nil {
		both.Below = slices.Concat(s.Below, other.Below)
	}
	return both
}

// worth is how many paths one search in a list must spare.
const worth = 32

// In visits the places of a sorted list of n paths whose paths are of the set, until visit returns false; some may be visited again. The
// list's paths may be relative to another folder: those of the set begin with under there.
func (s Set) In(n int, at func(i int) string, under string, visit func(i int) bool) {
	if s.Empty() {
		return
	}
	inside := under
	if inside != "" {
		inside += "/"
	}
	span := func(begin, end int) bool {
		for i := begin; i < end; i++ {
			if p, is := strings.CutPrefix(at(i), inside); is && s.Has(p) && !visit(i) {
				return false
			}
		}
		return true
	}
	first := func(p string) int { return sort.Search(n, func(i int) bool { return at(i) >= p }) }
	if s.Below == nil || slices.Contains(s.Below, "") || len(s.Below) > n/worth {
		span(first(inside), n)
		return
	}
	for _, below := range s.Below {
		p := path.Join(under, below)
		if i := first(p); i < n && at(i) == p && !span(i, i+1) {
			return
		}
		if !span(first(p+"/"), first(p+"0")) { // what follows a slash
			return
		}
	}
}
