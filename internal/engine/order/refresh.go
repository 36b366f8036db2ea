package order

import (
	"slices"

	"imbricat/internal/spec/division"
)

// LockHorizon is how many versions a division that is kept in a lock is expected to serve.
const LockHorizon = 10

// lockOverhead is what a layer of a kept division costs besides its bytes, in bytes: the requests that it takes.
const lockOverhead = 32 << 10

// Refreshed is what became of a division that is kept.
type Refreshed struct {
	Parts   []Part
	Kept    bool  // the division that was there stays
	Static  bool  // the cut by folder and package did better in the back-test
	Moved   int64 // bytes that must be pushed once for it
	Before  int64 // bytes that a version is expected to push with the division that was there
	Version int64 // bytes that a version is expected to push with this one
}

// Refresh finds the division of items, sorted by path, that is to be kept for the coming versions. was is the one that is
// there, nil for none; it stays where nothing serves better by more than moving costs. A division by history must do better than the cut
// by folder and package on the newest third of the history, knowing only what came before.
func Refresh(items []Item, was [][]int, o Options) Refreshed {
	t := o.tuned()
	t.Horizon, t.Overhead = LockHorizon, max(t.Overhead, lockOverhead)
	o.Tuning = t
	old := Assess(items, was, o)
	for i := range old {
		old[i].Old = i
	}
	r := Refreshed{Parts: old, Kept: true, Before: PerVersion(old)}
	none := func(int) string { return "" }
	candidates := [][]Part{Divide(items, none, nil, o)}
	if len(was) > 0 {
		// Layers that will be pushed soon anyway are divided anew, the others stay.
		before := make([]Before, len(was))
		for n, p := range old {
			before[n] = Before{}
			for _, i := range p.Items {
				before[n][items[i].Path] = ""
			}
			if p.Chance > One/4 {
				before[n]["\x00"] = "" // it lacks something, hence is not what it was
			}
		}
		candidates = append(candidates, Divide(items, none, before, o))
	}
	static := Assess(items, Cut(items, o.Most, o.Least), o)
	if BackTest(items, o) > 1 {
		candidates, r.Static = [][]Part{static}, true
	}
	least, needed := Cost(old, o), len(was) == 0 || len(was) > o.Most
	for _, parts := range candidates {
		for i := range parts {
			parts[i].Old = slices.IndexFunc(old, func(p Part) bool { return slices.Equal(p.Items, parts[i].Items) })
		}
		if cost := Cost(parts, o); needed || cost < least {
			r.Parts, r.Kept, least, needed = parts, false, cost, false
		}
	}
	r.Static = r.Static && !r.Kept
	for _, p := range r.Parts {
		if p.Old < 0 {
			r.Moved += p.Size
		}
	}
	r.Version = PerVersion(r.Parts)
	return r
}

// Rules returns the rules of a division that is kept, in the order of its stack.
func (r *Refreshed) Rules(items []Item) *division.Rules {
	weights := make([]Weight, len(r.Parts))
	for i, p := range r.Parts {
		weights[i] = Weight{p.Size, p.Chance}
	}
	sorted := make([]Part, len(r.Parts))
	for place, n := range Stack(weights, nil) {
		sorted[place] = r.Parts[n]
	}
	return RulesOf(items, sorted)
}

// PerVersion returns the bytes that a version is expected to push.
func PerVersion(parts []Part) (sum int64) {
	for _, p := range parts {
		sum += times(p.Size, p.Chance)
	}
	return sum
}

// BackTest divides by the older two thirds of a history, pushes the versions of the newest third, and gives the bytes
// beside those of the cut by folder and package; 0 where the history is too short to tell.
func BackTest(items []Item, o Options) float64 {
	const least = 9
	if o.Versions < least {
		return 0
	}
	learnt := o.Versions * 2 / 3
	past := slices.Clone(items)
	for i := range past {
		past[i].Changes = past[i].Changes.upTo(learnt)
	}
	train := o
	train.Versions = learnt
	var lists [][]int
	for _, p := range Divide(past, func(int) string { return "" }, nil, train) {
		lists = append(lists, p.Items)
	}
	static := pushes(items, Cut(items, o.Most, o.Least), learnt, o.Versions)
	if static == 0 {
		return 0
	}
	return float64(pushes(items, lists, learnt, o.Versions)) / float64(static)
}

// upTo returns the versions below a number.
func (v Versions) upTo(version int) (low Versions) {
	for n := range version {
		if v.Has(n) {
			low = low.With(n)
		}
	}
	return low
}

// pushes returns the bytes of layers in which something changed, over some versions.
func pushes(items []Item, lists [][]int, from, to int) (sum int64) {
	for _, list := range lists {
		var changes Versions
		var size int64
		for _, i := range list {
			changes = changes.Or(items[i].Changes)
			size += items[i].Size
		}
		for v := from; v < to; v++ {
			if changes.Has(v) {
				sum += size
			}
		}
	}
	return sum
}
