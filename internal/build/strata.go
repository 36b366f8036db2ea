package build

import (
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/layer"
	"imbricat/internal/sandbox"
	"imbricat/internal/tree"
)

// A stratum is a tree that lies unpacked in a folder below a run step's view: a layer of the base, or what a step laid down.
type stratum struct {
	name    string // for messages
	key     digest.Key
	entries func(ctx context.Context) ([]tree.Entry, error) // sorted by path, every folder on the way among them
	feed    func(ctx context.Context, entries []tree.Entry) sandbox.Feed
	packed  *packedContents // of a base: what else gives its files
}

// stratum gives what a step laid down.
func (t *stepTree) stratum() *stratum {
	return &stratum{name: t.task.Label, key: t.key, entries: t.all, feed: func(ctx context.Context, entries []tree.Entry) sandbox.Feed {
		return func(put func(int, int64, io.Reader) error) error {
			var paths []string
			for i := range entries {
				if entries[i].Kind == tree.File {
					paths = append(paths, entries[i].Path)
				}
			}
			if err := t.prepare(ctx, paths); err != nil {
				return err
			}
			for i := range entries {
				if entries[i].Kind != tree.File {
					continue
				}
				if err := putFile(put, i, t, entries[i].Path); err != nil {
					return err
				}
			}
			return nil
		}
	}}
}

func putFile(put func(int, int64, io.Reader) error, i int, from tree.Contents, at string) error {
	f, err := from.Open(at)
	if err != nil {
		return err
	}
	err = put(i, -1, f)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	return err
}

// strata gives the layers of a base, lowest first.
func (one *base) stratify() []*stratum {
	view := tree.NewView()
	var all []*stratum
	for i, c := range one.contents {
		// The base was applied layer by layer before, so this cannot fail.
		_ = view.Apply(c.entries, c)
		entries, borrowed := complete(c, view)
		if slices.ContainsFunc(c.entries, func(e tree.Entry) bool { return e.Kind == tree.Opaque && e.Path == "" }) {
			all = nil // it hides everything below, and an overlay takes no note of such a mark
		}
		all = append(all, &stratum{
			name: fmt.Sprintf("layer %d of %s", i+1, one.resolved.Name), key: layer.KeyOf(entries), packed: c,
			entries: func(context.Context) ([]tree.Entry, error) { return entries, nil },
			feed: func(ctx context.Context, entries []tree.Entry) sandbox.Feed {
				return c.feed(ctx, entries, borrowed)
			},
		})
	}
	return all
}

// complete gives a foreign layer's entries as they can be laid down in a folder that lies in an overlay: with every folder
// on the way, which has what the view shows, without what the layer itself replaces, and with the files that are hard
// links to lower layers. These are told by path.
func complete(c *packedContents, after *tree.View) (entries []tree.Entry, borrowed map[string]*tree.Node) {
	if isComplete(c.entries) {
		return c.entries, nil
	}
	plain, hides, borrowed := sift(c.entries, after)
	own := tree.NewView()
	if own.Apply(plain, c) != nil {
		return nil, nil // the view could not have been made either
	}
	add := map[string]tree.Entry{}
	addFolders := func(p string) bool {
		for above := tree.Parent(p); above != ""; above = tree.Parent(above) {
			if _, known := add[above]; !known {
				n, exists := after.Lookup(above)
				if !exists || n.Kind != tree.Folder {
					return false
				}
				add[above] = bare(n)
			}
		}
		return true
	}
	twins := map[string]string{} // path in the layer → first name
	own.Each(func(n *tree.Node) {
		if n.From == nil { // nobody's, but on the way to something
			// The root is a folder anyway; without it our own layers have the keys of the steps that made them.
			if shown, exists := after.Lookup(n.Path); exists && n.Path != "" {
				add[n.Path] = bare(shown)
			}
			return
		}
		e := n.Entry
		if n.Linked && borrowed[n.Path] == nil {
			if first, twin := twins[n.At]; twin {
				e = tree.Entry{Path: e.Path, Kind: tree.Hardlink, Mode: e.Mode, UID: e.UID, GID: e.GID, Target: first, Time: e.Time}
			} else {
				twins[n.At] = e.Path
			}
		}
		add[n.Path] = e
	})
	for _, h := range hides {
		in, replaced := add[h.Path]
		switch {
		case h.Path == "":
		case replaced && in.Kind != tree.Folder, !addFolders(h.Path):
		case replaced || h.Kind == tree.Opaque:
			if n, exists := after.Lookup(h.Path); exists && n.Kind == tree.Folder {
				add[h.Path] = bare(n)
				add[h.Path+"\x00"] = tree.Entry{Path: h.Path, Kind: tree.Opaque}
			}
		default:
			add[h.Path] = h
		}
	}
	for _, e := range add {
		entries = append(entries, e)
	}
	slices.SortFunc(entries, func(a, b tree.Entry) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		return int(a.Kind) - int(b.Kind) // a folder comes before what makes it opaque
	})
	return entries, borrowed
}

