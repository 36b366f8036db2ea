// Package ship is a pipeline's whole run: what can be refused without work is refused before any; then it builds, checks and pushes. Each
// part is a package of its own; this one puts them in their order.
package ship

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/engine/check"
	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/checks"
	"imbricat/internal/flow/locking"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Parts are what can be left out.
var Parts = []string{"lock", "share", "checks", "push", "tags", "notify"}

// Options say how it is shipped.
type Options struct {
	push.Options
	Without []string // parts that are left out
	Build   building.Options
}

// Leaves reports whether a part is left out.
func (o Options) Leaves(part string) bool { return slices.Contains(o.Without, part) }

// ChecksError is that checks of the images do not hold; the receipt tells which.
type ChecksError struct {
	Fails, Unable, Of int
	Others            bool // images whose checks hold were pushed
	Looks             bool // some of the others were pushed by digest alone, for a look
}

// Error implements error.
func (e *ChecksError) Error() string {
	n, what := e.Fails+e.Unable, "nothing was pushed"
	if e.Others {
		what = "the images that they are of were not pushed"
	}
	if e.Looks {
		what += " under any tag"
	}
	return fmt.Sprintf("%d of %s %s not hold; %s", n, report.Count(e.Of, "check"), plural(n, "does", "do"), what)
}

// Wanted returns the images of a plan of which some destination is to get a tag; and where no tag's condition holds, why nothing is to be
// done.
func Wanted(p *workspace.Planned, o Options) (wanted []string, nothing string, err error) {
	if !slices.ContainsFunc(p.Plan.Images, func(i *plan.Image) bool { return len(i.Destinations) > 0 }) {
		return nil, "", flow.Usagef("the recipe names no destination: write publish: under the image, or ship --without push")
	}
	var held, asks []string
	for _, i := range p.Plan.Images {
		tags := 0
		for _, d := range i.Destinations {
			tags += len(d.Tags)
			for _, h := range d.Held {
				held = append(held, fmt.Sprintf("%s of %s needs %s", h.Tag, i.Name, h.When))
				asks = append(asks, h.Git...)
			}
		}
		if tags > 0 || o.ByDigest {
			wanted = append(wanted, i.Name)
		}
	}
	switch {
	case len(wanted) > 0:
	case len(held) == 0:
		nothing = "no destination names a tag; --by-digest pushes without one"
	default:
		slices.Sort(held)
		nothing = "no tag's condition holds: " + strings.Join(slices.Compact(held), "; ") + unknownHere(p.Facts.Git, asks)
	}
	return wanted, nothing, nil
}

// Run is a run of ship.
type Run struct {
	w         *workspace.Workspace
	k         *receipts.Recorder
	sink      event.Sink
	o         Options
	shipments []*push.Shipment
	looks     []*push.Shipment // of images that do not fulfil their checks
}

// New returns a run that records what it does.
func New(w *workspace.Workspace, k *receipts.Recorder, sink event.Sink, o Options) *Run {
	return &Run{w: w, k: k, sink: sink, o: o}
}

// Do goes through the parts in their order, and records how far they came.
func (r *Run) Do(ctx context.Context) error {
	err := r.parts(ctx)
	push.Record(ctx, r.k, r.w.Store, append(r.looks, r.shipments...))
	return err
}

