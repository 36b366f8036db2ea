package engine

import (
	"context"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/division"
)

func TestMain(m *testing.M) {
	if status, child := sandbox.Child(os.Args); child {
		os.Exit(status)
	}
	if dir := os.Getenv(pipeVariable); dir != "" {
		if err := servePipe(dir); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// commandSite is a site whose commands run, in a view that has busybox.
func commandSite(t *testing.T, o sandbox.Options) *site {
	s := newSite(t)
	program, err := os.ReadFile("/bin/busybox")
	if err != nil && os.Getenv("CI") == "" {
		t.Skip("busybox-static is not installed")
	}
	require.NoError(t, err)
	o.Time = layer.Epoch.Unix()
	s.write("bin/busybox", string(program))
	require.NoError(t, os.Chmod(filepath.Join(s.dir, "bin/busybox"), 0o755))
	require.NoError(t, os.Symlink("busybox", filepath.Join(s.dir, "bin/sh")))
	box, err := sandbox.Open(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, box.Close()) })
	s.box = box
	s.removed(t)
	return s
}

// removed has the box of a site take away at the end what belongs to ids that only a user namespace may act as.
func (s *site) removed(t *testing.T) {
	t.Cleanup(func() {
		for _, dir := range []string{s.store.Dir(), s.dir} {
			require.NoError(t, s.box.Remove(dir))
		}
	})
}

// elsewhere is the same project with a store of its own, in which everything is done anew.
func (s *site) elsewhere(t *testing.T) *site {
	other, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	anew := &site{t: t, dir: s.dir, store: other, box: s.box, divisions: s.divisions, freshAll: true}
	anew.removed(t)
	return anew
}

var reuseNames = []string{"a", "b", "d", "d/a", "d/b", "d/e", "d/e/a", "x", "x/y", "x/y/z", "l", "l/a", "l/b", "s", "s/a"}

