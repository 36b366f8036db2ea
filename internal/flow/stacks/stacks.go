// Package stacks describes the layers of images for those who look at them: what each is expected to cost, how often what is in it changes,
// and what earlier versions would have cost with the same division. It divides nothing.
package stacks

import (
	"cmp"
	"context"

	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/order"
	"imbricat/internal/flow/history"
	"imbricat/internal/output/report"
)

// Of describes the layers of an image of a preview, of which content is what they hold; nil: that is not known.
func Of(ctx context.Context, h *history.Finder, o *engine.Options, one *engine.UnitPreview, content *layering.Content, volatility bool) (report.Stack, error) {
	d := report.Stack{Image: one.Unit.ID.Name, Platform: one.Unit.ID.Platform.String(), Unknown: one.Unknown, Layers: []report.StackLayer{},
		Policy: string((&layering.Divider{Rules: o.Divisions, Predecessors: o.Predecessors}).Policy(one.Unit)), Costs: []report.StackCost{}}
	if content == nil {
		return d, nil
	}
	k, err := h.Learn(ctx, one.Unit, content)
	if err != nil {
		return d, err
	}
	d.History, d.Versions, d.Shallow, d.Described, d.Base = k.Source, k.Versions, k.Shallow, k.Described(), len(content.Base)
	drawStack(&d, content, k)
	if volatility {
		for _, v := range history.Volatilities(content, k) {
			d.Volatile = append(d.Volatile, report.Volatile{Path: v.Path, Step: v.Step, Items: v.Items, Bytes: v.Bytes,
				Changes: v.Changes, Share: v.Share, Hint: v.Hint, With: append([]string{}, v.With...)})
		}
	}
	return d, nil
}

// drawStack adds the layers, and what they, the recipe's own order and a single layer are expected to cost.
func drawStack(d *report.Stack, c *layering.Content, k history.Changes) {
	var lists [][]int
	for _, l := range c.Layers {
		lists = append(lists, l.Items)
	}
	shrink := c.Shrink()
	o := history.OptionsFor(c, k)
	parts := order.Assess(c.Items, lists, o)
	for i, l := range c.Layers {
		d.Layers = append(d.Layers, report.StackLayer{Label: l.Label, Items: len(l.Items), Unpacked: cmp.Or(l.Tar, l.Size), Packed: l.Packed,
			Volatility: fraction(parts[i].Chance)})
	}
	single := make([]int, len(c.Items))
	for i := range single {
		single[i] = i
	}
	var steps [][]int
	for _, list := range c.Steps {
		if len(list) > 0 {
			steps = append(steps, list)
		}
	}
	for _, one := range []struct {
		name  string
		parts []order.Part
	}{
		{"this stack", parts},
		{"the recipe's own order", order.Assess(c.Items, steps, o)},
		{"one layer", order.Assess(c.Items, [][]int{single}, o)},
	} {
		cost := costOf(one.name, one.parts, shrink)
		d.Costs = append(d.Costs, cost)
	}
}

func fraction(s order.Share) float64 { return float64(s) / float64(order.One) }

// costOf returns what a version is expected to cost with layers, lowest first.
func costOf(name string, parts []order.Part, shrink float64) report.StackCost {
	c := report.StackCost{Name: name, Layers: len(parts)}
	var weights []order.Weight
	var places []int
	pushed := 0.0
	for i, p := range parts {
		pushed += float64(p.Size) * fraction(p.Chance) * shrink
		weights, places = append(weights, order.Weight{Size: p.Size, Chance: p.Chance}), append(places, i)
	}
	c.Pushed, c.Pulled, c.Unpacked = int64(pushed), int64(pushed), order.Expected(weights, places)
	return c
}
