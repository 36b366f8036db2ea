package layout

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
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
	require.ErrorIs(t, err, ErrNotFound, "what is nobody's is no project's")
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
