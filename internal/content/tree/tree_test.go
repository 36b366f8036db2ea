package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/ground/digest"
)

func paths(v *View) []string {
	var all []string
	var visit func(n *Node)
	visit = func(n *Node) {
		for _, child := range n.Children() {
			all = append(all, child.Path)
			visit(child)
		}
	}
	root, _ := v.Lookup("")
	visit(root)
	return all
}

func file(path string) Entry   { return Entry{Path: path, Kind: File, Mode: 0o644} }
func folder(path string) Entry { return Entry{Path: path, Kind: Folder, Mode: 0o755} }

func TestViewOfLayers(t *testing.T) {
	cases := []struct {
		name   string
		layers [][]Entry
		want   []string
	}{
		{"parents that no layer has", [][]Entry{{file("usr/bin/tide")}}, []string{"usr", "usr/bin", "usr/bin/tide"}},
		{"a deletion", [][]Entry{{file("a/x"), file("a/y")}, {{Path: "a/x", Kind: Whiteout}}}, []string{"a", "a/y"}},
		{"a deleted folder", [][]Entry{{file("a/x")}, {{Path: "a", Kind: Whiteout}}}, nil},
		{"a deletion spares its own layer", [][]Entry{{file("a/x")}, {file("a/x"), {Path: "a/x", Kind: Whiteout}}}, []string{"a", "a/x"}},
		{"an opaque folder", [][]Entry{{file("a/x"), file("b/x")}, {file("a/y"), {Path: "a", Kind: Opaque}}}, []string{"a", "a/y", "b", "b/x"}},
		{"a folder over a folder", [][]Entry{{file("a/x")}, {folder("a")}}, []string{"a", "a/x"}},
		{"a file over a folder", [][]Entry{{file("a/x")}, {file("a")}}, []string{"a"}},
		{"a folder over a file", [][]Entry{{file("a")}, {file("a/x")}}, []string{"a", "a/x"}},
		{"a hard link before its target", [][]Entry{{{Path: "a", Kind: Hardlink, Target: "b"}, file("b")}}, []string{"a", "b"}},
		{"a hard link over layers", [][]Entry{{file("b")}, {{Path: "a", Kind: Hardlink, Target: "b"}}}, []string{"a", "b"}},
		{"deleting what is not there", [][]Entry{{{Path: "x/y", Kind: Whiteout}, {Path: "z", Kind: Opaque}}}, nil},
	}
	for _, c := range cases {
		v := NewView()
		for _, l := range c.layers {
			require.NoError(t, v.Apply(l, nil), c.name)
		}
		require.Equal(t, c.want, paths(v), c.name)
	}
	require.Error(t, NewView().Apply([]Entry{{Path: "a", Kind: Hardlink, Target: "nowhere"}}, nil))
	require.Error(t, NewView().Apply([]Entry{{Path: "", Kind: File}}, nil))
}

// TestCloneIsApart: views that were cloned from each other at random, and changed since, show what views of their layers alone
// show.
func TestCloneIsApart(t *testing.T) {
	v := NewView()
	require.NoError(t, v.Apply([]Entry{file("a/x")}, nil))
	other := v.Clone()
	require.NoError(t, other.Apply([]Entry{file("a/y"), {Path: "a/x", Kind: Whiteout}}, nil))
	require.NoError(t, v.Apply([]Entry{file("a/z")}, nil))
	require.Equal(t, []string{"a", "a/x", "a/z"}, paths(v))
	require.Equal(t, []string{"a", "a/y"}, paths(other))
	third := v.Clone()
	require.NoError(t, v.Apply([]Entry{file("a/late")}, nil))
	require.Equal(t, []string{"a", "a/x", "a/z"}, paths(third))

	names := []string{"", "a", "a/b", "a/b/c", "b", "b/c", "c"}
	rapid.Check(t, func(r *rapid.T) {
		views, layers := []*View{NewView()}, [][][]Entry{nil}
		for range rapid.IntRange(1, 12).Draw(r, "layers") {
			at := rapid.IntRange(0, len(views)-1).Draw(r, "view")
			var entries []Entry
			for _, name := range rapid.SliceOfNDistinct(rapid.SampledFrom(names), 1, 4, rapid.ID).Draw(r, "names") {
				e := Entry{Path: name, Kind: rapid.SampledFrom([]Kind{File, Folder, Whiteout, Opaque, Hardlink}).Draw(r, "kind"), Mode: rapid.Uint32Range(1, 7).Draw(r, "mode")}
				if e.Target = ""; e.Kind == Hardlink {
					e.Target = rapid.SampledFrom(names[1:]).Draw(r, "target")
				}
				entries = append(entries, e)
			}
			next := views[at].Clone()
			if next.Apply(entries, nil) != nil {
				continue // a link to nothing, or a file in the place of the root
			}
			views, layers = append(views, next), append(layers, append(slices.Clone(layers[at]), entries))
		}
		for i, v := range views {
			alone := NewView()
			for _, entries := range layers[i] {
				require.NoError(r, alone.Apply(entries, nil))
			}
			var got, want []string
			v.Each(func(n *Node) { got = append(got, fmt.Sprintf("%s %v %d", n.AppendLine(nil), n.Linked, n.Together)) })
			alone.Each(func(n *Node) { want = append(want, fmt.Sprintf("%s %v %d", n.AppendLine(nil), n.Linked, n.Together)) })
			require.Equal(r, want, got)
		}
	})
}