// randomReader is a small program that looks at few names and writes among them, in every way there is; with moves
// half of that is renaming. It has a kept directory /k, of which it takes in nothing that it has not put there itself.
func randomReader(r *rand.Rand, moves bool) string {
	name := func() string { return "/t/" + reuseNames[r.IntN(len(reuseNames))] }
	log := func(what string) string { return what + " >> /o/log 2>&1" }
	mode := func() string { return []string{"600", "755", "750", "700", "1777", "4755"}[r.IntN(6)] }
	acts := []func() string{
		func() string { return log("cat " + name()) },
		func() string { return log("ls " + name()) },
		func() string { return log("test -e " + name() + " && echo there") },
		func() string { return log("test -L " + name() + " && echo link") },
		func() string { n := name(); return log("test -f " + n + " && stat -c '%a %u %g %s' " + n) },
		func() string { n := name(); return log("test -f " + n + " && /t/.b/prober links " + n) },
		func() string { return log("stat -c '%a %u %F' " + name()) },
		func() string { return log("test " + name() + " -ef " + name() + " && echo one") },
		func() string { return log("echo " + name() + "/*") },
		func() string { return log("readlink " + name()) },
		func() string { return log("find " + name() + " -type f") },
		func() string { return log("ls -a1 " + name() + " | head -n 1") },
		func() string { return log("cd " + name() + " && cat ../a") },
		func() string { return log("(cd " + name() + " && ls ..)") },
		func() string { return log("cat < /proc/self/cwd" + name()) },
		func() string { return log("cat /t/p/self/root" + name()) },
		func() string { n := name(); return fmt.Sprintf("(exec 3< %s; cat /dev/fd/3 >> /o/log)", n) },
		func() string { n := name(); return fmt.Sprintf("(exec 3< %s; ls /proc/self/fd/3/ >> /o/log)", n) },
		func() string { return log("(PATH=/t/d:/t:/t/x:/bin; a)") },
		func() string { return log("(PATH=/t/x:/t/d/e:/t:/bin; b)") },
		func() string { return log(name()) },
		func() string { return log("rm -rf /k/l; ln -s " + name() + " /k/l; cat /k/l") },
		func() string { return log("rm -rf /k/l; ln -s " + name() + " /k/l; ls /k/l/") },
		func() string { return log("rm -rf /k/l; ln -s " + name() + " /k/l; cat /k/l/../a") },
		func() string { return log("rm -rf /k/l; ln -s " + name() + " /k/l; /k/l") },
		func() string { return "rm -rf /k/l; ln -s " + name() + " /k/l; echo k > /k/l" },
		func() string { return log("chroot /t /.b/busybox cat " + strings.TrimPrefix(name(), "/t")) },
		func() string { return log("chroot /t /.b/busybox ls ." + strings.TrimPrefix(name(), "/t")) },
		func() string { return log("/t/.b/prober beyond " + name() + " " + strings.TrimPrefix(name(), "/")) },
		func() string {
			return log("/t/.b/prober kept " + name() + " " + name() + " ../" + reuseNames[r.IntN(4)])
		},
		func() string { return fmt.Sprintf("echo %d > %s", r.IntN(9), name()) },
		func() string { return fmt.Sprintf("echo %d >> %s", r.IntN(9), name()) },
		func() string { return fmt.Sprintf("echo %d > %s; cat %s >> /o/log", r.IntN(9), name(), name()) },
		func() string { return "truncate -s 1 " + name() },
		func() string { return "rm -rf " + name() },
		func() string { return "rm " + name() },
		func() string { return "rmdir " + name() },
		func() string { return "mkdir -p " + name() },
		func() string { return "mkdir -m " + mode() + " " + name() },
		func() string { return "mv " + name() + " " + name() },
		func() string { return "ln " + name() + " " + name() },
		func() string { return "ln -s " + reuseNames[r.IntN(len(reuseNames))] + " " + name() },
		func() string { return "rm -rf /t/p; ln -s " + []string{"/proc", "/", "/dev"}[r.IntN(3)] + " /t/p" },
		func() string { n := name(); return "rm -rf " + n + "; ln -s " + name() + " " + n },
		func() string { return "chmod " + mode() + " " + name() },
		func() string { return fmt.Sprintf("chown %d:%d %s", r.IntN(2)*50, r.IntN(2)*50, name()) },
		func() string { return "touch " + name() },
		func() string { return "cp -a " + name() + " " + name() },
		func() string { return "cp " + name() + " /t/n; mv /t/n " + name() },
		func() string { n := name(); return "rm -rf " + n + "; mkdir " + n + "; echo n > " + n + "/n" },
		func() string { return log("sh " + name()) },
	}
	lines := []string{}
	for range 3 + r.IntN(7) {
		if moves && r.IntN(2) == 0 {
			lines = append(lines, "{ mv "+name()+" /t/moved"+fmt.Sprint(r.IntN(3))+"; } 2> /dev/null || true")
			continue
		}
		lines = append(lines, "{ "+acts[r.IntN(len(acts))]()+"; } 2> /dev/null || true")
	}
	return strings.Join(lines, "; ")
}

