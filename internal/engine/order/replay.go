package order

import (
	"crypto/sha256"
	"io"
	"maps"
	"slices"

	"imbricat/internal/spec/division"
)

// Version is one version of a history: its items, sorted by path, and the identity of each.
type Version struct {
	Name  string
	Items []Item
	Same  []string
}

// Learn sets the changes of each version's items to what is known of them at that version, and gives the number of versions
// that these are about at the last one. The first version changes nothing.
func Learn(history []Version) int {
	changes, last := map[string]Versions{}, map[string]string{}
	for v := range history {
		now := make(map[string]string, len(history[v].Items))
		for i := range history[v].Items {
			item, same := &history[v].Items[i], history[v].Same[i]
			now[item.Path] = same
			if v > 0 && last[item.Path] != same {
				changes[item.Path] = changes[item.Path].Clone().With(v - 1)
			}
			item.Changes = changes[item.Path]
		}
		last = now
	}
	return max(0, len(history)-1)
}

// Strategy divides versions, asked in order, into layers, bottom first. It may look at that version and those before.
type Strategy func(v int) [][]int

// Bytes is what a version costs.
type Bytes struct {
	Pushed   int64 // of layers that no version before had
	Unpacked int64 // of layers from the lowest that differs from the version before upwards
	Layers   int
}

// Replay returns what each version of a history costs under a strategy. The first costs all of it.
func Replay(history []Version, strategy Strategy) []Bytes {
	out := make([]Bytes, len(history))
	known := map[[sha256.Size]byte]bool{}
	var chain [][sha256.Size]byte
	for v := range history {
		layers := strategy(v)
		now := make([][sha256.Size]byte, len(layers))
		out[v].Layers = len(layers)
		same := true
		for l, items := range layers {
			id, size := history[v].identity(items)
			now[l] = id
			if !known[id] {
				out[v].Pushed += size
				known[id] = true
			}
			if same = same && l < len(chain) && chain[l] == id; !same {
				out[v].Unpacked += size
			}
		}
		chain = now
	}
	return out
}

// identity names what a layer holds.
func (v *Version) identity(items []int) (id [sha256.Size]byte, size int64) {
	sum := sha256.New()
	for _, i := range items {
		io.WriteString(sum, v.Items[i].Path+"\x00"+v.Same[i]+"\x00")
		size += v.Items[i].Size
	}
	sum.Sum(id[:0])
	return id, size
}

// Single puts everything into one layer.
func Single(history []Version) Strategy {
	return func(v int) [][]int {
		all := make([]int, len(history[v].Items))
		for i := range all {
			all[i] = i
		}
		return [][]int{all}
	}
}

// Static is the cut of the first version by folder and package, kept for all.
func Static(history []Version, k int) Strategy {
	var rules *division.Rules
	return func(v int) [][]int {
		if rules == nil {
			rules = RulesOf(history[v].Items, cold(history[v].Items, Options{Most: k}))
		}
		return Ruled(rules, history[v].Items)
	}
}

// cold is the division of a version that nothing is known of.
func cold(items []Item, o Options) []Part {
	return Assess(items, Cut(items, o.Most, o.Least), o)
}

// Following divides each version after the one before, as the policy follow does.
func Following(history []Version, o Options) Strategy {
	var before []Before
	return func(v int) [][]int {
		at := &history[v]
		o.Versions = v
		var parts []Part
		if v == 0 {
			parts = cold(at.Items, o)
		} else {
			parts = Divide(at.Items, func(i int) string { return at.Same[i] }, before, o)
		}
		layers := Lay(parts, len(before), o)
		before = held(at, layers)
		return layers
	}
}

// Lay stacks parts on the layers of the version before, of which there were so many, and gives their items, bottom first.
func Lay(parts []Part, before int, o Options) [][]int {
	places := make([]int, before)
	for i := range places {
		places[i] = -1
	}
	weights := make([]Weight, len(parts))
	for i, p := range parts {
		weights[i] = Weight{p.Size, p.Chance}
		if p.Old >= 0 {
			places[p.Old] = i
		}
	}
	var layers [][]int
	for _, n := range Restack(weights, nil, places, o.tuned().Horizon) {
		layers = append(layers, parts[n].Items)
	}
	return layers
}

