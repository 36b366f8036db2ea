package sandbox

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/digest"
	"imbricat/internal/tree"
)

func TestMain(m *testing.M) {
	Child()
	os.Exit(m.Run())
}

// bench is a box with a view of busybox.
type bench struct {
	*Box
	t     *testing.T
	dir   string
	base  string
	view  []tree.Entry
	feed  Feed
	trial int
}

const busybox = "/bin/busybox"

func newBench(t *testing.T, o Options) *bench {
	t.Helper()
	o.Time = 946684800
	box, err := Open(context.Background(), o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, box.Close()) })
	b := &bench{Box: box, t: t, dir: t.TempDir()}
	program, err := os.ReadFile(busybox)
	require.NoError(t, err)
	b.view = []tree.Entry{{Kind: tree.Folder, Mode: 0o755}, {Path: "bin", Kind: tree.Folder, Mode: 0o755},
		{Path: "bin/busybox", Kind: tree.File, Mode: 0o755, Size: int64(len(program)), Content: digest.ContentBytes(program)},
		{Path: "bin/sh", Kind: tree.Symlink, Target: "busybox", Mode: 0o777},
		{Path: "etc", Kind: tree.Folder, Mode: 0o755},
		{Path: "etc/motd", Kind: tree.File, Mode: 0o644, Size: 5, Content: digest.ContentBytes([]byte("tides"))},
		{Path: "tmp", Kind: tree.Folder, Mode: 0o1777}}
	b.feed = func(put func(int, int64, io.Reader) error) error {
		if err := put(5, -1, strings.NewReader("tides")); err != nil {
			return err
		}
		return put(2, -1, bytes.NewReader(program))
	}
	b.base = filepath.Join(b.dir, "base")
	require.NoError(t, box.Lay(context.Background(), b.base, b.view, b.feed))
	return b
}

func (b *bench) run(ctx context.Context, line string, change func(*Spec)) (Status, string, []Found, error) {
	b.trial++
	var out bytes.Buffer
	s := &Spec{Work: filepath.Join(b.dir, fmt.Sprint("work", b.trial)), Top: b.view[0], Args: []string{"/bin/sh", "-c", line}, Dir: "/",
		Env: []string{"PATH=/bin", "GREETING=hello"}, Stdout: &out, Stderr: &out}
	if b.Overlay() {
		s.Lower = []string{b.base}
	}
	if change != nil {
		change(s)
	}
	require.NoError(b.t, os.Mkdir(s.Work, 0o755))
	require.NoError(b.t, b.Prepare(ctx, s, b.view, b.feed))
	status, err := b.Run(ctx, s)
	if err != nil {
		return status, out.String(), nil, err
	}
	found, err := b.Wrote(s, "")
	require.NoError(b.t, err)
	require.NoError(b.t, b.Remove(s.Work))
	return status, out.String(), found, nil
}

func TestTry(t *testing.T) {
	for name, o := range map[string]Options{"best": {}, "copied": {NoOverlay: true}, "chroot": {Kind: Chroot}} {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			status, out, found, err := b.run(context.Background(), `busybox id; busybox hostname; busybox env; busybox ls -l / /dev /proc/self/fd; busybox mount; echo new > /etc/motd; busybox mkdir /x; echo 1 > /x/a; busybox rm /etc/motd;busybox  chmod 700 /bin/busybox; busybox ln /x/a /x/b; exit 7`, nil)
			t.Log(b.Kind(), status, err)
			t.Log(out)
			for _, f := range found {
				t.Log(string(f.AppendLine(nil)), f.CopiedUp, f.Opaque)
			}
		})
	}
}
