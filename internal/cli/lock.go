package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow"
	"imbricat/internal/flow/bases"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/order"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

func lockCommand() *cli.Command {
	return &cli.Command{
		Name: "lock", Usage: "writes or refreshes imbricat.lock: what the recipe's bases stand for now, and which files share a layer",
		Description: "A base that the lock names is taken by its digest until the lock is refreshed, and images are divided into layers as it\n" +
			"says. A division comes from how files changed: in the images already published, in version control, or in earlier\n" +
			"builds here. One that is there stays unless another serves the coming versions better by more than moving costs.\n" +
			"Keep the file in version control.\n\nExample: imbricat lock --check",
		Flags: []cli.Flag{factFlag(), sandboxFlag(), &cli.BoolFlag{Name: "check", Usage: "only compare; exit code 3 when the lock is stale"},
			&cli.BoolFlag{Name: "bases-only", Usage: "leave divisions as they are"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			return runLock(ctx, newSession(c))
		},
	}
}

// lockPath is the lock beside the recipe.
func (s *session) lockPath() string {
	return filepath.Join(filepath.Dir(s.recipePath()), recipe.LockName)
}

// readLock reads the lock; without one it is nil.
func (s *session) readLock() (*lock.Lock, error) {
	text, err := os.ReadFile(s.lockPath())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, flow.Usagef("reading the lock: %w", err)
	}
	l, err := lock.Parse(s.lockPath(), text)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	return l, nil
}

func runLock(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	p, st, err := s.planAndStore()
	if err != nil {
		return err
	}
	check := s.cmd.Bool("check")
	old, err := s.readLock()
	if err != nil && check {
		return err
	}
	missing := old == nil
	if missing {
		old = &lock.Lock{} // it is written anew
	}
	now := &lock.Lock{Bases: map[string]digest.Digest{}, Images: map[string]*order.Rules{}}
	if now.Bases, err = s.lockBases(ctx, p, st); err != nil {
		return err
	}
	document := &report.Lock{File: s.lockPath(), Bases: now.Bases, Differences: old.Differences(now), Images: []report.LockedImage{}}
	if s.cmd.Bool("bases-only") {
		now.Images = old.Images
	} else if document.Images, err = s.lockDivisions(ctx, p, st, old, now); err != nil {
		return err
	}
	document.Stale = missing && len(now.Bases) > 0 || len(document.Differences) > 0 ||
		slices.ContainsFunc(document.Images, func(i report.LockedImage) bool { return i.Changed })
	if document.Stale && !check {
		if err := replaceFile(s.lockPath(), now.Encode()); err != nil {
			return err
		}
		document.Written = true
	}
	if err := s.result(document, func() error { return report.WriteLock(s.out, s.paint, document) }); err != nil {
		return err
	}
	if document.Stale && !document.Written {
		return flow.Differsf("%s is stale; `imbricat lock` refreshes it", s.lockPath())
	}
	return nil
}

// lockBases asks what the bases stand for now.
func (s *session) lockBases(ctx context.Context, p *planned, st *store.Store) (map[string]digest.Digest, error) {
	bases := map[string]digest.Digest{}
	for _, ref := range moving(p.plan) {
		place, err := s.source(st, ref)
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
func (s *session) lockDivisions(ctx context.Context, p *planned, st *store.Store, old, now *lock.Lock) ([]report.LockedImage, error) {
	list := []report.LockedImage{}
	wanted := map[string][]*plan.Unit{}
	for _, i := range p.plan.Images {
		if len(i.Units) > 0 && divisible(i.Units[0].Stack) {
			wanted[i.Name] = i.Units
		}
	}
	if len(wanted) > 0 {
		view := s.view(ctx)
		defer view.Close("")
		o, done, err := s.builder(ctx, p, st, event.Discard)
		if err != nil {
			return nil, err
		}
		defer done()
		// With the bases that the lock is to have, and without the division that it has.
		o.Bases.(*bases.Finder).Lock, o.Divisions = now, nil
		preview, err := engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs, Weigh: true})
		if err != nil {
			return nil, err
		}
		view.Close("")
		h := &historyFinder{s: s, p: p, st: st, far: true}
		for _, i := range p.plan.Images {
			units := wanted[i.Name]
			if units == nil {
				continue
			}
			one, rules, err := s.lockImage(ctx, h, units, preview, old.Images[i.Name])
			if err != nil {
				return nil, err
			}
			if rules != nil {
				now.Images[i.Name] = rules
			}
			if rules != nil || one.Note != "" && units[0].Stack.Policy == recipe.FromLock {
				list = append(list, one)
			}
		}
	}
	for name := range old.Images {
		if now.Images[name] == nil {
			list = append(list, report.LockedImage{Image: name, Changed: true, Note: "is divided by the lock no more"})
		}
	}
	slices.SortFunc(list, func(a, b report.LockedImage) int { return strings.Compare(a.Image, b.Image) })
	return list, nil
}

