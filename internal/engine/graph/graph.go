// Package graph does work that depends on other work, side by side.
//
// One loop owns all state; workers get a context and return what they found. It knows nothing of what the work is, prints
// nothing, and bounds nothing: work that must not be done too often at once takes its own turns.
package graph

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
)

// Work is done by a goroutine of its own, once everything that it waits for is done. What it found takes effect in the
// function that it returns, which the loop calls: that may change what loop functions share, and add nodes. It may be nil.
type Work func(ctx context.Context) (then func(), err error)

// State tells how far a node is.
type State int

// The states of a node.
const (
	Waiting State = iota
	Running
	Done
	Failed
	Skipped // something that it waits for did not get done, or the graph was ended
)

// Node is a piece of work. It belongs to the loop: its methods are for the functions that the loop calls, and for everybody
// before Run and after it.
type Node struct {
	graph  *Graph
	name   string
	work   Work
	waits  int
	next   []*Node
	state  State
	err    error
	cause  *Node
	failed func(err error, ended bool)
	aside  func(err error) bool
	spared bool // it failed, and that ends nothing
}

// State returns the node's state.
func (n *Node) State() State { return n.state }

// Err is why the node failed, or how it was ended.
func (n *Node) Err() error { return n.err }

// Cause is the node whose failure has this one skipped, however far below; nil of one that was ended or not skipped.
func (n *Node) Cause() *Node { return n.cause }

// OnFailure has the loop call f when the work of the node returns an error; ended, that it was ended and has not failed.
func (n *Node) OnFailure(f func(err error, ended bool)) { n.failed = f }

// SetAside has failures that spare says are of that kind end nothing, and be no error of the graph, where all that depends on them
// ends in nodes that are set aside.
func (n *Node) SetAside(spare func(err error) bool) { n.aside = spare }

// spares reports whether a failure of the node is one that ends nothing.
func (n *Node) spares(err error) bool {
	seen := map[*Node]bool{}
	var visit func(n *Node) bool
	visit = func(n *Node) bool {
		if seen[n] {
			return true
		}
		seen[n] = true
		if len(n.next) == 0 {
			return n.aside != nil && n.aside(err)
		}
		return !slices.ContainsFunc(n.next, func(next *Node) bool { return !visit(next) })
	}
	return visit(n)
}

// Await has the node wait for others too. It must not have begun.
func (n *Node) Await(others ...*Node) {
	if n.state != Waiting && n.state != Skipped {
		panic("the node " + n.name + " has begun, and can wait for nothing more")
	}
	for _, other := range others {
		if n.state == Skipped {
			return
		}
		switch other.state {
		case Waiting, Running:
			other.next = append(other.next, n)
			n.waits++
		case Failed:
			n.graph.skip(n, other)
		case Skipped:
			n.graph.skip(n, other.cause)
		}
	}
}

// Graph is a set of nodes.
type Graph struct {
	keepGoing bool
	nodes     []*Node
	added     []*Node // since the loop looked last
	running   int
	results   chan result
	errs      []error
}

type result struct {
	node *Node
	then func()
	err  error
}

// New makes an empty graph. With keepGoing a failure ends nothing but what depends on it.
func New(keepGoing bool) *Graph {
	return &Graph{keepGoing: keepGoing, results: make(chan result)}
}

// Add makes a node of work that waits for others. Work may be nil: such a node is done when all that it waits for is. Name is
// for panics alone.
func (g *Graph) Add(name string, work Work, after ...*Node) *Node {
	n := &Node{graph: g, name: name, work: work}
	g.nodes = append(g.nodes, n)
	g.added = append(g.added, n)
	n.Await(after...)
	return n
}

// Run does the work of all nodes and returns when no work is going on. The error is that of the first node that failed;
// with keepGoing those of all, in the order in which they were added. It may be called once.
func (g *Graph) Run(ctx context.Context) error {
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	for ready := g.ready(); ; ready = append(ready, g.ready()...) {
		for len(ready) > 0 {
			n := ready[0]
			ready = ready[1:]
			switch {
			case n.state != Waiting:
			case inner.Err() != nil:
				g.skip(n, nil)
			case n.work == nil:
				ready = append(ready, g.finish(n, nil)...)
			default:
				n.state = Running
				g.running++
				go func() {
					then, err := n.work(inner)
					g.results <- result{n, then, err}
				}()
			}
		}
		if g.running == 0 {
			break
		}
		r := <-g.results
		g.running--
		if r.err == nil {
			ready = append(ready, g.finish(r.node, r.then)...)
			continue
		}
		if g.fail(r.node, r.err, inner.Err() != nil); !g.keepGoing && !r.node.spared {
			cancel()
		}
	}
	for _, n := range g.nodes {
		if n.state == Waiting {
			return fmt.Errorf("the node %s waits for itself", n.name)
		}
	}
	return g.result(ctx)
}

// ready returns those of the nodes that were added which wait for nothing.
func (g *Graph) ready() (ready []*Node) {
	for _, n := range g.added {
		if n.state == Waiting && n.waits == 0 {
			ready = append(ready, n)
		}
	}
	g.added = nil
	return ready
}

// finish marks a node as done and gives those that wait for nothing more.
func (g *Graph) finish(n *Node, then func()) (ready []*Node) {
	if then != nil {
		then()
	}
	n.state = Done
	for _, next := range n.next {
		if next.waits--; next.waits == 0 && next.state == Waiting {
			ready = append(ready, next)
		}
	}
	ready = append(ready, g.ready()...)
	return slices.Compact(ready)
}

// fail marks a node whose work returned an error. Work that was ended has not failed.
func (g *Graph) fail(n *Node, err error, ended bool) {
	n.err = err
	if ended && (errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)) {
		n.state = Skipped
	} else {
		n.state = Failed
		if n.spared = n.spares(err); !n.spared {
			g.errs = append(g.errs, err)
		}
	}
	if n.failed != nil {
		n.failed(err, n.state == Skipped)
	}
	for _, next := range n.next {
		if n.state == Failed {
			g.skip(next, n)
		} else {
			g.skip(next, nil)
		}
	}
}

// skip marks a node that cannot be done, with all that wait for it.
func (g *Graph) skip(n *Node, cause *Node) {
	if n.state != Waiting {
		return
	}
	n.state, n.cause = Skipped, cause
	for _, next := range n.next {
		g.skip(next, cause)
	}
}

// result gives what went wrong.
func (g *Graph) result(ctx context.Context) error {
	switch {
	case len(g.errs) == 0:
		return ctx.Err()
	case !g.keepGoing:
		return g.errs[0]
	}
	var all []error
	for _, n := range g.nodes {
		// Several nodes may tell of one and the same thing.
		if n.state == Failed && !n.spared && !slices.ContainsFunc(all, func(known error) bool { return same(known, n.err) }) {
			all = append(all, n.err)
		}
	}
	if len(all) == 1 {
		return all[0]
	}
	return errors.Join(all...)
}

func same(a, b error) bool { return reflect.TypeOf(a).Comparable() && a == b }
