package e2e

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
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

// TestKit: what one machine puts into an archive has another, without a network, build the same image; what a hostile archive holds besides
// goes nowhere.
func TestKit(t *testing.T) {
	dir := t.TempDir()
	address, server := standinOn(t, dir, "--dir", "registry")
	files := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("low water\n")) }))
	r := sharedProject(t, address)
	sum := sha256.Sum256([]byte("low water\n"))
	recipe := strings.Replace(sharedRecipe, "      - copy: {from: src, to: /src, owner: keeper}\n",
		fmt.Sprintf("      - copy: {from: src, to: /src, owner: keeper}\n      - fetch: {from: %s/tide, sha256: %x, to: /tide}\n", files.URL, sum), 1)
	r.write("imbricat.yaml", recipe)
	r.ok("build", "base", "--view", "none")
	r.ok("push", "base")
	file := filepath.Join(dir, "kit.tar")
	made := r.shares("--kit-to", file)
	require.Positive(t, made.Ran)
	require.NoError(t, server.Process.Kill())
	_ = server.Wait()
	files.Close()

	other := r.elsewhere()
	other.env = append(other.env, "IMBRICAT_PATIENCE=100ms")
	code, _ := other.exit("build", "gauge", "--view", "none")
	require.NotZero(t, code, "there is no network")
	built := other.shares("--kit", file)
	require.Equal(t, made.Images, built.Images, "%+v", built.Steps)
	require.Equal(t, "reused", built.outcome("install"))
	require.Equal(t, "reused", built.outcome("compile"))
	require.Zero(t, built.Ran-count(built, "ran", "copy"), "%+v", built.Steps)
	other.ok("copy", "gauge", "./gauge.tar")
	other.ok("store", "check")
	// With everything in its store it builds without the kit, too; what changed is run here.
	r.write("src/pages", "february")
	again := other.shares("--kit", file)
	require.NotEqual(t, made.Images, again.Images)
	require.Equal(t, "ran", again.outcome("pages"))

	r.write("src/pages", "january")
	r.write("imbricat.yaml", recipe+"\n")
	code, problems := other.exit("build", "gauge", "--kit", file, "--share", "./x")
	require.Equal(t, 2, code, problems)
	code, problems = other.exit("build", "gauge", "--kit-to", filepath.Join(dir, "nowhere", "kit.tar"))
	require.Equal(t, 2, code, problems)
	require.Contains(t, problems, "there is no folder")
	c := other.command("build", "gauge", "--kit", file, "--view", "none")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	require.Contains(t, string(out), "is not the one that the kit was made with")

	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, text := range map[string][]byte{"cut off": whole[:len(whole)/2], "no kit": []byte("tide"), "empty": nil,
		"leads out": archive(t, "kit.json", `{"kit":1}`, "../../../leads-out", "x"), "no list": archive(t, "oci-layout", "{}"),
		"another format": archive(t, "kit.json", `{"kit":2}`), "a damaged blob": bytes.Replace(whole, []byte("low water"), []byte("low wader"), 1)} {
		damaged := filepath.Join(dir, "damaged.tar")
		require.NoError(t, os.WriteFile(damaged, text, 0o644))
		fresh := r.elsewhere()
		code, problems := fresh.exit("build", "gauge", "--kit", damaged, "--view", "none")
		require.Equal(t, 1, code, "%s: %s", name, problems)
	}
	require.NoFileExists(t, filepath.Join(dir, "leads-out"))
}

// count counts steps with an outcome whose line begins so.
func count(s shared, outcome, begins string) (n int) {
	for _, one := range s.Steps {
		if one.Outcome == outcome && strings.HasPrefix(one.Step, begins) {
			n++
		}
	}
	return n
}

// archive makes an archive of files, names and texts by turns.
func archive(t *testing.T, pairs ...string) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for i := 0; i < len(pairs); i += 2 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: pairs[i], Mode: 0o644, Size: int64(len(pairs[i+1])), Typeflag: tar.TypeReg}))
		_, err := w.Write([]byte(pairs[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}