// TestResolveAgreesWithTheKernel builds random trees of links for real and compares where paths lead.
func TestResolveAgreesWithTheKernel(t *testing.T) {
	names := []string{"a", "b", "c"}
	name := rapid.SampledFrom(names)
	target := rapid.SampledFrom([]string{"a", "b", "c", "..", ".", "a/b", "../a", "../b/c", "b/../c"})
	rapid.Check(t, func(r *rapid.T) {
		root, err := filepath.EvalSymlinks(t.TempDir())
		require.NoError(r, err)
		v := NewView()
		for range rapid.IntRange(1, 10).Draw(r, "entries") {
			path := strings.Join(rapid.SliceOfN(name, 1, 3).Draw(r, "path"), "/")
			real := filepath.Join(root, path)
			if parent, err := os.Lstat(filepath.Dir(real)); err != nil || !parent.IsDir() {
				continue
			}
			if resolved, err := filepath.EvalSymlinks(filepath.Dir(real)); err != nil || resolved != filepath.Dir(real) {
				continue
			}
			if rapid.Bool().Draw(r, "link") {
				to := target.Draw(r, "target")
				if os.Symlink(to, real) == nil {
					require.NoError(r, v.Apply([]Entry{{Path: path, Kind: Symlink, Target: to}}, nil))
				}
			} else if os.Mkdir(real, 0o755) == nil {
				require.NoError(r, v.Apply([]Entry{folder(path)}, nil))
			}
		}
		for range 10 {
			path := strings.Join(rapid.SliceOfN(rapid.SampledFrom(append(names, "..")), 1, 5).Draw(r, "question"), "/")
			want, err := filepath.EvalSymlinks(filepath.Join(root) + "/" + path)
			if err != nil || want != root && !strings.HasPrefix(want, root+"/") {
				continue // what does not exist, and what leads out of a root that is none for the kernel
			}
			got, err := v.Resolve(path, true)
			require.NoError(r, err)
			// Leaving the root and coming back is the one difference that may be.
			if _, exists := v.Lookup(got); exists {
				require.Equal(r, strings.TrimPrefix(strings.TrimPrefix(want, root), "/"), got, path)
			}
		}
	})
}

func TestResolveStaysInside(t *testing.T) {
	v := NewView()
	require.NoError(t, v.Apply([]Entry{
		{Path: "lib", Kind: Symlink, Target: "usr/lib"}, folder("usr/lib"), {Path: "out", Kind: Symlink, Target: "../../../etc"},
		{Path: "abs", Kind: Symlink, Target: "/usr/lib"}, {Path: "loop", Kind: Symlink, Target: "loop"},
		{Path: "usr/dangling", Kind: Symlink, Target: "../var/new"},
	}, nil))
	for question, want := range map[string]string{
		"lib/x": "usr/lib/x", "out/passwd": "etc/passwd", "abs/x": "usr/lib/x", "../../x": "x", "usr/dangling/y": "var/new/y", "new/folder": "new/folder",
	} {
		got, err := v.Resolve(question, true)
		require.NoError(t, err)
		require.Equal(t, want, got, question)
	}
	got, err := v.Resolve("lib", false)
	require.NoError(t, err)
	require.Equal(t, "lib", got)
	_, err = v.Resolve("loop/x", true)
	require.ErrorContains(t, err, "more than 40 links")
}

