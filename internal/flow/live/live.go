// Package live gives commands that run in the background the files of the project that changed, where copies alone carry them into the
// image: at once, before the image is built, and after that whatever else of these files is another in the new image. What it puts has
// the owner and the mode that the image gives it. It builds nothing and prints nothing.
package live

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"slices"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/step"
	"imbricat/internal/flow"
	"imbricat/internal/flow/background"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/plan"
)

// Follower keeps one command that runs in the background up with the project.
type Follower struct {
	Name string

	process int                    // of the command, as it was looked at
	start   *tree.View             // what it was started with
	given   map[string]*tree.Entry // what it was given since, by place; nil: taken away
	carried map[string][]string    // places, by paths of the project
	source  map[string]string      // the other way around
	ever    map[string]bool        // places that were carried at any time: what is gone from the project is carried no more
	behind  []string               // that was told last
}

// Done is what a command was given.
type Done struct {
	Put     []string `json:"put"`     // places in the image, absolute
	Removed []string `json:"removed"` // too
	// Behind are places where the image is another than what the command sees: it must be started again for them. Fresh reports whether
	// they are others than the last time.
	Behind []string `json:"behind"`
	Fresh  bool     `json:"-"`
}

// Follow begins to follow what runs in the background under a name.
func Follow(name string) *Follower { return &Follower{Name: name} }

// try finds the command. What was started anew is followed anew.
func (f *Follower) try(st *store.Store) (*background.Try, error) {
	b, err := background.Find(st, f.Name)
	if err != nil {
		return nil, err
	}
	if !b.Running() {
		return nil, flow.Failedf("%s does not run: nothing is put there", f.Name)
	}
	if b.Process != f.process {
		f.process, f.start, f.given, f.carried, f.source, f.ever, f.behind = b.Process, nil, map[string]*tree.Entry{}, nil, nil, map[string]bool{}, nil
	}
	return b, nil
}

// Now puts files that changed, of those that copies alone carry. Dir is the project folder. What is no plain file any more waits for the image.
func (f *Follower) Now(st *store.Store, dir string, changed []string) (done Done, err error) {
	b, err := f.try(st)
	if err != nil || f.start == nil {
		return done, err
	}
	var way *background.Live
	for _, p := range changed {
		for _, place := range f.carried[p] {
			have := f.has(place)
			if have == nil || have.Kind != tree.File {
				continue
			}
			if way == nil {
				if way, err = b.Enter(); err != nil {
					return done, err
				}
				defer way.Close()
			}
			e := *have
			if put, err := f.put(way, dir, p, &e); err != nil {
				return done, err
			} else if put {
				done.Put = append(done.Put, "/"+place)
			}
		}
	}
	return done, nil
}

// has is what the command sees at a place, as far as it has not changed that itself; nil: nothing.
func (f *Follower) has(place string) *tree.Entry {
	if e, is := f.given[place]; is {
		return e
	}
	if n, there := f.start.Lookup(place); there {
		return &n.Entry
	}
	return nil
}

// put puts a file of the project at an entry's place, with its owner and mode, unless that is what is there.
func (f *Follower) put(way *background.Live, dir, from string, e *tree.Entry) (bool, error) {
	in, err := files.OpenRegularIn(dir, from)
	if errors.Is(err, os.ErrNotExist) {
		return false, nil // the image tells what became of it
	}
	if err != nil {
		return false, err
	}
	defer in.Close()
	hash := digest.NewContent()
	size, err := io.Copy(hash, in)
	if err != nil {
		return false, err
	}
	content := digest.ContentOf(hash)
	if have := f.has(e.Path); have != nil && have.Kind == tree.File && have.Content == content && have.Mode == e.Mode && have.UID == e.UID && have.GID == e.GID {
		return false, nil
	}
	if _, err := in.Seek(0, io.SeekStart); err != nil {
		return false, err
	}
	e.Content, e.Size = content, size
	if err := way.Put(tree.Entry{Path: e.Path, Kind: e.Kind, Mode: e.Mode, UID: e.UID, GID: e.GID}, in); err != nil {
		return false, err
	}
	f.given[e.Path] = e
	return true, nil
}

