package engine

import (
	"context"
	"fmt"
	"slices"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/engine/graph"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/plan"
)

// unitNode is a stage or an image for one platform.
type unitNode struct {
	plan  *plan.Unit
	below *unitNode   // that it starts from; nil: an image elsewhere, or nothing
	open  *graph.Node // what lies below its steps is known
	steps []*stepNode
	done  *graph.Node // all of its steps are

	// Known when it is open.
	bottom *step.View
	base   *image.Base // of the registry or the store, below all own layers; nil for none
	named  baseName

	settled *graph.Node      // its values are known; nil: they are from the start
	values  plan.ImageValues // of an image

	examined *graph.Node // of an image: its settings were held against its tree

	image *imageUnit // of an image, once it is open
	// Of an image: when its layers are decided on, and when it is put together.
	divided, assembled *graph.Node
}

// baseName names the base for annotations.
type baseName struct {
	name   string
	digest digest.Digest
}

// unit returns the node of a unit, with those of all that it needs.
func (w *work) unit(u *plan.Unit) *unitNode {
	if known := w.units[u]; known != nil {
		return known
	}
	n := &unitNode{plan: u, values: u.Values}
	w.units[u] = n
	switch {
	case u.Base.Unit != nil:
		n.below = w.unit(u.Base.Unit)
		after := []*graph.Node{n.below.done}
		if image := n.imageBelow(); u.IsImage && image != nil {
			after = append(after, image.divided) // its layers stay as they are
		}
		if n.below.settled != nil {
			after = append(after, n.below.settled)
		}
		n.open = w.graph.Add(u.ID.String(), then(func() { n.openOnUnit(w) }), after...)
	case u.Base.Reference != (reference.Reference{}):
		base := w.base(u.Base.Reference, u, "the base")
		n.open = w.graph.Add(u.ID.String(), then(func() { n.openOnBase(w, base) }), base.node)
	default:
		n.open = w.graph.Add(u.ID.String(), then(func() {
			n.bottom = step.Nothing()
			n.opened(w)
		}))
	}
	last := n.open
	for i := range u.Steps {
		s := w.step(n, i, last)
		n.steps, last = append(n.steps, s), s.done
	}
	n.done = last
	if u.IsImage {
		w.imageNodes(n)
	}
	if u.Late != nil {
		n.settled = w.settle(n, u.Late.Needs, func(k plan.Known) (func(), error) {
			values, err := u.Late.Settle(k)
			return func() { n.values = values }, err
		})
	}
	if u.IsImage && u.ID.Platform.OS == "linux" {
		n.examined = w.graph.Add("examine "+u.ID.String(), func(ctx context.Context) (func(), error) { return nil, w.examine(ctx, n) }, n.done)
		if n.settled != nil {
			n.examined.Await(n.settled)
		}
	}
	return n
}

// then is work that only changes what the loop's functions share.
func then(f func()) graph.Work {
	return func(context.Context) (func(), error) { return f, nil }
}

func (n *unitNode) openOnUnit(w *work) {
	below := n.below
	n.bottom, n.base, n.named = below.view(), below.base, below.named
	if below.plan.IsImage && n.base == nil {
		n.base = &image.Base{}
	}
	n.opened(w)
}

func (n *unitNode) openOnBase(w *work, b *baseNode) {
	n.bottom = step.On(b.base)
	n.base = &image.Base{Config: *b.base.Config, Layers: b.base.Layers}
	n.named = baseName{b.base.Found.Name, b.base.Found.Root.Digest}
	n.opened(w)
}

// opened begins an image, now that it is known what lies below.
func (n *unitNode) opened(w *work) {
	if n.plan.IsImage {
		n.image = newImageUnit(w, n)
		n.image.begin(w)
	}
}

// view is what lies above all steps that are done.
func (n *unitNode) view() *step.View {
	for _, s := range slices.Backward(n.steps) {
		if s.above != nil {
			return s.above
		}
	}
	return n.bottom
}

// before are the steps before one of a unit, by its place, with those of the units below.
func (n *unitNode) before(index int) []*stepNode {
	var below []*stepNode
	if n.below != nil {
		below = n.below.before(len(n.below.steps))
	}
	return slices.Concat(below, n.steps[:index])
}

// inherited returns the base with the settings of the images of the recipe that lie between; nil where there is no image below.
func (n *unitNode) inherited() *image.Base {
	if n.base == nil {
		return nil
	}
	base := *n.base
	var chain []*unitNode
	for below := n.below; below != nil; below = below.below {
		chain = append(chain, below)
	}
	for _, u := range slices.Backward(chain) {
		base.Config.Config = image.Inherit(base.Config.Config, u.values.Settings)
	}
	return &base
}

// stageSteps are the steps of stages that an image lies on, above any other image, that laid something down, lowest first.
func (n *unitNode) stageSteps() (all []*stepNode) {
	for below := n.below; below != nil && !below.plan.IsImage; below = below.below {
		all = slices.Concat(below.steps, all)
	}
	return slices.DeleteFunc(slices.Clone(all), func(s *stepNode) bool { return s.outcome.Empty })
}

// imageBelow is the image of the recipe that a unit lies on; nil for none.
func (n *unitNode) imageBelow() *unitNode {
	for below := n.below; below != nil; below = below.below {
		if below.plan.IsImage {
			return below
		}
	}
	return nil
}

// lineage names a step over changes of what it takes in.
func (w *work) lineage(s *stepNode) digest.Key {
	c := layer.Compression(s.unit.plan.Compression)
	return keyOfText(fmt.Sprintf("lineage %q %q %d %q", w.o.Project, s.unit.plan.ID, s.name.Index, c.Format()))
}
