// Package flowtest makes projects and registries for tests of use cases. It is for tests alone.
package flowtest

import (
	"context"
	"errors"
	"io"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/redact"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/standin"
)

// Registry is a stand-in registry on the loopback.
type Registry struct {
	Host   string
	Server *standin.Server
	Client *registry.Client
	Stop   func() // from then on it cannot be reached
}

// impatient has what cannot be reached fail soon.
var impatient = registry.Options{Wait: 10 * time.Millisecond, Patience: 10 * time.Second}

// NewRegistry starts an empty registry, which ends with the test.
func NewRegistry(t *testing.T) *Registry {
	server, err := standin.New(standin.Options{Dir: filepath.Join(t.TempDir(), "registry")})
	require.NoError(t, err)
	front := httptest.NewServer(server)
	t.Cleanup(front.Close)
	return &Registry{strings.TrimPrefix(front.URL, "http://"), server, registry.New(impatient), front.Close}
}

// Tags lists what stands in a repository, by tag.
func (r *Registry) Tags(t *testing.T, repository string) map[string]digest.Digest {
	list, err := r.Server.Tags(repository)
	if err != nil {
		return nil // there is no such repository
	}
	all := map[string]digest.Digest{}
	for _, one := range list {
		all[one.Name] = one.Digest
	}
	return all
}

// Project is a folder with a recipe.
type Project struct {
	Dir      string
	Registry *Registry // $REGISTRY in what is written
	Store    *store.Store
}

// NewProject makes an empty project with a store of its own.
func NewProject(t *testing.T, r *Registry) *Project {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	return &Project{t.TempDir(), r, st}
}

// Write writes a file of the project.
func (p *Project) Write(t *testing.T, name, text string) {
	path := filepath.Join(p.Dir, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	if p.Registry != nil {
		text = strings.ReplaceAll(text, "$REGISTRY", p.Registry.Host)
	}
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
}

// Git runs git in the project, at a date.
func (p *Project) Git(t *testing.T, date string, args ...string) string {
	if _, err := exec.LookPath("git"); err != nil && os.Getenv("CI") == "" {
		t.Skip("git is not installed")
	}
	c := exec.Command("git", append([]string{"-C", p.Dir, "-c", "user.name=Tideline", "-c", "user.email=o@tideline.example"}, args...)...)
	c.Env = append(os.Environ(), "GIT_AUTHOR_DATE="+date, "GIT_COMMITTER_DATE="+date, "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

// Commit commits all of the project; the first commit makes the repository.
func (p *Project) Commit(t *testing.T, date string) string {
	p.Git(t, date, "init", "-q", "-b", "trunk")
	p.Git(t, date, "add", "-A")
	p.Git(t, date, "commit", "-q", "-m", date)
	return p.Git(t, date, "rev-parse", "HEAD")
}

// Workspace expands the recipe as it is now, for some platforms or for all. Commands cannot be run in it.
func (p *Project) Workspace(t *testing.T, facts map[string]string, platforms ...string) *workspace.Workspace {
	choice := workspace.Choice{Facts: facts, Redactor: &redact.Redactor{}}
	for _, text := range platforms {
		one, err := platform.Parse(text)
		require.NoError(t, err)
		choice.Platforms = append(choice.Platforms, one)
	}
	planned, err := workspace.Project{Dir: p.Dir, File: "imbricat.yaml"}.Expand(choice)
	require.NoError(t, err)
	client := registry.New(impatient)
	if p.Registry != nil {
		client = p.Registry.Client
	}
	return &workspace.Workspace{Planned: planned, Store: p.Store, Places: &transfer.Places{Store: p.Store, Client: client}, Agent: "test", Complain: io.Discard, Redactor: &redact.Redactor{},
		Executor: func(ctx context.Context, sink event.Sink) *local.Local {
			return local.New(ctx, local.Options{Store: p.Store, Sink: sink, Jobs: 1, Open: func(context.Context) (*sandbox.Box, error) {
				return nil, &sandbox.UnableError{What: "no command is run here"}
			}})
		}}
}

// PutBase puts an image for linux/amd64 that holds a text into the registry, at a time in seconds, as bases/tide:1.
func (r *Registry) PutBase(t *testing.T, text, epoch string) digest.Digest {
	t.Setenv("SOURCE_DATE_EPOCH", epoch)
	p := NewProject(t, r)
	p.Write(t, "imbricat.yaml", "imbricat: 1\nimages: {tide: {base: none, platforms: [linux/amd64], steps: [{write: {to: /text, text: '"+text+"'}}]}}\n")
	w := p.Workspace(t, nil)
	desc, err := Build(t, w)("tide")
	require.NoError(t, err)
	from, err := w.Places.Source(reference.Reference{Kind: reference.Store, Digest: desc.Digest})
	require.NoError(t, err)
	to, err := w.Places.Destination(reference.Reference{Kind: reference.Registry, Host: r.Host, Repository: "bases/tide", Tag: "1"})
	require.NoError(t, err)
	_, err = transfer.Copy(t.Context(), from, to, transfer.Options{Root: desc, Names: []string{"1"}, Sink: event.Discard})
	require.NoError(t, err)
	return desc.Digest
}

// Build builds all images of a workspace, and returns what finds them.
func Build(t *testing.T, w *workspace.Workspace) func(name string) (digest.Descriptor, error) {
	o, done, err := w.Engine(t.Context(), event.Discard)
	require.NoError(t, err)
	defer done()
	result, err := engine.Run(t.Context(), o)
	require.NoError(t, err)
	made := map[string]digest.Descriptor{}
	for _, i := range result.Images {
		made[i.Name] = i.Descriptor
	}
	return func(name string) (digest.Descriptor, error) {
		desc, built := made[name]
		if !built {
			return desc, errors.New("there is no image " + name)
		}
		return desc, nil
	}
}
