// Package workbench keeps images that a person builds by hand, act by act: each act is one or more steps of a recipe that is
// written along, and is carried out at once by a build of that recipe. So what a workbench holds is what its recipe makes, and acts
// that were carried out are reused and never done again. It prints nothing.
package workbench

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/recipe"
)

// Bench is a workbench. It lies in a folder of the store: state.json; files/N, what act N took in; runs/, the records of what its
// commands left; imbricat.lock, what its base and the images that it takes from stand for.
type Bench struct {
	Name     string        `json:"name"`
	Base     string        `json:"base"` // a reference, or none
	Platform string        `json:"platform"`
	Opened   time.Time     `json:"opened"`
	Next     int           `json:"next"` // the number of the next act; those that were undone are not given again
	Acts     []Act         `json:"acts"`
	Image    digest.Digest `json:"image,omitempty"` // what it is now; empty: it must be built
	Failure  *Failure      `json:"failure,omitempty"`
	Doubts   []string      `json:"doubts,omitempty"` // warnings of the last build

	dir  string
	lock *flock.Flock
}

// Failure is the step whose failure a workbench was opened at.
type Failure struct {
	Project string   `json:"project"` // the recipe's file
	Place   string   `json:"place"`   // gauge:3
	Label   string   `json:"label"`
	What    string   `json:"what"`            // "ended with status 2"
	Lines   []string `json:"lines,omitempty"` // of the step; none where it is a program with its arguments
	At      int      `json:"at"`              // the line that failed, from 0
	Command []string `json:"command,omitempty"`
	Given   Given    `json:"given"` // what the step gives its command
}

// Given is what a command is given beside its words.
type Given struct {
	User       string            `json:"user,omitempty"` // empty: the base's
	WorkingDir string            `json:"workingDir,omitempty"`
	Env        map[string]string `json:"env,omitempty"`
	Network    bool              `json:"network"`
	Hosts      []string          `json:"hosts,omitempty"` // that it may reach where it does not have the machine's network
	FreshTmp   bool              `json:"freshTmp,omitempty"`
	FixedClock bool              `json:"fixedClock,omitempty"`
	Sorted     bool              `json:"sorted,omitempty"`  // lists of folders
	LinesBy    string            `json:"linesBy,omitempty"` // empty: /bin/sh
	Strict     bool              `json:"strict,omitempty"`
	Kept       map[string]string `json:"kept,omitempty"` // places of kept directories, by name
}

// Pairs are the variables of the environment, NAME=VALUE, sorted.
func (g *Given) Pairs() (all []string) {
	for _, name := range slices.Sorted(maps.Keys(g.Env)) {
		all = append(all, name+"="+g.Env[name])
	}
	return all
}

const stateFile = "state.json"

func folder(st *store.Store) string { return filepath.Join(st.Dir(), "imbricat", "workbenches") }

// Dir is the folder of a workbench.
func (b *Bench) Dir() string { return b.dir }

// validName is what the names of images in recipes are made of: a workbench is one.
var validName = regexp.MustCompile(`^[a-z0-9]+([._-][a-z0-9]+)*$`)

// Open makes a workbench under the wanted name or, where that is empty, a free one after what it starts from. Nobody else can
// use it until it is closed.
func Open(ctx context.Context, st *store.Store, wanted, base string, p platform.Platform) (*Bench, error) {
	if wanted != "" && (len(wanted) > 100 || !validName.MatchString(wanted)) {
		return nil, flow.Usagef("--name takes lower-case letters and digits with single . _ - between them, not %q", wanted)
	}
	if err := os.MkdirAll(folder(st), 0o700); err != nil {
		return nil, err
	}
	stem, _, _ := strings.Cut(strings.ToLower(base[strings.LastIndexByte(base, '/')+1:]), "@")
	stem, _, _ = strings.Cut(stem, ":")
	if stem, _, _ = strings.Cut(stem, "#"); !validName.MatchString(stem) || len(stem) > 90 {
		stem = "bench"
	}
	for n := 1; ; n++ {
		name := wanted
		if name == "" {
			name = fmt.Sprintf("%s-%d", stem, n)
		}
		b := &Bench{Name: name, Base: base, Platform: p.String(), Opened: time.Now().UTC(), Next: 1, Acts: []Act{}, dir: filepath.Join(folder(st), name)}
		switch err := os.Mkdir(b.dir, 0o700); {
		case errors.Is(err, fs.ErrExist) && b.unfinished(): // of a process that was killed before it was open
		case errors.Is(err, fs.ErrExist) && wanted == "":
			continue
		case errors.Is(err, fs.ErrExist):
			return nil, flow.Usagef("the workbench %s is there already: `imbricat workbench drop %s` removes it", name, name)
		case err != nil:
			return nil, err
		}
		return b, b.claim(ctx)
	}
}

