package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// diskOf adds up the files below a folder, in bytes.
func diskOf(t *testing.T, dir string) (n int64) {
	require.NoError(t, filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err == nil {
			n += info.Size()
		}
		return err
	}))
	return n
}

// TestSharedCacheIsKeptWithinBounds: a command drops what a shared cache holds beyond a size, in the stand-in and in a registry that nobody here
// wrote; images that share its repository stay whole, the registry's own clean-up frees the disk, and what is left is still used.
func TestSharedCacheIsKeptWithinBounds(t *testing.T) {
	keep := func(t *testing.T, address string, collect func()) {
		r := sharedProject(t, address)
		r.ok("build", "base", "--view", "none")
		r.ok("push", "base")
		place := address + "/tides/gauge:cache" // beside the image itself
		for _, text := range []string{"january", "february", "march"} {
			r.write("src/pages", text)
			r.shares("--share", place, "--fresh")
		}
		r.ok("push")
		var dry, done struct{ Entries, Layers, Left, Deleted int }
		require.NoError(t, json.Unmarshal([]byte(r.ok("store", "trim", "--share", place, "--keep", "2MB", "--dry-run", "--format", "json")), &dry))
		require.Positive(t, dry.Entries)
		require.NoError(t, json.Unmarshal([]byte(r.ok("store", "trim", "--share", place, "--keep", "2MB", "--format", "json")), &done))
		require.Equal(t, [3]int{dry.Entries, dry.Layers, dry.Left}, [3]int{done.Entries, done.Layers, done.Left})
		require.GreaterOrEqual(t, done.Deleted, 3)
		collect()
		r.ok("verify", address+"/tides/gauge:v1", "--contents")
		other := r.elsewhere()
		require.Equal(t, "reused", other.shares("--share", place).outcome("compile"))
		require.Contains(t, r.ok("store", "trim", "--share", place, "--keep", "2MB"), "dropped 0 entries")
		code, problems := r.exit("store", "trim", "--share", address+"/tides/base", "--keep", "2MB")
		require.Equal(t, 1, code, problems)
		require.Contains(t, problems, "there is no shared cache yet")
		code, problems = r.exit("store", "trim", "--share", address+"/tides/gauge:v1", "--keep", "2MB")
		require.Equal(t, 1, code, problems)
		require.Contains(t, problems, "not a shared cache")
	}
	t.Run("stand-in", func(t *testing.T) {
		dir := t.TempDir()
		address, _ := standinOn(t, dir, "--dir", "registry")
		keep(t, address, func() {})
	})
	t.Run("independent registry", func(t *testing.T) {
		address, program, config := realRegistryAt(t, "")
		keep(t, address, func() {
			before := diskOf(t, filepath.Dir(config))
			output(t, exec.Command(program, "garbage-collect", config))
			require.Less(t, diskOf(t, filepath.Dir(config)), before-1_000_000, "what nothing lists is gone")
		})
	})
}
