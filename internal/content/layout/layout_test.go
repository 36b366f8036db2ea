package layout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

// TestNamesOfProjects: projects keep images of one name apart; each finds its own, and whoever is of none must say which.
func TestNamesOfProjects(t *testing.T) {
	ctx := context.Background()
	dir := filepath.Join(t.TempDir(), "store")
	l, err := CreatePrivate(dir, filepath.Join(dir, "imbricat", "tmp"))
	require.NoError(t, err)
	for _, folder := range []string{dir, filepath.Join(dir, "imbricat")} {
		info, err := os.Stat(folder)
		require.NoError(t, err)
		require.EqualValues(t, 0o700, info.Mode().Perm(), folder)
	}
	north, err := l.PutBytes("application/json", []byte(`{"tide":"north"}`))
	require.NoError(t, err)
	south, err := l.PutBytes("application/json", []byte(`{"tide":"south"}`))
	require.NoError(t, err)
	pulled, err := l.PutBytes("application/json", []byte(`{"tide":"pulled"}`))
	require.NoError(t, err)
	require.NoError(t, l.NameOf(ctx, "/north", "gauge", north))
	require.NoError(t, l.NameOf(ctx, "/south", "gauge", south))
	require.NoError(t, l.NameOf(ctx, "/north", "almanac", north))
	require.NoError(t, l.NameOf(ctx, "/south", "almanac", north))
	require.NoError(t, l.Name(ctx, "bulletin", pulled))

	find := func(project, name string, mine bool) string {
		l.Project, l.Mine = project, func(string) bool { return mine }
		desc, err := l.Lookup(name)
		var several *AmbiguousError
		switch {
		case err == nil:
			return string(desc.Digest)
		case errors.As(err, &several):
			return "which?"
		}
		require.ErrorIs(t, err, ErrNotFound)
		return ""
	}
	for _, c := range []struct {
		project, name string
		mine          bool
		want          string
	}{
		{"/north", "gauge", true, string(north.Digest)},
		{"/south", "gauge", true, string(south.Digest)},
		{"/east", "gauge", true, ""},        // one of its recipe's, not built yet
		{"/east", "gauge", false, "which?"}, // of others, who do not agree
		{"", "gauge", false, "which?"},
		{"", "almanac", false, string(north.Digest)}, // they agree
		{"/east", "bulletin", true, string(pulled.Digest)},
		{"", "tables", false, ""},
	} {
		require.Equal(t, c.want, find(c.project, c.name, c.mine), "%+v", c)
	}
	_, err = l.LookupOf("/east", "bulletin")
	require.ErrorIs(t, err, ErrNotFound, "what is nobody's is not a project's")
	own, err := l.LookupOf("/south", "gauge")
	require.NoError(t, err)
	require.Equal(t, south.Digest, own.Digest)
	// A name moves within its project alone, and only a store knows since when it stands.
	require.NoError(t, l.NameOf(ctx, "/south", "gauge", pulled))
	list, err := l.List()
	require.NoError(t, err)
	require.Len(t, list, 5)
	for _, n := range list {
		require.False(t, n.Since.IsZero())
	}
	given, err := Create(filepath.Join(t.TempDir(), "given"), "")
	require.NoError(t, err)
	require.NoError(t, given.Name(ctx, "gauge", north))
	text, err := os.ReadFile(filepath.Join(given.Dir(), "index.json"))
	require.NoError(t, err)
	require.NotContains(t, string(text), "since")
}

