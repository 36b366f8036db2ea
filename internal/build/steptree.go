package build

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// stepTree is what one step lays down: the entries of its layer, parents included, and where files' bytes are. Of a step
// that was remembered the entries are read when somebody looks at them, and files are found when somebody opens them.
type stepTree struct {
	key    digest.Key // of the tree: everything that decides the tar, and nothing else
	files  int
	bytes  int64
	empty  bool
	doubts doubts

	mutex   sync.Mutex
	load    func(ctx context.Context) ([]tree.Entry, error)                           // nil: entries are there
	locate  func(ctx context.Context, entries []tree.Entry) (map[string]place, error) // nil: places are there
	entries []tree.Entry                                                              // sorted by path
	places  map[string]place
	lost    error // why entries could not be loaded

	ofImage     bool              // the step is an image's own, not a stage's
	compression layer.Compression // of the image that the layer is for
	lineage     digest.Key        // names the step over changes of what it takes in
	task        event.Task
	report      *StepResult

	ran      *ran        // of a command
	refilled atomic.Bool // the command ran again for its kept directory

	twin  *stepTree   // that this one is an alias of
	taken atomic.Bool // an image has it as its own

	// Of a tree that is a layer of several steps, or of parts of some: these, and what history calls it.
	of    []*stepTree
	label string

	once   sync.Once
	err    error
	packed sync.Once
	layer  *store.Record // after packing, of a tree that is a layer
	how    event.Outcome
	first  bool // no other step has this layer
	bad    error
}

// is tells whether a tree is a layer of a step.
func (t *stepTree) is(step *stepTree) bool { return t == step || slices.Contains(t.of, step) }

// history is what made the layer.
func (t *stepTree) history() string { return cmp.Or(t.label, t.task.Label) }

// packedAs is a stage's step as a layer of an image. The first image whose layers are packed like the stage's takes the tree
// as it is; each other has its own: their layers may be divided otherwise.
func (t *stepTree) packedAs(c layer.Compression) *stepTree {
	if t.ofImage || t.compression == c && t.taken.CompareAndSwap(false, true) {
		return t
	}
	own := t.alias()
	own.compression, own.task, own.report = c, t.task, &StepResult{}
	own.lineage = keyOfText(string(t.lineage) + " " + string(c))
	return own
}

// alias is the same tree for another step.
func (t *stepTree) alias() *stepTree {
	own := &stepTree{key: t.key, files: t.files, bytes: t.bytes, empty: t.empty, doubts: t.doubts, load: t.all}
	own.twin = t
	own.locate = func(ctx context.Context, _ []tree.Entry) (map[string]place, error) {
		err := t.find(ctx)
		return t.places, err
	}
	return own
}

// layerKey names the step's layer: its tree and how it is packed.
func (t *stepTree) layerKey() digest.Key { return layer.RecordKey(t.key, t.compression) }

func keyOfText(text string) digest.Key { return digest.Key(digest.ContentBytes([]byte(text))) }

// all gives the entries, and loads them where they are not there yet.
func (t *stepTree) all(ctx context.Context) ([]tree.Entry, error) {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.load != nil {
		entries, err := t.load(ctx)
		if err != nil && ctx.Err() != nil {
			return nil, err // others may ask again
		}
		t.entries, t.lost, t.load = entries, err, nil
	}
	return t.entries, t.lost
}

// find makes sure that it is known where files' bytes are.
func (t *stepTree) find(ctx context.Context) error {
	entries, err := t.all(ctx)
	if err != nil {
		return err
	}
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if t.locate != nil {
		if t.places, err = t.locate(ctx, entries); err == nil {
			t.locate = nil
		}
	}
	return err
}

// place is where a file's bytes are.
type place struct {
	from tree.Contents
	at   string
}

// Open gives a file by its path in the step's tree.
func (t *stepTree) Open(p string) (io.ReadCloser, error) {
	where, known := t.places[p]
	if !known {
		return nil, fmt.Errorf("the step lays down no file /%s", p)
	}
	return where.from.Open(where.at)
}

// prepare tells the origins which of their files will be opened.
func (t *stepTree) prepare(ctx context.Context, paths []string) error {
	if err := t.find(ctx); err != nil {
		return err
	}
	wanted := map[preparer][]string{}
	for _, p := range paths {
		if from, needs := t.places[p].from.(preparer); needs {
			wanted[from] = append(wanted[from], t.places[p].at)
		}
	}
	for from, list := range wanted {
		if err := from.prepare(ctx, list); err != nil {
			return err
		}
	}
	return nil
}

// seal sorts the entries and computes the key. Neither the step's place in the recipe nor what lies below it counts
// beyond what shows in the entries.
func (t *stepTree) seal() {
	byPath := func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) }
	if !slices.IsSortedFunc(t.entries, byPath) {
		slices.SortFunc(t.entries, byPath)
	}
	for i := range t.entries {
		if e := &t.entries[i]; e.Kind == tree.File {
			t.files++
			t.bytes += e.Size
		}
	}
	t.key, t.empty = layer.KeyOf(t.entries), len(t.entries) == 0
}
