package build

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/sandbox"
	"imbricat/internal/tree"
)

func folder(p string, mode uint32) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.Folder, Mode: mode}
}

func fileOf(p string, uid int) tree.Entry {
	return tree.Entry{Path: p, Kind: tree.File, Mode: 0o644, UID: uid, Size: 1, Content: digest.ContentBytes([]byte(p))}
}

func viewOf(t *testing.T, layers ...[]tree.Entry) *tree.View {
	view := tree.NewView()
	for _, entries := range layers {
		require.NoError(t, view.Apply(entries, text("x")))
	}
	return view
}

func paths(entries []tree.Entry) (out []string) {
	for _, e := range entries {
		out = append(out, e.Kind.String()+" "+e.Path)
	}
	return out
}

// TestSettle: what the overlay notes becomes entries that hold for themselves.
func TestSettle(t *testing.T) {
	view := viewOf(t, []tree.Entry{folder("d", 0o755), fileOf("d/a", 0), folder("d/sub", 0o755), fileOf("d/sub/b", 0), fileOf("f", 7), {Path: "l", Kind: tree.Symlink, Target: "f", UID: 7, Mode: 0o777},
		{Path: "g", Kind: tree.Folder, Mode: 0o2755, GID: 50}})
	found := func(list ...sandbox.Found) []sandbox.Found { return list }
	top := sandbox.Found{Entry: folder("", 0o755)}
	entries, mend, _, err := settle(view, found(top, sandbox.Found{Entry: tree.Entry{Path: "gone", Kind: tree.Whiteout}}, sandbox.Found{Entry: tree.Entry{Path: "f", Kind: tree.Whiteout}}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"deletion f"}, paths(entries), "the root as it was, and a deletion of nothing, are left out")
	require.Equal(t, []string{"gone"}, mend.Drop)

	entries, mend, replaced, err := settle(view, found(top, sandbox.Found{Entry: folder("d", 0o755), Opaque: true}, sandbox.Found{Entry: folder("d/sub", 0o755)}, sandbox.Found{Entry: fileOf("d/new", 0)}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"folder d", "deletion d/a", "folder d/sub", "deletion d/sub/b", "file d/new"}, paths(entries), "a folder made anew deletes what it hides, at any depth")
	require.Equal(t, []string{"d"}, mend.Show)
	require.Equal(t, []string{"d", "d/sub"}, replaced, "their listings are inputs")
	require.Equal(t, []string{"d/a", "d/sub/b"}, mend.Hide)

	entries, _, _, err = settle(view, found(sandbox.Found{Entry: folder("", 0o700)}), false)
	require.NoError(t, err)
	require.Equal(t, []string{"folder "}, paths(entries), "a changed root is told")

	// With one id owners come from the view, and what cannot be known is an error.
	for what, c := range map[string]struct {
		found sandbox.Found
		uid   int
		err   string
	}{
		"copied up":             {sandbox.Found{Entry: fileOf("f", 0), CopiedUp: true}, 7, ""},
		"made anew":             {sandbox.Found{Entry: fileOf("f", 0)}, 0, ""},
		"the same link":         {sandbox.Found{Entry: tree.Entry{Path: "l", Kind: tree.Symlink, Target: "f", Mode: 0o777}}, 7, ""},
		"moved":                 {sandbox.Found{Entry: fileOf("h", 0), CopiedUp: true}, 0, "moved from elsewhere"},
		"in a set-gid folder":   {sandbox.Found{Entry: fileOf("g/n", 0)}, 0, "gives its group 50"},
		"elsewhere, as before":  {sandbox.Found{Entry: fileOf("n", 0)}, 0, ""},
		"the folder passed":     {sandbox.Found{Entry: tree.Entry{Path: "g", Kind: tree.Folder, Mode: 0o2755}, CopiedUp: true}, 0, ""},
		"a file for a folder":   {sandbox.Found{Entry: fileOf("d", 0), CopiedUp: true}, 0, "moved from elsewhere"},
		"the root is always ok": {sandbox.Found{Entry: folder("", 0o755), CopiedUp: true}, 0, ""},
	} {
		list := found(c.found)
		entries, _, _, err := settle(view, list, true)
		if c.err != "" {
			var unable *sandbox.UnableError
			require.ErrorAs(t, err, &unable, what)
			require.Contains(t, unable.What, c.err, what)
			continue
		}
		require.NoError(t, err, what)
		if len(entries) > 0 {
			require.Equal(t, c.uid, entries[0].UID, what)
		}
	}
}

