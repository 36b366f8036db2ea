// Package division says which files of an image share a layer, by rules of paths that a lock keeps. How good rules are found is not its
// matter.
package division

import (
	"fmt"
	"slices"
	"strings"
)

// Rules say to which part a path belongs: to that with the longest prefix that covers it. A prefix is an absolute path;
// with a slash at its end it covers all that lies in the folder, else the path alone. Parts are in the order of the stack,
// bottom first.
type Rules struct {
	Parts [][]string

	byPrefix map[string]int
}

// New checks rules: "/" must be in one part, and no prefix in two.
func New(parts [][]string) (*Rules, error) {
	parts = slices.DeleteFunc(slices.Clone(parts), func(list []string) bool { return len(list) == 0 })
	r := &Rules{Parts: parts, byPrefix: map[string]int{}}
	for n, list := range parts {
		for _, prefix := range list {
			if !strings.HasPrefix(prefix, "/") || strings.Contains(prefix, "//") || strings.Contains(prefix, "/../") {
				return nil, fmt.Errorf("%q is not an absolute path", prefix)
			}
			if _, twice := r.byPrefix[prefix]; twice {
				return nil, fmt.Errorf("%s belongs to two parts", prefix)
			}
			r.byPrefix[prefix] = n
		}
	}
	if _, rooted := r.byPrefix["/"]; !rooted {
		return nil, fmt.Errorf("no part has /, which is to take what no other prefix covers")
	}
	return r, nil
}

// Part returns the part of a path without leading slash.
func (r *Rules) Part(path string) int {
	if n, known := r.byPrefix["/"+path]; known {
		return n
	}
	for dir := "/" + path; ; {
		dir = dir[:strings.LastIndexByte(dir, '/')]
		if n, known := r.byPrefix[dir+"/"]; known {
			return n
		}
	}
}
