package engine

import (
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/graph"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/pack"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
)

// imageUnit is how an image for one platform is divided into layers and packed.
type imageUnit struct {
	node     *unitNode
	layering *layering.Unit
	early    bool // layers are packed as steps end
	steps    map[*step.Outcome]*stepNode
	parts    map[*step.Outcome][]*layering.Layer // of steps that were divided by themselves
	division *layering.Division
	packs    []*packNode // of the division's layers

	made    PlatformResult
	created time.Time
	common  map[string]string // annotations that other platforms may share
}

func newImageUnit(w *work, n *unitNode) *imageUnit {
	i := &imageUnit{node: n, steps: map[*step.Outcome]*stepNode{}, parts: map[*step.Outcome][]*layering.Layer{},
		layering: &layering.Unit{Plan: n.plan}}
	if below := n.imageBelow(); below != nil {
		i.layering.Inherited = below.image.division.Layers
	}
	if n.base != nil {
		i.layering.Base = len(n.base.Layers)
	}
	stage := n.stageSteps()
	i.layering.MostSteps = len(stage) + len(n.steps)
	i.early = w.divider.Early(i.layering) && !w.dryRun
	for _, s := range stage {
		i.take(w, s)
	}
	return i
}

// imageNodes adds the nodes that divide an image and put it together.
func (w *work) imageNodes(n *unitNode) {
	n.divided = w.graph.Add("divide "+n.plan.ID.String(), func(ctx context.Context) (func(), error) {
		division, err := w.divider.Divide(ctx, n.image.layering, n.image.parts)
		return func() { n.image.divide(w, division) }, err
	}, n.open, n.done)
}

// begin has the layers of what lies below packed.
func (i *imageUnit) begin(w *work) {
	if i.early {
		for _, piece := range i.layering.Steps {
			i.part(w, piece)
		}
	}
}

// add takes a step of the image itself.
func (i *imageUnit) add(w *work, s *stepNode) {
	piece := i.take(w, s)
	if i.early {
		i.part(w, piece)
	}
}

// take adds what a step laid down to what is divided.
func (i *imageUnit) take(w *work, s *stepNode) layering.Piece {
	piece := w.piece(i.node, s, s.outcome)
	i.steps[s.outcome] = s
	i.layering.Steps = append(i.layering.Steps, piece)
	return piece
}

// piece returns what a step laid down as an image has it. Each image has the step of a stage as its own layers, which may be
// divided otherwise than those of the others.
func (w *work) piece(n *unitNode, s *stepNode, o *step.Outcome) layering.Piece {
	piece := layering.Piece{Outcome: o, Lineage: w.lineage(s)}
	if w.owner(s) != n {
		piece.Lineage = keyOfText(string(piece.Lineage) + " " + n.plan.Compression)
	}
	return piece
}

// owner is the image whose layers are told of as those of a step: the step's own, or of a stage's step the first image that
// lies on it; nil where there is none.
func (w *work) owner(s *stepNode) *unitNode {
	if s.unit.plan.IsImage {
		return s.unit
	}
	for _, u := range w.o.Plan.Units {
		if !u.IsImage || u.Compression != s.unit.plan.Compression {
			continue
		}
		for below := u.Base.Unit; below != nil && !below.IsImage; below = below.Base.Unit {
			if below == s.unit.plan {
				return w.units[u]
			}
		}
	}
	return nil
}

// part divides one step by itself and has its layers packed.
func (i *imageUnit) part(w *work, piece layering.Piece) {
	n := w.graph.Add("divide "+piece.Task.ID, func(ctx context.Context) (func(), error) {
		parts, err := w.divider.Part(ctx, i.layering, piece)
		return func() {
			i.parts[piece.Outcome] = parts
			i.tellPacked(w, piece.Outcome, parts)
		}, err
	})
	i.node.divided.Await(n)
}

// divide takes the division of the image, and has all of its layers packed.
func (i *imageUnit) divide(w *work, d *layering.Division) {
	i.division = d
	if w.dryRun {
		return
	}
	if !i.early {
		for _, piece := range i.layering.Steps {
			i.tellPacked(w, piece.Outcome, layering.Of(d.Layers, piece.Outcome))
		}
	}
	for _, l := range d.Layers {
		n := w.pack(l)
		i.packs = append(i.packs, n)
		if i.node.assembled != nil { // it is asked for, and not only what lies below another image
			i.node.assembled.Await(n.node)
		}
	}
}