// edit changes one thing of the project.
func edit(t *testing.T, r *rand.Rand, dir string) string {
	name := reuseNames[r.IntN(len(reuseNames)-4)]
	path := filepath.Join(dir, "t", name)
	_ = os.MkdirAll(filepath.Dir(path), 0o755)
	switch r.IntN(9) {
	case 0:
		_ = os.RemoveAll(path)
		return "removed " + name
	case 1:
		mode := []os.FileMode{0o644, 0o755, 0o700, 0o600, 0o777 | os.ModeSticky}[r.IntN(5)]
		if info, err := os.Lstat(path); err == nil && info.IsDir() && os.Geteuid() != 0 {
			mode |= 0o700 // others than root could not copy it
		}
		_ = os.Chmod(path, mode)
		return "another mode for " + name
	case 2:
		_ = os.RemoveAll(path)
		_ = os.Symlink([]string{"a", "d", "../b", "/t/d/e", "none", "/proc/self/root/t/d"}[r.IntN(6)], path)
		return "a link " + name
	case 3:
		_ = os.MkdirAll(path, 0o755)
		return "a folder " + name
	case 4:
		_ = os.RemoveAll(path)
		_ = os.Link(filepath.Join(dir, "t", reuseNames[r.IntN(6)]), path)
		return "another name " + name
	case 5: // of a program that is looked for along a path
		path = filepath.Join(dir, "t", []string{"", "d", "x"}[r.IntN(3)], "tool")
		_ = os.MkdirAll(filepath.Dir(path), 0o755)
		_ = os.RemoveAll(path)
		if r.IntN(3) > 0 {
			_ = os.WriteFile(path, fmt.Appendf(nil, "#!/bin/sh\necho %d > /o/tool\n", r.IntN(9)), 0o600)
			_ = os.Chmod(path, []os.FileMode{0o644, 0o755}[r.IntN(2)])
		}
		return "a tool " + path
	}
	if info, err := os.Lstat(path); err == nil && !info.Mode().IsRegular() {
		_ = os.RemoveAll(path)
	}
	_ = os.WriteFile(path, fmt.Appendf(nil, "echo %d\n", r.IntN(1000)), 0o644)
	return "wrote " + name
}

// readerRecipe is a stage with commands and two images on it with commands of their own; one fills a kept directory that
// the next uses, and one looks for its program along a path.
func readerRecipe(r *rand.Rand, own string, moves bool) string {
	n := 0
	reader := func() string {
		user := ""
		if r.IntN(4) == 0 {
			user = ", user: '50:50'"
		}
		n++
		// A log of its own, so that a step does not read the others'.
		script := fmt.Sprintf("echo %d > /o/log%d; ", n, n) + strings.ReplaceAll(randomReader(r, moves), "/o/log", fmt.Sprintf("/o/log%d", n))
		return fmt.Sprintf("{run: {command: [/bin/sh, -c, %q]}%s, kept: [{name: reader%d%s, at: /k}]}", script, user, n, own)
	}
	steps := func(list ...string) string { return "    steps:\n      - " + strings.Join(list, "\n      - ") + "\n" }
	from := "/t/" + reuseNames[r.IntN(4)]
	fill := fmt.Sprintf("{run: {command: [/bin/sh, -c, %q]}, kept: [{name: filled%s, at: /k}]}", "rm -rf /k/v; cp -a "+from+" /k/v 2> /dev/null; true", own)
	use := fmt.Sprintf("{run: {command: [/bin/sh, -c, %q]}, kept: [{name: filled%s, at: /k}]}", "{ cp -a "+from+" /o/v; rm -rf /o/v; cp -a /k/v /o/v; "+randomReader(r, moves)+"; } 2> /dev/null; true", own)
	tool := "{run: {command: [tool]}, env: {PATH: '/t/x:/t/d:/t:/bin'}}"
	return "imbricat: 1\nsilence: [set-uid, world-writable, stale]\nstages:\n  tools:\n    base: none\n" +
		steps("copy: {from: bin, to: /bin}", "copy: {from: t, to: /t, mode: keep}", "copy: {from: bin, to: /t/.b}", "{run: {command: [/bin/busybox, sh, -c, \"/bin/busybox --install -s /bin; mkdir -p /o; chmod 777 /o\"]}}", reader(), reader()) +
		"images:\n  gauge:\n    compression: none\n    base: {stage: tools}\n" + steps(fill, use, reader(), tool) +
		"  bulletin:\n    compression: none\n    base: {stage: tools}\n" + steps(reader(), "copy: {from: t, to: /again}", reader())
}

// rounds says what random rounds are of.
type rounds struct {
	options sandbox.Options
	first   int // seed
	seeds   int
	each    int                      // builds of a seed
	forget  func(e trace.Entry) bool // is left out of traces
	plain   bool                     // no damage, and no other project
	moves   bool                     // half of what commands do is to rename something
}