// TestLines: any entry comes back from its line, and two entries have one line only when they are the same.
func TestLines(t *testing.T) {
	text := rapid.Custom(func(r *rapid.T) string { return string(rapid.SliceOfN(rapid.Byte(), 0, 6).Draw(r, "text")) })
	rapid.Check(t, func(r *rapid.T) {
		draw := func() Entry {
			e := Entry{Path: text.Draw(r, "path"), Kind: Kind(rapid.IntRange(1, 9).Draw(r, "kind")), Mode: uint32(rapid.IntRange(0, 0o7777).Draw(r, "mode")),
				UID: rapid.IntRange(0, 9).Draw(r, "uid"), GID: rapid.IntRange(0, 9).Draw(r, "gid"), Size: rapid.Int64Range(0, 9).Draw(r, "size"),
				Target: text.Draw(r, "target"), Major: rapid.Int64Range(0, 3).Draw(r, "major"), Minor: rapid.Int64Range(0, 3).Draw(r, "minor"), Time: rapid.Int64Range(-2, 2).Draw(r, "time")}
			if rapid.Bool().Draw(r, "content") {
				e.Content = digest.ContentBytes([]byte(e.Path))
			}
			for range rapid.IntRange(0, 2).Draw(r, "attributes") {
				if e.Xattrs == nil {
					e.Xattrs = map[string]string{}
				}
				e.Xattrs[text.Draw(r, "name")] = text.Draw(r, "value")
			}
			return e
		}
		one, two := draw(), draw()
		list, err := DecodeEntries(string(EncodeEntries([]Entry{one, two})))
		require.NoError(r, err)
		require.Equal(r, []Entry{one, two}, list)
		require.Equal(r, assert.ObjectsAreEqual(one, two), string(one.AppendLine(nil)) == string(two.AppendLine(nil)))
		for field := range reflect.TypeFor[Entry]().NumField() {
			other := one // but for one field
			reflect.ValueOf(&other).Elem().Field(field).Set(reflect.ValueOf(two).Field(field))
			require.Equal(r, string(one.AppendLine(nil)) == string(other.AppendLine(nil)), one.Equal(&other), "field %d", field)
		}
		plain := rapid.StringMatching(`[a-z"\\ /~é\n]*`).Draw(r, "plain")
		require.Equal(r, strconv.Quote(plain), string(appendQuoted(nil, plain)))
	})
	for _, line := range []string{"", "file", "fish 0 0:0 0  \"a\" -> \"\" 0,0 0", "file 0 0:0 -1  \"a\" -> \"\" 0,0 0", "file 0 0:0 1 abc \"a\" -> \"\" 0,0 0", "file 0 0:0 1  \"a -> \"\" 0,0 0"} {
		_, err := ParseLine(line)
		require.Error(t, err, line)
	}
}

func TestCleanPath(t *testing.T) {
	for name, want := range map[string]string{"a/b": "a/b", "./a//b/": "a/b", "/a": "a", ".": "", "/": ""} {
		got, err := CleanPath(name)
		require.NoError(t, err)
		require.Equal(t, want, got, name)
	}
	for _, name := range []string{"..", "a/../b", "../a", "a/..", "a\x00b", strings.Repeat("a", 5000)} {
		_, err := CleanPath(name)
		require.Error(t, err, name)
	}
}

