package compose

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
)

// plainly reads the files of an archive with the standard library alone, by their clean paths.
func plainly(t *testing.T, content []byte) map[string]string {
	files := map[string]string{}
	put := func(name string, body io.Reader) {
		clean, err := tree.CleanPath(name)
		require.NoError(t, err)
		text, err := io.ReadAll(body)
		require.NoError(t, err)
		files[clean] = string(text)
	}
	if bytes.HasPrefix(content, []byte("PK")) {
		z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
		require.NoError(t, err)
		for _, one := range z.File {
			if body, err := one.Open(); err == nil && one.Mode().IsRegular() {
				put(one.Name, body)
			}
		}
		return files
	}
	plain, err := layer.Decompress(bytes.NewReader(content))
	require.NoError(t, err)
	defer plain.Close()
	for r := tar.NewReader(plain); ; {
		h, err := r.Next()
		if err == io.EOF {
			return files
		}
		require.NoError(t, err)
		if h.Typeflag == tar.TypeReg {
			put(h.Name, r)
		}
	}
}

// FuzzArchive: no bytes make the reader of archives panic or give a path that is not clean; reading again gives the same, and
// files are what the standard library reads.
func FuzzArchive(f *testing.F) {
	f.Add(treetest.Tar(f, &tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 3}))
	f.Add(treetest.Zip(f, treetest.ZipFile("a/b", 0o644, "b"), treetest.ZipFile("c", 0o777|os.ModeSymlink, "a")))
	f.Add([]byte("\xfd7zXZ\x00"))
	f.Add(append(treetest.Tar(f, &tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 3}, &tar.Header{Name: "./a/", Typeflag: tar.TypeDir}, &tar.Header{Name: "a", Typeflag: tar.TypeReg, Size: 3}), "more"...))
	f.Fuzz(func(t *testing.T, content []byte) {
		files := map[string]string{}
		read := func() (entries []tree.Entry, err error) {
			from := &archive{name: "archive", limit: 1 << 20, open: func(context.Context) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil }}
			total := int64(0)
			err = walkArchive(context.Background(), from, func() (string, error) { return os.MkdirTemp("", "fuzz") }, func(e *tree.Entry, body io.Reader) error {
				if total += e.Size; total > from.limit {
					return layer.ErrMalformed
				}
				clean, err := tree.CleanPath(e.Path)
				require.NoError(t, err)
				require.Equal(t, clean, e.Path)
				text, err := io.ReadAll(body)
				entries = append(entries, *e)
				if delete(files, e.Path); e.Kind == tree.File {
					files[e.Path] = string(text)
				}
				return err
			})
			return entries, err
		}
		first, err := read()
		if err == nil {
			want := plainly(t, content)
			for name, text := range files {
				require.Equal(t, want[name], text, name)
			}
		}
		again, errAgain := read()
		require.Equal(t, first, again)
		require.Equal(t, err == nil, errAgain == nil)
	})
}