// run builds random programs over random trees with random edits between, with reuse and anew, and gives how many builds
// there were, how many steps were reused and ran, and the first round in which the results differ.
func (o rounds) run(t *testing.T) (builds, reusedSteps, ranSteps int, wrong string) {
	s := commandSite(t, o.options)
	program, err := built()
	require.NoError(t, err)
	for name, text := range map[string]string{"bin/prober": string(program), "bin/tool": "#!/bin/sh\necho base > /o/tool\n"} {
		s.write(name, text)
		require.NoError(t, os.Chmod(filepath.Join(s.dir, name), 0o755))
	}
	s.forget = o.forget
	s.store.CheckTree = func(form, root string, lines []byte) error {
		entries, err := tree.DecodeEntries(string(lines))
		if err != nil {
			return err
		}
		return local.CheckSnapshot(s.box, form, root, entries)
	}
	// Another project has the same store.
	s.eager = true // and the builds that do everything anew are not
	beside := &site{t: t, dir: t.TempDir(), store: s.store, box: s.box, forget: o.forget, eager: true}
	require.NoError(t, exec.Command("cp", "-a", filepath.Join(s.dir, "bin"), beside.dir).Run())
	damaged := false
	anew := map[*site]*site{s: s.elsewhere(t), beside: beside.elsewhere(t)}
	for seed := uint64(o.first); seed < uint64(o.first+o.seeds); seed++ {
		r := rand.New(rand.NewPCG(seed, 12))
		recipes := map[*site]string{}
		for i, one := range []*site{s, beside} {
			require.NoError(t, os.RemoveAll(filepath.Join(one.dir, "t")))
			for range 12 {
				edit(t, r, one.dir)
			}
			require.NoError(t, os.MkdirAll(filepath.Join(one.dir, "t"), 0o755))
			recipes[one] = readerRecipe(r, fmt.Sprintf("-%d-%d", seed, i), o.moves)
			one.divisions = nil
			if r.IntN(2) == 0 {
				rules, err := division.New([][]string{{"/"}, {"/o/"}, {"/t/d/"}})
				require.NoError(t, err)
				one.divisions = map[string]*division.Rules{"gauge": rules}
			}
			anew[one].divisions = one.divisions
		}
		history := ""
		saved := ""
		for round := range o.each {
			one := s
			if !o.plain && r.IntN(5) == 0 {
				one = beside
			}
			text := recipes[one]
			with, err := one.build(text)
			if err != nil && damaged { // it may refuse, and then says what mends it
				require.Contains(t, err.Error(), "imbricat store check --repair")
				_, err = s.store.Check(context.Background(), true)
				require.NoError(t, err)
				with, err = one.build(text)
			}
			require.NoError(t, err, "seed %d%s\n%s", seed, history, text)
			fresh, err := anew[one].build(text)
			require.NoError(t, err, text)
			builds++
			for _, step := range with.Steps {
				if step.Run != nil && step.Outcome == event.Reused {
					reusedSteps++
				} else if step.Run != nil {
					ranSteps++
				}
			}
			for i := range with.Images {
				if with.Images[i].Descriptor.Digest != fresh.Images[i].Descriptor.Digest {
					return builds, reusedSteps, ranSteps, fmt.Sprintf("seed %d, round %d, %s%s\n%s\n%s", seed, round, with.Images[i].Name, history, text, parts(s.store, with, anew[one].store, fresh))
				}
			}
			switch tree := filepath.Join(s.dir, "t"); {
			case !o.plain && r.IntN(8) == 0:
				history += ", damaged " + damage(t, r, s.store)
				damaged = true
			case saved != "" && r.IntN(5) == 0: // what was before comes back
				require.NoError(t, os.RemoveAll(tree))
				require.NoError(t, exec.Command("cp", "-a", saved, tree).Run())
				history += ", went back"
			default:
				if saved == "" || r.IntN(3) == 0 {
					saved = filepath.Join(t.TempDir(), "saved")
					require.NoError(t, exec.Command("cp", "-a", tree, saved).Run())
				}
				history += ", " + edit(t, r, s.dir)
			}
			if one == beside {
				history += ", beside " + edit(t, r, beside.dir)
			}
		}
	}
	return builds, reusedSteps, ranSteps, ""
}

