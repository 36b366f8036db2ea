package order

import (
	"cmp"
	"slices"
)

// Shelf is a layer of the version that a division with dead bytes follows: what it holds by path, dead copies included.
type Shelf map[string]Held

// Held is a path of a layer.
type Held struct {
	Same string // its identity
	Size int64  // bytes
}

// Keep decides which layers of the version before stay as they are although newer copies replace some of what they hold,
// and gives the layers, lowest first, as the version is to have them: those that stay, in their order, and above them
// parts of all other items. A layer with a path that the version no longer has never stays: what was removed on purpose
// is to be gone; nor does one that unfit names. The bytes of dead copies are at most o.Dead percent of all; beyond that the layers with the
// lowest share of live bytes are given up first.
func Keep(items []Item, same func(int) string, before []Shelf, unfit func(layer int) bool, o Options) (parts []Part) {
	s := newShelves(items, same, before)
	for l := range before {
		if s.stays[l] && unfit(l) {
			s.giveUp(l)
		}
	}
	s.bound(o.Dead, before)
	for {
		m, component := newModelOf(items, o)
		var pool []int
		for i := range items {
			if s.at[i] < 0 {
				pool = append(pool, i)
			}
		}
		kept := s.count()
		units := group(items, pool, component)
		m.expose(units)
		units = coarsen(units)
		var clusters []*cluster
		for i := range units {
			clusters = append(clusters, m.newCluster(units[i:i+1:i+1], true, -1))
		}
		room := o.Most - kept
		if room < 0 || room == 0 && len(clusters) > 0 {
			s.giveUpSmallest(before)
			continue
		}
		clusters = m.agglomerate(clusters, max(1, room))
		m.improve(clusters)
		for l := range before {
			if s.stays[l] {
				parts = append(parts, Part{Items: s.live(l), Old: l, Size: s.size[l]})
			}
		}
		top := make([]Part, len(clusters))
		weights := make([]Weight, len(clusters))
		for i, c := range clusters {
			top[i] = m.part(c)
			weights[i] = Weight{top[i].Size, top[i].Chance}
		}
		for _, n := range Stack(weights, nil) {
			parts = append(parts, top[n])
		}
		return parts
	}
}

// FirstWithDead is into how many layers a first version is cut that others follow with dead copies: the rest is room for
// what they change.
func FirstWithDead(most int) int { return max(1, most*2/3) }

// shelves is which layers stay, and where items live.
type shelves struct {
	items []Item
	stays []bool
	at    []int   // of each item: the layer where it lives, or -1
	size  []int64 // of each layer, dead copies included
	alive []int64 // of each layer: bytes that live
}

func newShelves(items []Item, same func(int) string, before []Shelf) *shelves {
	s := &shelves{items: items, stays: make([]bool, len(before)), at: make([]int, len(items)), size: make([]int64, len(before)), alive: make([]int64, len(before))}
	now := map[string]int{}
	for i := range items {
		now[items[i].Path] = i
		s.at[i] = -1
	}
	top := map[string]int{} // the highest layer that has a path
	for l, shelf := range before {
		s.stays[l] = true
		for path, held := range shelf {
			top[path] = max(top[path], l)
			s.size[l] += held.Size
			if _, there := now[path]; !there {
				s.stays[l] = false
			}
		}
	}
	for path, l := range top {
		if i, there := now[path]; there && s.stays[l] && before[l][path].Same == same(i) {
			s.at[i] = l
			s.alive[l] += items[i].Size
		}
	}
	return s
}

// bound gives up layers until dead copies take no more than a share of all.
func (s *shelves) bound(percent int, before []Shelf) {
	for {
		var dead, all int64
		worst := -1
		for l := range before {
			if !s.stays[l] {
				continue
			}
			dead += s.size[l] - s.alive[l]
			if s.size[l] > s.alive[l] && (worst < 0 || s.emptier(l, worst)) {
				worst = l
			}
		}
		for i := range s.items {
			all += s.items[i].Size
		}
		excess := dead - (all+dead)*int64(percent)/100
		if worst < 0 || excess <= 0 {
			return
		}
		s.giveUp(worst)
	}
}

// emptier reports whether a layer has a lower share of live bytes than another one.
func (s *shelves) emptier(a, b int) bool {
	return greater(s.alive[b], s.size[b], s.alive[a], s.size[a])
}

func (s *shelves) giveUp(l int) {
	s.stays[l] = false
	for i := range s.at {
		if s.at[i] == l {
			s.at[i] = -1
		}
	}
}

// giveUpSmallest makes room: the layer with the fewest bytes that live costs least to lay again.
func (s *shelves) giveUpSmallest(before []Shelf) {
	least := -1
	for l := range before {
		if s.stays[l] && (least < 0 || s.alive[l] < s.alive[least]) {
			least = l
		}
	}
	s.giveUp(least)
}

func (s *shelves) count() (n int) {
	for _, stays := range s.stays {
		if stays {
			n++
		}
	}
	return n
}

func (s *shelves) live(l int) (items []int) {
	for i := range s.at {
		if s.at[i] == l {
			items = append(items, i)
		}
	}
	return items
}

// FollowingWithDead returns what each version costs under the policy follow when dead copies may stay. The first costs all.
func FollowingWithDead(history []Version, o Options) []Bytes {
	out := make([]Bytes, len(history))
	var before []Shelf
	for v := range history {
		at := &history[v]
		o.Versions = v
		var parts []Part
		if v == 0 {
			first := o
			first.Most = FirstWithDead(o.Most)
			parts = cold(at.Items, first)
			slices.SortStableFunc(parts, func(a, b Part) int { return cmp.Compare(b.Size, a.Size) })
		} else {
			parts = Keep(at.Items, func(i int) string { return at.Same[i] }, before, func(int) bool { return false }, o)
		}
		out[v].Layers = len(parts)
		same := true
		var next []Shelf
		for place, p := range parts {
			if same = same && p.Old == place; !same {
				out[v].Unpacked += p.Size
			}
			if p.Old >= 0 {
				next = append(next, before[p.Old])
				continue
			}
			out[v].Pushed += p.Size
			shelf := Shelf{}
			for _, i := range p.Items {
				shelf[at.Items[i].Path] = Held{at.Same[i], at.Items[i].Size}
			}
			next = append(next, shelf)
		}
		if same = same && len(parts) == len(before); same {
			out[v].Unpacked = 0
		}
		before = next
	}
	return out
}
