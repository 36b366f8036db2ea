// Package locking writes and refreshes the lock of a recipe: what its bases stand for now, and which files share a layer. A division
// that is there stays unless another serves the coming versions better by more than moving costs.
package locking

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/order"
	"imbricat/internal/flow/history"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/division"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Options say what is refreshed.
type Options struct {
	Check     bool // only compare
	BasesOnly bool // leave divisions as they are
}

// refresh is a lock on its way.
type refresh struct {
	w        *workspace.Workspace
	check    bool
	old, now *lock.Lock
}

// Refresh compares a recipe's lock with what it would be now, and writes that unless it is only to be compared.
func Refresh(ctx context.Context, w *workspace.Workspace, o Options) (*report.Lock, error) {
	old, err := w.Lock()
	if err != nil && o.Check {
		return nil, err
	}
	missing := old == nil
	if missing {
		old = &lock.Lock{} // it is written anew
	}
	r := &refresh{w, o.Check, old, &lock.Lock{Images: map[string]*division.Rules{}}}
	if r.now.Bases, err = lockBases(ctx, w); err != nil {
		return nil, err
	}
	document := &report.Lock{File: w.LockPath(), Bases: r.now.Bases, Differences: old.Differences(r.now), Images: []report.LockedImage{}}
	if o.BasesOnly {
		r.now.Images = old.Images
	} else if document.Images, err = r.lockDivisions(ctx); err != nil {
		return nil, err
	}
	document.Stale = missing && len(r.now.Bases) > 0 || len(document.Differences) > 0 ||
		slices.ContainsFunc(document.Images, func(i report.LockedImage) bool { return i.Changed })
	if document.Stale && !o.Check {
		if err := files.Replace(w.LockPath(), r.now.Encode(), 0o644); err != nil {
			return nil, err
		}
		document.Written = true
	}
	return document, nil
}

// lockBases asks what the bases stand for now.
func lockBases(ctx context.Context, w *workspace.Workspace) (map[string]digest.Digest, error) {
	bases := map[string]digest.Digest{}
	for _, ref := range Moving(w.Plan) {
		place, err := w.Places.Source(ref)
		if err != nil {
			return nil, err
		}
		root, err := place.Root(ctx)
		if err != nil {
			return nil, fmt.Errorf("the base %s: %w", ref, err)
		}
		bases[ref.String()] = root.Digest
	}
	return bases, nil
}

// lockDivisions divides the images whose recipe lets the lock do so, as far as it is known what they hold and how that
// changes.
func (r *refresh) lockDivisions(ctx context.Context) ([]report.LockedImage, error) {
	list := []report.LockedImage{}
	wanted := map[string][]*plan.Unit{}
	for _, i := range r.w.Plan.Images {
		if len(i.Units) > 0 && i.Units[0].Stack.MayLock() {
			wanted[i.Name] = i.Units
		}
	}
	if len(wanted) > 0 {
		// With the bases that the lock is to have, and without the division that it has.
		o, done, err := r.w.EngineWith(ctx, &lock.Lock{Bases: r.now.Bases}, event.Discard)
		if err != nil {
			return nil, err
		}
		defer done()
		h, err := r.w.History(true)
		if err != nil {
			return nil, err
		}
		over := map[string]*contents{}
		_, err = engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs, Weigh: func(ctx context.Context, one *engine.UnitPreview, content *layering.Content) error {
			units := wanted[one.Unit.ID.Name]
			if !slices.Contains(units, one.Unit) {
				return nil
			}
			c := over[one.Unit.ID.Name]
			if c == nil {
				c = &contents{}
				over[one.Unit.ID.Name] = c
			}
			if c.add(one, content); c.platforms < len(units) {
				return nil
			}
			delete(over, one.Unit.ID.Name) // what images hold is much
			locked, rules, err := r.lockImage(ctx, h, units, c, r.old.Images[one.Unit.ID.Name])
			if err != nil {
				return err
			}
			if rules != nil {
				r.now.Images[one.Unit.ID.Name] = rules
			}
			if rules != nil || locked.Note != "" && units[0].Stack.Policy == recipe.FromLock {
				list = append(list, locked)
			}
			return nil
		}})
		if err != nil {
			return nil, err
		}
	}
	for name := range r.old.Images {
		if r.now.Images[name] == nil {
			list = append(list, report.LockedImage{Image: name, Changed: true, Note: "is no longer divided by the lock"})
		}
	}
	slices.SortFunc(list, func(a, b report.LockedImage) int { return strings.Compare(a.Image, b.Image) })
	return list, nil
}