// shows lists what a view shows; which names are one file is left out.
func shows(view *tree.View) (out []string) {
	view.Each(func(n *tree.Node) { out = append(out, string(n.AppendLine(nil))) })
	return out
}

// TestComplete: a foreign layer's entries become a tree that can lie in an overlay, and shows the same there.
func TestComplete(t *testing.T) {
	below := []tree.Entry{{Path: "tmp", Kind: tree.Folder, Mode: 0o1777}, folder("d", 0o700), fileOf("d/a", 0), fileOf("base", 3), {Path: "way", Kind: tree.Symlink, Target: "d", Mode: 0o777}}
	for name, c := range map[string]struct {
		layer []tree.Entry
		want  []string
	}{
		"parents that are missing have what is below": {[]tree.Entry{fileOf("tmp/x", 0)}, []string{"folder tmp", "file tmp/x"}},
		"a link to a lower layer's file is a file":    {[]tree.Entry{{Path: "d/again", Kind: tree.Hardlink, Target: "base"}}, []string{"folder d", "file d/again"}},
		"a link in the layer stays one": {[]tree.Entry{fileOf("d/n", 0), {Path: "d/o", Kind: tree.Hardlink, Target: "d/n"}},
			[]string{"folder d", "file d/n", "hard link d/o"}},
		"deletions":                           {[]tree.Entry{{Path: "d/a", Kind: tree.Whiteout}}, []string{"folder d", "deletion d/a"}},
		"a deletion of what is nowhere":       {[]tree.Entry{{Path: "no/a", Kind: tree.Whiteout}}, nil},
		"replaced: the new thing hides":       {[]tree.Entry{{Path: "base", Kind: tree.Whiteout}, fileOf("base", 0)}, []string{"file base"}},
		"a folder deleted and made anew":      {[]tree.Entry{{Path: "d", Kind: tree.Whiteout}, folder("d", 0o755)}, []string{"folder d", "opaque folder d"}},
		"opaque":                              {[]tree.Entry{folder("d", 0o755), {Path: "d", Kind: tree.Opaque}, fileOf("d/n", 0)}, []string{"folder d", "opaque folder d", "file d/n"}},
		"through a link, which is replaced":   {[]tree.Entry{fileOf("way/x", 0)}, []string{"folder way", "file way/x"}},
		"a link and something in it, as both": {[]tree.Entry{{Path: "k", Kind: tree.Symlink, Target: "/etc", Mode: 0o777}, fileOf("k/x", 0)}, []string{"folder k", "file k/x"}},
	} {
		after := viewOf(t, below, c.layer)
		got, _ := complete(&packedContents{entries: c.layer}, after)
		require.Equal(t, c.want, paths(got), name)
		// Laid over the same view it shows the same.
		require.Equal(t, shows(after), shows(viewOf(t, below, got)), name)
		if len(got) > 0 && got[0].Path == "tmp" {
			require.EqualValues(t, 0o1777, got[0].Mode)
		}
	}
}

// TestOpaqueRoot: a layer that hides all below it does so in a view and in what lies unpacked alike.
func TestOpaqueRoot(t *testing.T) {
	layers := [][]tree.Entry{{folder("d", 0o755), fileOf("d/a", 0)}, {{Kind: tree.Opaque}, fileOf("b", 0)}, {fileOf("c", 0)}}
	one := &base{resolved: &Resolved{Name: "slim:4"}}
	for _, entries := range layers {
		one.contents = append(one.contents, &packedContents{entries: entries})
	}
	view := tree.NewView()
	for _, s := range one.stratify() {
		entries, err := s.entries(t.Context())
		require.NoError(t, err)
		require.NoError(t, view.Apply(slices.DeleteFunc(slices.Clone(entries), func(e tree.Entry) bool { return e.Kind == tree.Opaque && e.Path == "" }), one.contents[0]))
	}
	require.Equal(t, shows(viewOf(t, layers...)), shows(view))
}

