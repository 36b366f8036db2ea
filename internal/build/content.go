package build

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/order"
	"imbricat/internal/plan"
	"imbricat/internal/trace"
	"imbricat/internal/tree"
)

// Content is what an image's own layers hold, for those who weigh its division.
type Content struct {
	Items   []order.Item // sorted by path, with the recipe's hints; changes are for the caller to set
	Same    []string     // identity of each item
	Origins []Origin     // of each item
	Labels  []string     // of each item: the step that laid it down
	Steps   [][]int      // items of each step, in the recipe's order
	Layers  []ContentLayer
	Room    int // how many layers there may be
	Base    []digest.DiffID
}

// Origin is what something is made of: files of the project, with slashes, relative to the project folder, sorted.
type Origin struct {
	Sources []string
	Copied  bool // it is the one source as it is
}

// join adds what else something is made of.
func (o *Origin) join(other Origin) {
	o.Copied = len(o.Sources) == 0 && other.Copied || o.Copied && slices.Equal(o.Sources, other.Sources)
	o.Sources = slices.Concat(o.Sources, other.Sources)
	slices.Sort(o.Sources)
	o.Sources = slices.Compact(o.Sources)
}

// ContentLayer is a layer as the build would make it.
type ContentLayer struct {
	Label  string
	Items  []int
	Size   int64 // bytes of its files and their heads
	Packed int64 // bytes as it is stored; 0: it is not packed yet
}

// content describes what the layers of an arranged unit hold.
func (b *builder) content(ctx context.Context, u *plan.Unit, s *unitState) (*Content, error) {
	l, err := s.together(ctx, u)
	if err != nil {
		return nil, err
	}
	c := &Content{Items: l.items, Same: l.same, Origins: make([]Origin, len(l.items)), Labels: make([]string, len(l.items)),
		Steps: make([][]int, len(s.loose))}
	if c.Room, err = s.room(u); err != nil {
		return nil, err
	}
	if s.base != nil {
		for _, id := range s.base.Config.RootFS.DiffIDs {
			c.Base = append(c.Base, digest.DiffID(id))
		}
	}
	made := &origins{b: b, runs: map[*stepTree][]string{}}
	at := map[string]int{} // path → item
	for i := range l.entries {
		e := &l.entries[i]
		n := l.of[i]
		if n < 0 {
			continue
		}
		at[e.Path] = n
		t := l.steps[e.Layer]
		if c.Labels[n] == "" {
			c.Labels[n] = t.task.Label
			c.Steps[e.Layer] = append(c.Steps[e.Layer], n)
		}
		if e.Kind == tree.File {
			origin, err := made.of(ctx, t, e.At)
			if err != nil {
				return nil, err
			}
			c.Origins[n].join(origin)
		}
	}
	return c, b.contentLayers(ctx, c, s, at)
}

func (b *builder) contentLayers(ctx context.Context, c *Content, s *unitState, at map[string]int) error {
	layer := make([]int, len(c.Items)) // the highest layer that has the item
	own := s.layers[len(s.floor):]
	for n, t := range own {
		entries, err := t.all(ctx)
		if err != nil {
			return err
		}
		one := ContentLayer{Label: t.history()}
		for i := range entries {
			one.Size += sizeInLayer(&entries[i])
			if item, is := at[entries[i].Path]; is {
				layer[item] = n
			}
		}
		if record, found := b.o.Store.Record(t.layerKey()); found {
			one.Packed = record.Layer.Size
		} else if t.layer != nil {
			one.Packed = t.layer.Layer.Size
		}
		c.Layers = append(c.Layers, one)
	}
	for item, n := range layer {
		if n < len(c.Layers) {
			c.Layers[n].Items = append(c.Layers[n].Items, item)
		}
	}
	return nil
}

// origins finds which files of the project something is made of.
type origins struct {
	b    *builder
	runs map[*stepTree][]string
}

// of follows a file of a step's tree to where it came from.
func (o *origins) of(ctx context.Context, t *stepTree, at string) (Origin, error) {
	for t.twin != nil {
		t = t.twin
	}
	if t.ran != nil {
		sources, err := o.run(ctx, t)
		return Origin{Sources: sources}, err
	}
	if err := t.find(ctx); err != nil {
		return Origin{}, err
	}
	switch where := t.places[at]; from := where.from.(type) {
	case *sourceContents:
		return Origin{[]string{where.at}, true}, nil
	case *stepTree:
		return o.of(ctx, from, where.at)
	case *packedContents:
		return Origin{Sources: from.sources}, nil
	}
	return Origin{}, nil
}