// lockImage divides one image, the same for all its platforms.
func (r *refresh) lockImage(ctx context.Context, h *history.Finder, units []*plan.Unit, c *contents, was *division.Rules) (report.LockedImage, *division.Rules, error) {
	out := report.LockedImage{Image: units[0].ID.Name}
	content := c.all
	if content == nil {
		out.Note = "its division is left as it is: what it holds depends " + c.unknown
		return out, was, nil
	}
	k, err := h.Learn(ctx, units[0], content)
	if err != nil {
		return out, nil, err
	}
	out.History, out.Versions, out.Shallow = k.Source, k.Versions, k.Shallow
	if k.Source == "" && !units[0].Stack.Hinted() || len(content.Items) == 0 {
		out.Note = "nothing tells yet how its files change, so it is cut by paths and sizes"
		if was != nil {
			out.Note = "nothing tells here how its files change, so its division is left as it is"
		}
		return out, was, nil
	}
	o := history.OptionsFor(content, k)
	var lists [][]int
	if was != nil {
		lists = order.Ruled(was, content.Items)
	}
	found := order.Refresh(content.Items, lists, o)
	rules := was
	if was == nil || !found.Kept {
		rules = found.Rules(content.Items)
	}
	if r.check && was != nil && len(lists) <= o.Most && tolerated(k, found) {
		rules = was
	}
	out.Layers, out.Changed, out.Static = len(rules.Parts), rules != was, found.Static
	for _, list := range rules.Parts {
		out.Lines += len(list)
	}
	// What is left without a lock is what a person compares with at first.
	if was == nil {
		var cold [][]int
		for _, l := range content.Layers {
			cold = append(cold, l.Items)
		}
		found.Before = order.PerVersion(order.Assess(content.Items, cold, o))
	}
	packed := func(bytes int64) int64 { return int64(float64(bytes) * content.Shrink()) }
	out.Before, out.After, out.Moved = packed(found.Before), packed(found.Version), packed(found.Moved)
	if !out.Changed {
		out.Moved = 0
	}
	return out, rules, nil
}

// tolerated reports whether a division that is no longer the best makes no lock stale: what one machine knows better than another does
// not, nor does a gain of less than a quarter.
func tolerated(k history.Changes, found order.Refreshed) bool {
	return k.Shallow || k.Source == "store" || 4*found.Version > 3*found.Before
}

// contents are what an image holds for the platforms so far.
type contents struct {
	platforms int
	all       *layering.Content // over these; nil: it is not known for one of them
	unknown   string            // why
}

func (c *contents) add(one *engine.UnitPreview, content *layering.Content) {
	c.platforms++
	switch {
	case content == nil:
		c.all, c.unknown = nil, cmp.Or(one.Unknown, "on what is not known")
	case c.unknown != "":
	case c.all == nil:
		c.all = content
	default:
		c.all = c.all.With(content)
	}
}

// Moving lists the images of registries and of the store that the plan names without a digest.
func Moving(p *plan.Plan) []reference.Reference {
	var list []reference.Reference
	add := func(ref reference.Reference) {
		named := ref.Kind == reference.Registry || ref.Kind == reference.Store && ref.Name != ""
		if named && ref.Digest == "" && !slices.Contains(list, ref) {
			list = append(list, ref)
		}
	}
	for _, u := range p.Units {
		if u.Base.Kind == recipe.ReferenceBase {
			add(u.Base.Reference)
		}
		for _, step := range u.Steps {
			for _, use := range step.Do.References() {
				add(use.Reference)
			}
		}
	}
	return list
}
