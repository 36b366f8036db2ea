package workbench

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/layout"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/recipe"
)

// Maker carries acts out.
type Maker struct {
	Store *store.Store
	// Workspace opens what it takes to work on a plan.
	Workspace func(p *workspace.Planned) (*workspace.Workspace, error)
	Build     building.Options
	Sink      event.Sink
}

// project is the workbench's recipe as a project of its own. It has no version control, wherever the store lies.
func (b *Bench) project(text []byte) workspace.Project {
	return workspace.Project{Dir: b.dir, File: recipe.DefaultName, Text: append([]byte{}, text...), Unversioned: true}
}

// Pin notes what a reference stands for, for this workbench from now on. Of an image of the store it is the digest that was found.
func (b *Bench) Pin(ref reference.Reference, root digest.Digest) error {
	if ref.Digest != "" && ref.Name == "" && ref.Tag == "" {
		return nil
	}
	l, err := b.project(nil).Lock()
	if err != nil {
		return err
	}
	if l == nil {
		l = &lock.Lock{Bases: map[string]digest.Digest{}}
	}
	if l.Bases[ref.String()] == root {
		return nil
	}
	l.Bases[ref.String()] = root
	return files.Replace(filepath.Join(b.dir, recipe.LockName), l.Encode(), 0o600)
}

// Outcome is what an act did.
type Outcome struct {
	Act    *Act // nil: it changed nothing, and is none
	Steps  []engine.StepResult
	Digest digest.Digest
	Again  []string // earlier commands that had to run again, since what they left is lost
}

// Do carries an act out and adds it to the workbench. One that fails, and a command that changes nothing, adds nothing.
func (m *Maker) Do(ctx context.Context, b *Bench, a Act) (*Outcome, error) {
	a.Number, a.Made = b.Next, time.Now().UTC()
	before := b.stepCount()
	tried := *b
	tried.Acts = append(slices.Clone(b.Acts), a)
	var fresh []string
	if a.Exec != nil { // somebody wants to see it run
		fresh = []string{fmt.Sprintf("%s:%d", b.Name, before+1)}
	}
	result, err := m.make(ctx, &tried, fresh)
	if err != nil {
		return nil, err
	}
	out := &Outcome{Digest: tried.Image, Again: ranAgain(result, before)}
	for _, one := range result.Steps {
		if numberOf(one.Place) > before {
			out.Steps = append(out.Steps, one)
		}
	}
	if a.Exec != nil && out.Steps[0].Layers == 0 {
		out.Digest = b.Image
		return out, m.restore(ctx, b)
	}
	tried.Next++
	if err := tried.write(); err != nil {
		return nil, err
	}
	*b = tried
	out.Act = &b.Acts[len(b.Acts)-1]
	return out, nil
}

// restore gives the workbench's name to its image again.
func (m *Maker) restore(ctx context.Context, b *Bench) error {
	if b.Image == "" {
		return nil
	}
	desc, here := m.Store.Document(b.Image)
	if !here {
		b.Image = ""
		return b.write()
	}
	return m.as(b, func() error { return m.Store.NameOf(ctx, m.Store.Project, b.Name, desc) })
}

// Current makes sure that the image of a workbench is in the store, and returns it. Again tells earlier commands that had to run again.
func (m *Maker) Current(ctx context.Context, b *Bench) (d digest.Descriptor, again []string, err error) {
	if desc, here := m.Store.Document(b.Image); here && b.Image != "" {
		return desc, nil, nil
	}
	result, err := m.make(ctx, b, nil)
	if err != nil {
		return d, nil, err
	}
	if err := b.write(); err != nil {
		return d, nil, err
	}
	return result.Images[0].Descriptor, ranAgain(result, b.stepCount()), nil
}

func (b *Bench) stepCount() (n int) {
	for i := range b.Acts {
		n += len(b.Acts[i].deed().steps(func(path string) string { return path }))
	}
	return n
}

// numberOf is the number of a step by its place, such as pier:3.
func numberOf(place string) (n int) {
	_, _ = fmt.Sscanf(place[strings.LastIndexByte(place, ':')+1:], "%d", &n)
	return n
}

// ranAgain tells the commands among the first steps that ran.
func ranAgain(r *engine.Result, first int) (all []string) {
	for _, one := range r.Steps {
		if one.Run != nil && one.Outcome == event.Ran && numberOf(one.Place) <= first {
			all = append(all, one.Label)
		}
	}
	return all
}