// TestPrinted: however output is cut into pieces, no secret gets through, nothing else is lost, and what is kept is bounded.
func TestPrinted(t *testing.T) {
	secrets := []sandbox.Secret{{Content: []byte("sesame-42\n")}, {Content: []byte("-----BEGIN-----\nsecond line of it\nabc\n")}}
	for cut := range len("sesame-42") { // wherever a line that is too long is cut
		var shown bytes.Buffer
		p := newPrinted(event.Func(func(e event.Event) { shown.WriteString(e.(event.Output).Text) }), event.Task{}, secrets)
		long := strings.Repeat("level ", longestLine/6+1)
		for _, text := range []string{long + "sesame-42"[:cut], "sesame-42"[cut:] + " tide", long + "\n"} {
			_, err := p.Write([]byte(text))
			require.NoError(t, err)
		}
		p.Close()
		require.NotContains(t, shown.String(), "sesame-42", cut)
		require.Contains(t, shown.String(), "•••••• tide", cut)
	}
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(seed, 1))
		var all, shown bytes.Buffer
		for range random.IntN(60) {
			all.WriteString([]string{"tide ", "sesame-42", "sesame-4", "second line of it", "\n", "x\ny\n", strings.Repeat("level ", 30000), "abc"}[random.IntN(8)])
		}
		p := newPrinted(event.Func(func(e event.Event) { shown.WriteString(e.(event.Output).Text) }), event.Task{}, secrets)
		rest := all.Bytes()
		for len(rest) > 0 {
			n := min(len(rest), 1+random.IntN(1+random.IntN(100000)))
			_, err := p.Write(rest[:n])
			require.NoError(t, err)
			rest = rest[n:]
		}
		p.Close()
		require.NotContains(t, shown.String(), "sesame-42", seed)
		require.NotContains(t, shown.String(), "second line of it", seed)
		cover := strings.NewReplacer("sesame-42", "••••••", "second line of it", "••••••")
		require.Equal(t, cover.Replace(all.String()), shown.String(), seed)
		require.LessOrEqual(t, len(p.All()), keptBeginning+keptEnd+100)
		if shown.Len() <= keptBeginning+keptEnd {
			require.Equal(t, shown.String(), string(p.All()))
		} else {
			require.Contains(t, string(p.All()), "are left out here")
			require.True(t, strings.HasSuffix(shown.String(), string(p.All()[len(p.All())-1000:])))
		}
	}
}

// TestCommandKey: everything that a command can notice is in its key, and values of secrets are not.
func TestCommandKey(t *testing.T) {
	make := func(change func(c *command)) digest.Key {
		c := &command{unit: &plan.Unit{}, args: []string{"sh"}, env: []string{"A=1"}, dir: "/", do: plan.Run{Network: true}}
		change(c)
		return keyOfText(encodeInputs(c.inputs()))
	}
	same := make(func(*command) {})
	require.Equal(t, same, make(func(c *command) { c.do.Within, c.do.Expires, c.place = 5, 6, "gauge:7" }))
	seen := map[digest.Key]string{same: "nothing"}
	for what, change := range map[string]func(c *command){
		"arguments": func(c *command) { c.args = []string{"sh", ""} }, "environment": func(c *command) { c.env = []string{"A=2"} },
		"folder": func(c *command) { c.dir = "/tmp" }, "user": func(c *command) { c.user.uid = 1 }, "groups": func(c *command) { c.user.groups = []int{60} },
		"network": func(c *command) { c.do.Network = false }, "tmp": func(c *command) { c.do.FreshTmp = true }, "platform": func(c *command) { c.unit.Machine.OS = "linux" },
		"kept": func(c *command) { c.do.Keep = []plan.Keep{{Name: "n", At: "/n"}} }, "secret": func(c *command) { c.do.Secrets = []plan.SecretUse{{Name: "n", At: "/n"}} },
		"ids": func(c *command) { c.ids = "few" }, "times": func(c *command) { c.time = 7 }, "machine": func(c *command) { c.machine = []string{"a lower limit"} },
	} {
		key := make(change)
		require.Empty(t, seen[key], what)
		seen[key] = what
	}
	given := (&command{unit: &plan.Unit{}}).inputs()
	require.Contains(t, given, input{"sandbox", sandbox.Version}, "what an earlier sandbox ran is not reused")
	require.Equal(t, "echo 'a b' '' 'it'\\''s'", shown(&command{do: plan.Run{Args: []string{"echo", "a b", "", "it's"}}}))
}
