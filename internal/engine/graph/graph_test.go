package graph

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// random is a graph of random nodes: each waits for some that were added before it, and some add others when they are done.
type random struct {
	*Graph
	rand  *rand.Rand
	nodes []*Node
	needs map[*Node][]*Node
	done  map[*Node]bool // as the loop was told
	fails map[*Node]error
	early []string // began before what they wait for was done
}

// add makes a node that waits for some others. One in four makes another when it is done, for which a join waits.
func (r *random) add(failing, depth int, others []*Node) *Node {
	var after []*Node
	for range r.rand.IntN(4) {
		if len(others) > 0 {
			after = append(after, others[r.rand.IntN(len(others))])
		}
	}
	var err error
	name := fmt.Sprint(len(r.nodes))
	if r.rand.IntN(100) < failing {
		err = errors.New("node " + name)
	}
	grows, pause := depth < 3 && r.rand.IntN(4) == 0, time.Duration(r.rand.IntN(200))*time.Microsecond
	var n, join *Node
	work := func(ctx context.Context) (func(), error) {
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, fmt.Errorf("node %s: %w", name, ctx.Err())
		}
		if err != nil {
			return nil, err
		}
		return func() {
			for _, other := range r.needs[n] {
				if !r.done[other] {
					r.early = append(r.early, name)
				}
			}
			r.done[n] = true
			if grows {
				child := r.add(failing, depth+1, append(r.needs[n], n)) // nothing that waits for the join
				join.Await(child)
				r.needs[join] = append(r.needs[join], child)
			}
		}, nil
	}
	n = r.Add(name, work, after...)
	r.nodes, r.needs[n] = append(r.nodes, n), after
	if err != nil {
		r.fails[n] = err
	}
	if grows {
		join = r.Add("join "+name, func(context.Context) (func(), error) { return func() { r.done[join] = true }, nil }, n)
		r.nodes, r.needs[join] = append(r.nodes, join), []*Node{n}
	}
	return n
}

// failedBelow reports whether something that a node waits for failed, however far below.
func (r *random) failedBelow(n *Node) bool {
	return slices.ContainsFunc(r.needs[n], func(other *Node) bool {
		return r.fails[other] != nil && other.State() == Failed || r.failedBelow(other)
	})
}

// TestRandomGraphs: with failures and ends at any time a node begins when all that it waits for is done; what does not depend
// on a failure is done where the graph keeps going; errors stand in the order of the nodes; and nothing goes on afterwards.
func TestRandomGraphs(t *testing.T) {
	before := runtime.NumGoroutine()
	for seed := range uint64(400) {
		source := rand.New(rand.NewPCG(seed, 19))
		keepGoing, ends, failing := source.IntN(2) == 0, source.IntN(3) == 0, []int{0, 5, 30}[source.IntN(3)]
		r := &random{Graph: New(keepGoing), rand: source, needs: map[*Node][]*Node{}, done: map[*Node]bool{}, fails: map[*Node]error{}}
		for range 1 + source.IntN(40) {
			r.add(failing, 0, r.nodes)
		}
		ctx, cancel := context.WithCancel(t.Context())
		if ends {
			time.AfterFunc(time.Duration(source.IntN(1500))*time.Microsecond, cancel)
		}
		err := r.Run(ctx)
		ended := ctx.Err() != nil
		cancel()
		require.Empty(t, r.early, "seed %d", seed)
		var want []error
		for _, n := range r.nodes {
			require.NotContains(t, []State{Waiting, Running}, n.State(), "seed %d, node %s", seed, n.name)
			require.Equal(t, n.State() == Done, r.done[n], "seed %d, node %s", seed, n.name)
			switch {
			case n.State() == Failed:
				require.Equal(t, r.fails[n], n.Err())
				want = append(want, n.Err())
			case r.failedBelow(n):
				require.Equal(t, Skipped, n.State(), "seed %d, node %s", seed, n.name)
				require.True(t, n.Cause() == nil || n.Cause().State() == Failed)
			case keepGoing && !ended:
				require.Equal(t, Done, n.State(), "seed %d, node %s depends on no failure", seed, n.name)
			}
		}
		switch {
		case len(want) == 0 && !ended:
			require.NoError(t, err)
		case len(want) == 0:
			require.True(t, err == nil || errors.Is(err, context.Canceled)) // it may have been done when it was ended
		case len(want) == 1 || !keepGoing:
			require.Contains(t, want, err)
		default:
			require.Equal(t, errors.Join(want...), err)
		}
	}
	for wait := 0; runtime.NumGoroutine() > before && wait < 500; wait++ { // those that have told their results are about to end
		time.Sleep(10 * time.Millisecond)
	}
	require.LessOrEqual(t, runtime.NumGoroutine(), before)
}