// packNode is a layer that is packed, for all that have it.
type packNode struct {
	node    *graph.Node
	packed  *pack.Packed
	changes []event.Change // against the layer that the first step to ask for it had at the last build
	wholes  []string       // archives among these, which are pushed whole whatever changed in them
}

// pack returns the node of a layer.
func (w *work) pack(l *layering.Layer) *packNode {
	if n := w.packs[l.ID()]; n != nil {
		return n
	}
	n := &packNode{}
	w.packs[l.ID()] = n
	n.node = w.graph.Add("pack "+l.Label, func(ctx context.Context) (func(), error) {
		packed, err := w.packer.Pack(ctx, l)
		if err != nil {
			task := l.Steps[0].Task
			return nil, fmt.Errorf("%s %s, %s: %w", task.Unit, task.Platform, task.Label, err)
		}
		var changes []event.Change
		var wholes []string
		if packed.New {
			changes, wholes = w.changes(ctx, l)
		}
		return func() { n.packed, n.changes, n.wholes = packed, changes, wholes }, nil
	})
	n.node.OnFailure(func(err error, ended bool) {
		if !ended {
			w.o.Sink.Send(event.Finished{Task: l.Steps[0].Task, Outcome: event.Failed, Reason: event.Text(err.Error())})
		}
	})
	return n
}

// changes tells how a layer of one step differs from that which the step had at the last build, and which large archives changed.
func (w *work) changes(ctx context.Context, l *layering.Layer) (all []event.Change, wholes []string) {
	o := l.Steps[0]
	if w.o.Past == nil || !l.Whole(o) || o.Run != nil {
		return nil, nil
	}
	var was digest.DiffID
	for _, p := range w.o.Past.Past(o.Task.Unit, o.Task.Platform) {
		if p.Label == o.Task.Label && p.Layer != "" {
			was = p.Layer
		}
	}
	text, found := w.o.Store.LayerIndex(was)
	if was == "" || !found {
		return nil, nil
	}
	indexed, err := layer.DecodeIndex(text)
	entries, entriesErr := o.Entries(ctx)
	if err != nil || entriesErr != nil {
		return nil, nil
	}
	all = explain.Changes(indexed.Entries, entries)
	for _, c := range all {
		at, found := slices.BinarySearchFunc(entries, c.Path, func(e tree.Entry, path string) int { return strings.Compare(e.Path, path) })
		if found && c.Kind == event.Changed && entries[at].Size >= largeArchive && slices.Contains(archives, path.Ext(c.Path)) {
			wholes = append(wholes, fmt.Sprintf("/%s (%s)", c.Path, humanize.Bytes(uint64(entries[at].Size))))
		}
	}
	return all, wholes
}

// An archive of this size or more, in bytes, is worth being unpacked: of what is in it little changes at a time.
const largeArchive = 1 << 20

// archives are the ends of their names.
var archives = []string{".jar", ".war", ".ear", ".zip"}

// tellPacked tells what became of a step when its layers are packed.
func (i *imageUnit) tellPacked(w *work, o *step.Outcome, layers []*layering.Layer) {
	began := time.Now()
	var packs []*packNode
	var nodes []*graph.Node
	for _, l := range layers {
		n := w.pack(l)
		packs, nodes = append(packs, n), append(nodes, n.node)
	}
	w.graph.Add("tell of "+o.Task.ID, func(context.Context) (func(), error) {
		for n, l := range layers {
			w.packer.Follow(l, packs[n].packed.Record)
		}
		return func() { i.tell(w, o, layers, time.Since(began)) }, nil
	}, nodes...)
}