// parts says in what the commands of two builds parted.
func parts(withStore *store.Store, with *Result, freshStore *store.Store, fresh *Result) (text string) {
	for i, step := range with.Steps {
		if other := fresh.Steps[i]; step.Run != nil && other.Run != nil && step.Run.Tree != other.Run.Tree {
			a, _ := withStore.TreeEntries(step.Run.Tree)
			b, _ := freshStore.TreeEntries(other.Run.Tree)
			was, _ := tree.DecodeEntries(string(a))
			is, _ := tree.DecodeEntries(string(b))
			text += fmt.Sprintf("%s %s (%s): %s\n", step.Place, step.Outcome, step.Reason, fmt.Sprint(explain.Changes(was, is)))
		}
	}
	return text
}

// damage spoils one file of a store, in one of the ways in which disks and people do.
func damage(t *testing.T, r *rand.Rand, s *store.Store) string {
	kind := []string{"snapshots/*/*/root", "snapshots/*/*", "runs", "traces", "indexes", "trees", "records", "../blobs/sha256", "memo", "notes", "chunks", "elsewhere"}[r.IntN(12)]
	var files []string
	folders, err := filepath.Glob(filepath.Join(s.Dir(), "imbricat", kind))
	require.NoError(t, err)
	for _, folder := range folders {
		_ = filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() && strings.HasSuffix(kind, "*") && filepath.Base(path) == "root" {
				return fs.SkipDir
			}
			if info, infoErr := os.Lstat(path); err == nil && infoErr == nil && info.Mode().IsRegular() && info.Size() > 0 {
				files = append(files, path)
			}
			return nil
		})
	}
	if len(files) == 0 {
		return "nothing"
	}
	slices.Sort(files)
	file := files[r.IntN(len(files))]
	info, err := os.Lstat(file)
	require.NoError(t, err)
	how := r.IntN(3)
	switch how {
	case 0:
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		text[r.IntN(len(text))] ^= 0x20
		require.NoError(t, os.WriteFile(file, text, info.Mode()))
		require.NoError(t, os.Chtimes(file, info.ModTime(), info.ModTime()))
	case 1:
		require.NoError(t, os.Truncate(file, int64(r.IntN(int(info.Size())))))
	case 2:
		require.NoError(t, os.Remove(file))
	}
	return fmt.Sprint(how, " ", file)
}

// fromEnv reads a number from the environment.
func fromEnv(name string, otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return otherwise
}

