package trace

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

type none struct{}

func (none) Open(string) (io.ReadCloser, error) { return nil, io.EOF }

func file(path, text string) tree.Entry {
	return tree.Entry{Path: path, Kind: tree.File, Mode: 0o644, Size: int64(len(text)), Content: digest.ContentBytes([]byte(text))}
}

func folder(path string) tree.Entry { return tree.Entry{Path: path, Kind: tree.Folder, Mode: 0o755} }

func link(path, target string) tree.Entry {
	return tree.Entry{Path: path, Kind: tree.Symlink, Mode: 0o777, Target: target}
}

func viewOf(t testing.TB, entries ...tree.Entry) *tree.View {
	v := tree.NewView()
	require.NoError(t, v.Apply(entries, none{}))
	return v
}

func base(t testing.TB) *tree.View {
	return viewOf(t, folder("src"), file("src/main.c", "main"), folder("src/d"), file("src/d/e", "e"), link("lib", "usr/lib"), folder("usr"), folder("usr/lib"), file("usr/lib/so", "so"),
		link("loop", "loop"), link("top", "/src/../src/d"), link("name", "src/main.c"), file("odd\n\"\xff", "odd"), folder("proc"))
}

// asked is what a trace learnt, as text.
func (t *Trace) asked() string {
	var all []string
	for _, e := range t.Entries {
		all = append(all, e.Path+":"+e.Asked.String())
	}
	return strings.Join(all, " ")
}

// TestResolve: from what was named to what was learnt, through links, dots, other roots, and what is not there.
func TestResolve(t *testing.T) {
	outside := func(p string) bool { return p == "proc" || strings.HasPrefix(p, "proc/") }
	for _, c := range []struct {
		note   Note
		owners bool
		want   string
	}{
		{Note{Path: "/src/main.c", Acts: Read}, false, "src:k src/main.c:kmc"},
		{Note{Path: "//src/./d/../main.c", Acts: Look}, false, "src:k src/d:k src/main.c:km"},
		{Note{Path: "/src/d/e", Acts: Read}, true, ":km src:km src/d:km src/d/e:kmc"},
		{Note{Path: "/lib/so", Acts: Read}, false, "lib:ks usr:k usr/lib:k usr/lib/so:kmc"},
		{Note{Path: "/name", Acts: Read}, false, "name:ks src:k src/main.c:kmc"},
		{Note{Path: "/name", Acts: Read | NoFollow}, false, "name:km"},
		{Note{Path: "/lib/", Acts: Look | NoFollow}, false, "lib:ks usr:k usr/lib:km"},
		{Note{Path: "/lib", Acts: Look | NoFollow}, false, "lib:km"},
		{Note{Path: "/top/e", Acts: Read}, false, "src:k src/d:k src/d/e:kmc top:ks"},
		{Note{Path: "/loop/x", Acts: Read}, false, "loop:ks"},
		{Note{Path: "/none/deeper", Acts: Look}, false, "none:k"},
		{Note{Path: "/none/deeper/../../src/main.c", Acts: Read}, false, "none:k src:k src/main.c:kmc"},
		{Note{Path: "/src/main.c/x", Acts: Look}, false, "src:k src/main.c:k"},
		{Note{Path: "/proc/self/../../src", Acts: List}, false, "src:kmn"},
		{Note{Path: "/proc/cpuinfo", Acts: Read}, false, ""},
		{Note{Path: "/src", Acts: Pass}, false, "src:k"},
		{Note{Path: "/src", Acts: Read}, false, "src:km"},
		{Note{Path: "/src", Acts: Move | NoFollow}, false, "src:kmw"},
		{Note{Path: "/src/d", Acts: Remove | NoFollow}, false, "src:k src/d:kn"},
		{Note{Path: "/src/main.c", Acts: Remove | NoFollow}, false, "src:k src/main.c:k"},
		{Note{Path: "/src/main.c", Acts: Overwrite}, false, "src:k src/main.c:kms"},
		{Note{Path: "/src/main.c", Acts: Read | Create}, false, "src:k src/main.c:kmcs"},
		{Note{Path: "/src/main.c", Acts: Remove | NoFollow}, true, ":km src:km src/main.c:ks"},
		{Note{Path: "/src/main.c", Acts: Change}, false, "src:k src/main.c:kmc"},
		{Note{Path: "/src/new", Acts: Make | NoFollow}, false, "src:k src/new:k"},
		{Note{Path: "/", Acts: List}, false, ":kmn"},
		{Note{Root: "/src", Path: "/src/../../d/e", Acts: Read}, false, "src/d:k src/d/e:kmc"},
		// What a process has open beyond its root is beyond it; links with whole paths lead into the root all the same.
		{Note{Root: "/src/d", Path: "/src/main.c", Acts: Read}, false, "src:k src/main.c:kmc"},
		{Note{Root: "/src/d", Path: "/src/d/../main.c", Acts: Look}, false, "src/d/main.c:k"},
		{Note{Root: "/src/d", Path: "/src/../src/d/../e", Acts: Read}, false, "src:k src/d:k src/d/e:kmc"},
		{Note{Root: "/sr", Path: "/src/main.c", Acts: Read}, false, "src:k src/main.c:kmc"},
		{Note{Root: "/usr", Path: "/top/e", Acts: Read}, false, "top:ks usr/src:k"},
	} {
		view := base(t)
		r := NewResolver(view, outside, c.owners)
		r.Add(c.note)
		got := r.Trace()
		require.Equal(t, c.want, got.asked(), "%+v", c.note)
		require.Empty(t, got.Differences(view, 0))
		decoded, err := Decode(string(got.Encode()))
		require.NoError(t, err)
		require.Equal(t, got.Entries, decoded.Entries)
	}
	notes := []Note{{"", "/a", Read}, {"/r\x01\xff", "/a b\n", Look | NoFollow}}
	o := Observation{Packed: PackNotes(notes)}
	back, err := o.Notes()
	require.NoError(t, err)
	require.Equal(t, notes, back)
	o.Packed = o.Packed[:len(o.Packed)-1]
	_, err = o.Notes()
	require.Error(t, err)
}

