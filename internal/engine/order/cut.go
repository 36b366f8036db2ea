package order

import (
	"cmp"
	"slices"
)

// Cut parts items, sorted by path, into at most k parts of about the same size along their folders; packages are kept
// whole. It depends on paths and sizes alone. least is the size in bytes below which a part is not worth being one.
func Cut(items []Item, k int, least int64) [][]int {
	root := hierarchy(items)
	var pieces []piece
	root.cut(items, max(least, root.size/int64(max(1, k))), &pieces)
	pieces = joinNeighbours(crumbs(pieces, root.size/int64(8*max(1, k))), k, least)
	parts := make([][]int, len(pieces))
	for i, p := range pieces {
		slices.Sort(p.items)
		parts[i] = p.items
	}
	slices.SortFunc(parts, func(a, b []int) int { return cmp.Compare(a[0], b[0]) })
	return parts
}

// piece is a folder with all in it, or the items directly in one.
type piece struct {
	items []int
	size  int64
}

func (f *folder) cut(items []Item, goal int64, pieces *[]piece) {
	if f.whole || f.size <= goal {
		if f.count > 0 {
			*pieces = append(*pieces, piece{f.all(nil), f.size})
		}
		return
	}
	if len(f.items) > 0 {
		own := piece{items: slices.Clone(f.items)}
		for _, i := range f.items {
			own.size += items[i].Size
		}
		*pieces = append(*pieces, own)
	}
	for _, b := range f.below {
		b.cut(items, goal, pieces)
	}
}

// crumbs joins neighbours that are small together, in one pass, so that few pieces are left to choose among.
func crumbs(pieces []piece, small int64) (joined []piece) {
	for _, p := range pieces {
		if n := len(joined); n > 0 && joined[n-1].size+p.size <= small {
			joined[n-1].items = append(joined[n-1].items, p.items...)
			joined[n-1].size += p.size
			continue
		}
		joined = append(joined, p)
	}
	return joined
}

// joinNeighbours joins the smallest pairs until at most k pieces are left, and small ones with the smaller of their
// neighbours.
func joinNeighbours(pieces []piece, k int, least int64) []piece {
	for len(pieces) > 1 {
		at := 0
		if len(pieces) > max(1, k) {
			for i := range len(pieces) - 1 {
				if pieces[i].size+pieces[i+1].size < pieces[at].size+pieces[at+1].size {
					at = i
				}
			}
		} else if at = slices.IndexFunc(pieces, func(p piece) bool { return p.size < least }); at < 0 {
			break
		} else if at > 0 && (at == len(pieces)-1 || pieces[at-1].size < pieces[at+1].size) {
			at--
		}
		pieces[at].items = append(pieces[at].items, pieces[at+1].items...)
		pieces[at].size += pieces[at+1].size
		pieces = slices.Delete(pieces, at+1, at+2)
	}
	return pieces
}
