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
	"imbricat/internal/ground/count"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/once"
	"imbricat/internal/spec/recipe"
)

// How steps are divided depends on what they laid down, and on what is said of their layers, and on nothing else. So it is worked out once and
// noted: what each layer holds is known by its key then, and its entries are gathered when somebody looks at them.

var worked = count.New("divisions worked out")

// divisionNote begins the notes of divisions. It names the rules by which steps are divided: change it by hand whenever the same steps would be
// divided otherwise.
const divisionNote = "imbricat division 1"

const divisionEnd = "end\n"

// decision is how steps are divided, for whoever divides the same.
type decision struct {
	layers  []decided
	crowded bool // there were more parts than room
	worked  bool // it was worked out now
}

// decided is a layer of a decision.
type decided struct {
	tree  *filetree.Tree
	steps []int // those of the divided ones that it holds something of, in order
}

// divided is a division of steps.
type divided struct {
	layers          []*Layer
	crowded, worked bool
}

// divided divides steps by a function, or as it was worked out before. How tells what decides the division beside the steps. The function
// returns parts, and whether there were more than there is room for.
func (d *Divider) divided(ctx context.Context, u *Unit, steps []Piece, how string, divide func(l *mergedSteps) ([][]int, bool)) (divided, error) {
	question := divisionQuestion(u.Plan.Stack, steps, how)
	made, err := d.decisions.Try(ctx, question, func(ctx context.Context) (*decision, error) {
		work := once.NewValue(func(ctx context.Context) (*decision, error) { return decide(ctx, u, steps, divide) })
		if known := d.recall(question, len(steps), work); known != nil {
			return known, nil
		}
		made, err := work.Get(ctx)
		if err == nil {
			_ = d.Store.PutNote(question, made.encode()) // it only spares working it out again
		}
		return made, err
	})
	if err != nil {
		return divided{}, err
	}
	out := divided{crowded: made.crowded, worked: made.worked}
	for n, one := range made.layers {
		var of []*step.Outcome
		for _, i := range one.steps {
			of = append(of, steps[i].Outcome)
		}
		out.layers = append(out.layers, &Layer{Tree: one.tree, Compression: u.compression(), Steps: of, Label: labelOf(of), Lineage: lineageOf(steps[one.steps[0]], n)})
	}
	return out, nil
}

// decide works a division out.
func decide(ctx context.Context, u *Unit, steps []Piece, divide func(l *mergedSteps) ([][]int, bool)) (*decision, error) {
	worked.Add(1)
	l, err := mergeSteps(ctx, steps, hintsOf(u.Plan.Stack))
	if err != nil {
		return nil, err
	}
	parts, crowded := divide(l)
	out := &decision{crowded: crowded, worked: true}
	for _, one := range l.layersOf(u.compression(), parts) {
		of := decided{tree: one.Tree}
		for _, o := range one.Steps {
			of.steps = append(of.steps, slices.IndexFunc(steps, func(s Piece) bool { return s.Outcome == o }))
		}
		out.layers = append(out.layers, of)
	}
	return out, nil
}

func divisionQuestion(s recipe.Stack, steps []Piece, how string) digest.Key {
	var text strings.Builder
	fmt.Fprintf(&text, "%s\n%s\n%q %q\n%s\n", divisionNote, layer.TreeFormat, s.Steady, s.Lively, how)
	for _, s := range steps {
		fmt.Fprintln(&text, s.Key)
	}
	return filetree.KeyOfText(text.String())
}

// lineageOf names a part of steps over changes of what it holds, by the first of the steps.
func lineageOf(first Piece, part int) digest.Key {
	return filetree.KeyOfText(fmt.Sprintf("%s part %d", first.Lineage, part))
}

// encode writes whether it is crowded, and a line for each layer: key, files, bytes, whether it is empty, and the places of its steps.
func (d *decision) encode() []byte {
	out := fmt.Appendf(nil, "%s %t\n", divisionNote, d.crowded)
	for _, l := range d.layers {
		out = fmt.Appendf(out, "%s %d %d %t", l.tree.Key, l.tree.Files, l.tree.Bytes, l.tree.Empty)
		for _, i := range l.steps {
			out = fmt.Appendf(out, " %d", i)
		}
		out = append(out, '\n')
	}
	return append(out, divisionEnd...)
}

// recall returns a decision over so many steps that was noted; nil where none was. What its layers hold is worked out when somebody looks.
func (d *Divider) recall(question digest.Key, steps int, work *once.Value[*decision]) *decision {
	text, found := d.Store.Note(question)
	head, rest, _ := strings.Cut(string(text), "\n")
	rest, whole := strings.CutSuffix(rest, divisionEnd)
	crowded, err := strconv.ParseBool(strings.TrimPrefix(head, divisionNote+" "))
	if !found || !whole || err != nil {
		return nil
	}
	out := &decision{crowded: crowded}
	for line := range strings.Lines(rest) {
		summary, of, ok := decodeLayer(strings.Fields(line), steps)
		if !ok {
			return nil
		}
		n := len(out.layers)
		out.layers = append(out.layers, decided{steps: of, tree: filetree.Later(summary, func(ctx context.Context) (*filetree.Tree, error) {
			made, err := work.Get(ctx)
			if err != nil {
				return nil, err
			}
			if n >= len(made.layers) {
				return nil, errors.New("a division of other steps was noted")
			}
			return made.layers[n].tree, nil
		})})
	}
	return out
}

func decodeLayer(fields []string, steps int) (s filetree.Summary, of []int, ok bool) {
	if len(fields) < 5 {
		return s, nil, false
	}
	s.Key = digest.Key(fields[0])
	var filesErr, bytesErr, emptyErr error
	s.Files, filesErr = strconv.Atoi(fields[1])
	s.Bytes, bytesErr = strconv.ParseInt(fields[2], 10, 64)
	s.Empty, emptyErr = strconv.ParseBool(fields[3])
	for _, field := range fields[4:] {
		i, err := strconv.Atoi(field)
		if err != nil || i < 0 || i >= steps || len(of) > 0 && i <= of[len(of)-1] {
			return s, nil, false
		}
		of = append(of, i)
	}
	return s, of, errors.Join(filesErr, bytesErr, emptyErr) == nil && len(s.Key) == len(digest.ContentBytes(nil))
}
