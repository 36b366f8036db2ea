package build

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/tree"
)

// composer gathers a step's entries over the view that lies below it, and notes what it looks at there.
type composer struct {
	view    *tree.View
	seen    map[string]string // path → line of its entry, or absent
	tree    *stepTree
	at      map[string]int  // path → index in tree.entries
	parents map[string]bool // entries that are only there because something lies in them
	folders map[string]string
	twins   map[any][]string // paths of files that are hard links to each other
}

// absent stands for a path that the view does not have.
const absent = "-"

func newComposer(view *tree.View) *composer {
	c := &composer{seen: map[string]string{}, tree: &stepTree{places: map[string]place{}}, at: map[string]int{},
		parents: map[string]bool{}, folders: map[string]string{}, twins: map[any][]string{}}
	c.view = view.Watched(func(path string, n *tree.Node) { c.seen[path] = lineOf(n) })
	return c
}

// lineOf is all that a view tells of a path.
func lineOf(n *tree.Node) string {
	if n == nil {
		return absent
	}
	return strings.TrimSuffix(string(n.AppendLine(nil)), "\n")
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
// Files with one twin are hard links to each other; nil is a twin of nothing.
func (c *composer) add(e tree.Entry, where place, twin any) error {
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
		if twin != nil {
			c.twins[twin] = append(c.twins[twin], e.Path)
		}
	}
	return nil
}

// link turns all but the first of files that are hard links to each other into such links.
func (c *composer) link() {
	for _, paths := range c.twins {
		slices.Sort(paths)
		first := c.tree.entries[c.at[paths[0]]]
		for _, path := range paths[1:] {
			e := &c.tree.entries[c.at[path]]
			if e.Content != first.Content || e.Mode != first.Mode || e.UID != first.UID || e.GID != first.GID || e.Time != first.Time {
				continue // a rule of the step parts them
			}
			*e = tree.Entry{Path: path, Kind: tree.Hardlink, Mode: e.Mode, UID: e.UID, GID: e.GID, Target: first.Path, Time: e.Time}
			delete(c.tree.places, path)
		}
	}
}

// date gives everything but folders a time.
func (c *composer) date(seconds int64) {
	for i := range c.tree.entries {
		if e := &c.tree.entries[i]; dated(e.Kind) {
			e.Time = seconds
		}
	}
}

// dated tells whether a kind of entry has a time that tools compare.
func dated(k tree.Kind) bool {
	return k != tree.Folder && k != tree.Whiteout && k != tree.Opaque
}

// timeAfter gives a time, in seconds, after that of every file of a view.
func timeAfter(view *tree.View) int64 {
	latest := layer.Epoch.Unix()
	view.Each(func(n *tree.Node) {
		if dated(n.Kind) {
			latest = max(latest, n.Time)
		}
	})
	return latest + 1
}

func (c *composer) finish() *stepTree {
	c.link()
	c.tree.seal()
	return c.tree
}

// compose works out what a step lays down on what lies below it.
func (b *builder) compose(ctx context.Context, u *plan.Unit, step *plan.Step, s *unitState, task event.Task, sink event.Sink) (*stepTree, error) {
	do, isCopy := step.Do.(plan.Copy)
	if isCopy && !task.Fresh && !step.RisingTimes {
		if t, err := b.recallCopy(ctx, u, do, s, task, sink); t != nil || err != nil {
			return t, inStep(u, task, err)
		}
	}
	if _, isRun := step.Do.(plan.Run); isRun {
		t, err := b.runStep(ctx, u, step, s, task, sink)
		var failed *StepFailed
		if errors.As(err, &failed) {
			return nil, err
		}
		return t, inStep(u, task, err)
	}
	view, err := s.see(ctx)
	if err != nil {
		return nil, err
	}
	c := newComposer(view)
	if err = b.layDown(ctx, u, step, c, task, sink); err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, inStep(u, task, err)
	}
	if step.RisingTimes {
		c.date(timeAfter(view))
	}
	t := c.finish()
	t.doubts = b.doubtsOf(t.entries)
	if isCopy && !step.RisingTimes { // what lies below decides too
		b.rememberCopy(c, do, t)
	}
	return t, nil
}

// inStep says in which step something went wrong.
func inStep(u *plan.Unit, task event.Task, err error) error {
	var placed *recipe.Errors
	if err == nil || errors.Is(err, context.Canceled) || errors.As(err, &placed) && err.Error() == placed.Error() {
		return err // it tells its place in the recipe, or none is needed
	}
	return fmt.Errorf("%s, %s: %w", u.ID, task.Label, err)
}

func (b *builder) layDown(ctx context.Context, u *plan.Unit, step *plan.Step, c *composer, task event.Task, sink event.Sink) error {
	switch do := step.Do.(type) {
	case plan.Copy:
		return b.copy(ctx, c, do, task, sink)
	case plan.Take:
		return b.take(ctx, c, u, step, do)
	case plan.Write:
		return b.write(ctx, c, do)
	case plan.Link:
		owner, err := b.owner(ctx, c, do.Owner, do.OwnerPos)
		if err != nil {
			return err
		}
		return c.add(tree.Entry{Path: inner(do.To), Kind: tree.Symlink, Mode: 0o777, Target: do.Target, UID: owner.uid, GID: owner.gid}, place{}, nil)
	case plan.Unpack:
		return b.unpack(ctx, c, do, task, sink)
	case plan.Fetch:
		return b.fetch(ctx, c, do, task, sink)
	case plan.Remove:
		return b.remove(c, step, do)
	}
	return fmt.Errorf("a step of the unknown kind %T", step.Do)
}
