package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
)

// TestHostileKept: what is imported as a kept directory stays below it, and where it is refused, at whatever moment, the
// directory that was there stays as it is, with what is known of it.
func TestHostileKept(t *testing.T) {
	s := commandSite(t, sandbox.Options{})
	ctx, folder, outside := context.Background(), t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "theirs"), []byte("theirs"), 0o644))
	file := func(name, text string) []any {
		return []any{&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text))}, text}
	}
	link := func(kind byte, name, to string) []any {
		return []any{&tar.Header{Name: name, Typeflag: kind, Linkname: to, Mode: 0o777}, ""}
	}
	archive := func(parts ...[]any) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, p := range parts {
			require.NoError(t, w.WriteHeader(p[0].(*tar.Header)))
			_, err := w.Write([]byte(p[1].(string)))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	name := filepath.Join(folder, "levels"+local.KeptSuffix)
	bring := func(ctx context.Context, content []byte) error {
		require.NoError(t, os.WriteFile(name, content, 0o644))
		return local.ImportKept(ctx, s.store, s.box, name)
	}
	require.NoError(t, bring(ctx, archive(file("level", "3.42"))))
	kept, _, err := s.store.Kept(s.box.Owners(), "levels")
	require.NoError(t, err)
	whole := func(what string) {
		f, err := s.box.OpenFile(filepath.Join(kept.Dir, "level"))
		require.NoError(t, err, what)
		f.Close()
		for _, dir := range []string{outside, filepath.Join(s.store.Dir(), "imbricat/tmp")} {
			left, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.Len(t, left, map[bool]int{true: 1}[dir == outside], what)
		}
		theirs, err := os.ReadFile(filepath.Join(outside, "theirs"))
		require.NoError(t, err)
		require.Equal(t, "theirs", string(theirs), what)
	}
	big, _ := zstd.NewWriter(nil)
	large := archive(file("big", strings.Repeat("3", 1<<20)))
	packed := big.EncodeAll(large, nil)
	for what, content := range map[string][]byte{
		"up":                     archive(file("../up", "x")),
		"up on the way":          archive(file("a/../../up", "x")),
		"through a link":         archive(link(tar.TypeSymlink, "a", outside), file("a/theirs", "x")),
		"a folder over a link":   archive(link(tar.TypeSymlink, "a", outside), []any{&tar.Header{Name: "a/", Typeflag: tar.TypeDir, Mode: 0o700}, ""}),
		"a file over a link":     archive(link(tar.TypeSymlink, "a", filepath.Join(outside, "theirs")), file("a", "x")),
		"a hard link out":        archive(link(tar.TypeLink, "a", "../../../../etc/passwd")),
		"a hard link by a link":  archive(link(tar.TypeSymlink, "l", outside), link(tar.TypeLink, "a", "l/theirs")),
		"twice":                  archive(file("a", "x"), file("a", "y")),
		"a deletion":             archive(file(".wh.a", "")),
		"an opaque folder":       archive(file("d/.wh..wh..opq", "")),
		"a nameless file":        archive(file(".", "x")),
		"another kind":           archive([]any{&tar.Header{Name: "a", Typeflag: 'Z'}, ""}),
		"a long name":            archive(file(strings.Repeat("n", 300), "x")),
		"a zero in a name":       bytes.Replace(archive([]any{&tar.Header{Name: "aXb" + strings.Repeat("c", 200), Typeflag: tar.TypeReg}, ""}), []byte("aXbccc"), []byte("a\x00bccc"), -1),
		"cut":                    large[:len(large)/2],
		"an end that is missing": large[:len(large)-1024-512],
		"no archive":             []byte("3.42"),
		"half a stream":          packed[:len(packed)/2],
	} {
		err := bring(ctx, content)
		require.Error(t, err, what)
		require.Contains(t, err.Error(), name, "it says which file: %s", what)
		whole(what)
		t.Log("held: " + what)
	}
	// Devices, and attributes by which overlays steer themselves, are left out.
	require.NoError(t, bring(ctx, archive(file("level", "4"), []any{&tar.Header{Name: "disk", Typeflag: tar.TypeBlock, Devmajor: 254}, ""})))
	_, err = s.box.OpenFile(filepath.Join(kept.Dir, "disk"))
	require.Error(t, err)

	// Notes that cannot be read, a pipe that nobody writes to, and an end at any moment.
	notes := strings.TrimSuffix(name, local.KeptSuffix) + ".fills.json"
	require.NoError(t, os.WriteFile(notes, []byte(`{"key":"x"}`), 0o644))
	require.ErrorContains(t, bring(ctx, archive(file("other", "x"))), notes)
	whole("notes")
	require.NoError(t, os.Remove(notes))
	require.NoError(t, os.Remove(name))
	require.NoError(t, unix.Mkfifo(name, 0o600))
	require.ErrorContains(t, local.ImportKept(ctx, s.store, s.box, name), "it is not a file")
	whole("a pipe")
	require.NoError(t, os.Remove(name))
	for _, after := range []time.Duration{0, time.Millisecond, 5 * time.Millisecond} {
		short, cancel := context.WithTimeout(ctx, after)
		if err := bring(short, archive(file("level", "5"), file("more", strings.Repeat("3", 32<<20)))); err == nil {
			cancel()
			break
		}
		cancel()
		whole("interrupted after " + after.String())
	}
}
