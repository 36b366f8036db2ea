package workspace

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"imbricat/internal/flow"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/redact"
	"imbricat/internal/spec/plan"

	"github.com/stretchr/testify/require"
)

// TestInside: only what lies below a folder is in it.
func TestInside(t *testing.T) {
	for path, want := range map[string]string{"/p/store": "store", "/p/a/b": "a/b", "/p": "", "/q": "", "/p/../q": "", "/pp": ""} {
		below, is := Inside("/p", path)
		require.Equal(t, want != "", is, path)
		if is {
			require.Equal(t, want, below)
		}
	}
}

// TestProject: where the recipe and its lock lie, and what is told of those that cannot be read.
func TestProject(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	var kind *flow.Error
	p := Project{Dir: dir, File: "recipes/gauge.yaml"}
	_, err := p.Recipe()
	require.ErrorAs(t, err, &kind)
	require.ErrorContains(t, err, "there is no recipe "+filepath.Join(dir, "recipes/gauge.yaml"))
	_, err = p.Name()
	require.Error(t, err)
	held, err := p.Lock()
	require.NoError(t, err)
	require.Nil(t, held)

	write("recipes/gauge.yaml", "imbricat: 1\nsecrets: {key: {env: TIDE_KEY}}\nfacts: {version: \"1.0.0\"}\nimages: {gauge: {base: none, platforms: [linux/amd64, linux/arm64], steps: [{write: {to: /v, text: \"${facts.version}\"}}]}}\n")
	require.Equal(t, filepath.Join(dir, "recipes/imbricat.lock"), p.LockPath())
	write("recipes/imbricat.lock", "no lock")
	_, err = p.Lock()
	require.ErrorAs(t, err, &kind)
	require.Equal(t, flow.Usage, kind.Kind)
	require.NoError(t, os.Symlink(filepath.Join(dir, "recipes"), filepath.Join(dir, "link")))
	name, err := p.Name()
	require.NoError(t, err)
	linked, err := Project{Dir: dir, File: "link/gauge.yaml"}.Name()
	require.NoError(t, err)
	require.Equal(t, name, linked, "one project, whichever way leads there")
	absolute := Project{Dir: t.TempDir(), File: filepath.Join(dir, "recipes/gauge.yaml")}
	require.Equal(t, absolute.File, absolute.RecipePath())

	t.Setenv("TIDE_KEY", "sesame-42")
	var secrets redact.Redactor
	arm, err := platform.Parse("linux/arm64")
	require.NoError(t, err)
	planned, err := p.Expand(Choice{Platforms: []platform.Platform{arm}, Facts: map[string]string{"version": "2.0.0"}, Redactor: &secrets})
	require.NoError(t, err)
	require.True(t, secrets.Hides("it says sesame-42"))
	require.Len(t, planned.Plan.Units, 1)
	require.Equal(t, "2.0.0", planned.Facts.Known()["version"])
	_, err = p.Expand(Choice{Images: []string{"almanac"}, Redactor: &secrets})
	require.ErrorIs(t, err, plan.ErrChoice)
}

// TestSecrets: a secret comes from where the recipe says, within its bound, and what a program complains of does not repeat it.
func TestSecrets(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key"), []byte("from a file"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "large"), make([]byte, mostSecret+1), 0o600))
	t.Setenv("TIDE_KEY", "from the environment")
	var said strings.Builder
	s := secrets{dir, &said}
	for _, c := range []struct {
		secret      plan.Secret
		value, fail string
	}{
		{plan.Secret{Env: "TIDE_KEY"}, "from the environment", ""},
		{plan.Secret{Env: "TIDE_NOTHING"}, "", "TIDE_NOTHING is not set"},
		{plan.Secret{File: "key"}, "from a file", ""},
		{plan.Secret{File: filepath.Join(dir, "key")}, "from a file", ""},
		{plan.Secret{File: "none"}, "", "no such file"},
		{plan.Secret{File: "large"}, "", "it has more than 1048576 bytes"},
		{plan.Secret{Command: []string{"sh", "-c", "cat key; echo low: $(cat key) >&2"}}, "from a file", ""},
		{plan.Secret{Command: []string{"sh", "-c", "exit 3"}}, "", "its command sh: exit status 3"},
		{plan.Secret{Command: []string{"head", "-c", "1048577", "/dev/zero"}}, "", "it has more than"},
	} {
		value, err := s.Secret(t.Context(), "key", c.secret)
		if c.fail != "" {
			require.ErrorContains(t, err, c.fail)
			continue
		}
		require.NoError(t, err)
		require.Equal(t, c.value, string(value))
	}
	require.Equal(t, "low: ••••••\n", said.String())
}

// TestAround: a folder belongs to the recipe that it holds or the nearest above, and to the one that names that, within one working tree;
// a recipe of somebody else counts only where one stands.
func TestAround(t *testing.T) {
	top := t.TempDir()
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(top, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(top, name), []byte(text), 0o644))
	}
	for name, text := range map[string]string{
		"imbricat.yaml": "recipes: '*'", "w/.git/HEAD": "", "w/imbricat.yaml": "recipes: [s/*/imbricat.yaml]", "w/s/n/imbricat.yaml": "", "w/s/n/deep/x": "", "w/s/imbricat.yaml": "recipes: 5",
		"w/other/imbricat.yaml": "", "w/other/x/y": "", "w/c/x": "", "w/sub/.git": "", "w/sub/x/y": "", "w/wrong/imbricat.yaml": "recipes: [", "w/wrong/in/imbricat.yaml": "", "loose/x/y": "",
	} {
		write(name, text)
	}
	require.NoError(t, os.Symlink(filepath.Join(top, "w/s/n"), filepath.Join(top, "link")))
	for from, want := range map[string][2]string{
		"w": {"w", "."}, "w/s/n": {"w", "s/n"}, "w/s/n/deep": {"w", "s/n/deep"}, "w/s": {"w/s", "."}, "w/other": {"w/other", "."}, "w/other/x": {"w/other", "x"}, "w/c": {"w", "c"},
		"w/sub/x": {"w/sub/x", "."}, "w/wrong/in": {"w/wrong/in", "."}, "loose/x": {"loose/x", "."}, "link": {"link", "."}, "nowhere": {"nowhere", "."},
	} {
		p := Around(filepath.Join(top, from))
		require.Equal(t, Project{Dir: filepath.Join(top, want[0]), File: "imbricat.yaml", Here: want[1]}, p, from)
	}
	t.Chdir(filepath.Join(top, "w/s/n/deep"))
	p := Around(".")
	require.Equal(t, "s/n/deep", p.Here)
	require.Equal(t, filepath.Join("..", "..", "..", "imbricat.yaml"), p.RecipePath())

	require.NoError(t, os.Remove(filepath.Join(top, "w/imbricat.yaml")))
	require.NoError(t, os.Symlink("elsewhere.yaml", filepath.Join(top, "w/imbricat.yaml")))
	require.Equal(t, ".", Around(filepath.Join(top, "w/c")).Here, "a link may lead to anybody's")
	if os.Geteuid() != 0 {
		t.Skip("only root can give files away")
	}
	require.NoError(t, os.Remove(filepath.Join(top, "w/imbricat.yaml")))
	write("w/imbricat.yaml", "")
	require.NoError(t, os.Chown(filepath.Join(top, "w/imbricat.yaml"), 1234, 1234))
	require.Equal(t, Project{Dir: filepath.Join(top, "w/c"), File: "imbricat.yaml", Here: "."}, Around(filepath.Join(top, "w/c")))
	require.Equal(t, filepath.Join(top, "w"), Around(filepath.Join(top, "w")).Dir)
}