// run gives the project's files that a command read, as its trace tells: what it left may change when one of them does.
func (o *origins) run(ctx context.Context, t *stepTree) ([]string, error) {
	if known, is := o.runs[t]; is {
		return known, nil
	}
	o.runs[t] = nil
	var sources []string
	read, whole := o.reads(t)
	for u, s := range o.b.units {
		if u.ID.String() != t.task.Unit+" "+t.task.Platform {
			continue
		}
		for _, below := range slices.Concat(s.below, s.trees) {
			if below == t {
				break
			}
			entries, err := below.all(ctx)
			if err != nil {
				return nil, err
			}
			for i := range entries {
				if entries[i].Kind != tree.File || !whole && !read[entries[i].Path] {
					continue
				}
				more, err := o.of(ctx, below, entries[i].Path)
				if err != nil {
					return nil, err
				}
				sources = append(sources, more.Sources...)
			}
		}
	}
	slices.Sort(sources)
	sources = slices.Compact(sources)
	o.runs[t] = sources
	return sources, nil
}

// reads gives the paths whose contents a command read; whole: all that it could see.
func (o *origins) reads(t *stepTree) (map[string]bool, bool) {
	if t.ran.record == nil || t.ran.record.Whole != "" {
		return nil, true
	}
	learnt, err := o.b.learnt(t.ran.record)
	if err != nil {
		return nil, true
	}
	read := map[string]bool{}
	for _, e := range learnt.Entries {
		if e.Asked&(trace.Content|trace.Whole) != 0 {
			read[e.Path] = true
		}
	}
	return read, false
}

// contentsOf tells what the layers of images hold whose steps are all known.
func (b *builder) contentsOf(ctx context.Context, p *Preview) error {
	for i := range p.Units {
		one := &p.Units[i]
		s := b.units[one.Unit]
		if !one.Unit.IsImage || s.err != nil {
			continue
		}
		for _, step := range one.Steps {
			if step.Forecast == Depends {
				one.Unknown = step.Reason
			}
		}
		if one.Unknown != "" || !s.arranged {
			continue
		}
		var err error
		if one.Content, err = b.content(ctx, one.Unit, s); err != nil {
			return fmt.Errorf("%s: %w", one.Unit.ID, err)
		}
	}
	return nil
}

// With gives what images for two platforms hold, for a division that serves both. A path that both have counts with the
// larger size. Layers and steps are those of the first.
func (c *Content) With(other *Content) *Content {
	all := *c
	all.Items, all.Same, all.Origins, all.Labels = slices.Clone(c.Items), slices.Clone(c.Same), slices.Clone(c.Origins), slices.Clone(c.Labels)
	at := map[string]int{}
	for i := range c.Items {
		at[c.Items[i].Path] = i
	}
	all.Room = min(c.Room, other.Room)
	var added bool
	for i, item := range other.Items {
		n, both := at[item.Path]
		if !both {
			all.Items, all.Same = append(all.Items, item), append(all.Same, other.Same[i])
			all.Origins, all.Labels = append(all.Origins, other.Origins[i]), append(all.Labels, other.Labels[i])
			added = true
			continue
		}
		all.Items[n].Size = max(all.Items[n].Size, item.Size)
		all.Origins[n].join(other.Origins[i])
	}
	if added {
		all.sort()
	}
	return &all
}

// sort puts the items in the order of their paths. What the first platform's layers hold keeps its meaning.
func (c *Content) sort() {
	by := make([]int, len(c.Items))
	for i := range by {
		by[i] = i
	}
	slices.SortFunc(by, func(a, b int) int { return strings.Compare(c.Items[a].Path, c.Items[b].Path) })
	now := make([]int, len(by)) // old place → new place
	items, same, origins, labels := make([]order.Item, len(by)), make([]string, len(by)), make([]Origin, len(by)), make([]string, len(by))
	for place, i := range by {
		now[i] = place
		items[place], same[place], origins[place], labels[place] = c.Items[i], c.Same[i], c.Origins[i], c.Labels[i]
	}
	c.Items, c.Same, c.Origins, c.Labels = items, same, origins, labels
	moved := func(list []int) []int {
		list = slices.Clone(list)
		for n, i := range list {
			list[n] = now[i]
		}
		slices.Sort(list)
		return list
	}
	c.Steps, c.Layers = slices.Clone(c.Steps), slices.Clone(c.Layers)
	for n := range c.Steps {
		c.Steps[n] = moved(c.Steps[n])
	}
	for n := range c.Layers {
		c.Layers[n].Items = moved(c.Layers[n].Items)
	}
}
