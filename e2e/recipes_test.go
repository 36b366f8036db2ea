package e2e

import (
	"encoding/json"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// recipes are those of docs/recipes, with what shows that each does what it says, beside the checks that it holds itself.
var recipes = map[string]func(r *run){
	"service": func(r *run) {
		require.Len(r.t, described(r, "gauge").Platforms, 3)
		require.Contains(r.t, r.ok("try", "gauge-debug", "--", "gauge", "--version"), "gauge of no version, for debugging")
	},
	"front-end": func(r *run) {
		api, tides := described(r, "api").Platforms[0].Layers, described(r, "tides").Platforms[0].Layers
		require.Equal(r.t, api, tides[:len(api)])
		r.write("web/index.html", "<h1>High tides</h1>")
		require.Equal(r.t, map[string]string{"run npm ci": "reused", "run npm run build": "ran", "take /src/dist from pages to /srv/pages": "ran"}, outcomes(r, "run npm", "take /src/dist"))
	},
	"python": func(r *run) {
		require.Equal(r.t, "/opt/almanac/app/main.py --year 2027 with almanac-pages harmonics \n", r.ok("try", "almanac", "--", "sh", "-c", "exec python3 /opt/almanac/app/main.py --year 2027"))
		require.Contains(r.t, r.ok("show", "almanac"), "env PATH=/opt/almanac/bin:/usr/bin:/bin")
	},
	"parts": func(r *run) {
		var order []string
		for _, l := range described(r, "gauge").Platforms[0].Layers {
			order = append(order, l.Annotations["tideline.part"])
		}
		require.Contains(r.t, strings.Join(order, " "), "tables libraries program", "what changes most lies on top")
	},
	"database": func(r *run) {
		require.Contains(r.t, r.ok("try", "levels", "--", "sh", "-c", "id -u; ls -ld /var/lib/levels"), "70\ndrwx------")
	},
	"batch": func(r *run) {
		gauge, job := described(r, "gauge").Platforms[0].Settings, described(r, "import").Platforms[0].Settings
		require.Equal(r.t, gauge["Entrypoint"], job["Entrypoint"])
		require.Contains(r.t, gauge, "ExposedPorts")
		require.NotContains(r.t, job, "ExposedPorts")
		require.Contains(r.t, r.ok("try", "import", "--", "/usr/bin/gauge", "--import", "/etc/jobs"), "nightly")
	},
	"toolbox": func(r *run) {
		require.Equal(r.t, "v24\n", r.ok("try", "toolbox", "--", "node"))
	},
	"closed": func(r *run) {
		require.Contains(r.t, r.ok("try", "gauge", "--", "sh", "-c", "ls -l /usr/bin/gauge; id -u"), "-r-xr-xr-x")
	},
	"family": func(r *run) {
		year, week := time.Now().UTC().ISOWeek()
		require.Contains(r.t, r.ok("plan", "python"), "registry.tideline.example/base/python  tags: "+time.Date(year, 1, 4, 0, 0, 0, 0, time.UTC).Format("2006")+"-W"+string(rune('0'+week/10))+string(rune('0'+week%10))+", newest")
		require.Contains(r.t, r.ok("show", "python"), "author Tideline, harbour office")
	},
	"version": func(r *run) {
		require.Contains(r.t, r.ok("show", "gauge"), "label tideline.version=gauge 1.4.0")
		r.git("commit", "-q", "--allow-empty", "-m", "next")
		r.git("tag", "1.5.0")
		require.Equal(r.t, map[string]string{"run tidetest /src": "reused", "run tidecc -o /out/gauge --define VERSION=$VERSION /src/*.tide": "ran", "run /out/gauge --version > /out/VERSION": "ran"}, outcomes(r, "run"))
		require.Contains(r.t, r.ok("show", "gauge"), "label tideline.version=gauge 1.5.0")
		r.write("gauge/src/tests.tide", "# broken\n")
		code, problems := r.exit("ship", "--without", "push")
		require.Equal(r.t, 3, code)
		require.Contains(r.t, problems, "1 of 2 checks does not hold")
	},
	"library": func(r *run) {
		require.Contains(r.t, r.ok("try", "bulletin", "--", "ls", "-l", "/usr/lib"), "libtide.so.1 -> libtide.so.1.2")
	},
	"locale": func(r *run) {
		require.Equal(r.t, "zone\n", r.ok("try", "bulletin", "--", "cat", "/etc/localtime"))
	},
	"environments": func(r *run) {
		r.env = append(r.env, "LOG_LEVEL=debug")
		outcomes(r, "write")
		require.Contains(r.t, r.ok("try", "gauge-harbour", "--", "sh", "-c", "cat /etc/gauge/*"), "not for the harbour")
		require.NotContains(r.t, r.ok("try", "gauge-trial", "--", "sh", "-c", "cat /etc/gauge/*"), "harbour")
	},
	"private-index": func(r *run) {
		problems := r.stderr("build", "--fresh")
		require.Contains(r.t, problems, "••••••")
		require.NotContains(r.t, problems, "sesame")
		require.NoError(r.t, filepath.WalkDir(filepath.Join(r.dir, "store"), func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			text, err := os.ReadFile(path)
			require.NotContains(r.t, string(text), "sesame", path)
			return err
		}))
	},
	"licences": func(r *run) {
		require.Contains(r.t, r.ok("show", "almanac"), "org.opencontainers.image.licenses Apache-2.0 AND Artistic-2.0 AND BSD-3-Clause AND MIT")
	},
}