// lockImage divides one image, the same for all its platforms.
func (s *session) lockImage(ctx context.Context, h *historyFinder, units []*plan.Unit, preview *engine.Preview, was *order.Rules) (report.LockedImage, *order.Rules, error) {
	out := report.LockedImage{Image: units[0].ID.Name}
	content, unknown := contentOver(units, preview)
	if content == nil {
		out.Note = "its division is left as it is: what it holds depends " + unknown
		return out, was, nil
	}
	k, err := h.learn(ctx, units[0], content)
	if err != nil {
		return out, nil, err
	}
	out.History, out.Versions, out.Shallow = k.Source, k.Versions, k.Shallow
	if k.Source == "" && !hintedAny(units[0].Stack) || len(content.Items) == 0 {
		out.Note = "nothing tells yet how its files change, so it is cut by paths and sizes"
		if was != nil {
			out.Note = "nothing tells here how its files change, so its division is left as it is"
		}
		return out, was, nil
	}
	o := optionsFor(content, k)
	var lists [][]int
	if was != nil {
		lists = was.Ruled(content.Items)
	}
	r := order.Refresh(content.Items, lists, o)
	rules := was
	if was == nil || !r.Kept {
		rules = r.Rules(content.Items)
	}
	// What one machine knows better than another makes no lock stale, nor does a small gain.
	if s.cmd.Bool("check") && was != nil && len(lists) <= o.Most && (k.Shallow || k.Source == "store" || 4*r.Version > 3*r.Before) {
		rules = was
	}
	out.Layers, out.Changed, out.Static = len(rules.Parts), rules != was, r.Static
	for _, list := range rules.Parts {
		out.Lines += len(list)
	}
	// What is left without a lock is what a person compares with at first.
	if was == nil {
		var cold [][]int
		for _, l := range content.Layers {
			cold = append(cold, l.Items)
		}
		r.Before = order.PerVersion(order.Assess(content.Items, cold, o))
	}
	out.Before, out.After, out.Moved = r.Before, r.Version, r.Moved
	if !out.Changed {
		out.Moved = 0
	}
	return out, rules, nil
}

// contentOver gives what an image holds over all its platforms, or why that is not known.
func contentOver(units []*plan.Unit, preview *engine.Preview) (all *layering.Content, unknown string) {
	for _, u := range units {
		for i := range preview.Units {
			one := &preview.Units[i]
			switch {
			case one.Unit != u:
			case one.Content == nil:
				return nil, one.Unknown
			case all == nil:
				all = one.Content
			default:
				all = all.With(one.Content)
			}
		}
	}
	return all, "on what is not known"
}

// moving lists the images that the plan names by a tag alone.
func moving(p *plan.Plan) []reference.Reference {
	var list []reference.Reference
	add := func(ref reference.Reference) {
		if ref.Kind == reference.Registry && ref.Digest == "" && !slices.Contains(list, ref) {
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

// replaceFile writes a file as one act.
func replaceFile(name string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	defer os.Remove(f.Name())
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(0o644), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}
