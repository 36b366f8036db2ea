package command

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// noted is an executor that runs nothing: it notes what it is asked, and answers as the test says.
type noted struct {
	calls  []string
	fills  map[string][]store.Fill
	empty  map[string]bool
	status executor.Status
	err    error
	prints string
}

func (n *noted) note(format string, args ...any) {
	n.calls = append(n.calls, fmt.Sprintf(format, args...))
}

func (n *noted) Check(context.Context, executor.Wanted) error { return nil }
func (n *noted) Classes(context.Context, platform.Platform) []executor.Class {
	return []executor.Class{{Sandbox: "a"}, {Sandbox: "b"}}
}
func (n *noted) Holds(context.Context, digest.Key, []tree.Entry) (tree.Contents, error) {
	return filetree.Memory("3.42"), nil
}
func (n *noted) Reserve(_ context.Context, c *executor.Command, keep []plan.Keep, _ executor.Watch) (executor.Lease, error) {
	var names []string
	for _, k := range keep {
		names = append(names, k.Name)
	}
	n.note("reserve %s", strings.Join(names, ","))
	return n, nil
}
func (n *noted) Kept(name string) ([]store.Fill, bool, error) {
	return n.fills[name], n.empty[name], nil
}
func (n *noted) Filled(keep []plan.Keep, fill store.Fill) error {
	for _, k := range keep {
		n.fills[k.Name], n.empty[k.Name] = append(n.fills[k.Name], fill), false
	}
	n.note("filled by %d", fill.Step)
	return nil
}
func (n *noted) Release() { n.note("release") }
func (n *noted) Run(ctx context.Context, job executor.Job, watch executor.Watch) (executor.Attempt, error) {
	n.note("run %s refill %v", job.Args[0], job.Refill)
	for _, use := range job.Secrets {
		if _, err := job.Secret(ctx, use.Name); err != nil {
			return nil, err
		}
	}
	_, _ = watch.Output().Write([]byte(n.prints))
	return n, n.err
}
func (n *noted) Status() executor.Status { return n.status }
func (n *noted) Trace() *trace.Trace     { return &trace.Trace{} }
func (n *noted) Entries() []tree.Entry {
	return []tree.Entry{{Path: "level", Kind: tree.File, Mode: 0o644, Size: 4, Content: digest.ContentBytes([]byte("3.42"))}}
}
func (n *noted) Files() tree.Contents { return filetree.Memory("3.42") }
func (n *noted) Over() []digest.Key   { return nil }
func (n *noted) Discard()             { n.note("discard") }
func (n *noted) Accept(context.Context) (tree.Contents, error) {
	n.note("accept")
	return filetree.Memory("3.42"), nil
}

// Secret, Warn and Send are the rest of what a runner is given.
func (n *noted) Secret(context.Context, string, plan.Secret) ([]byte, error) {
	return []byte("sesame-street"), nil
}
func (n *noted) Warn(*plan.Step, string, string) {}
func (n *noted) Send(e event.Event) {
	if out, is := e.(event.Output); is {
		n.note("printed %s", out.Text)
	}
}

// TestRunner: the lease covers the fillers' kept directories too; what is not as they leave it is filled again under it, before
// the command; secrets are covered from the first byte; what failed is discarded, and leaves no record.
func TestRunner(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	n := &noted{fills: map[string][]store.Fill{}, empty: map[string]bool{"levels": true}, prints: "at sesame-street\n", status: executor.Status{Wall: time.Second}}
	r := NewRunner(Runner{Plan: &plan.Plan{File: &recipe.File{}, Secrets: map[string]plan.Secret{"token": {}}}, Store: st, Executor: n, Secrets: n, Warner: n, Sink: n})
	command := func(index int, arg string, keep ...string) *Command {
		do := plan.Run{Args: []string{arg}}
		for _, name := range keep {
			do.Keep = append(do.Keep, plan.Keep{Name: name, At: "/" + name})
		}
		unit := &plan.Unit{ID: plan.UnitID{Name: "gauge"}, Steps: make([]plan.Step, 3)}
		unit.Steps[index] = plan.Step{Label: arg, Do: do}
		c, err := r.Prepare(t.Context(), Setting{Unit: unit, Name: step.Name{Unit: unit.ID, Index: index}, Step: &unit.Steps[index], Below: step.Nothing()})
		require.NoError(t, err)
		return c
	}
	fill, use := command(0, "fill", "levels", "pages"), command(1, "use", "levels")
	use.Secrets = []plan.SecretUse{{Name: "token"}}
	said := func() (calls []string) { calls, n.calls = n.calls, nil; return calls }

	first, err := r.Run(t.Context(), fill, event.FirstTime, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"reserve levels,pages", "run fill refill false", "printed at sesame-street\n", "accept", "filled by 0", "release"}, said())
	recalled, why := r.Recall(t.Context(), fill)
	require.NotNil(t, recalled, "%v", why)
	require.Equal(t, first.Tree.Key, recalled.Tree.Key)
	require.False(t, recalled.Run.Ran)

	// The first has run in this build: it need not again, whatever the directory holds.
	n.empty["levels"] = true
	_, err = r.Run(t.Context(), use, event.FirstTime, []Filler{{fill, first.Run}})
	require.NoError(t, err)
	require.Equal(t, []string{"reserve levels", "run use refill false", "printed at ••••••\n", "accept", "filled by 1", "release"}, said())
	// It was recalled, and another version of it has filled the directory since.
	n.fills["levels"] = append(n.fills["levels"], store.Fill{Key: fill.Key, Unit: fill.Name.Unit.String(), Trace: "other"})
	made, err := r.Run(t.Context(), use, event.AskedFor, []Filler{{fill, recalled.Run}})
	require.NoError(t, err)
	require.Equal(t, []int{0}, made.Refilled)
	require.Equal(t, []string{"reserve levels,levels,pages", "run fill refill true", "printed at sesame-street\n", "filled by 0", "discard",
		"run use refill false", "printed at ••••••\n", "accept", "filled by 1", "release"}, said())

	// What did not end well.
	other := command(2, "other", "levels")
	for what, answer := range map[string]func(){
		"ended with status 3":              func() { n.status.Code = 3 },
		"was ended by the signal KILL":     func() { n.status.Signal = "KILL" },
		"was ended: it took too much":      func() { n.err = &executor.StoppedError{What: "it took too much"} },
		"no room, which is not a failure ": func() { n.err = errors.New("no room, which is not a failure ") },
	} {
		n.status, n.err = executor.Status{}, nil
		answer()
		_, err := r.Run(t.Context(), other, event.FirstTime, nil)
		var failed *FailedError
		if errors.As(err, &failed) {
			require.Equal(t, what, failed.What)
			require.Equal(t, "gauge:3: at sesame-street\n", failed.Place+": "+string(failed.Output))
		} else {
			require.EqualError(t, err, what)
		}
		require.NotContains(t, said(), "accept")
		require.Empty(t, st.Runs(other.Key))
	}
	// A run in a worse class of places serves too.
	n.status, n.err = executor.Status{}, nil
	second := other.in(executor.Class{Sandbox: "b"})
	require.NotEqual(t, other.Key, second.Key)
	_, err = r.Run(t.Context(), second, event.FirstTime, nil)
	require.NoError(t, err)
	recalled, _ = r.Recall(t.Context(), other)
	require.NotNil(t, recalled)
	require.Equal(t, second.ID, recalled.Run.ID)
}