// TestNamedAgain: a name that stands for an image already is not written again, whatever else is in the list, and naming many at a time
// loses none.
func TestNamedAgain(t *testing.T) {
	l, err := Create(filepath.Join(t.TempDir(), "layout"), t.TempDir())
	require.NoError(t, err)
	one, two := digest.Descriptor{MediaType: "a", Digest: digest.FromBytes([]byte("1")), Size: 1}, digest.Descriptor{MediaType: "a", Digest: digest.FromBytes([]byte("2")), Size: 1}
	stat := func() os.FileInfo {
		info, err := os.Stat(filepath.Join(l.Dir(), "index.json"))
		require.NoError(t, err)
		return info
	}
	written := func(project, name string, desc digest.Descriptor) bool {
		before := stat()
		require.NoError(t, l.NameOf(t.Context(), project, name, desc))
		found, err := l.LookupOf(project, name)
		require.NoError(t, err)
		require.Equal(t, desc.Digest, found.Digest)
		return !os.SameFile(before, stat())
	}
	require.True(t, written("/north", "gauge", one))
	require.False(t, written("/north", "gauge", one))
	require.True(t, written("/south", "gauge", one))
	require.True(t, written("/north", "gauge", two))
	require.True(t, written("/north", "gauge", one), "it moves back too")
	larger := one
	larger.Size = 2
	require.True(t, written("/north", "gauge", larger))
	require.True(t, written("/north", "almanac", one))
	require.False(t, written("/south", "gauge", one))
	// A list that another program changes in place, in the moment in which it was written, is read again; one that was written long ago is not.
	path := filepath.Join(l.Dir(), "index.json")
	for _, old := range []time.Duration{0, time.Hour} {
		when := time.Now().Add(-old)
		require.NoError(t, os.Chtimes(path, when, when))
		require.False(t, written("/south", "gauge", one))
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, bytes.ReplaceAll(text, []byte(one.Digest), []byte(two.Digest)), 0o644))
		if old == 0 {
			require.NoError(t, os.Chtimes(path, when, when))
		}
		require.True(t, written("/south", "gauge", one))
	}
	var group sync.WaitGroup
	began := time.Now()
	problems := make([]error, 40)
	for n := range problems {
		group.Go(func() { problems[n] = l.NameOf(t.Context(), "/north", fmt.Sprint("image-", n), one) })
	}
	group.Wait()
	require.NoError(t, errors.Join(problems...))
	t.Log("40 names at a time took", time.Since(began))
	list, err := l.List()
	require.NoError(t, err)
	require.Len(t, list, 43)
}

// TestSynced: the bytes of a blob, and of a list of names, lie on the disk before they have their name, and the name before
// anybody is told of it; what may be lost with the power is not waited for.
func TestSynced(t *testing.T) {
	l, err := Create(filepath.Join(t.TempDir(), "layout"), "")
	require.NoError(t, err)
	var acts []string
	target := ""
	l.sync = func(f *os.File) error {
		info, err := f.Stat()
		require.NoError(t, err)
		_, err = os.Stat(target)
		acts = append(acts, fmt.Sprintf("folder %t, size %d, named %t", info.IsDir(), map[bool]int64{false: info.Size()}[info.IsDir()], err == nil))
		return f.Sync()
	}
	desc := digest.Descriptor{Digest: digest.FromBytes([]byte("3.42")), Size: 4}
	target, err = l.BlobPath(desc.Digest)
	require.NoError(t, err)
	require.NoError(t, l.Put(t.Context(), desc, strings.NewReader("3.42")))
	want := []string{"folder false, size 4, named false", "folder true, size 0, named true"}
	require.Equal(t, want, acts)
	acts, target = nil, filepath.Join(l.Dir(), "names")
	require.NoError(t, l.WriteFile("names", []byte("3.42")))
	require.Equal(t, want, acts)
	acts, target = nil, filepath.Join(l.Dir(), "once")
	require.NoError(t, l.CreateOnce("once", []byte("3.42")))
	require.Equal(t, want[:1], acts)
	acts = nil
	require.NoError(t, l.WriteQuick("quick", []byte("3.42")))
	require.Empty(t, acts)
	l.sync = func(*os.File) error { return syscall.EIO }
	require.ErrorIs(t, l.WriteFile("names", []byte("6.66")), syscall.EIO)
	text, err := os.ReadFile(filepath.Join(l.Dir(), "names"))
	require.NoError(t, err)
	require.Equal(t, "3.42", string(text), "what cannot be synced replaces nothing")
}