// TestFailures: what tells of a failure is told whether the node failed or was ended, and which node is to blame.
func TestFailures(t *testing.T) {
	for _, keepGoing := range []bool{false, true} {
		g := New(keepGoing)
		told := map[string]bool{}
		wrong := errors.New("no such level")
		bad := g.Add("bad", func(context.Context) (func(), error) { return nil, wrong })
		slow := g.Add("slow", func(ctx context.Context) (func(), error) {
			if keepGoing {
				return nil, nil
			}
			select {
			case <-ctx.Done():
			case <-time.After(5 * time.Second):
			}
			return nil, ctx.Err()
		})
		bad.OnFailure(func(_ error, ended bool) { told["bad"] = ended })
		slow.OnFailure(func(_ error, ended bool) { told["slow"] = ended })
		last := g.Add("last", nil, g.Add("between", nil, bad, slow))
		twice := g.Add("twice", func(context.Context) (func(), error) { return nil, wrong })
		require.Equal(t, wrong, g.Run(t.Context()), "one error that two nodes give is told once")
		require.Equal(t, Skipped, last.State())
		require.Equal(t, keepGoing, twice.State() == Failed && slow.State() == Done)
		if keepGoing {
			require.Equal(t, bad, last.Cause())
			require.Equal(t, map[string]bool{"bad": false}, told)
		} else {
			require.Equal(t, map[string]bool{"bad": false, "slow": true}, told)
		}
	}
	circle := New(false)
	a := circle.Add("a", nil)
	a.Await(circle.Add("b", nil, a))
	require.EqualError(t, circle.Run(t.Context()), "the node a waits for itself")
}

// TestSetAside: a failure ends nothing where all that depends on it is set aside, and all where anything else does or it is of another kind.
func TestSetAside(t *testing.T) {
	failed := errors.New("the command failed")
	for _, c := range []struct {
		name          string
		shared, other bool // something else needs what fails; it fails in another way
		ends          bool
	}{{"aside", false, false, false}, {"needed", true, false, true}, {"of another kind", false, true, true}} {
		t.Run(c.name, func(t *testing.T) {
			g, err := New(false), failed
			if c.other {
				err = errors.New("the disk is full")
			}
			broken := g.Add("broken", func(context.Context) (func(), error) { return nil, err })
			done := g.Add("done", nil, g.Add("between", nil, broken), broken)
			done.SetAside(func(err error) bool { return err == failed })
			slow := g.Add("slow", func(ctx context.Context) (func(), error) {
				select {
				case <-time.After(20 * time.Millisecond):
					return nil, nil
				case <-ctx.Done():
					return nil, ctx.Err()
				}
			})
			if c.shared {
				g.Add("image", nil, broken)
			}
			got := g.Run(t.Context())
			require.Equal(t, broken, done.Cause())
			if c.ends {
				require.ErrorIs(t, got, err)
				require.Equal(t, Skipped, slow.State())
				return
			}
			require.NoError(t, got)
			require.Equal(t, Done, slow.State())
		})
	}
}
