package local

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

func TestMain(m *testing.M) {
	if status, child := sandbox.Child(os.Args); child {
		os.Exit(status)
	}
	os.Exit(m.Run())
}

// ready makes an executor, and a view that has busybox.
func ready(t *testing.T) (*Local, *store.Store, *executor.View) {
	program, err := os.ReadFile("/bin/busybox")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("busybox-static is not installed")
	}
	require.NoError(t, err)
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	box, err := sandbox.Open(t.Context(), sandbox.Options{Time: layer.Epoch.Unix()})
	require.NoError(t, err)
	t.Cleanup(func() {
		require.NoError(t, box.Remove(st.Dir()))
		require.NoError(t, box.Close())
	})
	l := New(t.Context(), Options{Store: st, Sink: event.Discard, Open: func(context.Context) (*sandbox.Box, error) { return box, nil }})
	below := filetree.Of([]tree.Entry{{Path: "sh", Kind: tree.File, Mode: 0o755, Size: int64(len(program)), Content: digest.ContentBytes(program)}}, filetree.Memory(program))
	entries, err := below.Entries(t.Context())
	require.NoError(t, err)
	view := tree.NewView()
	require.NoError(t, view.Apply(entries, below))
	return l, st, &executor.View{Index: view, Strata: func() []filetree.Stratum { return []filetree.Stratum{filetree.StratumOf(below, "busybox")} }}
}

// heard is a watch that keeps what is printed.
type heard struct{ bytes.Buffer }

func (h *heard) Output() io.Writer      { return h }
func (*heard) Act(string)               {}
func (*heard) Waiting(executor.Waiting) {}

// TestCommandThatBegan: from when a command has its kept directory nobody takes that for what an earlier one left, however the
// command ends; and the directory is free again when its lease is.
func TestCommandThatBegan(t *testing.T) {
	l, _, view := ready(t)
	keep := []plan.Keep{{Name: "levels", At: "/k"}}
	c := &executor.Command{Args: []string{"/sh", "-c", "echo low > /k/level; exit 3"}, Dir: "/", Within: time.Minute, Keep: keep}
	before := store.Fill{Key: "before", Trace: "whole"}
	within, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	for range 2 { // the second one waits for ever, if the first has not given all back
		lease, err := l.Reserve(within, c, keep, &heard{})
		require.NoError(t, err)
		require.NoError(t, lease.Filled(keep, before))
		made, err := lease.Run(t.Context(), executor.Job{Command: c, View: view, Fill: store.Fill{Key: "now"}}, &heard{})
		require.NoError(t, err)
		require.Equal(t, 3, made.Status().Code)
		made.Discard()
		fills, empty, err := lease.Kept("levels")
		require.NoError(t, err)
		require.False(t, empty)
		require.Equal(t, store.Fill{Key: "now"}, fills[len(fills)-1], "it began, and nobody knows how far it came")
		_, _, err = lease.Kept("pages")
		require.ErrorContains(t, err, "was not reserved")
		lease.Release()
	}
}

// away is a stratum whose files cannot be had at first.
type away struct {
	filetree.Stratum
	asked int
}

func (a *away) Feed(ctx context.Context, entries []tree.Entry) filetree.Feed {
	if a.asked++; a.asked == 1 {
		return func(filetree.Put) error { return errors.New("the cache is away") }
	}
	return a.Stratum.Feed(ctx, entries)
}

// TestUnpackedLater: what could not be unpacked once is unpacked when it can be had, by the same executor.
func TestUnpackedLater(t *testing.T) {
	l, _, view := ready(t)
	strata := []filetree.Stratum{&away{Stratum: view.Strata()[0]}}
	if box, err := l.Tried(t.Context()); err != nil || !box.Overlay() {
		t.Skip("commands work on copies here")
	}
	require.ErrorContains(t, l.Unpack(t.Context(), strata), "the cache is away")
	require.NoError(t, l.Unpack(t.Context(), strata))
}

// TestByName: whoever needs a directory alone has it alone, whatever others would share.
func TestByName(t *testing.T) {
	shared, alone, other := plan.Keep{Name: "levels", AtOnce: true}, plan.Keep{Name: "levels"}, plan.Keep{Name: "a", AtOnce: true}
	require.Equal(t, []plan.Keep{other, alone}, byName([]plan.Keep{shared, alone, other}))
	require.Equal(t, []plan.Keep{other, alone}, byName([]plan.Keep{alone, other, shared}))
	require.Equal(t, []plan.Keep{shared}, byName([]plan.Keep{shared, shared}))
}
