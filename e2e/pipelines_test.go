package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"imbricat/demo"
)

// pipelines are the jobs of docs/pipelines.md, word for word, by their names.
func pipelines(t *testing.T) map[string]string {
	text, err := os.ReadFile("../docs/pipelines.md")
	require.NoError(t, err)
	jobs := map[string]string{}
	for _, part := range strings.Split(string(text), "```sh\n# job: ")[1:] {
		job, _, _ := strings.Cut(part, "```")
		name, script, _ := strings.Cut(job, "\n")
		jobs[name] = script
	}
	return jobs
}

// observatory is Tideline with a registry of its own and sources that pipelines clone.
type observatory struct {
	t        *testing.T
	dir      string
	registry string
	keeper   *run // who works on the sources
}

func newObservatory(t *testing.T) *observatory {
	need(t, "git")
	o := &observatory{t: t, dir: t.TempDir()}
	require.NoError(t, os.MkdirAll(filepath.Join(o.dir, "registry"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(o.dir, "registry", "rules.yaml"),
		[]byte("repositories:\n  - {match: '**', pull: [everyone], push: [pipeline]}\n"), 0o644))
	o.registry, _ = standinOn(t, o.dir, "--dir", "registry", "--auth", "token", "--user", "pipeline")
	c := exec.Command(program, "standin", "user", "reader", "--dir", filepath.Join(o.dir, "registry"))
	c.Env = append(os.Environ(), "IMBRICAT_STANDIN_SECRET=read-tide")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))

	o.keeper = newRun(t)
	project := filepath.Join(o.keeper.dir, "project")
	o.keeper.env = append(o.keeper.env, "TIDELINE_REGISTRY="+o.registry, "IMBRICAT_REGISTRY="+o.registry, "IMBRICAT_USER=pipeline", "IMBRICAT_SECRET=s3cret-tide",
		"IMBRICAT_DIR="+project, "IMBRICAT_VIEW=none")
	require.NoError(t, demo.Write(project))
	o.bases("first")
	o.git("init", "-q", "-b", "trunk")
	o.commit("Everything")
	o.keeper.ok("lock")
	o.commit("Hold the bases")
	o.git("clone", "-q", "--bare", ".", filepath.Join(o.dir, "sources.git"))
	o.git("remote", "add", "origin", filepath.Join(o.dir, "sources.git"))
	return o
}

// bases publishes the bases, with something that makes them differ.
func (o *observatory) bases(edition string) {
	dir := filepath.Join(o.keeper.dir, "project", "bases")
	require.NoError(o.t, os.WriteFile(filepath.Join(dir, "slim", "etc", "edition"), []byte(edition), 0o644))
	o.keeper.ok("build", "--dir", dir)
	o.keeper.ok("push", "--dir", dir)
}

func (o *observatory) git(args ...string) string {
	o.t.Helper()
	c := exec.Command("git", append([]string{"-C", filepath.Join(o.keeper.dir, "project"), "-c", "user.name=Tideline", "-c", "user.email=observatory@tideline.example"}, args...)...)
	c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := c.CombinedOutput()
	require.NoError(o.t, err, string(out))
	return strings.TrimSpace(string(out))
}

func (o *observatory) commit(message string) {
	o.git("add", "-A")
	o.git("commit", "-q", "-m", message)
}

// job runs a pipeline's job on a machine of its own, with nothing on it, and gives the folder that it worked in.
func (o *observatory) job(name string, env ...string) (dir, out string) {
	o.t.Helper()
	script, known := pipelines(o.t)[name]
	require.True(o.t, known, name)
	dir = o.t.TempDir()
	home := filepath.Join(dir, "home")
	work := filepath.Join(dir, "work")
	require.NoError(o.t, os.MkdirAll(work, 0o755))
	require.NoError(o.t, os.WriteFile(filepath.Join(dir, "job"), []byte(script), 0o644))
	c := exec.Command("sh", filepath.Join(dir, "job"))
	c.Dir = work
	c.Env = append([]string{"PATH=" + filepath.Dir(program) + ":" + os.Getenv("PATH"), "HOME=" + home, "CI=true", "TIDELINE_REGISTRY=" + o.registry, "REGISTRY_SECRET=s3cret-tide",
		"READER_SECRET=read-tide", "SOURCES=" + filepath.Join(o.dir, "sources.git"), "BRANCH=trunk", "COMMIT=" + o.git("rev-parse", "HEAD"), "RUN=7"}, env...)
	text, err := c.CombinedOutput()
	require.NoError(o.t, err, "%s\n%s", name, text)
	require.NotContains(o.t, string(text), "s3cret-tide")
	return work, string(text)
}

// read decodes a receipt.
func (o *observatory) read(name string) (r struct {
	receipt
	Ran, Reused int
}) {
	o.t.Helper()
	text, err := os.ReadFile(name)
	require.NoError(o.t, err)
	require.NoError(o.t, json.Unmarshal(text, &r))
	return r
}

