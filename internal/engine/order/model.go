package order

import (
	"cmp"
	"slices"
)

// model holds what is known of a history.
type model struct {
	t      Tuning
	w      *weights
	norm   Share      // weight of all versions and the prior
	events []Versions // of each component: in which any item of it changed
	rates  []Share    // of each component: weight of its events
}

func newModel(t Tuning, versions int, items []Item, component []int, count int) *model {
	m := &model{t: t, w: newWeights(versions), events: make([]Versions, count), rates: make([]Share, count)}
	m.norm = m.w.total + t.Prior
	for i := range items {
		c := component[i]
		m.events[c] = m.events[c].Or(items[i].Changes)
	}
	for c := range m.events {
		m.rates[c] = m.w.of(m.events[c])
	}
	return m
}

// expose computes the hazards of units, given an event of their component: the share of the events that changed them,
// mixed with the mean of the component. Of many items that never changed one is more likely to than of few; that it grows
// with the root of their number is what serves best.
func (m *model) expose(units []*unit) {
	type total struct{ changed, size int64 }
	totals := make([]total, len(m.events))
	for _, u := range units {
		t := &totals[u.component]
		t.size += u.size
		t.changed += times(u.size, ratio(m.w.of(u.changes), max(1, m.rates[u.component])))
	}
	for _, u := range units {
		t := totals[u.component]
		switch {
		case u.hint == Steady:
			u.hazard = 0
		case m.rates[u.component] == 0:
			u.hazard = m.t.Novel
		default:
			mean := ratio(t.changed, max(1, t.size))
			q := ratio(m.w.of(u.changes)+times(mean, m.t.Shrink), m.rates[u.component]+m.t.Shrink)
			u.hazard = min(times(hazard(min(q, One-One/64)), root(int64(len(u.items)))), 14*One)
		}
	}
}

// exposure is the hazard of a cluster's units of one component, given an event of it.
type exposure struct {
	component int
	hazard    Share
}

// chance is the share of versions in which a layer is expected to differ, from the versions in which it would have, and
// from the events of its components in which it would not have:
//
//	P = W(changes)/(N+b) + 1 - Π over components c of [1 - f(c)·(1 - exp(-h(c)))]
func (m *model) chance(changes Versions, parts []exposure) Share {
	seen := m.w.of(changes)
	quiet := One
	for _, e := range parts {
		news := m.w.either(m.events[e.component], changes) - seen + m.t.Novel
		f := min(One, ratio(news, m.norm))
		quiet = quiet * (One - f*(One-survival(e.hazard))>>shareBits) >> shareBits
	}
	return min(One, ratio(seen, m.norm)+One-quiet)
}

// price is J of one layer, in bytes: what it costs now, where it must be pushed, and over the horizon.
func (m *model) price(size int64, dirty bool, chance Share) int64 {
	factor := m.t.Horizon * chance
	if dirty {
		factor += One
	}
	return times(size+m.t.Overhead, factor)
}

// cluster is units that are to share a layer.
type cluster struct {
	units   []*unit
	size    int64
	dirty   bool // it must be pushed
	lively  bool // a person says that it changes every time
	old     int  // the layer of the version before that it is, or -1
	changes Versions
	parts   []exposure // by component, rising
	cost    int64
}

// newCluster puts units together.
func (m *model) newCluster(units []*unit, dirty bool, old int) *cluster {
	c := &cluster{units: units, dirty: dirty, old: old}
	for _, u := range units {
		c.size += u.size
		c.lively = c.lively || u.hint == Lively
		if u.hint != Steady {
			c.changes = c.changes.Or(u.changes)
			c.parts = append(c.parts, exposure{u.component, u.hazard})
		}
	}
	slices.SortStableFunc(c.parts, func(a, b exposure) int { return cmp.Compare(a.component, b.component) })
	n := 0
	for _, e := range c.parts {
		if n > 0 && c.parts[n-1].component == e.component {
			c.parts[n-1].hazard += e.hazard
			continue
		}
		c.parts[n] = e
		n++
	}
	c.parts = c.parts[:n]
	c.cost = m.price(c.size, dirty, m.chanceOf(c))
	return c
}

// livelyChance is what is made of a person's word that something changes every time.
const livelyChance = One - One/16

func (m *model) chanceOf(c *cluster) Share {
	if c.lively {
		return livelyChance
	}
	return m.chance(c.changes, c.parts)
}

// scratch is what joins are tried in.
type scratch struct {
	changes Versions
	parts   []exposure
}

// joined returns what two clusters would cost as one.
func (m *model) joined(a, b *cluster, s *scratch) (cost int64) {
	s.changes = append(s.changes[:0], a.changes...).Or(b.changes)
	s.parts = mergeParts(a.parts, b.parts, s.parts)
	chance := livelyChance
	if !a.lively && !b.lively {
		chance = m.chance(s.changes, s.parts)
	}
	return m.price(a.size+b.size, true, chance)
}

// mergeParts adds the hazards of two clusters.
func mergeParts(a, b, into []exposure) []exposure {
	into = into[:0]
	for len(a) > 0 && len(b) > 0 {
		switch {
		case a[0].component < b[0].component:
			into, a = append(into, a[0]), a[1:]
		case a[0].component > b[0].component:
			into, b = append(into, b[0]), b[1:]
		default:
			into = append(into, exposure{a[0].component, a[0].hazard + b[0].hazard})
			a, b = a[1:], b[1:]
		}
	}
	return append(append(into, a...), b...)
}

func (m *model) join(a, b *cluster, s *scratch) *cluster {
	cost := m.joined(a, b, s)
	return &cluster{units: slices.Concat(a.units, b.units), size: a.size + b.size, dirty: true, lively: a.lively || b.lively, old: -1,
		changes: s.changes.Clone(), parts: slices.Clone(s.parts), cost: cost}
}

// agglomerate joins clusters, the pair that lowers J most first, until no pair lowers it and at most k are left.
func (m *model) agglomerate(all []*cluster, k int) []*cluster {
	var s scratch
	pairs := newPairs(len(all), func(i, j int) int64 { return all[i].cost + all[j].cost - m.joined(all[i], all[j], &s) })
	for pairs.left > 1 {
		into, from, gain := pairs.best()
		if pairs.left <= k && gain <= 0 {
			break
		}
		all[into], all[from] = m.join(all[into], all[from], &s), nil
		pairs.joined(into, from)
	}
	return slices.DeleteFunc(all, func(c *cluster) bool { return c == nil })
}

// improve moves single units between clusters that must be pushed anyway while that lowers J.
func (m *model) improve(all []*cluster) {
	var s scratch
	for range m.t.Rounds {
		moved := false
		for from := range all {
			for n := 0; n < len(all[from].units) && len(all[from].units) > 1 && all[from].dirty; n++ {
				rest := m.newCluster(slices.Delete(slices.Clone(all[from].units), n, n+1), true, -1)
				u := m.newCluster(all[from].units[n:n+1:n+1], true, -1)
				best, most := -1, int64(0)
				for to := range all {
					if to == from || !all[to].dirty {
						continue
					}
					if gain := all[from].cost + all[to].cost - rest.cost - m.joined(all[to], u, &s); gain > most {
						best, most = to, gain
					}
				}
				if best >= 0 {
					all[from], all[best] = rest, m.join(all[best], u, &s)
					moved = true
					n--
				}
			}
		}
		if !moved {
			return
		}
	}
}
