package layering

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/once"
	"imbricat/internal/spec/recipe"
)

// How steps are divided depends on what they laid down, and on what is said of their layers, and on nothing else. So it is worked out once and
// noted: what each layer holds is known by its key then, and its entries are gathered when somebody looks at them.

// divisionNote begins the notes of divisions. It names the rules by which steps are divided: change it by hand whenever the same steps would be
// divided otherwise.
const divisionNote = "imbricat division 1"

const divisionEnd = "end\n"

// divided is a division of steps.
type divided struct {
	layers  []*Layer
	crowded bool // there were more parts than room
	worked  bool // it was worked out now
}

// noted is a division that was worked out.
type noted struct {
	crowded bool
	layers  []notedLayer
}

// notedLayer is a layer of a division that was worked out.
type notedLayer struct {
	summary filetree.Summary
	steps   []int // those of the divided ones that it holds something of, in order
}

// divided divides steps by a function, or as it was worked out before. How tells what decides the division beside the steps. The function
// returns parts, and whether there were more than there is room for.
func (d *Divider) divided(ctx context.Context, u *Unit, steps []Piece, how string, divide func(l *mergedSteps) ([][]int, bool)) (divided, error) {
	question := divisionQuestion(u.Plan.Stack, steps, how)
	work := once.NewValue(func(ctx context.Context) (divided, error) {
		l, err := mergeSteps(ctx, steps, hintsOf(u.Plan.Stack))
		if err != nil {
			return divided{}, err
		}
		parts, crowded := divide(l)
		return divided{l.layersOf(u.compression(), parts), crowded, true}, nil
	})
	if known := d.recall(question, len(steps)); known != nil {
		return divided{later(u, steps, known.layers, work), known.crowded, false}, nil
	}
	out, err := work.Get(ctx)
	if err == nil {
		_ = d.Store.PutNote(question, out.encode(steps)) // it only spares working it out again
	}
	return out, err
}

func divisionQuestion(s recipe.Stack, steps []Piece, how string) digest.Key {
	var text strings.Builder
	fmt.Fprintf(&text, "%s\n%s\n%q %q\n%s\n", divisionNote, layer.TreeFormat, s.Steady, s.Lively, how)
	for _, s := range steps {
		fmt.Fprintln(&text, s.Key)
	}
	return filetree.KeyOfText(text.String())
}

// later makes layers whose entries are gathered when somebody looks at them.
func later(u *Unit, steps []Piece, known []notedLayer, work *once.Value[divided]) []*Layer {
	layers := make([]*Layer, len(known))
	for n, k := range known {
		var of []*step.Outcome
		for _, i := range k.steps {
			of = append(of, steps[i].Outcome)
		}
		layers[n] = &Layer{Compression: u.compression(), Steps: of, Label: labelOf(of), Lineage: lineageOf(steps[k.steps[0]], n),
			Tree: filetree.Later(k.summary, func(ctx context.Context) (*filetree.Tree, error) {
				all, err := work.Get(ctx)
				if err != nil {
					return nil, err
				}
				if n >= len(all.layers) {
					return nil, errors.New("a division of other steps was noted")
				}
				return all.layers[n].Tree, nil
			})}
	}
	return layers
}

// lineageOf names a part of steps over changes of what it holds, by the first of the steps.
func lineageOf(first Piece, part int) digest.Key {
	return filetree.KeyOfText(fmt.Sprintf("%s part %d", first.Lineage, part))
}

// encode writes whether it is crowded, and a line for each layer: key, files, bytes, whether it is empty, and the places of its steps.
func (d divided) encode(steps []Piece) []byte {
	out := fmt.Appendf(nil, "%s %t\n", divisionNote, d.crowded)
	for _, l := range d.layers {
		out = fmt.Appendf(out, "%s %d %d %t", l.Tree.Key, l.Tree.Files, l.Tree.Bytes, l.Tree.Empty)
		for _, o := range l.Steps {
			out = fmt.Appendf(out, " %d", slices.IndexFunc(steps, func(s Piece) bool { return s.Outcome == o }))
		}
		out = append(out, '\n')
	}
	return append(out, divisionEnd...)
}

// recall returns a division of so many steps that was noted; nil where none was.
func (d *Divider) recall(question digest.Key, steps int) *noted {
	text, found := d.Store.Note(question)
	head, rest, _ := strings.Cut(string(text), "\n")
	rest, whole := strings.CutSuffix(rest, divisionEnd)
	crowded, err := strconv.ParseBool(strings.TrimPrefix(head, divisionNote+" "))
	if !found || !whole || err != nil {
		return nil
	}
	n := &noted{crowded: crowded}
	for line := range strings.Lines(rest) {
		one, ok := decodeLayer(strings.Fields(line), steps)
		if !ok {
			return nil
		}
		n.layers = append(n.layers, one)
	}
	return n
}

func decodeLayer(fields []string, steps int) (n notedLayer, ok bool) {
	if len(fields) < 5 {
		return n, false
	}
	n.summary.Key = digest.Key(fields[0])
	var filesErr, bytesErr, emptyErr error
	n.summary.Files, filesErr = strconv.Atoi(fields[1])
	n.summary.Bytes, bytesErr = strconv.ParseInt(fields[2], 10, 64)
	n.summary.Empty, emptyErr = strconv.ParseBool(fields[3])
	for _, field := range fields[4:] {
		i, err := strconv.Atoi(field)
		if err != nil || i < 0 || i >= steps || len(n.steps) > 0 && i <= n.steps[len(n.steps)-1] {
			return n, false
		}
		n.steps = append(n.steps, i)
	}
	return n, errors.Join(filesErr, bytesErr, emptyErr) == nil && len(n.summary.Key) == len(digest.ContentBytes(nil))
}