func held(v *Version, layers [][]int) (before []Before) {
	for _, items := range layers {
		holds := Before{}
		for _, i := range items {
			holds[v.Items[i].Path] = v.Same[i]
		}
		before = append(before, holds)
	}
	return before
}

// Locked divides by rules that are refreshed every so many versions, as the policy lock does.
func Locked(history []Version, every int, o Options) Strategy {
	var rules *division.Rules
	return func(v int) [][]int {
		items := history[v].Items
		if v%every == 0 {
			o.Versions = v
			var was [][]int
			if rules != nil {
				was = Ruled(rules, items)
			} else {
				was = Cut(items, o.Most, o.Least)
			}
			if r := Refresh(items, was, o); !r.Kept || rules == nil {
				rules = r.Rules(items)
			}
		}
		return Ruled(rules, items)
	}
}

// Hindsight is the best division known that stays the same for a whole history, by one who knows all of it: what changed
// in the same versions is one group, and the pair of groups whose joining costs least is joined until k are left.
func Hindsight(history []Version, k int) Strategy {
	groups, of := signatures(history)
	cost := func(a, b *signature) (sum int64) {
		for v := range a.sizes {
			if a.changes.Has(v) || b.changes.Has(v) {
				sum += a.sizes[v] + b.sizes[v]
			}
		}
		return sum
	}
	empty := &signature{sizes: make([]int64, len(history))}
	costs := make([]int64, len(groups))
	for i, g := range groups {
		costs[i] = cost(g, empty)
	}
	into := make([]int, len(groups))
	for i := range into {
		into[i] = i
	}
	all := newPairs(len(groups), func(i, j int) int64 { return costs[i] + costs[j] - cost(groups[i], groups[j]) })
	for all.left > k {
		to, from, _ := all.best()
		groups[to] = groups[to].with(groups[from])
		costs[to] = cost(groups[to], empty)
		into[from] = to
		all.joined(to, from)
	}
	return func(v int) [][]int {
		parts := make([][]int, len(groups))
		for i := range history[v].Items {
			g := of[history[v].Items[i].Path]
			for into[g] != g {
				g = into[g]
			}
			parts[g] = append(parts[g], i)
		}
		return slices.DeleteFunc(parts, func(p []int) bool { return len(p) == 0 })
	}
}

// signature is paths that came, changed or went in the same versions.
type signature struct {
	changes Versions
	sizes   []int64 // by version, in bytes
}

func (s *signature) with(other *signature) *signature {
	both := &signature{s.changes.Clone().Or(other.changes), slices.Clone(s.sizes)}
	for v, size := range other.sizes {
		both.sizes[v] += size
	}
	return both
}

func signatures(history []Version) (groups []*signature, of map[string]int) {
	paths := map[string]*signature{}
	last := map[string]string{}
	for v := range history {
		now := map[string]string{}
		for i := range history[v].Items {
			item := &history[v].Items[i]
			now[item.Path] = history[v].Same[i]
			s := paths[item.Path]
			if s == nil {
				s = &signature{sizes: make([]int64, len(history))}
				paths[item.Path] = s
			}
			s.sizes[v] = item.Size
			if v > 0 && last[item.Path] != history[v].Same[i] {
				s.changes = s.changes.With(v)
			}
		}
		for path := range last {
			if _, there := now[path]; !there {
				paths[path].changes = paths[path].changes.With(v)
			}
		}
		last = now
	}
	of = map[string]int{}
	known := map[string]int{}
	for _, path := range sortedKeys(paths) {
		s := paths[path]
		n, same := known[s.changes.key()]
		if !same {
			n = len(groups)
			known[s.changes.key()] = n
			groups = append(groups, &signature{s.changes, make([]int64, len(history))})
		}
		groups[n] = groups[n].with(s)
		of[path] = n
	}
	return groups, of
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
