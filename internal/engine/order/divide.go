package order

import "slices"

// Before is a layer of the version that a division follows: the identity of what it holds, by path.
type Before map[string]string

// Options say how items are divided.
type Options struct {
	Versions int    // how many versions of history the items' changes are about
	Most     int    // parts, at least 1
	Tuning   Tuning // the zero value is Default
	Least    int64  // bytes below which a part of a cut by folders is not worth a layer
	Dead     int    // percent of all bytes that copies may take which newer layers replace; Keep alone heeds it
}

func (o Options) tuned() Tuning {
	if o.Tuning == (Tuning{}) {
		return Default
	}
	return o.Tuning
}

// Divide divides items, sorted by path, into at most o.Most parts so that, over the horizon,
//
//	J = Σ over parts L of (size(L) + O)·(d(L) + H·P(L))
//
// is low, where d is 1 for what must be pushed now. same gives the identity of an item. A layer of the version before
// that holds what it held stays as it is unless there is no room for it; all else must be pushed anyway and is divided anew,
// by greedy agglomeration. With nothing before everything is.
func Divide(items []Item, same func(int) string, before []Before, o Options) []Part {
	m, component := newModelOf(items, o)
	old, pool := unchanged(items, same, before)
	units := group(items, pool, component)
	everything := slices.Clone(units)
	kept := make([][]*unit, len(old))
	for l, list := range old {
		kept[l] = group(items, list, component)
		everything = append(everything, kept[l]...)
	}
	m.expose(everything)
	var clusters []*cluster
	for l, list := range kept {
		if len(list) > 0 {
			clusters = append(clusters, m.newCluster(list, false, l))
		}
	}
	units = coarsen(units)
	for i := range units {
		clusters = append(clusters, m.newCluster(units[i:i+1:i+1], true, -1))
	}
	clusters = m.agglomerate(clusters, max(1, o.Most))
	m.improve(clusters)
	parts := make([]Part, len(clusters))
	for i, c := range clusters {
		parts[i] = m.part(c)
	}
	slices.SortFunc(parts, func(a, b Part) int { return a.Items[0] - b.Items[0] })
	return parts
}

func newModelOf(items []Item, o Options) (*model, []int) {
	t := o.tuned()
	component, count := components(items, t.Pieces)
	return newModel(t, o.Versions, items, component, count), component
}

func (m *model) part(c *cluster) Part {
	p := Part{Old: c.old, Size: c.size, Chance: m.chanceOf(c)}
	for _, u := range c.units {
		p.Items = append(p.Items, u.items...)
	}
	slices.Sort(p.Items)
	return p
}

// unchanged returns the items of each layer that holds what it held, nil for a layer that does not, and all other items.
func unchanged(items []Item, same func(int) string, before []Before) (old [][]int, pool []int) {
	at := map[string]int{}
	for l, holds := range before {
		for path := range holds {
			at[path] = l
		}
	}
	old = make([][]int, len(before))
	dirty := make([]bool, len(before))
	for i := range items {
		l, known := at[items[i].Path]
		if known {
			old[l] = append(old[l], i)
			dirty[l] = dirty[l] || before[l][items[i].Path] != same(i)
		}
	}
	for l := range old {
		if dirty[l] = dirty[l] || len(old[l]) != len(before[l]); dirty[l] {
			old[l] = nil
		}
	}
	for i := range items {
		if l, known := at[items[i].Path]; !known || dirty[l] {
			pool = append(pool, i)
		}
	}
	return old, pool
}

// Assess returns what is expected of parts that were divided by other means. Old is -1.
func Assess(items []Item, parts [][]int, o Options) []Part {
	m, component := newModelOf(items, o)
	var all [][]*unit
	var everything []*unit
	for _, list := range parts {
		units := group(items, list, component)
		all = append(all, units)
		everything = append(everything, units...)
	}
	m.expose(everything)
	out := make([]Part, len(parts))
	for i, units := range all {
		out[i] = m.part(m.newCluster(units, true, -1))
	}
	return out
}

// Cost is J of parts, in bytes; those that are unchanged layers need not be pushed.
func Cost(parts []Part, o Options) (sum int64) {
	m := &model{t: o.tuned()}
	for _, p := range parts {
		sum = min(most, sum+m.price(p.Size, p.Old < 0, p.Chance))
	}
	return sum
}