// TestBlobs: what is put has the digest and the size that it is to have, and what is fetched too.
func TestBlobs(t *testing.T) {
	l, err := Create(filepath.Join(t.TempDir(), "layout"), "")
	require.NoError(t, err)
	desc := digest.Descriptor{Digest: digest.FromBytes([]byte("3.42")), Size: 4}
	for _, text := range []string{"6.66", "3.4", "3.42 m"} {
		require.ErrorIs(t, l.Put(t.Context(), desc, strings.NewReader(text)), digest.ErrMismatch)
		require.False(t, l.Has(desc))
	}
	require.NoError(t, l.Put(t.Context(), desc, strings.NewReader("3.42")))
	path, err := l.BlobPath(desc.Digest)
	require.NoError(t, err)
	for text, want := range map[string]error{"3.42": nil, "6.66": digest.ErrMismatch, "3.4": digest.ErrMismatch, "3.42 m": digest.ErrMismatch} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		blob, err := l.Fetch(t.Context(), desc)
		require.NoError(t, err)
		_, err = io.ReadAll(blob)
		require.ErrorIs(t, err, want, text)
		require.NoError(t, blob.Close())
	}
	require.NoError(t, os.Remove(path))
	require.NoError(t, syscall.Mkfifo(path, 0o600))
	_, err = l.Fetch(t.Context(), desc)
	require.ErrorContains(t, err, "is not a file", "and nobody waits for a pipe")
}

// TestWhatIsThere: folders of something else are no layouts, documents are found by the first digits of their digests, names are
// dropped, and what was opened is found again.
func TestWhatIsThere(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	_, err := Open(dir)
	require.ErrorContains(t, err, "is not an image layout")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes"), nil, 0o644))
	_, err = Create(dir, "")
	require.ErrorContains(t, err, dir, "it litters nobody's folder")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "oci-layout"), []byte(`{"imageLayoutVersion":"9"}`), 0o644))
	_, err = Open(dir)
	require.ErrorContains(t, err, "of an unknown version")

	dir = filepath.Join(t.TempDir(), "layout")
	made, err := Create(dir, "")
	require.NoError(t, err)
	index, err := made.PutBytes("application/vnd.oci.image.index.v1+json", []byte(`{"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[]}`))
	require.NoError(t, err)
	text, err := made.PutBytes("text/plain", []byte("3.42"))
	require.NoError(t, err)
	require.NoError(t, made.Name(ctx, "gauge", index))

	l, err := Open(dir)
	require.NoError(t, err)
	require.True(t, l.Lists(text))
	require.False(t, l.Lists(digest.Descriptor{Digest: text.Digest, Size: text.Size + 1}))
	found, err := l.LookupPrefix(index.Digest.Encoded()[:12])
	require.NoError(t, err)
	require.Equal(t, index, found)
	_, err = l.LookupPrefix(text.Digest.Encoded()[:12])
	require.ErrorIs(t, err, ErrNotFound, "what is not an image is found by nobody")
	other, err := l.PutBytes(index.MediaType, []byte(`{"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[],"annotations":{}}`))
	require.NoError(t, err)
	_, err = l.LookupPrefix("")
	require.ErrorContains(t, err, "2 images have digests that start with")
	_, is := l.Document("sha256:../x")
	require.False(t, is)
	require.NoError(t, l.Name(ctx, "", other))
	dropped, err := l.Drop(ctx, func(n Named) bool { return n.Name == "" })
	require.NoError(t, err)
	require.Len(t, dropped, 1)
	require.Equal(t, string(other.Digest), dropped[0].String())
	dropped, err = l.Drop(ctx, func(Named) bool { return true })
	require.NoError(t, err)
	require.Equal(t, "gauge", dropped[0].String())
	_, err = l.Lookup("gauge")
	require.ErrorIs(t, err, ErrNotFound)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "index.json"), []byte(`{`), 0o644))
	_, err = l.List()
	require.ErrorContains(t, err, "is damaged")
}
