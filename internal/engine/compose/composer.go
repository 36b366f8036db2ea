package compose

import (
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

// Composer gathers a step's entries over the view that lies below it, and notes what it looks at there.
type Composer struct {
	*Tools
	step   *plan.Step
	inputs Inputs
	tell   event.Reporter
	view   *tree.View

	seen    map[string]string // path → line of its entry, or step.Absent
	entries []tree.Entry
	places  map[string]filetree.Place
	at      map[string]int  // path → index in entries
	parents map[string]bool // entries that are only there because something lies in them
	folders map[string]string
	below   string           // new folders on the way belong to owner, where they lie below this path
	owned   *account.IDs     // nil: they are root's
	twins   map[any][]string // paths of files that are hard links to each other
}

func newComposer(t *Tools, s Setting, below *tree.View) *Composer {
	c := &Composer{Tools: t, step: s.Step, inputs: s.Inputs, tell: s.Tell, seen: map[string]string{}, places: map[string]filetree.Place{},
		at: map[string]int{}, parents: map[string]bool{}, folders: map[string]string{}, twins: map[any][]string{}}
	c.view = below.Watched(func(path string, n *tree.Node) { c.seen[path] = step.LineOf(n) })
	return c
}

// expect makes room for so many entries at once, as long as there are none.
func (c *Composer) expect(entries int) {
	if len(c.entries) > 0 {
		return
	}
	c.entries, c.at, c.places = make([]tree.Entry, 0, entries), make(map[string]int, entries), make(map[string]filetree.Place, entries)
	if len(c.seen) == 0 {
		c.seen = make(map[string]string, entries)
	}
}

// own has folders that are made on the way belong to the owner that the step gives, where they lie below its destination.
func (c *Composer) own(to plan.Target, owner *account.IDs) { c.below, c.owned = inner(to), owner }

// warn tells of a doubt about the step.
func (c *Composer) warn(code, text string) { c.Warner.Warn(c.step, code, text) }

// folder returns where a folder of the image really is, through the links of what lies below, and makes sure that it and
// all above it are among the entries as they are below, or as new ones.
func (c *Composer) folder(p string) (string, error) {
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
		// The link leads elsewhere, so what lies above is passed through there too. The step did not ask for that.
		owner := c.owned
		c.owned = nil
		_, err := c.folder(tree.Parent(real))
		if c.owned = owner; err != nil {
			return "", err
		}
	}
	if err := c.passThrough(real, p); err != nil {
		return "", err
	}
	c.folders[p] = real
	return real, nil
}

// passThrough makes sure that a folder is among the entries, which was asked for as p.
func (c *Composer) passThrough(real, p string) error {
	if real == "" {
		return nil
	}
	if i, known := c.at[real]; known {
		if c.entries[i].Kind != tree.Folder {
			return fmt.Errorf("/%s is a %s of the same step, and something is to lie in it", real, c.entries[i].Kind)
		}
		return nil
	}
	e := tree.Entry{Path: real, Kind: tree.Folder, Mode: 0o755}
	if below, exists := c.view.Lookup(real); exists {
		if below.Kind != tree.Folder {
			return fmt.Errorf("/%s is a %s in what lies below, and something is to lie in it", real, below.Kind)
		}
		e.Mode, e.UID, e.GID, e.Xattrs = below.Mode, below.UID, below.GID, below.Xattrs
	} else if c.owned != nil && (c.below == "" || strings.HasPrefix(p, c.below+"/")) {
		e.UID, e.GID = c.owned.UID, c.owned.GID
	}
	c.parents[real] = true
	c.put(e)
	return nil
}

func (c *Composer) put(e tree.Entry) {
	c.at[e.Path] = len(c.entries)
	c.entries = append(c.entries, e)
}

// addFolder lays a folder down. One that exists below keeps what it is unless forced; a new one is as given.
func (c *Composer) addFolder(e tree.Entry, forced bool) error {
	real, err := c.folder(e.Path)
	if err != nil || real == "" {
		return err
	}
	i := c.at[real]
	_, exists := c.view.Lookup(real)
	if c.parents[real] && (!exists || forced) {
		path := c.entries[i].Path
		c.entries[i] = e
		c.entries[i].Path = path
	}
	delete(c.parents, real)
	return nil
}

// add lays anything but a folder down. The links on the way are followed, a link at its own place is replaced.
// Files with one twin are hard links to each other; nil is a twin of nothing.
func (c *Composer) add(e tree.Entry, where filetree.Place, twin any) error {
	above, err := c.folder(tree.Parent(e.Path))
	if err != nil {
		return err
	}
	e.Path = tree.Join(above, e.Path[strings.LastIndexByte(e.Path, '/')+1:])
	if i, twice := c.at[e.Path]; twice {
		if c.entries[i].Equal(&e) {
			return nil
		}
		return fmt.Errorf("two different things are to lie at /%s", e.Path)
	}
	if below, exists := c.view.Lookup(e.Path); exists && below.Kind == tree.Folder {
		return fmt.Errorf("/%s is a folder in what lies below; write /%s/ to put something into it", e.Path, e.Path)
	}
	c.put(e)
	if e.Kind == tree.File {
		c.places[e.Path] = where
		if twin != nil {
			c.twins[twin] = append(c.twins[twin], e.Path)
		}
	}
	return nil
}

// link turns all but the first of files that are hard links to each other into such links.
func (c *Composer) link() {
	for _, paths := range c.twins {
		slices.Sort(paths)
		first := c.entries[c.at[paths[0]]]
		for _, path := range paths[1:] {
			e := &c.entries[c.at[path]]
			if e.Content != first.Content || e.Mode != first.Mode || e.UID != first.UID || e.GID != first.GID || e.Time != first.Time {
				continue // a rule of the step parts them
			}
			*e = tree.Entry{Path: path, Kind: tree.Hardlink, Mode: e.Mode, UID: e.UID, GID: e.GID, Target: first.Path, Time: e.Time}
			delete(c.places, path)
		}
	}
}

// date gives everything but folders a time.
func (c *Composer) date(seconds int64) {
	for i := range c.entries {
		if e := &c.entries[i]; e.Kind.Dated() {
			e.Time = seconds
		}
	}
}