// After brings the command up with the image that was built: files of the project that copies alone carry, that are new, gone, or have
// other owners and modes. It learns what can be put from now on.
func (f *Follower) After(ctx context.Context, w *workspace.Workspace, result *engine.Result) (done Done, err error) {
	b, err := f.try(w.Store)
	if err != nil {
		return done, err
	}
	u, now, err := f.image(w.Plan, result, b)
	if err != nil {
		return done, err
	}
	o, finish, err := w.Engine(ctx, event.Discard)
	if err != nil {
		return done, err
	}
	defer finish()
	scratch := filetree.NewScratch(w.Store.TemporaryFolder)
	defer scratch.Close()
	library := baseimage.NewLibrary(ctx, w.Store, scratch)
	view := func(d digest.Digest) (*tree.View, error) {
		found, err := o.Bases.Resolve(ctx, reference.Reference{Kind: reference.Store, Digest: d}, u.ID.Platform)
		if err != nil {
			return nil, err
		}
		base, err := library.Load(ctx, found, nil)
		if err != nil {
			return nil, err
		}
		return base.View, nil
	}
	if f.start == nil {
		if f.start, err = view(b.Digest); err != nil {
			return done, err
		}
	}
	image, err := view(now)
	if err != nil {
		return done, err
	}
	if f.carried, err = engine.Carried(ctx, o.Inputs, u, image, learnt(w.Store, result, u)); err != nil {
		return done, err
	}
	f.source = map[string]string{}
	for from, places := range f.carried {
		for _, place := range places {
			f.source[place], f.ever[place] = from, true
		}
	}
	way, err := b.Enter()
	if err != nil {
		return done, err
	}
	defer way.Close()
	done, err = f.level(w.Dir, image, way)
	done.Fresh, f.behind = !slices.Equal(done.Behind, f.behind), done.Behind
	return done, err
}

// image finds the unit that the command is of, and its image.
func (f *Follower) image(p *plan.Plan, result *engine.Result, b *background.Try) (*plan.Unit, digest.Digest, error) {
	for _, i := range result.Images {
		if i.Name != b.Image {
			continue
		}
		for _, made := range i.Platforms {
			if made.Platform.String() != b.Platform {
				continue
			}
			for _, u := range p.Units {
				if u.ID.Name == i.Name && u.ID.Platform == made.Platform {
					return u, made.Descriptor.Digest, nil
				}
			}
		}
	}
	return nil, "", flow.Usagef("%s runs %s for %s, which is not built here: watch that image", f.Name, b.Image, b.Platform)
}

// learnt finds what the commands of a unit learnt, by their steps.
func learnt(st *store.Store, result *engine.Result, u *plan.Unit) func(int) *trace.Trace {
	return func(i int) *trace.Trace {
		place := step.Name{Unit: u.ID, Index: i}.Place()
		for k := range result.Steps {
			r := &result.Steps[k]
			if r.Unit != u.ID.Name || r.Platform != u.ID.Platform || r.Place != place || r.Run == nil {
				continue
			}
			if t, err := step.Learnt(st, r.Run); err == nil {
				return t
			}
		}
		return nil
	}
}

// level has the command see what an image holds, as far as that is carried, now or before.
func (f *Follower) level(dir string, image *tree.View, way *background.Live) (done Done, err error) {
	paths := map[string]bool{}
	f.start.Each(func(n *tree.Node) { paths[n.Path] = true })
	image.Each(func(n *tree.Node) { paths[n.Path] = true })
	for place := range f.given {
		paths[place] = true
	}
	needed := map[string]bool{} // folders of what is carried
	for place := range f.source {
		for above := tree.Parent(place); above != ""; above = tree.Parent(above) {
			needed[above] = true
		}
	}
	var gone []string
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		have := f.has(p)
		want, wanted := image.Lookup(p)
		if p == "" || !wanted && have == nil || wanted && have != nil && same(have, &want.Entry) {
			continue
		}
		from, carried := f.source[p]
		switch {
		case wanted && carried:
			e := want.Entry
			put, err := f.put(way, dir, from, &e)
			if err != nil {
				return done, err
			}
			if put {
				done.Put = append(done.Put, path.Join("/", p))
			}
		case wanted && want.Kind == tree.Folder && needed[p] && (have == nil || have.Kind == tree.Folder):
			e := want.Entry
			if err := way.Put(tree.Entry{Path: p, Kind: e.Kind, Mode: e.Mode, UID: e.UID, GID: e.GID}, nil); err != nil {
				return done, err
			}
			f.given[p] = &e
		case !wanted && f.ever[p]:
			gone = append(gone, p)
		default:
			done.Behind = append(done.Behind, path.Join("/", p))
		}
	}
	for _, p := range gone {
		if err := way.Remove(p); err != nil {
			return done, fmt.Errorf("taking away what is gone: %w", err)
		}
		f.given[p] = nil
		done.Removed = append(done.Removed, path.Join("/", p))
	}
	return done, nil
}

// same reports whether a command that sees one sees the other, times apart.
func same(a, b *tree.Entry) bool {
	return a.Kind == b.Kind && a.Mode == b.Mode && a.UID == b.UID && a.GID == b.GID && (a.Kind != tree.File || a.Content == b.Content) && a.Target == b.Target
}