func (i *imageUnit) tell(w *work, o *step.Outcome, layers []*layering.Layer, took time.Duration) {
	s := i.steps[o]
	if w.owner(s) == i.node {
		s.packing = took
	}
	done := event.Finished{Task: s.task, Detail: sizeOf(o.Tree), Took: took}
	done.Outcome, done.Reason = w.became(o, layers, &w.told)
	if packed, is := done.Reason.(event.Packed); is && packed.Changes != nil {
		if wholes := w.packs[layers[0].ID()].wholes; len(wholes) > 0 {
			w.tools.Warner.Warn(s.plan, event.WholeArchive, fmt.Sprintf("%s: %s changed, and is pushed whole: `unpack` it, with spread: for archives in it, and `imbricat lock` keeps what seldom changes in layers of its own",
				s.name.Unit.Name, say.Some(wholes)))
		}
	}
	switch own := s.unit == i.node; {
	case !own && o.Run == nil && done.Reason == event.SameAsAnother && w.owner(s) != i.node:
		return // whoever packed it has told
	case !own && o.Run != nil:
		// The command was told of when it ended; this is about its layer, for an image that starts from the stage.
		done.Task.ID, done.Task.Label = done.Task.ID+" layer", "layer of: "+done.Task.Label
	case o.Run != nil:
		done.Outcome, done.Reason, done.Took = s.ran(s.second)
	}
	w.o.Sink.Send(done)
}

// imageNode is an image over its platforms.
type imageNode struct {
	plan  *plan.Image
	dirty []string // files that it is made from and that differ from the commit
	// revision is the commit that it is made from; empty: it is not known.
	revision string
	result   ImageResult
}

// image returns the node of an image, whose units have theirs.
func (w *work) image(img *plan.Image) *imageNode {
	n := &imageNode{plan: img, result: ImageResult{Name: img.Name, Destinations: img.Destinations}}
	var steps, assembled []*graph.Node
	for _, u := range img.Units {
		steps = append(steps, w.unit(u).done)
	}
	dirt := w.graph.Add("compare "+img.Name, func(ctx context.Context) (func(), error) {
		dirty, strange, err := w.dating.dirty(ctx, img)
		if err != nil {
			return nil, err
		}
		revision, err := w.dating.revision(ctx, img, strange)
		if len(dirty) > 0 {
			revision += DirtyRevision
		}
		return func() { n.dirty, n.revision = dirty, revision }, err
	}, steps...)
	for _, u := range img.Units {
		unit := w.unit(u)
		unit.assembled = w.graph.Add("assemble "+u.ID.String(), func(ctx context.Context) (func(), error) {
			i := unit.image
			made, created, common, err := w.assemble(ctx, i, n.revision)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", u.ID, err)
			}
			return func() { i.made, i.created, i.common = made, created, common }, nil
		}, dirt, unit.divided)
		for _, before := range []*graph.Node{unit.settled, unit.examined} {
			if before != nil {
				unit.assembled.Await(before)
			}
		}
		assembled = append(assembled, unit.assembled)
	}
	w.graph.Add("index "+img.Name, func(ctx context.Context) (func(), error) {
		result, err := w.index(ctx, n)
		return func() { n.result = result }, err
	}, assembled...)
	return n
}

// index puts the index over an image's platforms into the store, under the image's name.
func (w *work) index(ctx context.Context, n *imageNode) (ImageResult, error) {
	result := n.result
	var offers []image.Offer
	var annotations map[string]string
	for _, u := range n.plan.Units {
		i := w.units[u].image
		result.Platforms = append(result.Platforms, i.made)
		if result.Created.IsZero() || i.created.After(result.Created) {
			result.Created = i.created
		}
		offers = append(offers, image.Offer{Platform: i.made.Platform, Descriptor: i.made.Descriptor})
		annotations = sameIn(annotations, i.common, annotations == nil)
	}
	text, err := image.Encode(image.Index(offers, annotations))
	if err != nil {
		return result, err
	}
	index, err := w.o.Store.PutBytes(v1.MediaTypeImageIndex, text)
	if err != nil {
		return result, err
	}
	result.Descriptor = index
	return result, w.o.Store.NameOf(ctx, w.o.Store.Project, n.plan.Name, index)
}

// sameIn keeps the annotations that all platforms share.
func sameIn(a, b map[string]string, first bool) map[string]string {
	if first {
		return b
	}
	same := map[string]string{}
	for key, value := range a {
		if other, has := b[key]; has && other == value {
			same[key] = value
		}
	}
	return same
}
