package store

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

func keyFor(text string) digest.Key { return digest.Key(digest.ContentBytes([]byte(text))) }

// TestRunsAndTrees: what commands leave is found again whole, checked, mended, and trimmed as one.
func TestRunsAndTrees(t *testing.T) {
	s, ctx := open(t), context.Background()
	key, tree := keyFor("command"), keyFor("tree")
	require.Empty(t, s.Runs(key))
	require.NoError(t, s.PutTreeEntries(tree, []byte("entries")))
	log, err := s.PutLog([]byte("printed"))
	require.NoError(t, err)
	for i := range MostRuns + 5 {
		learnt := keyFor(fmt.Sprint("trace", i))
		require.NoError(t, s.PutTrace(learnt, []byte("learnt")))
		require.NoError(t, s.PutRun(&Run{Key: key, Trace: learnt, Tree: tree, Log: log, Files: 1, Kept: []string{"k"}, Made: time.Unix(int64(i), 0)}))
		if first := s.Runs(key); i >= 3 {
			require.True(t, s.RelyOnRun(first[len(first)-1])) // what is used stays
		}
	}
	all := s.Runs(key)
	require.Len(t, all, MostRuns)
	require.Equal(t, keyFor(fmt.Sprint("trace", MostRuns+4)), all[0].Trace, "the latest comes first")
	require.Equal(t, keyFor("trace0"), all[MostRuns-1].Trace, "it was used all the time")
	require.Equal(t, tree, all[0].Tree)
	printed, _ := s.Log(all[0].Log)
	require.Equal(t, "printed", string(printed))
	_, found := s.Trace(all[0].Trace)
	require.True(t, found)
	require.Empty(t, s.Runs(keyFor("other")))
	require.Error(t, s.PutRun(&Run{Key: key, Trace: "../x"}))
	entries, _ := s.TreeEntries(tree)
	require.Equal(t, "entries", string(entries))

	put := func() string {
		work, err := s.TemporaryFolder()
		require.NoError(t, err)
		require.NoError(t, os.Mkdir(filepath.Join(work, "root"), 0o755))
		dir, err := s.PutSnapshot("root", tree, work, Room{Bytes: 1000, Files: 3})
		require.NoError(t, err)
		require.NoError(t, s.Discard(work), "what another process was faster with is left to the caller")
		return dir
	}
	require.Equal(t, put(), put(), "the first one stays")
	dir, seen, found := s.Snapshot("root", tree)
	require.True(t, found && seen)
	_, _, found = s.Snapshot("single", tree)
	require.False(t, found, "another form is another folder")
	about := filepath.Join("imbricat", snapshots, "root", string(tree), snapshotFile)
	says := func(one snapshot) {
		text, err := Seal(one)
		require.NoError(t, err)
		require.NoError(t, s.WriteFile(about, text))
	}
	says(snapshot{Version: snapshotVersion, Tree: tree, Boot: "before"})
	_, seen, found = s.Snapshot("root", tree)
	require.True(t, found && !seen, "the machine was started since")
	require.NoError(t, s.SawSnapshot("root", tree))
	_, seen, _ = s.Snapshot("root", tree)
	require.True(t, seen)
	// What was synced is relied on whatever became of the machine; what an earlier version unpacked never is.
	require.NoError(t, s.SyncSnapshots())
	is, valid := readSnapshot(s.path(filepath.Dir(about)), tree)
	require.True(t, valid && is.Synced)
	is.Boot = "before"
	says(is)
	_, seen, _ = s.Snapshot("root", tree)
	require.True(t, seen)
	is.Version--
	says(is)
	_, _, found = s.Snapshot("root", tree)
	require.False(t, found)
	put()
	_, _, found = s.Snapshot("root", tree)
	require.True(t, found, "what is of no use gives way")
	for _, form := range []string{"../x", "a/b"} {
		_, err := s.PutSnapshot(form, tree, t.TempDir(), Room{})
		require.Error(t, err, form)
	}

	s.CheckTree = func(form, root string, lines []byte) error {
		require.Equal(t, dir, root)
		require.Equal(t, "entries", string(lines))
		return os.ErrInvalid
	}
	over := *all[0]
	over.Trace, over.Over = digest.Key(digest.ContentBytes([]byte("over"))), []digest.Key{tree}
	require.NoError(t, s.PutRun(&over))
	before := len(s.Runs(key))
	report, err := s.Check(ctx, false)
	require.NoError(t, err)
	require.Len(t, report.Findings, 1)
	report, err = s.Check(ctx, true)
	require.NoError(t, err)
	require.Equal(t, "removed; records of commands that ran over it, also removed: 1", report.Findings[0].Done)
	require.Len(t, s.Runs(key), before-1)
	_, _, found = s.Snapshot("root", tree)
	require.False(t, found)
	s.CheckTree = nil

	put()
	usage, err := s.Size(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 13288, usage.Unpacked)
	require.NoError(t, s.Close())
	s, err = Open(s.Dir()) // what was used under the old lease is free now
	require.NoError(t, err)
	trimmed, err := s.Trim(ctx, Trimming{})
	require.NoError(t, err)
	require.Zero(t, trimmed.Left.Unpacked)
	_, _, found = s.Snapshot("root", tree)
	require.False(t, found)
}

