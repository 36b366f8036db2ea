package e2e

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// seeds gives the random seeds of a test: some, or those that scripts/attack asks for.
func seeds(t *testing.T, usual int) (first, end uint64) {
	number := func(name string, otherwise int) uint64 {
		n, err := strconv.ParseUint(os.Getenv(name), 10, 64)
		if err != nil {
			return uint64(otherwise)
		}
		return n
	}
	if testing.Short() {
		usual /= 3
	}
	first = number("IMBRICAT_TEST_SEED", 1)
	t.Logf("seeds %d to %d", first, first+number("IMBRICAT_TEST_SEEDS", usual)-1)
	return first, first + number("IMBRICAT_TEST_SEEDS", usual)
}

// observatory is a project that leaves something of every kind in its store: layers, images, records, what commands left,
// read and printed, kept directories, an image from elsewhere, and what a shared cache brought.
func observatoryStore(t *testing.T) *run {
	r := newRun(t)
	r.busybox()
	for i := range 30 {
		r.write(fmt.Sprintf("pages/%02d", i), strings.Repeat(fmt.Sprintf("tide table %d ", i), 400))
	}
	r.write("elsewhere/imbricat.yaml", "imbricat: 1\nimages: {plain: {base: none, steps: [{copy: {from: bin, to: /bin}}]}}\n")
	require.NoError(t, exec.Command("cp", "-a", filepath.Join(r.dir, "bin"), filepath.Join(r.dir, "elsewhere/bin")).Run())
	r.ok("build", "--dir", "elsewhere")
	r.ok("copy", "plain", "./plain")
	r.ok("store", "drop", "plain")
	r.write("imbricat.yaml", `imbricat: 1
silence: [confined]
stages:
  almanac:
    base: ./plain
    steps:
      - copy: {from: pages, to: /pages}
      - run: {command: [/bin/busybox, sh, -c, "cd /; busybox cat pages/* | busybox sort > /k/sorted; busybox cat /k/sorted > /almanac; echo done"]}
        kept: [{name: sorted, at: /k}]
      - run: {command: [/bin/busybox, sh, -c, "busybox wc -l < /k/sorted > /lines"]}
        kept: [{name: sorted, at: /k}]
images:
  gauge: {base: {stage: almanac}, steps: [{write: {to: /name, text: gauge}}, {run: {command: [/bin/busybox, sh, -c, "busybox cat /name >> /almanac"]}}]}
  bulletin: {base: none, compression: zstd, steps: [{copy: {from: pages, to: /pages}}, {take: {from: {stage: almanac}, paths: /almanac, to: /almanac}}]}
`)
	r.env = append(r.env, "IMBRICAT_SHARE="+filepath.Join(r.dir, "cache"))
	r.build()
	require.NoError(t, os.Rename(filepath.Join(r.dir, "store"), filepath.Join(r.dir, "first")))
	r.build("--fresh=false") // from the shared cache
	r.write("pages/00", "another tide")
	r.build()
	return r
}

// kindOfFile names what a file of a store is, by its folder.
func kindOfFile(below string) string {
	parts := strings.Split(below, "/")
	switch {
	case parts[0] == "blobs":
		return "blob"
	case len(parts) > 3 && parts[1] == "kept":
		return "kept " + parts[min(4, len(parts)-1)]
	case len(parts) > 4 && parts[1] == "snapshots":
		return "unpacked " + parts[4]
	case len(parts) > 2:
		return parts[1]
	}
	return below
}