// as does something in the name of the workbench, as that of a project.
func (m *Maker) as(b *Bench, act func() error) error {
	project, mine := m.Store.Project, m.Store.Mine
	defer func() { m.Store.Project, m.Store.Mine = project, mine }()
	own, err := b.project(nil).Name()
	if err != nil {
		return err
	}
	m.Store.Project, m.Store.Mine = own, func(name string) bool { return name == b.Name }
	return act()
}

// make builds the workbench's image by its recipe, and keeps what its commands left.
func (m *Maker) make(ctx context.Context, b *Bench, fresh []string) (result *engine.Result, err error) {
	w, err := m.workspace(b)
	if err != nil {
		return nil, err
	}
	if err := b.putBack(m.Store); err != nil {
		return nil, err
	}
	o := m.Build
	o.Fresh = fresh
	doubts := &doubts{sink: m.Sink, known: b.Doubts}
	err = m.as(b, func() error {
		_, result, err = building.Run(ctx, w, doubts, o)
		return err
	})
	if err != nil {
		return nil, mistake(err)
	}
	if err := b.same(result); err != nil {
		return nil, err
	}
	b.Image, b.Doubts = result.Images[0].Descriptor.Digest, doubts.sorted()
	return result, b.hold(m.Store, result)
}

// same notes the layers of acts, and refuses a build in which files of an act were others than when it was done: somebody, or a disk, has
// changed them in the store.
func (b *Bench) same(result *engine.Result) error {
	layers := map[int]digest.DiffID{}
	for _, one := range result.Steps {
		layers[numberOf(one.Place)] = one.DiffID
	}
	next := 1
	for i := range b.Acts {
		a := &b.Acts[i]
		var now []digest.DiffID
		for range a.deed().steps(func(path string) string { return path }) {
			now = append(now, layers[next])
			next++
		}
		for n := range a.Layers {
			if was := a.Layers[n]; len(a.files()) > 0 && was != "" && now[n] != "" && now[n] != was {
				return fmt.Errorf("the files of act %d (%s) of %s were changed in the store: undo it, and do it again", a.Number, a.What(), b.Name)
			}
		}
		a.Layers = now
	}
	return nil
}

// doubts passes events on; warnings without their places in a recipe that nobody sees, and none that the build before gave too.
type doubts struct {
	sink  event.Sink
	known []string

	mutex sync.Mutex
	now   map[string]bool
}

// inRecipe is the place at the beginning of a warning.
var inRecipe = regexp.MustCompile(`^` + regexp.QuoteMeta(recipe.DefaultName) + `:\d+:\d+: `)

// Send implements event.Sink.
func (d *doubts) Send(e event.Event) {
	if w, is := e.(event.Warning); is {
		if place := inRecipe.FindString(w.Text); place != "" {
			w.Text, _, _ = strings.Cut(w.Text[len(place):], "\n")
		}
		d.mutex.Lock()
		if d.now == nil {
			d.now = map[string]bool{}
		}
		told := d.now[w.Text] || slices.Contains(d.known, w.Text)
		d.now[w.Text] = true
		d.mutex.Unlock()
		if told {
			return
		}
		e = w
	}
	d.sink.Send(e)
}

func (d *doubts) sorted() []string {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	return slices.Sorted(maps.Keys(d.now))
}

// workspace is the workbench's recipe with what it takes to work on it.
func (m *Maker) workspace(b *Bench) (*workspace.Workspace, error) {
	// What is wrong is told of the files that the workbench has: those of the recipe for people may lie elsewhere.
	if _, err := b.project(b.recipe(b.own, nil)).Expand(workspace.Choice{}); err != nil {
		return nil, mistake(err)
	}
	labels, err := b.labels()
	if err != nil {
		return nil, err
	}
	planned, err := b.project(b.recipe(b.own, labels)).Expand(workspace.Choice{})
	if err != nil {
		return nil, mistake(err)
	}
	return m.Workspace(planned)
}

// mistake tells what is wrong with a recipe that nobody sees without its places in there.
func mistake(err error) error {
	var wrong *recipe.Errors
	if !errors.As(err, &wrong) {
		return err
	}
	var all []string
	for _, one := range wrong.Problems {
		all = append(all, one.Message)
	}
	return flow.Usagef("%s", strings.Join(all, "; "))
}

// held is the record of what a command left.
type held struct {
	Run     *store.Run      `json:"run"`
	Layers  []*store.Record `json:"layers"`
	Trace   []byte          `json:"trace"`
	Log     []byte          `json:"log"`
	Entries []byte          `json:"entries"`
}

