package order

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"imbricat/internal/spec/division"
)

// slack is the size in bytes of an exception that is not worth a line of its own, where its part and that of its folder
// differ about as often.
const slack = 4 << 10

// RulesOf finds few rules that give a division of items, sorted by path, and that give new paths to the part of most of
// their folder's bytes. Small items go to the part of their folder where that is expected to cost no more than their size.
func RulesOf(items []Item, parts []Part) *division.Rules {
	of := make([]int, len(items))
	for n, p := range parts {
		for _, i := range p.Items {
			of[i] = n
		}
	}
	lists := make([][]string, len(parts))
	say := func(n int, prefix string) { lists[n] = append(lists[n], prefix) }
	var walk func(f *folder, above int)
	walk = func(f *folder, above int) {
		own := f.choose(items, of, above, len(parts))
		if own != above && !utf8.ValidString(f.path) {
			own = above
		}
		if own != above {
			say(own, strings.TrimSuffix("/"+f.path, "/")+"/")
		}
		for _, i := range f.items {
			if of[i] == own || items[i].Size < slack && items[i].Hint == Unhinted && near(parts[of[i]].Chance, parts[own].Chance) {
				continue
			}
			if !utf8.ValidString(items[i].Path) {
				continue // no text can name it
			}
			say(of[i], "/"+items[i].Path)
		}
		for _, b := range f.below {
			walk(b, own)
		}
	}
	walk(hierarchy(items), -1)
	for _, list := range lists {
		slices.Sort(list)
	}
	r, _ := division.New(lists) // they are right by construction
	return r
}

// near reports whether two parts differ about as often.
func near(a, b Share) bool { return max(a, b)-min(a, b) < One/16 }

// choose returns the part that a folder's rule names: that which spares most lines, of these the one from above, then the
// one with most bytes.
func (f *folder) choose(items []Item, of []int, above, parts int) int {
	lines, bytes := make([]int, parts), make([]int64, parts)
	for _, i := range f.items {
		lines[of[i]]++
		bytes[of[i]] += items[i].Size
	}
	for _, b := range f.below {
		counts := map[int]int64{}
		for _, i := range b.all(nil) {
			counts[of[i]] += items[i].Size
		}
		// The folder below will choose about so itself.
		top := -1
		for _, n := range slices.Sorted(maps.Keys(counts)) {
			if bytes[n] += counts[n]; top < 0 || counts[n] > counts[top] {
				top = n
			}
		}
		lines[top]++
	}
	best := max(0, above)
	for n := range parts {
		margin := 0
		if best == above {
			margin = 1 // a line for the folder itself
		}
		if c := cmp.Compare(lines[n]-margin, lines[best]); c > 0 || c == 0 && margin == 0 && bytes[n] > bytes[best] {
			best = n
		}
	}
	return best
}

// Ruled divides items by rules.
func Ruled(r *division.Rules, items []Item) [][]int {
	parts := make([][]int, len(r.Parts))
	for i := range items {
		n := r.Part(items[i].Path)
		parts[n] = append(parts[n], i)
	}
	return slices.DeleteFunc(parts, func(p []int) bool { return len(p) == 0 })
}