// stands gives what a tag of an image stands on.
func (o *observatory) stands(image, tag string) string {
	o.t.Helper()
	var all struct {
		Tags []struct{ Tag, Digest string }
	}
	require.NoError(o.t, json.Unmarshal([]byte(o.keeper.ok("tags", o.registry+"/tides/"+image, "--format", "json")), &all))
	for _, one := range all.Tags {
		if one.Tag == tag {
			return one.Digest
		}
	}
	return ""
}

// TestPipelines runs the pipelines of the page as it has them, one after the other, as a week of the observatory has them.
func TestPipelines(t *testing.T) {
	if os.Getuid() != 0 && os.Getenv("CI") == "" {
		t.Skip("the almanac's pages are rendered by a command; this needs a sandbox")
	}
	o := newObservatory(t)
	work, out := o.job("trunk")
	first := o.read(filepath.Join(work, "receipt.json"))
	require.Equal(t, "done", first.Outcome)
	gauge := first.Images[0].Digest
	require.Contains(t, out, "to deploy: "+o.registry+"/tides/gauge@"+gauge)
	require.Equal(t, gauge, o.stands("gauge", "newest"))
	require.Equal(t, gauge, o.stands("gauge", o.git("rev-parse", "--short=7", "HEAD")))

	// Another machine, as empty: the cache has everything, and the registry too.
	work, _ = o.job("trunk")
	again := o.read(filepath.Join(work, "receipt.json"))
	require.Zero(t, again.Ran)
	require.Equal(t, gauge, again.Images[0].Digest)
	require.Zero(t, again.Images[0].Destinations[0].Sent)

	// A change request: built, checked, not pushed.
	o.git("checkout", "-q", "-b", "tides/spring")
	page := filepath.Join(o.keeper.dir, "project", "almanac", "pages", "index.html")
	require.NoError(t, os.WriteFile(page, []byte("<h1>Spring tides</h1>\n"), 0o644))
	o.commit("Spring tides")
	o.git("push", "-q", "origin", "tides/spring")
	before := o.keeper.ok("tags", o.registry+"/tides/gauge", "--format", "json")
	work, out = o.job("change", "BRANCH=tides/spring")
	change := o.read(filepath.Join(work, "receipt.json"))
	require.NotEqual(t, gauge, change.Images[0].Digest)
	require.Equal(t, 2, change.Ran, "the page is in two images")
	require.Contains(t, out, "fact version 0.0.0-")
	require.Equal(t, before, o.keeper.ok("tags", o.registry+"/tides/gauge", "--format", "json"))

	// It lands, and is built on a machine for each platform; the index is what one machine gives.
	o.git("checkout", "-q", "trunk")
	o.git("merge", "-q", "tides/spring")
	o.git("push", "-q", "origin", "trunk")
	for _, p := range []string{"linux/amd64", "linux/arm64"} {
		o.job("platform", "PLATFORM="+p)
	}
	require.Equal(t, gauge, o.stands("gauge", "newest"), "no tag moves before all platforms are there")
	work, _ = o.job("join")
	joined := o.read(filepath.Join(work, "gauge.json")).Images[0].Digest
	require.Equal(t, joined, o.stands("gauge", "newest"))
	values, err := os.ReadFile(filepath.Join(work, "receipt.env"))
	require.NoError(t, err)
	for _, image := range []string{"GAUGE", "BULLETIN", "ALMANAC"} {
		require.Contains(t, string(values), "RECEIPT_"+image+"_REFERENCE=")
	}
	work, _ = o.job("trunk")
	require.Equal(t, joined, o.read(filepath.Join(work, "receipt.json")).Images[0].Digest)

	// A release, whose tag never moves again.
	o.git("tag", "1.4.0")
	o.git("push", "-q", "origin", "1.4.0")
	_, out = o.job("release", "TAG=1.4.0")
	require.Contains(t, out, "○ holds   "+o.registry+"/tides/gauge@sha256:")
	released := o.stands("gauge", "1.4.0")
	require.Equal(t, released, o.stands("gauge", "1.4"))
	require.Equal(t, released, o.stands("gauge", "1"))
	require.Equal(t, joined, o.stands("gauge", "newest"))

	// Nights: the bases stand; then one moves.
	_, out = o.job("nightly")
	require.Contains(t, out, "the bases have not moved")
	o.bases("second")
	o.git("checkout", "-q", ".")
	work, _ = o.job("nightly")
	fresh := o.read(filepath.Join(work, "receipt.json")).Images[0].Digest
	require.Equal(t, fresh, o.stands("gauge", "newest"))
	require.NotEqual(t, joined, fresh)
	require.Equal(t, released, o.stands("gauge", "1.4.0"))
	o.git("pull", "-q", "origin", "trunk")
	require.Equal(t, "Take the newest bases", o.git("log", "-1", "--format=%s"))

	// Only what changed since the last run that shipped: everything at first, then one image, then nothing.
	shipped := func() (names []string, outcome string) {
		work, _ := o.job("affected")
		r := o.read(filepath.Join(work, "receipt.json"))
		for _, i := range r.Images {
			names = append(names, i.Name)
		}
		return names, r.Outcome
	}
	names, _ := shipped()
	require.Equal(t, []string{"gauge", "bulletin", "almanac"}, names)
	template := filepath.Join(o.keeper.dir, "project", "bulletin", "template.txt")
	require.NoError(t, os.WriteFile(template, []byte("high tide at {{time}}\n"), 0o644))
	o.commit("A shorter bulletin")
	o.git("push", "-q", "origin", "trunk")
	names, outcome := shipped()
	require.Equal(t, []string{"bulletin"}, names)
	require.Equal(t, "done", outcome)
	_, outcome = shipped()
	require.Equal(t, "nothing", outcome)
}