// TestStoreFaults: whatever file of a store is changed, cut, emptied, removed or replaced by another of its kind, the next
// build gives the right image, or says clearly what is wrong and what mends it; after that everything is right.
func TestStoreFaults(t *testing.T) {
	need(t, "busybox")
	r := observatoryStore(t)
	right := r.build().Images
	pristine := filepath.Join(r.dir, "pristine")
	require.NoError(t, os.Rename(filepath.Join(r.dir, "store"), pristine))
	kinds := map[string][]string{}
	require.NoError(t, filepath.WalkDir(pristine, func(path string, d fs.DirEntry, err error) error {
		below, _ := filepath.Rel(pristine, path)
		if err == nil && d.Type().IsRegular() && !strings.Contains(below, "/leases/") && !strings.HasSuffix(below, "lock") {
			kinds[kindOfFile(below)] = append(kinds[kindOfFile(below)], below)
		}
		return err
	}))
	names := []string{}
	for kind := range kinds {
		names = append(names, kind)
	}
	sort.Strings(names)
	t.Logf("%d kinds of files: %s", len(names), strings.Join(names, ", "))
	require.GreaterOrEqual(t, len(names), 16)
	faults := []string{"a bit", "cut", "emptied", "removed", "another's", "appended", "zeroed"}
	store := filepath.Join(r.dir, "store")
	mended, told := 0, 0
	first, end := seeds(t, len(names)+6)
	for seed := first; seed < end; seed++ {
		random := rand.New(rand.NewPCG(seed, 31))
		kind, fault := names[int(seed)%len(names)], faults[random.IntN(len(faults))]
		victim := kinds[kind][random.IntN(len(kinds[kind]))]
		what := fmt.Sprintf("seed %d: %s of %s (%s)", seed, fault, victim, kind)
		require.NoError(t, exec.Command("cp", "-a", pristine, store).Run())
		path := filepath.Join(store, victim)
		before, err := os.Lstat(path)
		require.NoError(t, err)
		_ = os.Chmod(path, before.Mode().Perm()|0o600)
		text, err := os.ReadFile(path)
		if err != nil {
			require.NotZero(t, os.Getuid(), what) // another id's
			require.NoError(t, removeStore(r, store))
			continue
		}
		switch {
		case fault == "removed":
			require.NoError(t, os.Remove(path))
		case fault == "another's":
			text, err = os.ReadFile(filepath.Join(store, kinds[kind][random.IntN(len(kinds[kind]))]))
			if err != nil {
				text = []byte("other")
			}
		case fault == "emptied" || len(text) == 0:
			text = nil
		case fault == "a bit":
			text[random.IntN(len(text))] ^= 1 << random.IntN(8)
		case fault == "cut":
			text = text[:random.IntN(len(text))]
		case fault == "appended":
			text = append(text, "tide"...)
		case fault == "zeroed":
			at := random.IntN(len(text))
			clear(text[at:min(len(text), at+512)])
		}
		if fault != "removed" {
			require.NoError(t, os.WriteFile(path, text, before.Mode().Perm()))
		}
		code, problems := r.exit("build", "--view", "none")
		if code == 0 {
			code, problems := r.exit("build", "--view", "none")
			require.Zero(t, code, "%s: the second time: %s", what, problems)
			require.Equal(t, right, r.build().Images, what)
			mended++
		} else {
			told++
			require.Regexp(t, "imbricat store check --repair|build again|build or pull again", problems, what)
			require.NotContains(t, problems, "panic", what)
		}
		for _, args := range [][]string{{"store", "check", "--repair"}, {"build", "--view", "none"}, {"copy", "gauge", "./out.tar"}, {"store", "check"}} {
			code, problems := r.exit(args...)
			require.Zero(t, code, "%s: after %v: %s\nat first: %s", what, args, problems)
		}
		require.Equal(t, right, r.build().Images, what)
		require.NoError(t, os.Remove(filepath.Join(r.dir, "out.tar")))
		require.NoError(t, removeStore(r, store))
	}
	t.Logf("held: %d faults in %d kinds of files: %d made good by the next build, %d told with what mends them", end-first, len(names), mended, told)
	require.NoError(t, os.Rename(pristine, store))
}

// removeStore removes a copy of a store; what belongs to other ids the program removes.
func removeStore(r *run, dir string) error {
	if os.Getuid() != 0 {
		r.ok("store", "drop", "*")
		r.ok("store", "trim", "--unused-for", "0s")
	}
	return os.RemoveAll(dir)
}

// TestFullDisk: on a disk that is full at whatever moment a build says so, and when there is room it goes on from what was
// finished; nothing in the store is wrong.
func TestFullDisk(t *testing.T) {
	need(t, "busybox")
	if os.Getuid() != 0 {
		t.Skip("mounting takes root")
	}
	r := observatoryStore(t)
	right := r.build().Images
	r.env = slices.DeleteFunc(r.env, func(v string) bool { return strings.HasPrefix(v, "IMBRICAT_SHARE=") })
	disk := filepath.Join(r.dir, "disk")
	require.NoError(t, os.Mkdir(disk, 0o755))
	r.env = append(r.env, "IMBRICAT_STORE="+filepath.Join(disk, "store"))
	full := 0
	first, end := seeds(t, 8)
	for seed := first; seed < end; seed++ {
		random := rand.New(rand.NewPCG(seed, 32))
		size := 256<<10 + random.IntN(12<<20)
		require.NoError(t, unix.Mount("tmpfs", disk, "tmpfs", 0, fmt.Sprintf("size=%d", size)))
		what := fmt.Sprintf("seed %d: %d bytes", seed, size)
		func() {
			defer func() { require.NoError(t, unix.Unmount(disk, unix.MNT_DETACH)) }()
			code, problems := r.exit("build", "--view", "none")
			if code != 0 {
				full++
				require.Regexp(t, "(?i)no space left|more than .* of the disk|nine tenths", problems, what)
			}
			require.NoError(t, unix.Mount("", disk, "", unix.MS_REMOUNT, "size=1g"), what)
			if code, problems := r.exit("store", "check"); code != 0 {
				require.Contains(t, problems, "is not an image layout", what) // it did not even begin
			}
			require.Equal(t, right, r.build().Images, what)
			require.Contains(t, r.ok("store", "check"), "nothing wrong", what)
		}()
	}
	t.Logf("held: %d disks, %d of which were full in the middle", end-first, full)
	require.Positive(t, full)
}
