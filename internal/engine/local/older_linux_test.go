package local

import (
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// texts are files by their paths: each its content, or = and the path of which it is another name.
type texts map[string]string

func (x texts) tree() *filetree.Tree {
	var entries []tree.Entry
	places := map[string]filetree.Place{}
	folders := map[string]bool{"": true}
	for _, p := range slices.Sorted(maps.Keys(x)) {
		for at := tree.Parent(p); !folders[at]; at = tree.Parent(at) {
			folders[at] = true
			entries = append(entries, tree.Entry{Path: at, Kind: tree.Folder, Mode: 0o755})
		}
		target, link := strings.CutPrefix(x[p], "=")
		if link {
			entries = append(entries, tree.Entry{Path: p, Kind: tree.Hardlink, Mode: 0o644, Target: target})
			continue
		}
		entries = append(entries, tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, Size: int64(len(x[p])), Content: digest.ContentBytes([]byte(x[p]))})
		places[p] = filetree.Place{From: filetree.Memory(x[p]), At: p}
	}
	return filetree.New(entries, places)
}

// TestOlder: of a stratum that was unpacked before only what changed is unpacked, and a command sees no more and no less than
// the stratum, also where what was deleted lies below it, and where the older tree is damaged or gone.
func TestOlder(t *testing.T) {
	l, st, tools := ready(t)
	box, err := l.Tried(t.Context())
	if err != nil || !box.Overlay() {
		t.Skip("commands work on copies here")
	}
	var links []tree.Entry
	for _, applet := range []string{"cat", "find", "md5sum", "sort", "stat"} {
		links = append(links, tree.Entry{Path: applet, Kind: tree.Symlink, Mode: 0o777, Target: "/sh"})
	}
	base, now := texts{"s/d1/base": "base"}, texts{"s/link": "=s/d0/f0"}
	for n := range 80 {
		now[fmt.Sprintf("s/d%d/f%d", n%4, n)] = strings.Repeat(fmt.Sprint("low water ", n, "\n"), 500)
	}
	c := &executor.Command{Args: []string{"/sh", "-c", "find /s | sort | while read p; do stat -c '%n %F %a %u %s' $p; test -d $p || { stat -c %h $p; md5sum < $p; }; done"},
		Dir: "/", Env: []string{"PATH=/"}, Within: time.Minute}
	// prepare lays the view down and tells as which trees the last stratum lies there.
	prepare := func(l *Local, job executor.Job) string {
		lease, err := l.Lease(t.Context(), c, nil, &heard{})
		require.NoError(t, err)
		defer lease.Release()
		place, err := lease.Prepare(t.Context(), job, nil)
		require.NoError(t, err)
		defer place.Close()
		var titles []string
		for _, one := range place.laid[3:] {
			titles = append(titles, strings.TrimSuffix(one.Title(), "copy . to /s"))
		}
		return strings.Join(titles, "| ")
	}
	run := func(l *Local, job executor.Job) string {
		lease, err := l.Lease(t.Context(), c, nil, &heard{})
		require.NoError(t, err)
		defer lease.Release()
		h := &heard{}
		made, err := lease.Run(t.Context(), job, h)
		require.NoError(t, err)
		require.Zero(t, made.Status().Code, h.String())
		require.Contains(t, made.Over(), now.tree().Key, "what came from elsewhere is found by it")
		made.Discard()
		return h.String()
	}
	saw := ""
	look := func(trees string, files int64) {
		t.Helper()
		index := tree.NewView()
		strata := tools.Strata()
		for _, one := range []*filetree.Tree{filetree.New(links, nil), base.tree(), now.tree()} {
			strata = append(strata, filetree.StratumOf(one, "copy . to /s"))
		}
		for _, s := range strata {
			entries, err := s.Entries(t.Context())
			require.NoError(t, err)
			require.NoError(t, index.Apply(entries, nil))
		}
		job := executor.Job{Command: c, View: &executor.View{Index: index, Strata: func() []filetree.Stratum { return strata }}}
		// Each build has an executor of its own.
		l := New(t.Context(), Options{Store: st, Sink: event.Discard, Open: l.Box})
		before := unpackedFiles.N()
		require.Equal(t, trees, prepare(l, job))
		require.Equal(t, files, unpackedFiles.N()-before, "files unpacked")
		got := run(l, job)
		other, err := store.Open(filepath.Join(t.TempDir(), "store"))
		require.NoError(t, err)
		defer func() { require.NoError(t, box.Remove(other.Dir())) }()
		want := run(New(t.Context(), Options{Store: other, Sink: event.Discard, Open: l.Box}), job)
		require.Equal(t, want, got[max(0, len(got)-len(want)):]) // a command that ran over something damaged runs again
		require.NotEqual(t, saw, got)
		saw = got
	}
	const changed = "| what changed in "
	look("", 80+2)
	now["s/d0/f4"] = "new"
	look(changed, 1)
	delete(now, "s/d1/f5")
	look(changed+changed, 0)
	now["s/d0/f0"] = "both names have it"
	look(changed+changed+changed, 1)
	now["s/d2/new"] = "gathered"
	look(changed, 3)
	delete(now, "s/link") // the file has one name less
	look(changed+changed, 1)
	base["s/d3/f7"] = "below"
	delete(now, "s/d3/f7") // what lies below shows
	look("", 2+79)
	for n := range 40 {
		now[fmt.Sprintf("s/d2/f%d", n*4)] = strings.Repeat(fmt.Sprint("a quarter is new ", n), 500)
	}
	look("", 119)

	// An older tree that is gone, or that was damaged, stands for nothing.
	now["s/d1/f13"] = "new again"
	look(changed, 1)
	older := ""
	require.NoError(t, st.EachSnapshot(func(_ string, _ digest.Key, root string) error {
		if _, err := os.Stat(filepath.Join(root, "s/d2/f156")); err == nil {
			older = root
		}
		return nil
	}))
	require.NoError(t, os.WriteFile(filepath.Join(older, "s/d1/f17"), []byte("damaged"), 0o644))
	now["s/d1/f13"] = "and again"
	look(changed+changed, 1) // and then, since the command has read what is damaged, all of it
	now["s/d1/f13"] = "once more"
	look(changed, 1)

	// Nor one whose index is another tree's.
	now["s/d1/f21"] = "not there"
	keys := l.older(box, filetree.StratumOf(now.tree(), "copy . to /s"))[0]
	entries := entriesOf(t, now)
	require.NoError(t, st.PutTreeEntries(keys[0], tree.EncodeEntries(entries)))
	look("", 119)
}

func entriesOf(t *testing.T, x texts) []tree.Entry {
	entries, err := x.tree().Entries(t.Context())
	require.NoError(t, err)
	return entries
}