// TestKept: a kept directory that a step has stays, whoever wants it gone; leftovers of killed processes go at once.
func TestKept(t *testing.T) {
	s, ctx := open(t), context.Background()
	for _, name := range []string{"", "..", ".hidden", "a/b"} {
		_, _, err := s.Kept("root", name)
		require.Error(t, err, name)
	}
	k, lock, err := s.Kept("root", "downloads")
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(k.Dir, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(k.Dir, "f"), []byte("12345"), 0o644))
	require.NoError(t, s.HoldKept(k, Holder{Step: "gauge", Process: 7, Since: time.Unix(1, 0)}))
	holder, known := s.KeptHolder(k)
	require.True(t, known)
	require.Equal(t, "gauge", holder.Step)
	// What is said of its content is said of no other: not while another is brought, nor where that fails.
	fill := Fill{Key: "k", Trace: "t", Project: "/tides"}
	require.NoError(t, s.NoteFill(k, fill))
	notes := filepath.Join(t.TempDir(), "notes")
	require.NoError(t, s.ExportFills(k, notes))
	bring := func(err error) func() error {
		return func() error {
			require.Empty(t, s.Fills(k))
			return err
		}
	}
	require.Error(t, s.ImportFills(k, notes, bring(io.ErrUnexpectedEOF)))
	require.Empty(t, s.Fills(k))
	require.NoError(t, s.ImportFills(k, notes, bring(nil)))
	require.Equal(t, []Fill{fill}, s.Fills(k))
	require.NoError(t, os.WriteFile(notes, []byte("{}"), 0o644))
	require.ErrorContains(t, s.ImportFills(k, notes, nil), notes)
	require.Equal(t, []Fill{fill}, s.Fills(k), "notes that cannot be read change nothing")
	held, err := lock.TryLock()
	require.True(t, held && err == nil)
	gone, err := s.DropKept("root", "downloads")
	require.NoError(t, err)
	require.False(t, gone)
	past := time.Now().Add(-100 * 24 * time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(filepath.Dir(k.Dir), "holder.json"), past, past))
	trimmed, err := s.Trim(ctx, Trimming{UnusedFor: time.Hour})
	require.NoError(t, err)
	require.EqualValues(t, 8192, trimmed.Left.Kept, "a step has it: a folder and a file")
	require.NoError(t, lock.Close())
	list, err := s.KeptDirs()
	require.NoError(t, err)
	require.Len(t, list, 1)
	trimmed, err = s.Trim(ctx, Trimming{UnusedFor: time.Hour})
	require.NoError(t, err)
	require.Zero(t, trimmed.Left.Kept)
	list, err = s.KeptDirs()
	require.NoError(t, err)
	require.Empty(t, list)

	mine, err := s.TemporaryFolder()
	require.NoError(t, err)
	dead := strings.Replace(mine, filepath.Base(s.lease.Path()), "1234-dead", 1)
	require.NoError(t, os.Mkdir(dead, 0o755))
	s.Sweep()
	require.DirExists(t, mine)
	require.NoDirExists(t, dead)
}
