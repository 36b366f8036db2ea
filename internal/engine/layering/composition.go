package layering

import (
	"context"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/order"
	"imbricat/internal/engine/sources"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
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

// Shrink returns what layers take when they are packed, as a share of their size: by those that are packed already; 1 where none is.
func (c *Content) Shrink() float64 {
	var packed, size int64
	for _, l := range c.Layers {
		if l.Packed > 0 {
			packed, size = packed+l.Packed, size+l.Size
		}
	}
	if size == 0 {
		return 1
	}
	return float64(packed) / float64(size)
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
	Tar    int64 // bytes of its archive where it is packed; 0: that is not known
}

// Known is what must be known to describe what the layers of a unit hold.
type Known struct {
	Unit     *Unit
	Division *Division
	Base     []digest.DiffID
	// Before gives the steps before one, of the units below as well.
	Before func(o *step.Outcome) []*step.Outcome
}

// Describe tells what the layers of a unit hold.
func Describe(ctx context.Context, s *store.Store, k Known) (*Content, error) {
	l, err := mergeSteps(ctx, k.Unit.Steps, hintsOf(k.Unit.Plan.Stack))
	if err != nil {
		return nil, err
	}
	c := &Content{Items: l.items, Same: l.identities(), Origins: make([]Origin, len(l.items)), Labels: make([]string, len(l.items)),
		Steps: make([][]int, len(k.Unit.Steps)), Base: k.Base}
	if c.Room, err = k.Unit.Room(); err != nil {
		return nil, err
	}
	made := &origins{store: s, before: k.Before, runs: map[*step.Outcome][]string{}}
	at := map[string]int{} // path → item
	for i := range l.entries {
		e := &l.entries[i]
		n := l.of[i]
		if n < 0 {
			continue
		}
		at[e.Path] = n
		t := l.steps[e.Layer].Outcome
		if c.Labels[n] == "" {
			c.Labels[n] = t.Task.Label
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
	return c, c.describeLayers(ctx, s, k.Division.Own(), at)
}

func (c *Content) describeLayers(ctx context.Context, s *store.Store, own []*Layer, at map[string]int) error {
	layer := make([]int, len(c.Items)) // the highest layer that has the item
	for n, t := range own {
		entries, err := t.Tree.Entries(ctx)
		if err != nil {
			return err
		}
		one := ContentLayer{Label: t.Label}
		for i := range entries {
			one.Size += sizeInLayer(&entries[i])
			if item, is := at[entries[i].Path]; is {
				layer[item] = n
			}
		}
		if record, found := s.Record(t.Key()); found {
			one.Packed, one.Tar = record.Layer.Size, record.Unpacked
		} else if t.Published != nil {
			one.Packed = t.Published.Layer.Size
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
	store  *store.Store
	before func(o *step.Outcome) []*step.Outcome
	runs   map[*step.Outcome][]string
}

// of follows a file of a step's tree to where it came from.
func (o *origins) of(ctx context.Context, t *step.Outcome, at string) (Origin, error) {
	if t.Run != nil {
		files, err := o.run(ctx, t)
		return Origin{Sources: files}, err
	}
	where, err := t.Place(ctx, at)
	if err != nil {
		return Origin{}, err
	}
	switch from := where.From.(type) {
	case *sources.Contents:
		return Origin{[]string{where.At}, true}, nil
	case *step.Outcome:
		return o.of(ctx, from, where.At)
	case *filetree.Archive:
		return Origin{Sources: from.Sources}, nil
	}
	return Origin{}, nil
}

// run returns the project's files that a command read, as its trace tells: what it left may change when one of them does.
func (o *origins) run(ctx context.Context, t *step.Outcome) ([]string, error) {
	if known, is := o.runs[t]; is {
		return known, nil
	}
	o.runs[t] = nil
	var files []string
	read, whole := o.reads(t)
	for _, below := range o.before(t) {
		entries, err := below.Entries(ctx)
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
			files = append(files, more.Sources...)
		}
	}
	slices.Sort(files)
	files = slices.Compact(files)
	o.runs[t] = files
	return files, nil
}

// reads returns the paths whose contents a command read; whole: all that it could see.
func (o *origins) reads(t *step.Outcome) (map[string]bool, bool) {
	if t.Run.Record.Whole != "" {
		return nil, true
	}
	learnt, err := step.Learnt(o.store, t.Run.Record)
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

// With returns what images for two platforms hold, for a division that serves both. A path that both have counts with the
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
