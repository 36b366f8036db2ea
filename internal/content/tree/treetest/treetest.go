// Package treetest makes random layers for tests of what lays them on one another. It is for tests alone.
package treetest

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Layer makes a layer of a small tree that does everything that layers do: files, folders, links, hard links,
// deletions, replacements and opaque folders. Every folder on the way is among its entries.
func Layer(r *rand.Rand, seed int) []tree.Entry {
	all := map[string]tree.Entry{}
	var opaque []string
	names := []string{"a", "b", "c", "a.b"}
	kindAt := func(p string) tree.Kind { return all[p].Kind }
	for range 1 + r.IntN(5) {
		p := ""
		for depth := range 1 + r.IntN(3) {
			if depth > 0 {
				if kindAt(p) != 0 && kindAt(p) != tree.Folder {
					break
				}
				all[p] = tree.Entry{Path: p, Kind: tree.Folder, Mode: []uint32{0o755, 0o755, 0o700}[r.IntN(3)]}
			}
			p = tree.Join(p, names[r.IntN(len(names))])
		}
		if kindAt(p) != 0 {
			continue
		}
		switch r.IntN(8) {
		case 0:
			all[p] = tree.Entry{Path: p, Kind: tree.Whiteout}
		case 1:
			all[p] = tree.Entry{Path: p, Kind: tree.Symlink, Mode: 0o777, Target: "x"}
		case 2:
			all[p] = tree.Entry{Path: p, Kind: tree.Folder, Mode: 0o750}
			opaque = append(opaque, p)
		case 3:
			for _, target := range slices.Sorted(keysOf(all)) {
				if all[target].Kind == tree.File {
					all[p] = tree.Entry{Path: p, Kind: tree.Hardlink, Mode: 0o644, Target: target}
					break
				}
			}
		case 4:
			all[p] = tree.Entry{Path: p, Kind: tree.Folder, Mode: 0o755}
		default:
			all[p] = tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, Size: 1, Content: digest.ContentBytes(fmt.Append(nil, seed, p))}
		}
	}
	var entries []tree.Entry
	for _, e := range all {
		entries = append(entries, e)
	}
	for _, p := range opaque {
		entries = append(entries, tree.Entry{Path: p, Kind: tree.Opaque})
	}
	slices.SortFunc(entries, func(a, b tree.Entry) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return int(a.Kind) - int(b.Kind)
	})
	return entries
}

func keysOf(m map[string]tree.Entry) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// Flat shows what layers give together: every path, with which names are one file.
func Flat(layers ...[]tree.Entry) (string, error) {
	view := tree.NewView()
	for _, l := range layers {
		if err := view.Apply(l, nil); err != nil {
			return "", err
		}
	}
	var out strings.Builder
	view.Each(func(n *tree.Node) {
		if n.Path != "" {
			e := n.Entry
			fmt.Fprintf(&out, "%s", e.AppendLine(nil))
		}
	})
	return out.String(), nil
}
