package layering

import (
	"context"
	"fmt"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/order"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
)

// mergedSteps are steps laid together, as items that layers can hold.
type mergedSteps struct {
	steps   []Piece
	entries []tree.Squashed
	of      []int // item of each entry; -1 for folders that are on the way to others
	items   []order.Item
	same    []string // identity of each item, once somebody asked
	layer   []int    // in which step or layer each item's first entry was
}

// mergeLayers returns the items of layers that lie on one another. What cannot be parted is one item: the names of a file,
// and an opaque folder with all in it.
func mergeLayers(layers [][]tree.Entry, hint func(path string) order.Hint) *mergedSteps {
	l := &mergedSteps{entries: tree.Squash(layers)}
	l.of = make([]int, len(l.entries))
	at := make(map[string]int, len(l.entries)) // path → entry
	for i := range l.entries {
		if e := &l.entries[i]; e.Kind != tree.Opaque {
			at[e.Path] = i
		}
	}
	head := l.heads(at)
	known := make([]int, len(l.entries)) // head → item and one
	l.items, l.layer = make([]order.Item, 0, len(l.entries)), make([]int, 0, len(l.entries))
	for i := range l.entries {
		e := &l.entries[i]
		if head[i] < 0 {
			l.of[i] = -1
			continue
		}
		n := known[head[i]] - 1
		if n < 0 {
			n = len(l.items)
			known[head[i]] = n + 1
			l.items = append(l.items, order.Item{Path: e.Path, Hint: hint(e.Path)})
			l.layer = append(l.layer, e.Layer)
		}
		l.of[i] = n
		l.items[n].Size += sizeInLayer(&e.Entry)
	}
	return l
}

// identities returns what tells of each item whether it is the same in two versions.
func (l *mergedSteps) identities() []string {
	if l.same != nil || len(l.items) == 0 {
		return l.same
	}
	lines := make([][]byte, len(l.items))
	for i := range l.entries {
		if n := l.of[i]; n >= 0 {
			lines[n] = l.entries[i].AppendLine(lines[n])
		}
	}
	l.same = make([]string, 0, len(lines))
	for _, line := range lines {
		l.same = append(l.same, string(digest.ContentBytes(line)))
	}
	return l.same
}

// sizeInLayer is what an entry takes in a tar, but for long names and attributes.
func sizeInLayer(e *tree.Entry) int64 { return 512 + (e.Size+511)&^511 }

// heads returns for each entry the first entry of what cannot be parted from it, or -1 for a folder that others lie in.
func (l *mergedSteps) heads(at map[string]int) []int {
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
		if i == 0 || tree.Parent(e.Path) != tree.Parent(l.entries[i-1].Path) {
			filled[tree.Parent(e.Path)] = true
		}
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
func (l *mergedSteps) layersOf(c layer.Compression, parts [][]int) []*Layer {
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
	passed := make([]map[string]bool, len(parts))
	from := make([]map[int]bool, len(parts)) // places among the steps
	entries := make([][]tree.Entry, len(parts))
	places := make([]map[string]filetree.Place, len(parts))
	for n := range parts {
		passed[n], from[n] = map[string]bool{"": true}, map[int]bool{}
		entries[n], places[n] = make([]tree.Entry, 0, len(parts[n])), make(map[string]filetree.Place, len(parts[n]))
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
		for p := tree.Parent(e.Path); !passed[n][p]; p = tree.Parent(p) {
			passed[n][p] = true
			if f := folders[p]; f != nil {
				entries[n] = append(entries[n], f.Entry)
			}
		}
		from[n][e.Layer] = true
		entries[n] = append(entries[n], e.Entry)
		if e.Kind == tree.File {
			places[n][e.Path] = filetree.Place{From: l.steps[e.Layer].Outcome, At: e.At}
		}
	}
	layers := make([]*Layer, len(parts))
	for n := range parts {
		var steps []*step.Outcome
		first := -1
		for i := range l.steps {
			if from[n][i] {
				if steps = append(steps, l.steps[i].Outcome); first < 0 {
					first = i
				}
			}
		}
		layers[n] = &Layer{Tree: filetree.New(entries[n], places[n]), Compression: c, Steps: steps, Label: labelOf(steps),
			Lineage: lineageOf(l.steps[first], n)}
	}
	return layers
}

// labelOf names a layer by the steps that it is of.
func labelOf(steps []*step.Outcome) string {
	const most = 3
	var labels []string
	for _, o := range steps {
		labels = append(labels, o.Task.Label)
	}
	if len(labels) > most {
		return strings.Join(labels[:most], "; ") + fmt.Sprintf("; and %d more steps", len(labels)-most)
	}
	return strings.Join(labels, "; ")
}

// mergeSteps lays steps together.
func mergeSteps(ctx context.Context, steps []Piece, hint func(path string) order.Hint) (*mergedSteps, error) {
	var all [][]tree.Entry
	for _, s := range steps {
		entries, err := s.Entries(ctx)
		if err != nil {
			return nil, err
		}
		all = append(all, entries)
	}
	l := mergeLayers(all, hint)
	l.steps = steps
	return l, nil
}