// TestDifferences: each change of what was learnt shows, in words that name it; any other change does not.
func TestDifferences(t *testing.T) {
	r := NewResolver(base(t), func(string) bool { return false }, false)
	for _, n := range []Note{{"", "/src/main.c", Read}, {"", "/src/d", List}, {"", "/lib/so", Look}, {"", "/src/none", Look}, {"", "/top", Look | NoFollow}, {"", "/usr", Move | NoFollow}, {"", "/odd\n\"\xff", Read}} {
		r.Add(n)
	}
	learnt, err := Decode(string(r.Trace().Encode()))
	require.NoError(t, err)
	linked := tree.Entry{Path: "twin", Kind: tree.Hardlink, Target: "src/main.c"}
	owned := folder("src/d")
	owned.UID = 7
	change := func(kind event.ChangeKind, path string) *event.Change { return &event.Change{Kind: kind, Path: path} }
	for _, one := range []struct {
		want    *event.Change
		entries []tree.Entry
	}{
		{nil, []tree.Entry{file("src/d/e", "other"), file("beside", ""), folder("src")}},
		{change(event.Changed, "src/main.c"), []tree.Entry{file("src/main.c", "Main")}},
		{change(event.Vanished, "src/main.c"), []tree.Entry{{Path: "src/main.c", Kind: tree.Whiteout}}},
		{&event.Change{Kind: event.OtherKind, Path: "src/main.c", Was: "file", Now: "folder"}, []tree.Entry{{Path: "src/main.c", Kind: tree.Whiteout}, folder("src/main.c")}},
		{change(event.MetaChanged, "src/main.c"), []tree.Entry{linked}},
		{change(event.Appeared, "src/none"), []tree.Entry{file("src/none", "")}},
		{&event.Change{Kind: event.Listing, Path: "src/d", Gained: []string{"f"}, Lost: []string{"e"}}, []tree.Entry{{Path: "src/d/e", Kind: tree.Whiteout}, file("src/d/f", "")}},
		{&event.Change{Kind: event.Listing, Path: "src/d", Gained: []string{"g/"}}, []tree.Entry{folder("src/d/g")}},
		{change(event.MetaChanged, "src/d"), []tree.Entry{owned}},
		{change(event.LeadsAway, "top"), []tree.Entry{link("top", "src")}},
		{change(event.SizeChanged, "usr/lib/so"), []tree.Entry{file("usr/lib/so", "longer")}},
		{change(event.Changed, "odd\n\"\xff"), []tree.Entry{file("odd\n\"\xff", "even")}},
		{change(event.LeadsAway, "lib"), []tree.Entry{link("lib", "src/d")}},
		{change(event.Vanished, "src"), []tree.Entry{{Path: "src", Kind: tree.Whiteout}}},
	} {
		view := base(t)
		require.NoError(t, view.Apply(one.entries, none{}))
		found := learnt.Differences(view, 0)
		if one.want == nil {
			require.Empty(t, found)
			continue
		}
		var changes []event.Change
		for _, d := range found {
			changes = append(changes, d.Change())
		}
		require.Contains(t, changes, *one.want)
		require.Len(t, learnt.Differences(view, 1), 1)
	}
	whole := &Trace{Why: "it hides", View: ViewKey(base(t))}
	decoded, err := Decode(string(whole.Encode()))
	require.NoError(t, err)
	require.Equal(t, whole.Why, decoded.Why)
	require.Empty(t, decoded.Differences(base(t), 0))
	require.Equal(t, event.Change{Kind: event.Everything, Now: "it hides"}, decoded.Differences(viewOf(t), 0)[0].Change())

	other := base(t)
	require.NoError(t, other.Apply([]tree.Entry{file("src/main.c", "Main")}, none{}))
	r2 := NewResolver(other, func(string) bool { return false }, false)
	r2.Add(Note{"", "/src/main.c", Read})
	require.Equal(t, map[string]int{"src/main.c": 1}, Changes([]*Trace{learnt, r2.Trace(), r2.Trace()}))
	// Who asks more or less has not found something else.
	r3 := NewResolver(other, func(string) bool { return false }, false)
	r3.Add(Note{"", "/src/main.c", Look})
	require.NotEqual(t, r2.Trace().Entries, r3.Trace().Entries)
	require.Empty(t, Changes([]*Trace{r2.Trace(), r3.Trace(), r2.Trace()}))
	for _, e := range learnt.Entries {
		if size, known := e.Size(); e.Path == "src/main.c" {
			require.True(t, known)
			require.EqualValues(t, 4, size)
			require.Equal(t, []string{"contents", "metadata"}, e.Words())
		}
	}
}

