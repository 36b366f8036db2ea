package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sources"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/paths"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/division"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// testContext is of tests, and of the checks of a property.
type testContext interface {
	require.TestingT
	Context() context.Context
}

// site is a project folder with a store.
type site struct {
	t     testContext
	dir   string
	store *store.Store
	bases baseimage.Finder
	// later lets files count as settled at once, so that everything is remembered.
	later time.Duration
	// What commands run in, which steps are always done anew, and what is left out of traces.
	box      *sandbox.Box
	fresh    []string
	freshAll bool
	eager    bool // older unpacked trees stand for others whenever that can be
	forget   func(e trace.Entry) bool
	// How images are divided.
	divisions    map[string]*division.Rules
	predecessors layering.Predecessors
	executor     executor.Executor // nil: the sandbox

	ctx       context.Context // nil: the test's
	keepGoing bool
	download  func(ctx context.Context, address string) (io.ReadCloser, int64, error)
	secrets   map[string]string
	watch     func(event.Event) // is told of every event, outside of the lock

	mutex  sync.Mutex
	events []event.Event
}

func newSite(t *testing.T) *site {
	s, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	return &site{t: t, dir: t.TempDir(), store: s}
}

// write makes files; those that are to be remembered must look as if they were made long ago.
func (s *site) write(name, content string) {
	path := filepath.Join(s.dir, name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(s.t, os.WriteFile(path, []byte(content), 0o644))
}

// plan reads a recipe.
func (s *site) plan(text string) *plan.Plan {
	r, err := recipe.Parse("r.yaml", []byte(text))
	require.NoError(s.t, err)
	p, err := plan.Expand(r, plan.Options{Here: platform.Here(), Scope: func(_ string, p platform.Platform) (*recipe.Scope, error) {
		return &recipe.Scope{Platform: map[string]any{"architecture": p.Architecture}}, nil
	}})
	require.NoError(s.t, err)
	return p
}

func (s *site) build(text string) (*Result, error) {
	source, err := tree.OpenSource(s.dir, tree.SourceOptions{})
	require.NoError(s.t, err)
	defer source.Close()
	s.events = nil
	ctx := s.ctx
	if ctx == nil {
		ctx = s.t.Context()
	}
	o := Options{
		Inputs: Inputs{
			Plan: s.plan(text), Store: s.store, Folder: source, Memory: sources.OpenMemory(s.store, s.dir, sources.MemoryOptions{Now: func() time.Time { return time.Now().Add(s.later) }}),
			Bases: s.bases, History: noHistory{}, Project: s.dir, Fresh: s.fresh, FreshAll: s.freshAll, Divisions: s.divisions, Predecessors: s.predecessors,
			Sink: event.Func(func(e event.Event) {
				if s.watch != nil {
					s.watch(e)
				}
				s.mutex.Lock()
				defer s.mutex.Unlock()
				s.events = append(s.events, e)
			}),
		},
		forget: s.forget, KeepGoing: s.keepGoing, Downloads: s, Secrets: s,
	}
	if o.Executor = s.executor; o.Executor == nil {
		o.Executor = local.New(ctx, local.Options{Store: s.store, Sink: o.Sink, Eager: s.eager, Open: func(context.Context) (*sandbox.Box, error) {
			if s.box == nil {
				return nil, errors.New("no box in this test")
			}
			return s.box, nil
		}})
	}
	return Run(ctx, o)
}

// noHistory knows no version control.
type noHistory struct{}

func (noHistory) Revision(context.Context, []*plan.Unit, paths.Set) (string, error) {
	return "", nil
}

func (noHistory) Says(context.Context, []*plan.Unit) (string, error) { return "", nil }

func (noHistory) Edited(context.Context, []*plan.Unit, []string) ([]string, error) { return nil, nil }

func (noHistory) Created(context.Context, paths.Set) (time.Time, error) {
	return layer.Epoch, nil
}
func (noHistory) CommitTimes(context.Context) (func(string) int64, error) { return nil, nil }
func (noHistory) Committed() bool                                         { return false }
func (noHistory) Difference() (Difference, error)                         { return Difference{}, nil }

// Download implements compose.Downloader.
func (s *site) Download(ctx context.Context, address string) (io.ReadCloser, int64, error) {
	return s.download(ctx, address)
}

// Secret implements command.Secrets.
func (s *site) Secret(_ context.Context, name string, _ plan.Secret) ([]byte, error) {
	return []byte(s.secrets[name]), nil
}

// warnings returns the texts of a kind of warning that the last build gave.
func (s *site) warnings(code string) (texts []string) {
	for _, e := range s.events {
		if w, is := e.(event.Warning); is && w.Code == code {
			texts = append(texts, w.Text)
		}
	}
	return texts
}

func gauge(steps ...string) string {
	return "imbricat: 1\nimages:\n  gauge:\n    base: none\n    platforms: [linux/amd64]\n    steps:\n      - " + strings.Join(steps, "\n      - ") + "\n"
}

// entries returns the entries of each layer of the one image, as path lists.
func (s *site) entries(r *Result) []string {
	var list []string
	for _, step := range r.Steps {
		indexed := s.indexed(step.Layer)
		var paths []string
		for _, e := range indexed.Entries {
			paths = append(paths, fmt.Sprintf("%s %o %d", e.Path, e.Mode, e.UID))
		}
		list = append(list, strings.Join(paths, ", "))
	}
	return list
}

// indexed reads a layer of the store.
func (s *site) indexed(layerDesc digest.Descriptor) *layer.Indexed {
	blob, err := s.store.Fetch(context.Background(), layerDesc)
	require.NoError(s.t, err)
	defer blob.Close()
	indexed, err := layer.Index(blob)
	require.NoError(s.t, err)
	return indexed
}

// TestDestinations: links below are followed, what is passed through keeps what it is, and clashes are refused.
func TestDestinations(t *testing.T) {
	s := newSite(t)
	s.write("tree/lib/tide.so", "so")
	s.write("tree/tmp/note", "note")
	s.write("one", "1")
	below := []string{
		"link: {at: /lib, target: usr/lib}",
		"link: {at: /var/run, target: ../run/deep}",
		"copy: {from: tree/tmp, to: /tmp, mode: '1777', owner: 5}",
	}
	for step, want := range map[string]string{
		"write: {to: /lib/x, text: x}":                                  "usr 755 0, usr/lib 755 0, usr/lib/x 644 0",
		"write: {to: /var/run/x, text: x}":                              "run 755 0, run/deep 755 0, run/deep/x 644 0, var 755 0",
		"copy: {from: tree, to: /}":                                     "tmp 1777 5, tmp/note 644 0, usr 755 0, usr/lib 755 0, usr/lib/tide.so 644 0",
		"copy: {from: tree, to: /, owner: 7}":                           "tmp 755 7, tmp/note 644 7, usr 755 0, usr/lib 755 7, usr/lib/tide.so 644 7",
		"copy: {from: tree, to: /new, owner: 7, mode: 'u=rwX,go='}":     "new 700 7, new/lib 700 7, new/lib/tide.so 600 7, new/tmp 700 7, new/tmp/note 600 7",
		"link: {at: /lib, target: elsewhere}":                           "lib 777 0",
		"copy: {from: one, to: /tmp/}":                                  "tmp 1777 5, tmp/one 644 0",
		"take: {from: gauge-base, paths: /tmp, to: /srv, owner: '8:9'}": "srv 1777 8, srv/note 1777 8",
	} {
		text := gauge(step)
		text = strings.Replace(text, "base: none", "base: {stage: gauge-base}", 1) +
			"stages:\n  gauge-base:\n    base: none\n    steps:\n      - " + strings.Join(below, "\n      - ") + "\n"
		r, err := s.build(text)
		require.NoError(t, err, step)
		r.Steps = r.Steps[len(r.Steps)-1:]
		require.Equal(t, []string{want}, s.entries(r), step)
	}
	for step, want := range map[string]string{
		"copy: {from: one, to: /tmp}":                       "/tmp is a folder in what lies below; write /tmp/ to put something into it",
		"write: {to: /tmp/note/x, text: x}":                 "/tmp/note is a file in what lies below, and something is to lie in it",
		"copy: {from: [one, tree/tmp/note], to: /tmp/note}": "/tmp/note is a file in what lies below",
		"take: {from: gauge, paths: /nowhere, to: /x}":      "gauge linux/amd64 has nothing at /nowhere",
	} {
		text := gauge(below...) + "  second:\n    base: {image: gauge}\n    platforms: [linux/amd64]\n    steps: [{" + step + "}]\n"
		_, err := s.build(text)
		require.ErrorContains(t, err, want, step)
	}
}

// TestTwoPlatformsPackOnce: a step that is the same for two platforms is packed once.
func TestTwoPlatformsPackOnce(t *testing.T) {
	s := newSite(t)
	s.write("one", "1")
	r, err := s.build(strings.Replace(gauge("copy: {from: one, to: /one}", "write: {to: /a, text: '${platform.architecture}'}"), "[linux/amd64]", "[linux/amd64, linux/arm64]", 1))
	require.NoError(t, err)
	var outcomes []string
	packed := fmt.Sprintf("ran: %#v", event.Packed{})
	for _, step := range r.Steps {
		outcomes = append(outcomes, step.Outcome.String()+": "+fmt.Sprintf("%#v", step.Reason))
	}
	require.Equal(t, []string{packed, packed, fmt.Sprintf("reused: %#v", event.SameAsAnother), packed}, outcomes)
}

// TestFilesThatChange: the memory of digests is never believed where a change might not show, and a file that changes
// while a build reads it stops the build.
func TestFilesThatChange(t *testing.T) {
	s := newSite(t)
	s.write("one", "1")
	recipe := gauge("copy: {from: one, to: /one}")
	first, err := s.build(recipe)
	require.NoError(t, err)
	// The same size, and the same time as the system's clock may give: still noticed.
	path := filepath.Join(s.dir, "one")
	info, err := os.Stat(path)
	require.NoError(t, err)
	s.write("one", "2")
	require.NoError(t, os.Chtimes(path, info.ModTime(), info.ModTime()))
	second, err := s.build(recipe)
	require.NoError(t, err)
	require.NotEqual(t, first.Images[0].Descriptor.Digest, second.Images[0].Descriptor.Digest)
}

// TestDamagedIndexIsDropped: an index that tells of another tree, or nothing, is told and made anew by the build that needs it.
func TestDamagedIndexIsDropped(t *testing.T) {
	s := newSite(t)
	s.later = time.Hour
	s.write("one", "1")
	recipe := gauge("copy: {from: one, to: /one}", "write: {to: /two, text: '2'}")
	first, err := s.build(recipe)
	require.NoError(t, err)
	indexed := s.indexed(first.Steps[0].Layer)
	other := *indexed
	other.Entries = slices.Clone(indexed.Entries)
	other.Entries[0].Mode = 0o777
	for told, text := range map[string][]byte{"was damaged (it tells of another tree)": other.Encode(), "cannot be read": nil} {
		if require.NoError(t, s.store.PutLayerIndex(indexed.DiffID, text)); text == nil {
			files, err := filepath.Glob(filepath.Join(s.store.Dir(), "imbricat/trees/*/*"))
			require.NoError(t, err)
			for _, file := range files {
				require.NoError(t, os.Truncate(file, 0))
			}
		}
		again, err := s.build(recipe)
		require.NoError(t, err)
		require.Equal(t, first.Images[0].Descriptor.Digest, again.Images[0].Descriptor.Digest)
		require.True(t, slices.ContainsFunc(s.events, func(e event.Event) bool {
			w, is := e.(event.Warning)
			return is && w.Code == event.Damaged && strings.Contains(w.Text, told)
		}), told)
		text, found := s.store.LayerIndex(indexed.DiffID)
		require.True(t, found, "it is kept again")
		require.Equal(t, string(indexed.Encode()), string(text))
	}
}

// TestLayersFollowEachOther: a step's next layer is packed from chunks of the last one.
func TestLayersFollowEachOther(t *testing.T) {
	s := newSite(t)
	for i := range 6 {
		s.write(fmt.Sprintf("data/%d", i), noise(uint64(i), 700_000))
	}
	recipe := gauge("copy: {from: data, to: /data}")
	copied := func(r *Result) int64 {
		record, found := s.store.Record(keyOfLayer(t, s, r.Steps[0].Layer.Digest))
		require.True(t, found)
		return record.Copied
	}
	first, err := s.build(recipe)
	require.NoError(t, err)
	require.Zero(t, copied(first))
	s.write("data/5", "changed")
	second, err := s.build(recipe)
	require.NoError(t, err)
	require.Greater(t, copied(second), second.Steps[0].Layer.Size*3/4)
	fresh := &site{t: t, dir: s.dir, store: newSite(t).store}
	cold, err := fresh.build(recipe)
	require.NoError(t, err)
	require.Equal(t, cold.Images[0].Descriptor.Digest, second.Images[0].Descriptor.Digest)
}

// noise is text that packs little.
func noise(seed uint64, size int) string {
	random := rand.New(rand.NewPCG(seed, 1))
	content := make([]byte, size)
	for i := range content {
		content[i] = byte('a' + random.IntN(26))
	}
	return string(content)
}

// keyOfLayer finds the record of a layer in the store's folder.
func keyOfLayer(t *testing.T, s *site, layerDigest digest.Digest) digest.Key {
	names, err := filepath.Glob(filepath.Join(s.store.Dir(), "imbricat/records/*/*.json"))
	require.NoError(t, err)
	for _, name := range names {
		var r store.Record
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		line, _, _ := strings.Cut(string(text), "\n") // its seal follows
		require.NoError(t, json.Unmarshal([]byte(line), &r))
		if r.Layer.Digest == layerDigest {
			return r.Key
		}
	}
	t.Fatal("the layer has no record")
	return ""
}

// TestReuseEqualsFresh edits a project and what lies below its copies at random and builds it with what the store
// remembers: the image is always that of a fresh store, and what is the same is reused.
func TestReuseEqualsFresh(t *testing.T) {
	name := rapid.SampledFrom([]string{"a/one", "a/two", "a/deep/three", "b/four", "b/x.log"})
	recalled := false
	rapid.Check(t, func(r *rapid.T) {
		kept := newSite(t)
		kept.later = time.Hour
		kept.write("a/one", "1")
		for range rapid.IntRange(1, 3).Draw(r, "edits") {
			path := name.Draw(r, "path")
			time.Sleep(10 * time.Millisecond) // more than a tick of the system's clock
			switch rapid.IntRange(0, 4).Draw(r, "edit") {
			case 0:
				kept.write(path, rapid.StringN(0, 3, 10).Draw(r, "content"))
			case 1:
				if path != "a/one" {
					_ = os.Remove(filepath.Join(kept.dir, path))
				}
			case 2:
				_ = os.Chmod(filepath.Join(kept.dir, path), os.FileMode(rapid.SampledFrom([]int{0o644, 0o755, 0o600}).Draw(r, "mode")))
			case 3:
				_ = os.Rename(filepath.Join(kept.dir, path), filepath.Join(kept.dir, "a/two"))
				kept.write("a/one", "1")
			}
			below := rapid.SampledFrom([]string{"link: {at: /y, target: z}", "write: {to: /y/own, text: own}", "copy: {from: a, to: /z, mode: '0700'}",
				"write: {to: /etc/passwd, text: \"tide:x:5:6::/:\\n\"}"}).Draw(r, "below")
			recipe := gauge("write: {to: /etc/passwd, text: \"tide:x:7:8::/:\\n\"}", "copy: {from: a, to: /x}", below,
				"copy: {from: ., to: /y, leave-out: ['*.log']}", "copy: {from: 'a/*', to: /z/deep, owner: tide}")
			if below[0] == 'w' && strings.Contains(below, "passwd") {
				recipe = gauge(below, "copy: {from: a, to: /x}", "copy: {from: 'a/*', to: /z/deep, owner: tide}")
			}
			got, err := kept.build(recipe)
			require.NoError(r, err)
			fresh := &site{t: r, dir: kept.dir, store: newSite(t).store}
			want, err := fresh.build(recipe)
			require.NoError(r, err)
			require.Equal(r, want.Images[0].Descriptor.Digest, got.Images[0].Descriptor.Digest)
			again, err := kept.build(recipe)
			require.NoError(r, err)
			require.Equal(r, want.Images[0].Descriptor.Digest, again.Images[0].Descriptor.Digest)
			for _, step := range again.Steps {
				require.NotEqual(r, event.Ran, step.Outcome, step.Label)
			}
			recalled = recalled || !slices.ContainsFunc(kept.events, func(e event.Event) bool {
				s, started := e.(event.Started)
				return started && s.Act == "reading"
			})
		}
	})
	require.True(t, recalled, "some builds must do without reading and composing")
}
