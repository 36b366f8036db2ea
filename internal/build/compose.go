package build

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"sync"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/plan"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// stepTree is what one step lays down: the entries of its layer, parents included, and where files' bytes are.
type stepTree struct {
	entries []tree.Entry // sorted by path
	places  map[string]place
	key     digest.Key
	files   int
	bytes   int64

	task   event.Task
	report *StepResult

	once  sync.Once
	layer *store.Record // after pack
	err   error
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

// seal sorts the entries and computes the key: everything that decides the layer's bytes, and nothing else. Neither the
// step's place in the recipe nor what lies below it counts beyond what shows in the entries.
func (t *stepTree) seal() {
	sort.Slice(t.entries, func(i, j int) bool { return t.entries[i].Path < t.entries[j].Path })
	sum := sha256.New()
	fmt.Fprintf(sum, "%s\n", layer.Format)
	var line []byte
	for i := range t.entries {
		e := &t.entries[i]
		line = e.AppendLine(line[:0])
		sum.Write(line)
		if e.Kind == tree.File {
			t.files++
			t.bytes += e.Size
		}
	}
	t.key = digest.Key(digest.FromHash(sum))
}

// composer gathers a step's entries over the view that lies below it.
type composer struct {
	view    *tree.View
	tree    *stepTree
	at      map[string]int  // path → index in tree.entries
	parents map[string]bool // entries that are only there because something lies in them
	folders map[string]string
}

func newComposer(view *tree.View) *composer {
	return &composer{view: view, tree: &stepTree{places: map[string]place{}}, at: map[string]int{}, parents: map[string]bool{}, folders: map[string]string{}}
}

// folder gives where a folder of the image really is, through the links of what lies below, and makes sure that it and
// all above it are among the entries as they are below, or as new ones.
func (c *composer) folder(p string) (string, error) {
	if p == "" {
		return "", nil
	}
	if real, known := c.folders[p]; known {
		return real, nil
	}
	above, err := c.folder(tree.Parent(p))
	if err != nil {
		return "", err
	}
	name := p[strings.LastIndexByte(p, '/')+1:]
	real, err := c.view.Resolve(tree.Join(above, name), true)
	if err != nil {
		return "", err
	}
	if tree.Parent(real) != above {
		// The link leads elsewhere, so what lies above is passed through there too.
		if _, err := c.folder(tree.Parent(real)); err != nil {
			return "", err
		}
	}
	if err := c.passThrough(real); err != nil {
		return "", err
	}
	c.folders[p] = real
	return real, nil
}

func (c *composer) passThrough(real string) error {
	if real == "" {
		return nil
	}
	if i, known := c.at[real]; known {
		if c.tree.entries[i].Kind != tree.Folder {
			return fmt.Errorf("/%s is a %s of the same step, and something is to lie in it", real, c.tree.entries[i].Kind)
		}
		return nil
	}
	e := tree.Entry{Path: real, Kind: tree.Folder, Mode: 0o755}
	if below, exists := c.view.Lookup(real); exists {
		if below.Kind != tree.Folder {
			return fmt.Errorf("/%s is a %s in what lies below, and something is to lie in it", real, below.Kind)
		}
		e.Mode, e.UID, e.GID, e.Xattrs = below.Mode, below.UID, below.GID, below.Xattrs
	}
	c.parents[real] = true
	c.put(e)
	return nil
}

func (c *composer) put(e tree.Entry) {
	c.at[e.Path] = len(c.tree.entries)
	c.tree.entries = append(c.tree.entries, e)
}

// addFolder lays a folder down. One that exists below keeps what it is unless forced; a new one is as given.
func (c *composer) addFolder(e tree.Entry, forced bool) error {
	real, err := c.folder(e.Path)
	if err != nil || real == "" {
		return err
	}
	i := c.at[real]
	_, exists := c.view.Lookup(real)
	if c.parents[real] && (!exists || forced) {
		path := c.tree.entries[i].Path
		c.tree.entries[i] = e
		c.tree.entries[i].Path = path
	}
	delete(c.parents, real)
	return nil
}

// add lays anything but a folder down. The links on the way are followed, a link at its own place is replaced.
func (c *composer) add(e tree.Entry, where place) error {
	above, err := c.folder(tree.Parent(e.Path))
	if err != nil {
		return err
	}
	e.Path = tree.Join(above, e.Path[strings.LastIndexByte(e.Path, '/')+1:])
	if i, twice := c.at[e.Path]; twice {
		if string(c.tree.entries[i].AppendLine(nil)) == string(e.AppendLine(nil)) {
			return nil
		}
		return fmt.Errorf("two different things are to lie at /%s", e.Path)
	}
	if below, exists := c.view.Lookup(e.Path); exists && below.Kind == tree.Folder {
		return fmt.Errorf("/%s is a folder in what lies below; write /%s/ to put something into it", e.Path, e.Path)
	}
	c.put(e)
	if e.Kind == tree.File {
		c.tree.places[e.Path] = where
	}
	return nil
}

func (c *composer) finish() *stepTree {
	c.tree.seal()
	return c.tree
}

// compose works out what a step lays down on the view.
func (b *builder) compose(ctx context.Context, u *plan.Unit, step *plan.Step, view *tree.View, task event.Task, sink event.Sink) (*stepTree, error) {
	c := newComposer(view)
	var err error
	switch do := step.Do.(type) {
	case plan.Copy:
		err = b.copy(ctx, c, do, task, sink)
	case plan.Take:
		err = b.take(ctx, c, u, do)
	case plan.Write:
		err = write(c, do)
	case plan.Link:
		err = c.add(tree.Entry{Path: inner(do.To), Kind: tree.Symlink, Mode: 0o777, Target: do.Target, UID: do.Owner.UID, GID: do.Owner.GID}, place{})
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		return nil, fmt.Errorf("%s, %s: %w", u.ID, task.Label, err)
	}
	return c.finish(), nil
}

// inner is a target as trees name it.
func inner(t plan.Target) string { return strings.TrimPrefix(t.Path, "/") }

// text gives a file's bytes from memory.
type text string

// Open gives the text, whatever the path.
func (t text) Open(string) (io.ReadCloser, error) {
	return io.NopCloser(strings.NewReader(string(t))), nil
}

func write(c *composer, do plan.Write) error {
	return c.add(tree.Entry{
		Path: inner(do.To), Kind: tree.File, Mode: do.Mode.Apply(0o644, false), UID: do.Owner.UID, GID: do.Owner.GID,
		Size: int64(len(do.Text)), Digest: digest.FromBytes([]byte(do.Text)),
	}, place{from: text(do.Text)})
}

// copied is what one from of a copy takes in, with the digests of the files.
type copied struct {
	survey   *tree.Survey
	contents *sourceContents

	once    sync.Once
	digests map[string]digest.Digest
	err     error
}

// pick surveys a from once for all units and platforms.
func (b *builder) pick(from string, leave []string) (*tree.Survey, error) {
	one, _, err := b.picks.do(from+"\x00"+strings.Join(leave, "\x00"), func() (*copied, error) {
		survey, err := b.o.Source.Pick(from, leave)
		if err != nil {
			return nil, err
		}
		return &copied{survey: survey}, nil
	})
	if err != nil {
		return nil, err
	}
	return one.survey, nil
}

// copiedFrom is pick with the digests of the files, which are read once.
func (b *builder) copiedFrom(ctx context.Context, from string, leave []string, task event.Task, sink event.Sink) (*copied, error) {
	if _, err := b.pick(from, leave); err != nil {
		return nil, err
	}
	one, _, err := b.picks.do(from+"\x00"+strings.Join(leave, "\x00"), nil)
	if err != nil {
		return nil, err
	}
	one.once.Do(func() {
		_, total := sizeOf(one.survey)
		sink.Send(event.Started{Task: task, Act: "reading", Total: total})
		var stats map[string]tree.Stat
		one.digests, stats, one.err = b.o.Memory.Digests(ctx, b.o.Source, one.survey.Picked, newProgress(sink, task))
		one.contents = &sourceContents{b.o.Source, stats}
	})
	return one, one.err
}

func (b *builder) copy(ctx context.Context, c *composer, do plan.Copy, task event.Task, sink event.Sink) error {
	for _, from := range do.From {
		if err := ctx.Err(); err != nil {
			return err
		}
		survey, err := b.pick(from, do.LeaveOut)
		if err != nil && isNoMatch(err) {
			continue // it was warned about
		}
		if err != nil {
			return err
		}
		got, err := b.copiedFrom(ctx, from, do.LeaveOut, task, sink)
		if err != nil {
			return err
		}
		to := inner(do.To)
		into := do.To.Folder || len(do.From) > 1 || !survey.SingleFile
		if !survey.SingleFile {
			if err := c.addFolder(tree.Entry{Path: to, Kind: tree.Folder, Mode: do.Mode.Apply(0o755, true), UID: do.Owner.UID, GID: do.Owner.GID}, false); err != nil {
				return err
			}
		}
		for _, p := range survey.Picked {
			target := to
			if into {
				target = tree.Join(to, p.Rel)
			}
			if err := copyOne(c, do, p, target, got); err != nil {
				return err
			}
		}
	}
	return nil
}

func copyOne(c *composer, do plan.Copy, p tree.Picked, target string, got *copied) error {
	e := tree.Entry{Path: target, Kind: p.Kind, UID: do.Owner.UID, GID: do.Owner.GID}
	switch p.Kind {
	case tree.Folder:
		e.Mode = do.Mode.Apply(p.Mode, true)
		return c.addFolder(e, do.Mode.Given() || do.Owner != plan.Owner{})
	case tree.Symlink:
		e.Mode, e.Target = 0o777, p.Link
	case tree.File:
		e.Mode, e.Size, e.Digest = do.Mode.Apply(p.Mode, false), got.contents.stats[p.Path].Size, got.digests[p.Path]
	}
	return c.add(e, place{got.contents, p.Path})
}

// take copies out of another unit's view or of an image elsewhere. A folder gives what it holds, a file itself, a
// pattern each match under its own name.
func (b *builder) take(ctx context.Context, c *composer, u *plan.Unit, do plan.Take) error {
	view, err := b.viewOf(ctx, u, do)
	if err != nil {
		return err
	}
	for i, wanted := range do.Paths {
		nodes, pattern, err := find(view, strings.TrimPrefix(wanted, "/"))
		if err != nil {
			return err
		}
		if len(nodes) == 0 {
			return b.o.Plan.File.Problem(do.PathPos[i], "%s has nothing at %s", originOf(do), wanted)
		}
		for _, n := range nodes {
			if err := takeNode(c, do, n, pattern, len(do.Paths) > 1); err != nil {
				return err
			}
		}
	}
	return nil
}

func originOf(do plan.Take) string {
	if do.Unit != nil {
		return do.Unit.ID.String()
	}
	return do.Reference.String()
}

func (b *builder) viewOf(ctx context.Context, u *plan.Unit, do plan.Take) (*tree.View, error) {
	if do.Unit != nil {
		s, err := b.unit(ctx, do.Unit)
		if err != nil {
			return nil, err
		}
		return s.view, nil
	}
	base := b.bases[keyOf(do.Reference, u)]
	if err := base.load(ctx, b); err != nil {
		return nil, fmt.Errorf("the image %s: %w", base.resolved.Name, err)
	}
	return base.view, nil
}

func takeNode(c *composer, do plan.Take, n *tree.Node, pattern, several bool) error {
	to := inner(do.To)
	name := n.Path[strings.LastIndexByte(n.Path, '/')+1:]
	if n.Kind == tree.Folder {
		if pattern {
			to = tree.Join(to, name)
		}
		return takeFolder(c, do, n, to, pattern)
	}
	if do.To.Folder || pattern || several {
		to = tree.Join(to, name)
	}
	return takeFile(c, do, n, to)
}

// takeFolder takes a folder with all in it. A folder that was named itself lends its owner and mode to a new one only.
func takeFolder(c *composer, do plan.Take, n *tree.Node, to string, within bool) error {
	e := n.Entry
	e.Path = to
	adopt(&e, do)
	if err := c.addFolder(e, within && (do.Mode.Given() || do.Owner != nil)); err != nil {
		return err
	}
	for _, child := range n.Children() {
		target := tree.Join(to, child.Path[strings.LastIndexByte(child.Path, '/')+1:])
		var err error
		if child.Kind == tree.Folder {
			err = takeFolder(c, do, child, target, true)
		} else {
			err = takeFile(c, do, child, target)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func takeFile(c *composer, do plan.Take, n *tree.Node, to string) error {
	e := n.Entry
	e.Path = to
	adopt(&e, do)
	return c.add(e, place{n.From, n.At})
}

// adopt sets the owner and mode that the step asks for; without, things stay as they are where they come from.
func adopt(e *tree.Entry, do plan.Take) {
	if do.Owner != nil {
		e.UID, e.GID = do.Owner.UID, do.Owner.GID
	}
	if do.Mode.Given() && (e.Kind == tree.File || e.Kind == tree.Folder) {
		e.Mode = do.Mode.Apply(e.Mode, e.Kind == tree.Folder)
	}
}

// find gives the nodes that a path or a pattern names, through the links of the view, sorted by path.
func find(view *tree.View, wanted string) ([]*tree.Node, bool, error) {
	if n, err := lookup(view, wanted); err != nil || n != nil {
		return slices.DeleteFunc([]*tree.Node{n}, func(n *tree.Node) bool { return n == nil }), false, err
	}
	if !strings.ContainsAny(wanted, "*?[{") {
		return nil, false, nil
	}
	nodes, err := match(view, wanted)
	return nodes, true, err
}

func lookup(view *tree.View, wanted string) (*tree.Node, error) {
	real, err := view.Resolve(wanted, false)
	if err != nil {
		return nil, err
	}
	n, _ := view.Lookup(real)
	if n != nil && n.Kind == tree.Symlink {
		// A link to a folder stands for the folder; a link to a file is taken as a link.
		if real, err = view.Resolve(wanted, true); err != nil {
			return nil, err
		}
		if folder, exists := view.Lookup(real); exists && folder.Kind == tree.Folder {
			return folder, nil
		}
	}
	return n, nil
}