func (r *Run) parts(ctx context.Context) error {
	if err := r.checkLock(); err != nil {
		return err
	}
	if !r.o.Leaves("push") {
		r.tellNarrowed()
		r.k.Part = "destinations"
		if err := r.askAll(ctx); err != nil {
			return err
		}
	}
	r.k.Part = "build"
	document, result, err := building.Run(ctx, r.w, r.sink, r.o.Build)
	r.k.Built(document)
	if err != nil && (!r.o.Build.KeepGoing || document == nil || ctx.Err() != nil) {
		return err
	}
	var left leftBehind
	if err != nil {
		left.note("build", err)
		r.leaveUnbuilt(document)
		if len(r.w.Plan.Images) == 0 {
			return err
		}
	}
	// What was built, whatever the store's names stand for meanwhile.
	built := map[string]digest.Descriptor{}
	for _, i := range document.Images {
		built[i.Name] = digest.Descriptor{MediaType: i.MediaType, Digest: i.Digest, Size: i.Size}
	}
	made := func(name string) (digest.Descriptor, error) { return built[name], nil }
	if !r.o.Leaves("checks") {
		r.k.Part = "checks"
		if err := r.check(ctx, checks.Made{Image: made, Stages: result.Checked}); err != nil {
			var fails *ChecksError
			if errors.As(err, &fails) && !r.o.Leaves("push") {
				lookErr := r.pushForALook(ctx, made)
				fails.Looks = len(r.looks) > 0 && lookErr == nil
				err = errors.Join(err, lookErr)
			}
			if !r.o.Build.KeepGoing || fails == nil {
				return errors.Join(left.err, err)
			}
			left.note("checks", err)
			r.leaveUnchecked()
			if fails.Others = len(r.w.Plan.Images) > 0; !fails.Others {
				return left.end(r.k)
			}
		}
	}
	if r.o.Leaves("push") {
		return left.end(r.k)
	}
	r.k.Part = "push"
	if r.shipments, err = push.Shipments(ctx, r.w, r.o.Options, made); err != nil {
		return err
	}
	if err := push.HoldBackPrefixes(ctx, r.w.Places.Client, r.shipments, r.o.Moves); err != nil {
		return err
	}
	if err := push.Send(ctx, r.w, r.shipments, r.o.Moves, r.sink, &r.k.Part); err != nil {
		return errors.Join(err, left.err)
	}
	return left.end(r.k)
}

// check decides the checks of every image, all of them.
func (r *Run) check(ctx context.Context, made checks.Made) (err error) {
	if r.k.Receipt.Checks, err = checks.All(ctx, r.w, made, r.o.Build.FreshAll, r.sink); err != nil {
		return err
	}
	e := &ChecksError{Of: len(r.k.Receipt.Checks)}
	for _, c := range r.k.Receipt.Checks {
		switch c.Outcome {
		case check.Fails:
			e.Fails++
		case check.Unable:
			e.Unable++
		}
	}
	switch {
	case e.Fails > 0:
		return &flow.Error{Kind: flow.Differs, Err: e}
	case e.Unable > 0:
		return &flow.Error{Kind: flow.Unable, Err: e}
	}
	return nil
}

// unknownHere tells what conditions might have needed that is not known of this clone. Asks are names of version control.
func unknownHere(g *facts.Git, asks []string) string {
	if !g.Known() {
		return ""
	}
	var text string
	if g.Branch == "" && slices.Contains(asks, "branch") {
		text += " (a commit is checked out and no branch; " + facts.BranchVariable + " tells which it is of)"
	}
	if g.Tag == "" && g.Shallow() && slices.Contains(asks, "tag") {
		text += " (no tag is on the commit, and the clone is shallow, so it may lack tags)"
	}
	return text
}

// tellNarrowed says where --platform has tags stand on an index that lacks platforms of the recipe.
func (r *Run) tellNarrowed() {
	if r.o.ByDigest {
		return
	}
	for _, i := range r.w.Plan.Images {
		at := slices.IndexFunc(r.w.Recipe.Images, func(r recipe.Image) bool { return r.Name == i.Name })
		if missing := len(r.w.Recipe.Images[at].Platforms) - len(i.Units); missing > 0 && len(i.Destinations) > 0 {
			r.sink.Send(event.Warning{Code: event.Platforms, Text: fmt.Sprintf("the tags of %s will stand on an index without %s of the recipe: with --by-digest it can be joined with the others", i.Name, report.Count(missing, "platform"))})
		}
	}
}

// checkLock demands that a lock which is there holds every base that the recipe names by a tag.
func (r *Run) checkLock() error {
	r.k.Part = "lock"
	held, err := r.w.Lock()
	if err != nil || held == nil || r.o.Leaves("lock") {
		return err
	}
	for _, ref := range locking.Moving(r.w.Plan) {
		if held.Bases[ref.String()] == "" {
			return flow.Differsf("%s is stale: it does not hold %s, which the recipe names; `imbricat lock` refreshes it", r.w.LockPath(), ref)
		}
	}
	return nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}
