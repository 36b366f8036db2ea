package order

import (
	"math/bits"
	"slices"
)

// Weight is what decides a layer's place in a stack: bytes to unpack, and the share of versions in which it differs.
type Weight struct {
	Size   int64
	Chance Share
}

// exactLayers is up to how many layers the best order is found for certain.
const exactLayers = 18

// Expected returns the bytes that a node is expected to unpack at a version, where it unpacks again from the lowest layer
// that differs: Σ_i s_i·(1 - Π_{j≤i} (1 - p_j)), bottom first.
func Expected(layers []Weight, order []int) int64 { return expected(layers, order, One) }

func expected(layers []Weight, order []int, quiet Share) (sum int64) {
	for _, l := range order {
		quiet = quiet * (One - layers[l].Chance) >> shareBits
		sum += times(layers[l].Size, One-quiet)
	}
	return sum
}

// Stack orders layers, bottom first, so that the expected bytes to unpack are few. below[i] holds the layers that must lie
// below layer i, nil for none; it is free of circles. Up to 18 layers the order is the best one, found by dynamic programming over
// subsets; above, the block that is closed under what must lie below it and has the best ratio
// Σ s·survival / (1 - survival) is laid again and again, and single layers are moved while that helps.
func Stack(layers []Weight, below []Versions) []int {
	return stackOn(layers, below, nil)
}

// stackOn orders the layers that are not in a prefix, and gives them behind it.
func stackOn(layers []Weight, below []Versions, prefix []int) []int {
	order := slices.Clone(prefix)
	quiet := One
	placed := Versions{}
	for _, l := range prefix {
		quiet = quiet * (One - layers[l].Chance) >> shareBits
		placed = placed.With(l)
	}
	var rest []int
	for l := range layers {
		if !placed.Has(l) {
			rest = append(rest, l)
		}
	}
	s := &stacking{layers: layers, below: make([]Versions, len(layers)), quiet: quiet}
	copy(s.below, below)
	if len(rest) <= exactLayers {
		return append(order, s.exact(rest)...)
	}
	return append(order, s.improve(s.blocks(rest, placed))...)
}

type stacking struct {
	layers []Weight
	below  []Versions
	quiet  Share // that nothing below differs
}

// exact tries all orders, by the sets of layers that lie lowest.
func (s *stacking) exact(rest []int) []int {
	n := len(rest)
	needs := make([]uint32, n)
	for i, l := range rest {
		for j, other := range rest {
			if s.below[l].Has(other) {
				needs[i] |= 1 << j
			}
		}
	}
	quiet, cost, last := make([]Share, 1<<n), make([]int64, 1<<n), make([]int8, 1<<n)
	quiet[0] = s.quiet
	for set := uint32(1); set < 1<<n; set++ {
		low := bits.TrailingZeros32(set)
		quiet[set] = quiet[set&(set-1)] * (One - s.layers[rest[low]].Chance) >> shareBits
		cost[set], last[set] = most, -1
		for left := set; left != 0; left &= left - 1 {
			top := bits.TrailingZeros32(left)
			under := set &^ (1 << top)
			if needs[top]&^under != 0 || under != 0 && last[under] < 0 {
				continue
			}
			if c := cost[under] + times(s.layers[rest[top]].Size, One-quiet[set]); c < cost[set] {
				cost[set], last[set] = c, int8(top)
			}
		}
	}
	order := make([]int, 0, n)
	for set := uint32(1)<<n - 1; set != 0; set &^= 1 << last[set] {
		order = append(order, rest[last[set]])
	}
	slices.Reverse(order)
	return order
}

// blocks lays the best block again and again.
func (s *stacking) blocks(rest []int, placed Versions) (order []int) {
	placed = placed.Clone()
	for len(order) < len(rest) {
		var best []int
		var bestGain, bestLoss int64
		for _, l := range rest {
			if placed.Has(l) {
				continue
			}
			block := s.closed(l, placed)
			gain, loss := s.worth(block)
			if best == nil || greater(gain, loss, bestGain, bestLoss) {
				best, bestGain, bestLoss = block, gain, loss
			}
		}
		for _, l := range best {
			placed = placed.With(l)
		}
		order = append(order, best...)
	}
	return order
}

