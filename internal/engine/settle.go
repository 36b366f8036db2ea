package engine

import (
	"context"
	"fmt"
	"strings"
	"unicode/utf8"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/graph"
	"imbricat/internal/spec/plan"
)

// settle returns the node in which values of a unit or of a step of it become known: when the unit is open, and the units whose
// results they take are done.
func (w *work) settle(n *unitNode, needs []*plan.Unit, values func(plan.Known) (func(), error)) *graph.Node {
	nodes := []*graph.Node{n.open}
	results := map[*plan.Unit]*unitNode{}
	for _, u := range needs {
		results[u] = w.unit(u)
		nodes = append(nodes, results[u].done)
	}
	return w.graph.Add("settle values of "+n.plan.ID.String(), func(ctx context.Context) (func(), error) {
		return values(w.known(ctx, n, results))
	}, nodes...)
}

// known returns what values of a unit may need, once it is open and the units of the results are done.
func (w *work) known(ctx context.Context, n *unitNode, results map[*plan.Unit]*unitNode) plan.Known {
	k := plan.Known{Env: map[string]string{}, Result: func(u *plan.Unit, path string) (any, error) { return w.result(ctx, results[u], path) }}
	if base := n.inherited(); base != nil {
		for _, pair := range base.Config.Config.Env {
			name, value, _ := strings.Cut(pair, "=")
			k.Env[name] = value
		}
		k.Labels, k.User = base.Config.Config.Labels, base.Config.Config.User
	}
	return k
}

// result returns the text of a file that a unit leaves, without the line ends after it; nil where it is not there.
func (w *work) result(ctx context.Context, n *unitNode, path string) (any, error) {
	view, err := n.view().Index(ctx)
	if err != nil {
		return nil, err
	}
	real, err := view.Resolve(strings.TrimPrefix(path, "/"), true)
	if err != nil {
		return nil, err
	}
	found, exists := view.Lookup(real)
	switch {
	case !exists:
		return nil, nil
	case found.Kind != tree.File:
		return nil, fmt.Errorf("%s of %s is a %s, and no file", path, n.plan.ID, found.Kind)
	}
	text, err := account.Finder{Store: w.o.Store, File: w.o.Plan.File}.Content(ctx, found, real)
	if err == nil && !utf8.Valid(text) {
		err = fmt.Errorf("%s of %s is not UTF-8 text", path, n.plan.ID)
	}
	return strings.TrimRight(string(text), "\r\n"), err
}
