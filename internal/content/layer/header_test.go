package layer

import (
	"archive/tar"
	"bytes"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
)

// FuzzHeader: a header that is composed here is the one that the standard library writes, to the byte.
func FuzzHeader(f *testing.F) {
	long := strings.Repeat("n", 99)
	for _, e := range []tree.Entry{
		{Path: "srv/tides.txt", Mode: 0o644, Size: 3500, UID: 1000, GID: 60},
		{Path: long + "/f", Size: 1}, {Path: long, Kind: tree.Folder, Mode: 0o1777}, {Path: long + "n", Kind: tree.Folder}, {Path: long + "n"},
		{Path: "é"}, {Path: "a\x00b"}, {Path: "/"}, {Path: "d/", Kind: tree.Folder}, {Path: "l", Kind: tree.Symlink, Target: "../" + long}, {Path: "l", Kind: tree.Symlink, Target: long + "n"}, {Path: "l", Kind: tree.Hardlink, Target: "é"},
		{Path: "f", Size: 1<<33 - 1}, {Path: "f", Size: 1 << 33}, {Path: "f", UID: 1 << 21}, {Path: "f", GID: 1<<21 - 1}, {Path: "f", Time: -1}, {Path: "f", Time: 1 << 33}, {Path: "f", Time: 1},
		{Path: "d", Kind: tree.CharDevice, Major: 1, Minor: 3}, {Path: "p", Kind: tree.Fifo}, {Path: "w", Kind: tree.Whiteout}, {Path: "w", Kind: tree.Opaque}, {},
	} {
		if e.Kind == 0 {
			e.Kind = tree.File
		}
		f.Add(e.Path, e.Target, uint8(e.Kind), e.Mode, e.UID, e.GID, e.Size, e.Time, e.Major, e.Minor)
	}
	f.Fuzz(func(t *testing.T, path, target string, kind uint8, mode uint32, uid, gid int, size, seconds, major, minor int64) {
		e := &tree.Entry{Path: path, Target: target, Kind: tree.Kind(kind % uint8(len(typeflags))), Mode: mode, UID: uid, GID: gid, Size: size, Time: seconds, Major: major, Minor: minor}
		got, plain := appendPlain([]byte("before"), e)
		if !plain {
			return
		}
		var want bytes.Buffer
		require.NoError(t, tar.NewWriter(&want).WriteHeader(header(e)))
		require.Equal(t, "before"+want.String(), string(got), "%+v", e)
	})
}

// TestPlainHeaders: what most entries are is composed here.
func TestPlainHeaders(t *testing.T) {
	for _, e := range []tree.Entry{{Path: "f", Kind: tree.File, Mode: 0o4755, Size: 1}, {Path: "d", Kind: tree.Folder}, {Path: "l", Kind: tree.Symlink, Target: "f"}, {Path: "h", Kind: tree.Hardlink, Target: "f"}} {
		_, plain := appendPlain(nil, &e)
		require.True(t, plain)
	}
	for _, e := range []tree.Entry{{Path: "f", Kind: tree.File, Xattrs: map[string]string{"user.tide": "high"}}, {Path: "d", Kind: tree.BlockDevice}} {
		_, plain := appendPlain(nil, &e)
		require.False(t, plain)
	}
}