// unfinished reports whether a folder holds no workbench, and nobody is making one.
func (b *Bench) unfinished() bool {
	if _, err := os.Stat(filepath.Join(b.dir, stateFile)); err == nil {
		return false
	}
	lock := flock.New(filepath.Join(b.dir, "lock"))
	defer lock.Close()
	free, err := lock.TryLock()
	return err == nil && free
}

// claim waits until nobody else uses the workbench.
func (b *Bench) claim(ctx context.Context) error {
	b.lock = flock.New(filepath.Join(b.dir, "lock"))
	_, err := b.lock.TryLockContext(ctx, 20*time.Millisecond)
	return err
}

// Close lets others use it.
func (b *Bench) Close() { _ = b.lock.Close() }

// Read reads a workbench that others may change meanwhile.
func Read(st *store.Store, name string) (*Bench, error) {
	if !validName.MatchString(name) {
		return nil, notThere(st, name)
	}
	text, err := os.ReadFile(filepath.Join(folder(st), name, stateFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, notThere(st, name)
	}
	if err != nil {
		return nil, err
	}
	b := &Bench{dir: filepath.Join(folder(st), name)}
	if err := json.Unmarshal(text, b); err != nil || b.Name != name {
		return nil, fmt.Errorf("the workbench %s cannot be read: its %s is damaged", name, filepath.Join(b.dir, stateFile))
	}
	return b, nil
}

// Find is Read that waits until nobody else uses the workbench, for who changes it. The caller closes it.
func Find(ctx context.Context, st *store.Store, name string) (*Bench, error) {
	b, err := Read(st, name)
	if err != nil {
		return nil, err
	}
	if err := b.claim(ctx); err != nil {
		return nil, err
	}
	lock := b.lock
	if b, err = Read(st, name); err != nil { // it may have been dropped meanwhile
		lock.Close()
		return nil, err
	}
	b.lock = lock
	return b, b.sweep()
}

// sweep removes files of acts that a killed process did not finish.
func (b *Bench) sweep() error {
	found, err := os.ReadDir(filepath.Join(b.dir, "files"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, one := range found {
		if !slices.ContainsFunc(b.Acts, func(a Act) bool { return strconv.Itoa(a.Number) == one.Name() }) {
			if err := os.RemoveAll(filepath.Join(b.dir, "files", one.Name())); err != nil {
				return err
			}
		}
	}
	return nil
}

func notThere(st *store.Store, name string) error {
	names := Names(st)
	hint := "`imbricat workbench open BASE` opens one"
	if len(names) > 0 {
		hint = "there are " + strings.Join(names, ", ")
	}
	if near := recipe.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	return flow.Usagef("no workbench is named %q: %s", name, hint)
}

// Names returns the names of a store's workbenches, sorted.
func Names(st *store.Store) (names []string) {
	found, _ := filepath.Glob(filepath.Join(folder(st), "*", stateFile)) // the pattern is a good one
	for _, one := range found {
		names = append(names, filepath.Base(filepath.Dir(one)))
	}
	return names
}

// write keeps the state.
func (b *Bench) write() error {
	text, err := json.MarshalIndent(b, "", "  ")
	if err != nil {
		return err
	}
	return files.Replace(filepath.Join(b.dir, stateFile), text, 0o600)
}

// Drop removes a workbench. Images that it was sealed into stay.
func (b *Bench) Drop(ctx context.Context, st *store.Store) error {
	project, err := b.project(nil).Name()
	if err != nil {
		return err
	}
	if err := os.Remove(filepath.Join(b.dir, stateFile)); err != nil && !errors.Is(err, fs.ErrNotExist) { // from here on it is not there
		return err
	}
	if err := dropImage(ctx, st, project); err != nil {
		return err
	}
	return os.RemoveAll(b.dir)
}

// Undo forgets the last acts.
func (b *Bench) Undo(count int) error {
	if count > len(b.Acts) {
		return flow.Usagef("%s has %d acts, and not %d to undo", b.Name, len(b.Acts), count)
	}
	b.Acts, b.Image = b.Acts[:len(b.Acts)-count], ""
	if err := b.write(); err != nil {
		return err
	}
	return b.sweep()
}