// hold keeps the records of what the workbench's commands left, which the store may forget. The files are in layers of the
// workbench's image, which has a name.
func (b *Bench) hold(st *store.Store, result *engine.Result) error {
	dir := filepath.Join(b.dir, "runs")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	wanted := map[string]bool{}
	for _, one := range result.Steps {
		if one.Run == nil {
			continue
		}
		name := string(one.Run.Key+"-"+one.Run.Trace) + ".json"
		name = strings.ReplaceAll(name, ":", "-")
		wanted[name] = true
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			continue
		}
		h := held{Run: one.Run}
		h.Trace, _ = st.Trace(one.Run.Trace)
		h.Log, _ = st.Log(one.Run.Log)
		h.Entries, _ = st.TreeEntries(one.Run.Tree)
		keys := slices.Clone(one.Run.Parts)
		for _, how := range []layer.Compression{layer.Gzip, layer.Zstd, layer.None} {
			keys = append(keys, layer.RecordKey(one.Run.Tree, how))
		}
		for _, key := range keys {
			if r, known := st.Record(key); known {
				h.Layers = append(h.Layers, r)
			}
		}
		text, err := store.Seal(h)
		if err != nil {
			return err
		}
		if err := files.Replace(filepath.Join(dir, name), text, 0o600); err != nil {
			return err
		}
	}
	return b.forget(dir, wanted)
}

// forget removes records of acts that were undone.
func (b *Bench) forget(dir string, wanted map[string]bool) error {
	found, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, one := range found {
		if !wanted[one.Name()] {
			err = errors.Join(err, os.Remove(filepath.Join(dir, one.Name())))
		}
	}
	return err
}

// putBack gives the store the records again that it has forgotten.
func (b *Bench) putBack(st *store.Store) error {
	found, err := os.ReadDir(filepath.Join(b.dir, "runs"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	for _, one := range found {
		text, err := os.ReadFile(filepath.Join(b.dir, "runs", one.Name()))
		var h held
		if err != nil || store.Unseal(text, &h) != nil || h.Run == nil {
			continue // it is as if the store had forgotten it
		}
		if err := h.putBack(st); err != nil {
			return err
		}
	}
	return nil
}

func (h *held) putBack(st *store.Store) error {
	known := slices.ContainsFunc(st.Runs(h.Run.Key), func(r *store.Run) bool { return r.Trace == h.Run.Trace })
	_, traced := st.Trace(h.Run.Trace)
	whole := known && traced && st.HasTreeEntries(h.Run.Tree)
	for _, l := range h.Layers {
		if _, there := st.Record(l.Key); !there && st.Has(l.Layer) {
			if err := st.ImportRecord(l); err != nil {
				return err
			}
		}
	}
	if whole {
		return nil
	}
	if err := errors.Join(st.PutTrace(h.Run.Trace, h.Trace), st.PutTreeEntries(h.Run.Tree, h.Entries)); err != nil {
		return err
	}
	if _, err := st.PutLog(h.Log); err != nil {
		return err
	}
	return st.ImportRun(h.Run)
}

// dropImage takes the name from the image of a workbench.
func dropImage(ctx context.Context, st *store.Store, project string) error {
	_, err := st.Drop(ctx, func(n layout.Named) bool { return n.Project == project })
	return err
}

// Begin opens the workbench on its base: found (nil: none), which ref names.
func (m *Maker) Begin(ctx context.Context, b *Bench, ref reference.Reference, found *baseimage.Found) error {
	if found != nil {
		if err := b.Pin(ref, found.Root.Digest); err != nil {
			return err
		}
	}
	if _, err := m.make(ctx, b, nil); err != nil {
		return err
	}
	if found != nil {
		if err := m.Guard(ctx, b, "base", found.Root.Digest); err != nil {
			return err
		}
	}
	return b.write()
}

// Guard gives an image that the workbench needs a name, so that it is not trimmed. Of one that is only elsewhere nothing is to be guarded.
func (m *Maker) Guard(ctx context.Context, b *Bench, as string, root digest.Digest) error {
	desc, here := m.Store.Document(root)
	if !here {
		return nil
	}
	return m.as(b, func() error { return m.Store.NameOf(ctx, m.Store.Project, b.Name+"."+as, desc) })
}

// NextPlace is what the first step of the next act is called.
func (m *Maker) NextPlace(b *Bench) string { return fmt.Sprintf("%s:%d", b.Name, b.stepCount()+1) }