// TestReuseIsRight: whatever commands read and write, and whatever changes between builds, a build that reuses gives bit for
// bit what one gives that does everything anew. IMBRICAT_TEST_SEED goes on from there and IMBRICAT_TEST_SEEDS says how
// far. The test can fail: with a part of the traces left out it does.
func TestReuseIsRight(t *testing.T) {
	usual, enough := 15, 15
	if testing.Short() {
		usual, enough = 10, 10
	}
	first, seeds := fromEnv("IMBRICAT_TEST_SEED", 0), fromEnv("IMBRICAT_TEST_SEEDS", usual)
	const parts = 5
	for part := range parts {
		t.Run(fmt.Sprint("part ", part), func(t *testing.T) {
			t.Parallel()
			builds, reusedSteps, ranSteps, wrong := rounds{options: sandbox.Options{NoOverlay: part == 4}, first: first + seeds*part/parts, seeds: seeds*(part+1)/parts - seeds*part/parts, each: 7}.run(t)
			require.Empty(t, wrong)
			require.Greater(t, reusedSteps, min(enough, seeds))
			require.Greater(t, ranSteps, min(enough, seeds))
			t.Logf("%d builds, %d steps reused, %d ran", builds, reusedSteps, ranSteps)
		})
	}
	if seeds != usual || first != 0 {
		return
	}
	mine := func(e trace.Entry) bool { return strings.HasPrefix(e.Path, "t/") }
	for what, forget := range map[string]func(e trace.Entry) bool{
		"contents":   func(e trace.Entry) bool { return e.Asked&trace.Content != 0 && mine(e) },
		"listings":   func(e trace.Entry) bool { return e.Asked&trace.Names != 0 },
		"absences":   func(e trace.Entry) bool { return e.Answer == "-" && mine(e) },
		"metadata":   func(e trace.Entry) bool { return e.Asked == trace.Kind|trace.Meta && mine(e) },
		"links":      func(e trace.Entry) bool { return e.Answer[0] == 'l' && mine(e) },
		"names":      func(e trace.Entry) bool { return strings.Contains(e.Answer, " +") },
		"everything": func(e trace.Entry) bool { return e.Asked&trace.Whole != 0 },
		"sticky":     func(e trace.Entry) bool { return e.Asked&trace.Sticky != 0 && mine(e) },
	} {
		t.Run("without "+what, func(t *testing.T) {
			t.Parallel()
			// It takes some rounds until one matters; starting nearer saves time and nothing else.
			// On an overlay folders are renamed by copying and removing, which reads all; on a copy they are renamed.
			_, _, _, wrong := rounds{options: sandbox.Options{NoOverlay: what == "everything"}, first: nearer[what], seeds: 60, each: 7, forget: forget, plain: true, moves: what == "everything"}.run(t)
			require.NotEmpty(t, wrong, "with %s left out of traces nothing went wrong", what)
			t.Log(strings.SplitN(wrong, ",", 2)[0])
		})
	}
}

// nearer are seeds shortly before those at which it shows that something is left out of traces.
var nearer = map[string]int{"everything": 4}