// FuzzDecode: whatever is read either is refused, or is written again as something that reads the same; and comparing it
// never fails.
func FuzzDecode(f *testing.F) {
	r := NewResolver(base(f), func(string) bool { return false }, false)
	r.Add(Note{"", "/", List})
	r.Add(Note{"", "/name", Read})
	f.Add(string(r.Trace().Encode()))
	f.Add(head + "\nwhole blake3:00 \"why\"\n")
	f.Add(head + "\nk \"a\" f\n")
	view := base(f)
	f.Fuzz(func(t *testing.T, text string) {
		first, err := Decode(text)
		if err != nil {
			return
		}
		again, err := Decode(string(first.Encode()))
		require.NoError(t, err)
		require.Equal(t, first, again)
		for _, d := range first.Differences(view, 0) {
			require.NotPanics(t, func() { d.Change() })
		}
		for i := range first.Entries {
			first.Entries[i].Size()
			require.NotEmpty(t, first.Entries[i].Words())
		}
	})
}

// BenchmarkCheck compares a record of 20,000 reads with a view, from its bytes in the store on.
func BenchmarkCheck(b *testing.B) {
	var entries []tree.Entry
	for i := range 200 {
		entries = append(entries, folder(fmt.Sprintf("pages/%03d", i)))
		for j := range 100 {
			entries = append(entries, file(fmt.Sprintf("pages/%03d/tide-%03d.txt", i, j), fmt.Sprint(i, j)))
		}
	}
	view := viewOf(b, append([]tree.Entry{folder("pages")}, entries...)...)
	r := NewResolver(view, func(string) bool { return false }, false)
	for _, e := range entries {
		r.Add(Note{"", "/" + e.Path, Read | List})
	}
	text := string(r.Trace().Encode())
	b.ReportMetric(float64(len(entries)), "paths")
	for b.Loop() {
		learnt, err := Decode(text)
		if err != nil || len(learnt.Differences(view, 1)) > 0 {
			b.Fatal(err)
		}
	}
}
