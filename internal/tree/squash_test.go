package tree

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/digest"
)

// someLayer makes a layer of a small tree that does everything that layers do: files, folders, links, hard links,
// deletions, replacements and opaque folders. Every folder on the way is among its entries.
func someLayer(r *rand.Rand, seed int) []Entry {
	all := map[string]Entry{}
	var opaque []string
	names := []string{"a", "b", "c", "a.b"}
	kindAt := func(p string) Kind { return all[p].Kind }
	for range 1 + r.IntN(5) {
		p := ""
		for depth := range 1 + r.IntN(3) {
			if depth > 0 {
				if kindAt(p) != 0 && kindAt(p) != Folder {
					break
				}
				all[p] = Entry{Path: p, Kind: Folder, Mode: []uint32{0o755, 0o755, 0o700}[r.IntN(3)]}
			}
			p = Join(p, names[r.IntN(len(names))])
		}
		if kindAt(p) != 0 {
			continue
		}
		switch r.IntN(8) {
		case 0:
			all[p] = Entry{Path: p, Kind: Whiteout}
		case 1:
			all[p] = Entry{Path: p, Kind: Symlink, Mode: 0o777, Target: "x"}
		case 2:
			all[p] = Entry{Path: p, Kind: Folder, Mode: 0o750}
			opaque = append(opaque, p)
		case 3:
			for _, target := range slices.Sorted(keysOf(all)) {
				if all[target].Kind == File {
					all[p] = Entry{Path: p, Kind: Hardlink, Mode: 0o644, Target: target}
					break
				}
			}
		case 4:
			all[p] = Entry{Path: p, Kind: Folder, Mode: 0o755}
		default:
			all[p] = Entry{Path: p, Kind: File, Mode: 0o644, Size: 1, Content: digest.ContentBytes(fmt.Append(nil, seed, p))}
		}
	}
	var entries []Entry
	for _, e := range all {
		entries = append(entries, e)
	}
	for _, p := range opaque {
		entries = append(entries, Entry{Path: p, Kind: Opaque})
	}
	slices.SortFunc(entries, func(a, b Entry) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return int(a.Kind) - int(b.Kind)
	})
	return entries
}

func keysOf(m map[string]Entry) func(func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// flat shows what layers give together: every path, with which names are one file.
func flat(t *testing.T, layers ...[]Entry) string {
	view := NewView()
	for _, l := range layers {
		require.NoError(t, view.Apply(l, nil))
	}
	var out strings.Builder
	view.Each(func(n *Node) {
		if n.Path != "" {
			e := n.Entry
			fmt.Fprintf(&out, "%s", e.AppendLine(nil))
		}
	})
	return out.String()
}

// TestSquashedLayersDoWhatTheyDidOneByOne: over any base.
func TestSquashedLayersDoWhatTheyDidOneByOne(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for n := range 20_000 {
		base := someLayer(r, n)
		var layers [][]Entry
		for range 1 + r.IntN(4) {
			layers = append(layers, someLayer(r, n*10+len(layers)+1))
		}
		squashed := Squash(layers)
		one := make([]Entry, len(squashed))
		for i, s := range squashed {
			one[i] = s.Entry
			if s.Kind == File {
				at := slices.IndexFunc(layers[s.Layer], func(e Entry) bool { return e.Path == s.At && e.Kind == File })
				require.GreaterOrEqual(t, at, 0, "a file says where its bytes are")
				require.Equal(t, s.Content, layers[s.Layer][at].Content)
			}
		}
		require.True(t, slices.IsSortedFunc(one, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) }))
		want := flat(t, append([][]Entry{base}, layers...)...)
		require.Equal(t, want, flat(t, base, one), "base %v\nlayers %v\nsquashed %v", base, layers, one)
		again := Squash([][]Entry{one})
		for i := range again {
			require.Equal(t, one[i], again[i].Entry, "what is squashed stays as it is")
		}
	}
}

// TestLayersThatCommuteGiveTheSameTree: in any order that keeps apart only what does not commute, over any base.
func TestLayersThatCommuteGiveTheSameTree(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	swapped := 0
	for n := range 20_000 {
		base := someLayer(r, n)
		var layers [][]Entry
		var reach []*Reach
		for range 2 + r.IntN(3) {
			l := someLayer(r, n*10+len(layers)+1)
			layers, reach = append(layers, l), append(reach, ReachOf(l))
		}
		want := flat(t, append([][]Entry{base}, layers...)...)
		// A random walk over allowed orders.
		for range 6 {
			i := r.IntN(len(layers) - 1)
			if !reach[i].Commutes(reach[i+1]) {
				continue
			}
			swapped++
			layers[i], layers[i+1] = layers[i+1], layers[i]
			reach[i], reach[i+1] = reach[i+1], reach[i]
			require.Equal(t, want, flat(t, append([][]Entry{base}, layers...)...), "base %v\nlayers %v", base, layers)
		}
	}
	require.Greater(t, swapped, 5000)
}