// TestWritesRead: whatever a layer carries from below is an input, though the command never opened it for reading.
func TestWritesRead(t *testing.T) {
	t.Parallel()
	s := commandSite(t, sandbox.Options{})
	copied := commandSite(t, sandbox.Options{NoOverlay: true})
	write := func(name, text string) func(dir string) {
		return func(dir string) {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
	}
	mode := func(name string, mode os.FileMode) func(dir string) {
		return func(dir string) { require.NoError(t, os.Chmod(filepath.Join(dir, name), mode)) }
	}
	folders := "755" // the mode of /t/d, which a step of the recipe sets
	folderMode := func(string) { folders = "711" }
	for _, c := range []struct {
		name, script string
		edit         func(dir string)
		runs         bool
	}{
		{"content under chmod", "chmod 600 /t/f", write("t/f", "other"), true},
		{"content under chown", "chown 7 /t/f", write("t/f", "other"), true},
		{"content under a new time", "touch -d 2001-01-01 /t/f", write("t/f", "other"), true},
		{"content under an append", "echo more >> /t/f", write("t/f", "other"), true},
		{"content under a partial write", "printf x | dd of=/t/f conv=notrunc 2> /dev/null", write("t/f", "other"), true},
		{"content under a shorter end", "truncate -s 1 /t/f", write("t/f", "other"), true},
		{"content under a hard link", "ln /t/f /t/g", write("t/f", "other"), true},
		{"content under a new name", "mv /t/f /t/g", write("t/f", "other"), true},
		{"mode under replaced content", "echo new > /t/f", mode("t/f", 0o755), true},
		{"no content under replaced content", "echo new > /t/f", write("t/f", "other"), false},
		{"no content of what is removed", "rm /t/f", write("t/f", "other"), false},
		{"that there is something to remove", "rm -f /t/f", func(dir string) { require.NoError(t, os.Remove(filepath.Join(dir, "t/f"))) }, true},
		{"all of a folder with a new name", "mv /t/d /t/n", write("t/d/e/deep", "other"), true},
		{"names in a folder with a new name", "mv /t/d /t/n", write("t/d/e/more", "more"), true},
		{"the names in a folder that is removed", "rm -r /t/d", write("t/d/e/more", "more"), true},
		{"the names in a folder that is replaced", "rm -r /t/d; mkdir /t/d; echo 1 > /t/d/f", write("t/d/e/more", "more"), true},
		{"that a folder is empty", "rmdir /t/d 2> /dev/null || true", func(dir string) { require.NoError(t, os.RemoveAll(filepath.Join(dir, "t/d/e"))) }, true},
		{"a folder that is made on the way", "mkdir -p /t/d/e/f/g", func(dir string) { require.NoError(t, os.MkdirAll(filepath.Join(dir, "t/d/e/f"), 0o755)) }, true},
		{"the mode of a folder that is written into", "echo 1 > /t/d/new", folderMode, true},
		{"no names of a folder that is written into", "echo 1 > /t/d/new", write("t/d/other", "other"), false},
		{"absence under what is made", "echo 1 > /t/new", write("t/new", "there"), true},
		{"what was made first is not an input", "echo 1 > /t/new; cat /t/new > /t/copy", write("t/f", "other"), false},
		{"a link on the way", "cat /t/l/deep > /out", func(dir string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "t/x"), 0o755))
			write("t/x/deep", "deep")(dir)
			require.NoError(t, os.Remove(filepath.Join(dir, "t/l")))
			require.NoError(t, os.Symlink("x", filepath.Join(dir, "t/l")))
		}, true},
		{"through a link that it made", "ln -s /t/d /t/own; cat /t/own/e/deep > /out", write("t/d/e/deep", "other"), true},
		{"through a folder that it renamed", "mkdir /t/a; ln -s /t/d/e /t/a/b; mv /t/a /t/c; cat /t/c/b/deep > /out", write("t/d/e/deep", "other"), true},
		{"through dots of a folder that it made", "mkdir -p /n/m; cat /n/m/../../t/f > /out", write("t/f", "other"), true},
		{"through the links of open files", "exec 3< /t/d; cat /proc/self/fd/3/e/deep > /out", write("t/d/e/deep", "other"), true},
		{"in another root", "mkdir -p /r/bin /r/t; cp /bin/busybox /r/bin; ln -s /bin/../t /r/bin/t; cp -r /t /r; chroot /r /bin/busybox cat /bin/t/f > /out", write("t/f", "other"), true},
		{"another root in the view", "chroot /t/root /busybox cat /deep > /out 2>&1 || true", write("t/root/deep", "other"), true},
		{"what a glob found", "echo /t/d/* > /out", write("t/d/z", ""), true},
		{"a test for absence", "test -e /t/z || echo none > /out", write("t/z", ""), true},
		{"the access of another user", "chmod 777 /o; su -s /bin/sh nobody -c 'cat /t/d/e/deep > /o/x 2>&1 || true'", folderMode, true},
		{"neither modes nor names for root", "cat /t/d/e/deep > /out", func(dir string) { folderMode(dir); write("t/d/z", "")(dir) }, false},
		{"nothing", "true", write("t/f", "other"), false},
	} {
		for kind, s := range map[string]*site{"overlay": s, "copied": copied} {
			if kind == "copied" && strings.Contains(c.name, "no content") {
				continue // what was replaced cannot be told from what was changed
			}
			require.NoError(t, os.RemoveAll(filepath.Join(s.dir, "t")))
			for name, text := range map[string]string{"t/f": "text\n", "t/d/e/deep": "deep\n", "t/d/g": "g\n", "t/root/deep": "below\n"} {
				write(name, text)(s.dir)
			}
			require.NoError(t, os.Symlink("d/e", filepath.Join(s.dir, "t/l")))
			program, err := os.ReadFile("/bin/busybox")
			require.NoError(t, err)
			write("t/root/busybox", string(program))(s.dir)
			mode("t/root/busybox", 0o755)(s.dir)
			recipe := func() string {
				return gauge("copy: {from: bin, to: /bin}", "copy: {from: t, to: /t}", `write: {to: /etc/passwd, text: "root:x:0:0::/:/bin/sh\nnobody:x:65534:65534::/:/bin/sh\n"}`,
					`run: {command: [/bin/busybox, sh, -c, "/bin/busybox --install -s /bin; mkdir /o"]}`, "run: {command: [/bin/chmod, '"+folders+"', /t/d]}", fmt.Sprintf("run: {command: [/bin/sh, -e, -c, %q]}", c.script))
			}
			folders = "755"
			_, err = s.build(recipe())
			require.NoError(t, err, c.name)
			c.edit(s.dir)
			again, err := s.build(recipe())
			require.NoError(t, err, c.name)
			last := again.Steps[len(again.Steps)-1]
			require.Equal(t, c.runs, last.Outcome == event.Ran, "%s: %s: %s, %s", kind, c.name, last.Outcome, last.Reason)
			if !c.runs {
				require.Equal(t, event.Reused, last.Outcome, c.name)
			}
		}
	}
}

