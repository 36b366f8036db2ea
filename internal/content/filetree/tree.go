// Package filetree holds what steps lay down and what layers hold: trees of entries that never change, and where the bytes of
// their files are. It writes to nothing but temporary folders that it is given.
package filetree

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/once"
)

// Place is where a file's bytes are: among some contents, under a path there.
type Place struct {
	From tree.Contents
	At   string
}

// Preparer is a tree.Contents that must be told, before its files are opened, which ones will be.
type Preparer interface {
	Prepare(ctx context.Context, paths []string) error
}

// Prepare tells contents which of their files will be opened, where they need to know.
func Prepare(ctx context.Context, from tree.Contents, paths ...string) error {
	if p, needs := from.(Preparer); needs {
		return p.Prepare(ctx, paths)
	}
	return nil
}

// Summary is what is known of a tree without its entries.
type Summary struct {
	Key   digest.Key // everything that decides the tar, and nothing else
	Files int
	Bytes int64 // of the files
	Empty bool
}

// Summarize tells of entries that are sorted by path.
func Summarize(entries []tree.Entry) Summary {
	s := Summary{Key: layer.KeyOf(entries), Empty: len(entries) == 0}
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File {
			s.Files++
			s.Bytes += e.Size
		}
	}
	return s
}

// Tree is what a step lays down: the entries of its layer, parents included, and where files' bytes are. Of a tree that was
// remembered the entries are read when somebody looks at them, and files are found when somebody opens them.
type Tree struct {
	Summary
	entries *once.Value[[]tree.Entry] // sorted by path
	places  *once.Value[map[string]Place]
}

// New makes a tree of entries, which it sorts by path, and of the places of the files among them.
func New(entries []tree.Entry, places map[string]Place) *Tree {
	byPath := func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) }
	if !slices.IsSortedFunc(entries, byPath) {
		slices.SortFunc(entries, byPath)
	}
	return &Tree{Summarize(entries), once.Known(entries), once.Known(places)}
}

// Of makes a tree of entries whose files all lie in one place under their own paths.
func Of(entries []tree.Entry, from tree.Contents) *Tree {
	return New(entries, PlacesIn(entries, from))
}

// PlacesIn returns the places of files that lie under their own paths.
func PlacesIn(entries []tree.Entry, from tree.Contents) map[string]Place {
	places := map[string]Place{}
	for i := range entries {
		if entries[i].Kind == tree.File {
			places[entries[i].Path] = Place{from, entries[i].Path}
		}
	}
	return places
}

// Recalled makes a tree whose entries and places are found when they are needed. Load gives the entries, sorted by path.
func Recalled(s Summary, load func(ctx context.Context) ([]tree.Entry, error), locate func(ctx context.Context, entries []tree.Entry) (map[string]Place, error)) *Tree {
	t := &Tree{Summary: s, entries: once.NewValue(load)}
	t.places = once.NewValue(func(ctx context.Context) (map[string]Place, error) {
		entries, err := t.entries.Get(ctx)
		if err != nil {
			return nil, err
		}
		return locate(ctx, entries)
	})
	return t
}

// Later makes a tree of which a summary is known, and all else when somebody looks. What comes then must be that tree.
func Later(s Summary, make func(ctx context.Context) (*Tree, error)) *Tree {
	made := once.NewValue(func(ctx context.Context) (*Tree, error) {
		t, err := make(ctx)
		if err == nil && t.Key != s.Key {
			err = fmt.Errorf("the tree %s was to be made again, and it became %s: %w", s.Key, t.Key, digest.ErrMismatch)
		}
		return t, err
	})
	return Recalled(s, func(ctx context.Context) ([]tree.Entry, error) {
		t, err := made.Get(ctx)
		if err != nil {
			return nil, err
		}
		return t.Entries(ctx)
	}, func(ctx context.Context, _ []tree.Entry) (map[string]Place, error) {
		t, err := made.Get(ctx)
		if err != nil {
			return nil, err
		}
		return t.places.Get(ctx)
	})
}

// Entries returns the entries, sorted by path. They are not to be changed.
func (t *Tree) Entries(ctx context.Context) ([]tree.Entry, error) { return t.entries.Get(ctx) }

// Place tells where the bytes of a file are, by its path in the tree; the zero value is of what is no file.
func (t *Tree) Place(ctx context.Context, p string) (Place, error) {
	places, err := t.places.Get(ctx)
	return places[p], err
}

// Open returns a file by its path in the tree. It must have been prepared.
func (t *Tree) Open(p string) (io.ReadCloser, error) {
	places, err := t.places.Get(context.Background())
	if err != nil {
		return nil, err
	}
	where, known := places[p]
	if !known {
		return nil, fmt.Errorf("the step lays down no file /%s", p)
	}
	return where.From.Open(where.At)
}

// Prepare tells the origins which of their files will be opened.
func (t *Tree) Prepare(ctx context.Context, paths []string) error {
	places, err := t.places.Get(ctx)
	if err != nil {
		return err
	}
	wanted := map[Preparer][]string{}
	for _, p := range paths {
		if from, needs := places[p].From.(Preparer); needs {
			wanted[from] = append(wanted[from], places[p].At)
		}
	}
	for from, list := range wanted {
		if err := from.Prepare(ctx, list); err != nil {
			return err
		}
	}
	return nil
}

// Put lays down the file of the entry of some number; size may be -1 where it is as the entry says.
type Put = func(i int, size int64, body io.Reader) error

// Feed puts the files of entries, each once, in an order that suits whoever gives them.
type Feed = func(put Put) error

// Feed returns the files of some of the tree's entries.
func (t *Tree) Feed(ctx context.Context, entries []tree.Entry) Feed {
	return func(put Put) error {
		var paths []string
		for i := range entries {
			if entries[i].Kind == tree.File {
				paths = append(paths, entries[i].Path)
			}
		}
		if err := t.Prepare(ctx, paths); err != nil {
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
}

func putFile(put Put, i int, from tree.Contents, at string) error {
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

// Memory gives a file's bytes from memory.
type Memory string

// Open returns the text, whatever the path.
func (m Memory) Open(string) (io.ReadCloser, error) {
	return io.NopCloser(strings.NewReader(string(m))), nil
}

// KeyOfText names a text.
func KeyOfText(text string) digest.Key { return digest.Key(digest.ContentBytes([]byte(text))) }