// sift parts a layer's entries into what it holds and what it hides. Hard links to lower layers become files, borrowed
// from what the view shows at their paths.
func sift(entries []tree.Entry, after *tree.View) (plain, hides []tree.Entry, borrowed map[string]*tree.Node) {
	borrowed = map[string]*tree.Node{}
	present := map[string]bool{}
	for _, e := range entries {
		switch e.Kind {
		case tree.Whiteout, tree.Opaque:
			hides = append(hides, e)
			continue
		case tree.Hardlink:
			plain = append(plain, e)
		default:
			present[e.Path] = true
			plain = append(plain, e)
		}
	}
	plain = slices.DeleteFunc(plain, func(e tree.Entry) bool {
		if e.Kind != tree.Hardlink || present[e.Target] {
			return false
		}
		if n, exists := after.Lookup(e.Path); exists {
			borrowed[e.Path] = n
		}
		return true
	})
	for _, n := range borrowed {
		e := n.Entry
		plain = append(plain, e)
	}
	return plain, hides, borrowed
}

// isComplete tells whether there is nothing to do, as with layers that hold files, folders and links, each in its folder.
func isComplete(entries []tree.Entry) bool {
	folders := map[string]bool{"": true}
	for i := range entries {
		switch e := &entries[i]; {
		case !folders[tree.Parent(e.Path)]:
			return false
		case e.Kind == tree.Folder:
			folders[e.Path] = true
		case e.Kind != tree.File && e.Kind != tree.Symlink:
			return false
		}
	}
	return true
}

// bare is a folder's entry.
func bare(n *tree.Node) tree.Entry {
	return tree.Entry{Path: n.Path, Kind: tree.Folder, Mode: n.Mode, UID: n.UID, GID: n.GID, Xattrs: n.Xattrs, Time: n.Time}
}

// feed gives the files of a layer in the order of its archive, and what is borrowed from below.
func (l *packedContents) feed(ctx context.Context, entries []tree.Entry, borrowed map[string]*tree.Node) sandbox.Feed {
	return func(put func(int, int64, io.Reader) error) error {
		at := map[string]int{}
		for i := range entries {
			if entries[i].Kind == tree.File {
				at[entries[i].Path] = i
			}
		}
		for p, n := range borrowed {
			if n.Kind != tree.File {
				continue
			}
			if from, needs := n.From.(preparer); needs {
				if err := from.prepare(ctx, []string{n.At}); err != nil {
					return err
				}
			}
			if err := putFile(put, at[p], n.From, n.At); err != nil {
				return err
			}
			delete(at, p)
		}
		blob, err := l.blob(ctx)
		if err != nil {
			return err
		}
		defer blob.Close()
		plain, err := layer.Decompress(digest.WithContext(ctx, blob))
		if err != nil {
			return err
		}
		defer plain.Close()
		return layer.Walk(plain, func(e *tree.Entry, body io.Reader) error {
			if i, wanted := at[e.Path]; wanted && e.Kind == tree.File {
				return put(i, e.Size, body)
			}
			return nil
		})
	}
}

// snapshotContents gives files of an unpacked tree, and notices those that were changed there.
type snapshotContents struct {
	box      *sandbox.Box
	dir      string
	contents map[string]digest.Content
}

func contentsIn(box *sandbox.Box, dir string, entries []tree.Entry) *snapshotContents {
	s := &snapshotContents{box, dir, map[string]digest.Content{}}
	for i := range entries {
		if entries[i].Kind == tree.File {
			s.contents[entries[i].Path] = entries[i].Content
		}
	}
	return s
}

// Open opens a file by its path in the tree.
func (s *snapshotContents) Open(p string) (io.ReadCloser, error) {
	f, err := s.box.OpenFile(filepath.Join(s.dir, filepath.FromSlash(p)))
	if err != nil {
		return nil, fmt.Errorf("reading an unpacked tree: %w", err)
	}
	return &checkedFile{f, digest.NewContent(), s.contents[p], p}, nil
}

// checkedFile tells at its end whether it has the contents that it is to have.
type checkedFile struct {
	io.ReadCloser
	sum  hash.Hash
	want digest.Content
	path string
}

func (c *checkedFile) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.sum.Write(p[:n])
	return n, err
}

// Close closes the file. One that was not read to its end is read now.
func (c *checkedFile) Close() error {
	_, err := io.Copy(c.sum, c.ReadCloser)
	if err == nil && digest.ContentOf(c.sum) != c.want {
		err = fmt.Errorf("/%s of an unpacked tree was changed: %w; `imbricat store check --repair` removes the tree", c.path, digest.ErrMismatch)
	}
	return errors.Join(err, c.ReadCloser.Close())
}

// workFolder makes a folder for one command, and gives what removes it.
func (b *builder) workFolder() (string, func(), error) {
	work, err := b.o.Store.TemporaryFolder()
	return work, func() { _ = b.o.Store.Discard(work) }, err
}