// TestDividedRunIsFoundInItsLayers: what a command left lies in several layers, and nowhere else.
func TestDividedRunIsFoundInItsLayers(t *testing.T) {
	s := commandSite(t, sandbox.Options{})
	rules, err := division.New([][]string{{"/"}, {"/o/b/"}, {"/o/a/2"}})
	require.NoError(t, err)
	s.divisions = map[string]*division.Rules{"gauge": rules}
	text := gauge("copy: {from: bin, to: /bin}", "run: mkdir -p /o/a /o/b; for n in 1 2 3; do echo $n > /o/a/$n; echo b$n > /o/b/$n; done; ln /o/a/1 /o/b/one")
	first, layers := s.stack(t, text)
	require.Equal(t, [][]string{{"bin/busybox", "bin/sh", "o/a/1", "o/a/3", "o/b/one"}, {"o/b/1", "o/b/2", "o/b/3"}, {"o/a/2"}}, layers, "names of one file stay together")
	require.Equal(t, 3, first.Steps[1].Layers)
	require.NoError(t, s.store.EachSnapshot(func(form string, key digest.Key, _ string) error { return s.store.DropSnapshot(form, key) }))
	s.divisions = nil
	second, _ := s.stack(t, text)
	require.Equal(t, "reused", second.Steps[1].Outcome.String(), second.Steps[1].Reason)
	whole := s.elsewhere(t)
	third, _ := whole.stack(t, text)
	require.Equal(t, third.Images[0].Descriptor, second.Images[0].Descriptor)
}

// TestSameCommandRunsOnce: images that have the same command over the same tree, at the same time, share one run of it.
func TestSameCommandRunsOnce(t *testing.T) {
	s := commandSite(t, sandbox.Options{})
	var runs atomic.Int64
	s.watch = func(e event.Event) {
		if began, is := e.(event.Started); is && began.Act == "running" {
			runs.Add(1)
		}
	}
	text := "imbricat: 1\nimages:\n"
	for _, name := range []string{"almanac", "bulletin", "gauge"} {
		text += fmt.Sprintf("  %s: {base: none, platforms: [linux/amd64], steps: [{copy: {from: bin, to: /bin}}, "+
			"{run: {command: [/bin/busybox, sh, -c, /bin/busybox cat /proc/sys/kernel/random/uuid > /id]}}]}\n", name)
	}
	result, err := s.build(text)
	require.NoError(t, err)
	require.Len(t, result.Images, 3)
	require.EqualValues(t, 1, runs.Load())
	for _, image := range result.Images {
		require.Equal(t, result.Images[0].Descriptor.Digest, image.Descriptor.Digest)
	}
}
