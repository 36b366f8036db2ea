package build

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/layer"
	"imbricat/internal/order"
	"imbricat/internal/plan"
	"imbricat/internal/tree"
)

// laid are steps laid together, as items that layers can hold.
type laid struct {
	steps   []*stepTree
	entries []tree.Squashed
	of      []int // item of each entry; -1 for folders that are on the way to others
	items   []order.Item
	same    []string // identity of each item
	layer   []int    // in which step or layer each item's first entry was
}

// layTogether gives the items of layers that lie on one another. What cannot be parted is one item: the names of a file,
// and an opaque folder with all in it.
func layTogether(layers [][]tree.Entry, hint func(path string) order.Hint) *laid {
	l := &laid{entries: tree.Squash(layers)}
	l.of = make([]int, len(l.entries))
	at := map[string]int{} // path → entry
	for i := range l.entries {
		if e := &l.entries[i]; e.Kind != tree.Opaque {
			at[e.Path] = i
		}
	}
	head := l.heads(at)
	var lines [][]byte
	known := map[int]int{} // head → item
	for i := range l.entries {
		e := &l.entries[i]
		if head[i] < 0 {
			l.of[i] = -1
			continue
		}
		n, is := known[head[i]]
		if !is {
			n = len(l.items)
			known[head[i]] = n
			l.items = append(l.items, order.Item{Path: e.Path, Hint: hint(e.Path)})
			l.layer = append(l.layer, e.Layer)
			lines = append(lines, nil)
		}
		l.of[i] = n
		l.items[n].Size += sizeInLayer(&e.Entry)
		lines[n] = e.AppendLine(lines[n])
	}
	for _, line := range lines {
		l.same = append(l.same, string(digest.ContentBytes(line)))
	}
	return l
}

// sizeInLayer is what an entry takes in a tar, but for long names and attributes.
func sizeInLayer(e *tree.Entry) int64 { return 512 + (e.Size+511)&^511 }

// heads gives for each entry the first entry of what cannot be parted from it, or -1 for a folder that others lie in.
func (l *laid) heads(at map[string]int) []int {
	head := make([]int, len(l.entries))
	var find func(i int) int
	find = func(i int) int {
		if head[i] != i {
			head[i] = find(head[i])
		}
		return head[i]
	}
	join := func(i, j int) {
		i, j = find(i), find(j)
		head[max(i, j)] = min(i, j)
	}
	filled := map[string]bool{}
	opaque := map[string]int{}
	for i := range l.entries {
		head[i] = i
		e := &l.entries[i]
		filled[tree.Parent(e.Path)] = true
		if e.Kind == tree.Opaque {
			opaque[e.Path] = at[e.Path]
		}
	}
	passed := make([]bool, len(l.entries))
	for i := range l.entries {
		e := &l.entries[i]
		hidden := false
		for p := e.Path; len(opaque) > 0 && p != ""; p = tree.Parent(p) {
			if top, is := opaque[p]; is {
				join(i, top)
				hidden = true
			}
		}
		if target, here := at[e.Target]; here && e.Kind == tree.Hardlink {
			join(i, target)
		}
		passed[i] = !hidden && e.Kind == tree.Folder && (filled[e.Path] || e.Path == "")
	}
	for i := range head {
		head[i] = find(i)
	}
	for i := range head {
		if passed[i] {
			head[i] = -1
		}
	}
	return head
}

// layersOf makes the layers that hold parts of items, each with the folders on the way.
func (b *builder) layersOf(u *plan.Unit, l *laid, parts [][]int) []*stepTree {
	of := make([]int, len(l.items))
	for i := range of {
		of[i] = -1 // in no part
	}
	for n, items := range parts {
		for _, i := range items {
			of[i] = n
		}
	}
	folders := map[string]*tree.Squashed{}
	layers := make([]*stepTree, len(parts))
	passed := make([]map[string]bool, len(parts))
	from := make([]map[*stepTree]bool, len(parts))
	for n := range layers {
		layers[n] = &stepTree{places: map[string]place{}, ofImage: true, compression: layer.Compression(u.Compression), report: &StepResult{}}
		passed[n], from[n] = map[string]bool{"": true}, map[*stepTree]bool{}
	}
	for i := range l.entries {
		e := &l.entries[i]
		if l.of[i] < 0 {
			folders[e.Path] = e
			continue
		}
		n := of[l.of[i]]
		if n < 0 {
			continue
		}
		t := layers[n]
		for p := tree.Parent(e.Path); !passed[n][p]; p = tree.Parent(p) {
			passed[n][p] = true
			if f := folders[p]; f != nil {
				t.entries = append(t.entries, f.Entry)
			}
		}
		step := l.steps[e.Layer]
		from[n][step] = true
		t.entries = append(t.entries, e.Entry)
		if e.Kind == tree.File {
			t.places[e.Path] = place{step, e.At}
		}
	}
	for n, t := range layers {
		t.seal()
		for _, step := range l.steps {
			if from[n][step] {
				t.of = append(t.of, step)
			}
		}
		t.task = t.of[0].task
		t.task.Fresh = slices.ContainsFunc(t.of, func(step *stepTree) bool { return step.task.Fresh })
		t.label = labelOf(t.of)
		t.lineage = keyOfText(fmt.Sprintf("%s part %d", t.of[0].lineage, n))
	}
	return layers
}

// labelOf names a layer by the steps that it is of.
func labelOf(steps []*stepTree) string {
	const most = 3
	var labels []string
	for _, t := range steps {
		labels = append(labels, t.task.Label)
	}
	if len(labels) > most {
		return strings.Join(labels[:most], "; ") + fmt.Sprintf("; and %d more steps", len(labels)-most)
	}
	return strings.Join(labels, "; ")
}

// together lays a unit's loose steps together.
func (s *unitState) together(ctx context.Context, u *plan.Unit) (*laid, error) {
	var all [][]tree.Entry
	for _, t := range s.loose {
		entries, err := t.all(ctx)
		if err != nil {
			return nil, err
		}
		all = append(all, entries)
	}
	l := layTogether(all, hintsOf(u.Stack))
	l.steps = s.loose
	return l, nil
}