// project writes files (a name ending in "/" is a folder, "a -> b" a link) and opens the folder.
func project(t *testing.T, o SourceOptions, names ...string) *Source {
	dir := t.TempDir()
	for _, name := range names {
		path, target, link := strings.Cut(name, " -> ")
		full := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		switch {
		case link:
			require.NoError(t, os.Symlink(target, full))
		case strings.HasSuffix(name, "/"):
			require.NoError(t, os.MkdirAll(full, 0o755))
		default:
			require.NoError(t, os.WriteFile(full, []byte(name), 0o644))
		}
	}
	s, err := OpenSource(dir, o)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestPick(t *testing.T) {
	s := project(t, SourceOptions{Ignore: []Ignore{{LeaveOut: []string{"*.log", "/scratch/"}}}, Unnamed: []string{"imbricat.yaml", ".git"}},
		"imbricat.yaml", ".git/HEAD", "a.txt", "x.log", "scratch/n", "pages/one.html", "pages/two.css", "pages/deep/three.html", "pages/deep/er/four.html",
		"vendor/.git/HEAD", "[odd].txt", "link -> pages", "away -> ../..")
	cases := []struct {
		from  string
		leave []string
		want  string // PATH=REL of what is picked, folders left out
		err   error
	}{
		{".", nil, "[odd].txt=[odd].txt a.txt=a.txt away=away link=link pages/deep/er/four.html=pages/deep/er/four.html pages/deep/three.html=pages/deep/three.html pages/one.html=pages/one.html pages/two.css=pages/two.css", nil},
		{"pages", []string{"/deep/"}, "pages/one.html=one.html pages/two.css=two.css", nil},
		{"pages", []string{"*.html", "!three.html"}, "pages/deep/three.html=deep/three.html pages/two.css=two.css", nil},
		{"a.txt", nil, "a.txt=a.txt", nil},
		{"imbricat.yaml", nil, "imbricat.yaml=imbricat.yaml", nil},
		{".git", nil, ".git/HEAD=HEAD", nil},
		{"*.txt", nil, "[odd].txt=[odd].txt a.txt=a.txt", nil},
		{"[odd].txt", nil, "[odd].txt=[odd].txt", nil},
		{"pages/*", nil, "pages/deep/er/four.html=deep/er/four.html pages/deep/three.html=deep/three.html pages/one.html=one.html pages/two.css=two.css", nil},
		{"pages/**/*.html", nil, "pages/deep/er/four.html=four.html pages/deep/three.html=three.html pages/one.html=one.html", nil},
		{"{a,b}.txt", nil, "a.txt=a.txt", nil},
		{"x.log", nil, "", ErrAllLeftOut},
		{"*.log", nil, "", ErrAllLeftOut},
		{"scratch/n", nil, "", ErrAllLeftOut},
		{"pages", []string{"*"}, "", ErrAllLeftOut},
		{"*.nosuch", nil, "", ErrNoMatch},
		{"nosuch/*.txt", nil, "", ErrNoMatch},
		{"nosuch", nil, "", fs.ErrNotExist},
	}
	for _, c := range cases {
		survey, err := s.Pick(c.from, PickOptions{LeaveOut: c.leave})
		if c.err != nil {
			require.ErrorIs(t, err, c.err, c.from)
			continue
		}
		require.NoError(t, err, c.from)
		var got []string
		for _, p := range survey.Picked {
			if p.Kind != Folder {
				got = append(got, p.Path+"="+p.Rel)
				require.True(t, s.Covers(c.from, c.leave)(p.Path), "%s covers %s", c.from, p.Path)
			}
		}
		sort.Strings(got)
		require.Equal(t, c.want, strings.Join(got, " "), "%s without %q", c.from, c.leave)
		for _, out := range []string{"x.log", "scratch/n"} {
			require.False(t, s.Covers(c.from, c.leave)(out), "%s covers %s", c.from, out)
		}
	}
	// Nothing outside the project is read, whatever a link says.
	for _, from := range []string{"away/etc", "link/../../x"} {
		_, err := s.Pick(from, PickOptions{})
		require.Error(t, err, from)
	}
	_, _, err := s.Opener().Open("away/etc/passwd")
	require.Error(t, err)
	require.False(t, errors.Is(err, fs.ErrNotExist) && strings.Contains(err.Error(), "root:"))
}

func TestHonouredIgnoreFiles(t *testing.T) {
	s := project(t, SourceOptions{Ignore: []Ignore{{HonourGitignore: true}}}, ".gitignore", "sub/.gitignore", "sub/keep", "sub/x", "y", "sub/deep/x")
	root := s.dir
	require.NoError(t, os.WriteFile(filepath.Join(root, ".gitignore"), []byte("y\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(root, "sub/.gitignore"), []byte("x\n!/deep/x\n"), 0o644))
	for from, want := range map[string]string{".": ".gitignore sub/.gitignore sub/deep/x sub/keep", "sub": ".gitignore deep/x keep"} {
		survey, err := s.Pick(from, PickOptions{})
		require.NoError(t, err)
		var got []string
		for _, p := range survey.Picked {
			if p.Kind == File {
				got = append(got, p.Rel)
			}
		}
		require.Equal(t, want, strings.Join(got, " "), from)
	}
	_, err := s.Pick("y", PickOptions{})
	require.ErrorIs(t, err, ErrAllLeftOut)
}

// FuzzEntries: lines that are read are those that would be written, and say the same when they are read again.
func FuzzEntries(f *testing.F) {
	f.Add(string(EncodeEntries([]Entry{{Path: "a b\n", Kind: File, Mode: 0o644, Size: 3, Content: digest.ContentBytes([]byte("abc")), Xattrs: map[string]string{"user.tide": "3.42 m"}},
		{Path: "d", Kind: Folder, Mode: 0o1777, UID: 5}, {Path: "l", Kind: Symlink, Target: "../x"}, {Path: "n", Kind: CharDevice, Major: 1, Minor: 3, Time: 7}})))
	f.Fuzz(func(t *testing.T, text string) {
		entries, err := DecodeEntries(text)
		if err != nil {
			return
		}
		require.LessOrEqual(t, len(entries), strings.Count(text, "\n")+1)
		again, err := DecodeEntries(string(EncodeEntries(entries)))
		require.NoError(t, err)
		require.Equal(t, entries, again)
	})
}