// TestCluster runs the job description of the page in a container that an independent runtime makes, with the rights that
// the description asks for and no more.
func TestCluster(t *testing.T) {
	runtime := need(t, "runc")
	if os.Getuid() != 0 {
		t.Skip("running a container here needs root")
	}
	o := newObservatory(t)
	text, err := os.ReadFile("../docs/pipelines.md")
	require.NoError(t, err)
	_, part, _ := strings.Cut(string(text), "```yaml\napiVersion: batch/v1\n")
	part, _, _ = strings.Cut(part, "```")
	var job struct {
		Spec struct {
			Template struct {
				Spec struct {
					Containers []struct {
						Command         []string
						Env             []struct{ Name, Value string }
						SecurityContext struct {
							Privileged, AllowPrivilegeEscalation bool
							Capabilities                         struct{ Drop, Add []string }
						} `yaml:"securityContext"`
					}
				}
			}
		}
	}
	require.NoError(t, yaml.Unmarshal([]byte(part), &job))
	ship := job.Spec.Template.Spec.Containers[0]
	require.False(t, ship.SecurityContext.Privileged || ship.SecurityContext.AllowPrivilegeEscalation)
	require.Equal(t, []string{"ALL"}, ship.SecurityContext.Capabilities.Drop)

	// The image of the job, which we make ourselves, unpacked as a runtime takes it.
	r := newRun(t)
	binary, err := os.ReadFile(program)
	require.NoError(t, err)
	r.write("imbricat", string(binary))
	r.write("imbricat.yaml", "imbricat: 1\nimages:\n  tool:\n    base: none\n    steps:\n      - copy: {from: imbricat, to: /usr/bin/imbricat, mode: \"0755\"}\n      - write: {to: /tmp/.keep, text: ''}\n    settings: {entrypoint: [/usr/bin/imbricat]}\n")
	r.ok("build")
	r.ok("try", "tool", "--export-bundle", filepath.Join(r.dir, "bundle"))
	work := filepath.Join(r.dir, "work")
	require.NoError(t, os.MkdirAll(work, 0o755))
	o.git("clone", "-q", "--branch", "trunk", filepath.Join(o.dir, "sources.git"), filepath.Join(work, "sources"))

	name := filepath.Join(r.dir, "bundle", "config.json")
	text, err = os.ReadFile(name)
	require.NoError(t, err)
	var bundle map[string]any
	require.NoError(t, json.Unmarshal(text, &bundle))
	process := bundle["process"].(map[string]any)
	var rights []string
	for _, right := range ship.SecurityContext.Capabilities.Add {
		rights = append(rights, "CAP_"+right)
	}
	process["args"], process["terminal"], process["noNewPrivileges"] = ship.Command, false, true
	process["capabilities"] = map[string]any{"bounding": rights, "effective": rights, "permitted": rights}
	env := []string{"PATH=/usr/bin", "TIDELINE_REGISTRY=" + o.registry, "IMBRICAT_USER=pipeline", "IMBRICAT_SECRET=s3cret-tide"}
	for _, one := range ship.Env {
		if one.Name == "IMBRICAT_REGISTRY" {
			one.Value = o.registry
		}
		if one.Value != "" {
			env = append(env, one.Name+"="+one.Value)
		}
	}
	process["env"] = env
	bundle["mounts"] = append(bundle["mounts"].([]any), map[string]any{"destination": "/work", "type": "bind", "source": work, "options": []string{"bind", "rw"}})
	text, err = json.Marshal(bundle)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(name, text, 0o644))
	c := exec.Command(runtime, "--root", filepath.Join(r.dir, "runtime"), "run", "--bundle", filepath.Join(r.dir, "bundle"), "tideline-ship")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	got := o.read(filepath.Join(work, "receipt.json"))
	require.Equal(t, "done", got.Outcome)
	require.Contains(t, string(out), "render the almanac")
	require.Equal(t, got.Images[0].Digest, o.stands("gauge", "newest"))
	// What a container makes is what another machine makes.
	elsewhere, _ := o.job("trunk")
	for i, image := range o.read(filepath.Join(elsewhere, "receipt.json")).Images {
		require.Equal(t, got.Images[i].Digest, image.Digest, image.Name)
	}
	require.True(t, slices.Contains(env, "IMBRICAT_SANDBOX=chroot"))
}