// shown is what the tests look at of an image.
type shown struct {
	Platforms []struct {
		Layers []struct {
			DiffID      string
			Annotations map[string]string
		}
		Settings map[string]any
	}
}

func described(r *run, image string) (s shown) {
	require.NoError(r.t, json.Unmarshal([]byte(r.ok("show", image, "--format", "json")), &s))
	return s
}

// outcomes ships without a push, and tells what became of the steps whose labels begin in one of some ways. There are no warnings.
func outcomes(r *run, begins ...string) map[string]string {
	var document struct {
		Steps    []struct{ Step, Outcome string }
		Warnings []any
	}
	out := r.ok("ship", "--without", "push", "--format", "json", "--view", "none")
	require.NoError(r.t, json.Unmarshal([]byte(out), &document))
	require.Empty(r.t, document.Warnings)
	found := map[string]string{}
	for _, s := range document.Steps {
		for _, begin := range begins {
			if strings.HasPrefix(s.Step, begin) && found[s.Step] != "ran" { // of several that took the same it ran once
				found[s.Step] = s.Outcome
			}
		}
	}
	return found
}

func (r *run) git(args ...string) {
	c := exec.Command(need(r.t, "git"), append([]string{"-c", "user.name=Tideline", "-c", "user.email=o@tideline.example"}, args...)...)
	c.Dir, c.Env = r.dir, r.env
	out, err := c.CombinedOutput()
	require.NoError(r.t, err, "%s", out)
}

// TestRecipes builds every recipe of docs/recipes, and holds the checks that they have. Their bases come from a stand-in, as if it were a mirror.
func TestRecipes(t *testing.T) {
	list := need(t, "busybox")
	address := localRegistry(t)
	bases := newRun(t)
	bases.env = append(bases.env, "REGISTRY="+address)
	require.NoError(t, os.CopyFS(bases.dir, os.DirFS("testdata/recipes")))
	applets, err := exec.Command(list, "--list").Output()
	require.NoError(t, err)
	text, err := os.ReadFile("/bin/busybox")
	require.NoError(t, err)
	bin := filepath.Join(bases.dir, "busybox", "bin")
	require.NoError(t, os.MkdirAll(bin, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(bin, "busybox"), text, 0o755))
	for name := range strings.Lines(string(applets)) {
		if name = strings.TrimSpace(name); name != "busybox" {
			require.NoError(t, os.Symlink("busybox", filepath.Join(bin, name)))
		}
	}
	bases.ok("ship", "--recipe", "bases.yaml")

	paths, err := filepath.Glob("../docs/recipes/*.yaml")
	require.NoError(t, err)
	require.Len(t, paths, len(recipes), "each has what shows that it works, and none is without a recipe")
	for _, path := range paths {
		name := strings.TrimSuffix(filepath.Base(path), ".yaml")
		t.Run(name, func(t *testing.T) {
			require.Contains(t, recipes, name)
			t.Parallel()
			r := newRun(t)
			require.NoError(t, os.CopyFS(r.dir, os.DirFS("testdata/recipes/project")))
			recipe, err := os.ReadFile(path)
			require.NoError(t, err)
			r.write("imbricat.yaml", string(recipe))
			r.write("config/imbricat/config.yaml", "registries:\n  registry.tideline.example:\n    mirrors: ["+address+"/mirror]\n")
			r.write(".gitignore", "/store/\n/config/\n/data/\n")
			r.env = append(r.env, "INDEX_TOKEN=sesame-3.42", "GIT_CONFIG_GLOBAL=/dev/null")
			tar := exec.Command("tar", "-cf", "harbour-tools.tar", "harbour-1.0")
			tar.Dir = filepath.Join(r.dir, "tools")
			require.NoError(t, tar.Run())
			r.git("init", "-q", "-b", "trunk")
			r.git("add", ".")
			r.git("commit", "-q", "-m", "one")
			r.git("tag", "1.4.0")
			r.ok("lock")
			outcomes(r)
			r.ok("verify") // every one of them is reproducible
			recipes[name](r)
		})
	}
}
