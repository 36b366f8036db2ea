// Package hygiene finds in a recipe what works and had better be otherwise: what nothing uses, what is not pinned, what is given without need.
// It builds nothing; what needs to be looked at in the project folder is what plan looks at too.
package hygiene

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"imbricat/internal/engine"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/receipt"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Codes of findings that are no warnings of a build.
const (
	UnusedFact   = "unused-fact"
	UnusedSecret = "unused-secret"
	Network      = "network"
	Root         = "root"
)

// Finding is something that had better be otherwise.
type Finding struct {
	receipt.Position
	Code string `json:"code"`
	Text string `json:"text"`
}

// Look finds all of it, in the order of the recipe. What has no place there comes last: warnings that tell their place themselves.
func Look(ctx context.Context, w *workspace.Workspace) ([]Finding, error) {
	l := &look{file: w.Recipe.File, list: []Finding{}}
	l.facts(w.Recipe)
	l.secrets(w.Recipe)
	for _, u := range w.Plan.Units {
		l.unit(u, w.Recipe)
	}
	for _, d := range w.Plan.Doubts {
		l.add(d.Pos, d.Code, "%s", d.Text)
	}
	var mutex sync.Mutex
	sink := event.Func(func(e event.Event) {
		if warning, is := e.(event.Warning); is {
			mutex.Lock()
			defer mutex.Unlock()
			l.warning(warning)
		}
	})
	o, done, err := w.Engine(ctx, sink)
	if err != nil {
		return nil, err
	}
	defer done()
	if _, err := engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs}); err != nil {
		return nil, err
	}
	slices.SortStableFunc(l.list, func(a, b Finding) int {
		return cmp.Or(strings.Compare(a.File, b.File), a.Line-b.Line, a.Column-b.Column, strings.Compare(a.Code, b.Code), strings.Compare(a.Text, b.Text))
	})
	return slices.CompactFunc(l.list, func(a, b Finding) bool { return a == b }), nil
}

type look struct {
	file *recipe.File
	list []Finding
}

func (l *look) add(pos recipe.Pos, code, format string, values ...any) {
	l.list = append(l.list, Finding{receipt.PositionAt(l.file.Place(pos)), code, fmt.Sprintf(format, values...)})
}

// placed is a warning that begins with its place in the recipe, and ends with the line there.
var placed = regexp.MustCompile(`(?s)^(\S+):([0-9]+):([0-9]+): ([^\n]*)`)

// warning takes a warning, unless a doubt of the plan says the same.
func (l *look) warning(w event.Warning) {
	f := Finding{Code: w.Code, Text: w.Text}
	if m := placed.FindStringSubmatch(w.Text); m != nil {
		line, _ := strconv.Atoi(m[2])
		column, _ := strconv.Atoi(m[3])
		f.Position, f.Text = receipt.PositionAt(m[1], line, column), m[4]
	}
	if !slices.Contains(l.list, f) {
		l.list = append(l.list, f)
	}
}

// facts finds those that no expression uses. The fact "version" is said of every image.
func (l *look) facts(r *recipe.Recipe) {
	used := map[string]bool{"version": true}
	r.Expressions(func(e *recipe.Expression) {
		for _, name := range e.Uses("facts") {
			used[name] = true
		}
	})
	for _, f := range r.Facts {
		if !used[f.Name] {
			l.add(f.Pos, UnusedFact, "nothing uses the fact %q", f.Name)
		}
	}
}

// secrets finds those that no step, no other secret and no notice uses.
func (l *look) secrets(r *recipe.Recipe) {
	used := map[string]bool{}
	for _, s := range r.Secrets {
		for _, name := range s.Needs() {
			used[name] = true
		}
	}
	for _, n := range r.Notify {
		used[n.Secret] = true
	}
	r.EachStep(func(s *recipe.Step) {
		if run, is := s.Do.(*recipe.Run); is {
			for _, use := range run.Secrets {
				used[use.Name] = true
			}
		}
	})
	for _, s := range r.Secrets {
		if !used[s.Name] {
			l.add(s.Pos, UnusedSecret, "nothing uses the secret %q", s.Name)
		}
	}
}

// unit finds commands that have a network without anybody saying that they need one, and images that run as root.
func (l *look) unit(u *plan.Unit, r *recipe.Recipe) {
	for _, s := range u.Steps {
		if run, is := s.Do.(plan.Run); is && run.Network && !r.SaysNetwork(s.Pos) {
			l.add(s.Pos, Network, "the command has a network though nothing says that it needs one: write network: false, or network: true where it does")
		}
	}
	if !u.IsImage {
		return
	}
	switch name, _, _ := strings.Cut(u.Values.Settings.User, ":"); {
	case name == "root" || name == "0":
		l.add(u.Pos, Root, "%s runs as root", u.ID.Name)
	case name == "" && u.Late == nil && u.Base.Unit == nil:
		l.add(u.Pos, Root, "%s names no user, so it runs as its base says, or as root: write user: under settings", u.ID.Name)
	}
}