// closed returns a layer on top of all that must lie below it and does not yet, of which each time the best comes first.
func (s *stacking) closed(top int, placed Versions) (block []int) {
	wanted := Versions{}.With(top)
	todo := []int{top}
	for len(todo) > 0 {
		l := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		for other := range s.layers {
			if s.below[l].Has(other) && !placed.Has(other) && !wanted.Has(other) {
				wanted = wanted.With(other)
				todo = append(todo, other)
			}
		}
	}
	done := placed.Clone()
	for range wanted.Len() {
		best := -1
		var bestGain, bestLoss int64
		for l := range s.layers {
			if !wanted.Has(l) || done.Has(l) || !within(s.below[l], done) {
				continue
			}
			if gain, loss := s.worth([]int{l}); best < 0 || greater(gain, loss, bestGain, bestLoss) {
				best, bestGain, bestLoss = l, gain, loss
			}
		}
		done = done.With(best)
		block = append(block, best)
	}
	return block
}

func within(inner, outer Versions) bool {
	for i, word := range inner {
		if i >= len(outer) && word != 0 || i < len(outer) && word&^outer[i] != 0 {
			return false
		}
	}
	return true
}

// worth returns the bytes that a block is expected to spare, and the chance that it costs all that lies on it.
func (s *stacking) worth(block []int) (gain int64, loss Share) {
	quiet := One
	for _, l := range block {
		quiet = quiet * (One - s.layers[l].Chance) >> shareBits
		gain += times(s.layers[l].Size, quiet)
	}
	return gain, One - quiet
}

// greater compares a/b with c/d without dividing; b and d may be 0.
func greater(a, b, c, d int64) bool {
	high1, low1 := bits.Mul64(uint64(a), uint64(d))
	high2, low2 := bits.Mul64(uint64(c), uint64(b))
	if high1 == high2 && low1 == low2 {
		return b < d
	}
	return high1 > high2 || high1 == high2 && low1 > low2
}

// improve moves single layers while that lowers the cost.
func (s *stacking) improve(order []int) []int {
	cost := expected(s.layers, order, s.quiet)
	for range 8 {
		moved := false
		for from := range order {
			l := order[from]
			bestAt, best := -1, cost
			for _, step := range []int{-1, 1} {
				try := slices.Clone(order)
				for at := from; ; at += step {
					next := at + step
					if next < 0 || next >= len(try) || step < 0 && s.below[l].Has(try[next]) || step > 0 && s.below[try[next]].Has(l) {
						break
					}
					try[at], try[next] = try[next], try[at]
					if c := expected(s.layers, try, s.quiet); c < best {
						bestAt, best = next, c
					}
				}
			}
			if bestAt >= 0 {
				order = slices.Insert(slices.Delete(order, from, from+1), bestAt, l)
				cost, moved = best, true
			}
		}
		if !moved {
			break
		}
	}
	return order
}

// Restack orders layers, bottom first, for a version that follows another one. before holds the layers of that version,
// bottom first, as indexes into layers, or -1 where one is there no more. Those that were there keep their places from
// the bottom up as far as the bytes to unpack now and the expected ones over the horizon make it worth.
func Restack(layers []Weight, below []Versions, before []int, horizon int64) (best []int) {
	var least int64
	placed := Versions{}
	for n := 0; ; n++ {
		order := stackOn(layers, below, before[:n])
		cost := times(Expected(layers, order), horizon<<shareBits)
		for _, l := range order[n:] {
			cost = min(most, cost+layers[l].Size)
		}
		if best == nil || cost < least {
			best, least = order, cost
		}
		if n == len(before) || before[n] < 0 || below != nil && !within(below[before[n]], placed) {
			return best
		}
		placed = placed.With(before[n])
	}
}
