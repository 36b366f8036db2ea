package workbench

import (
	"context"
	"maps"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
)

// Change is a path that a workbench changed. Before or After is nil where it is not there.
type Change struct {
	Path          string // absolute
	Before, After *tree.Node
}

// Changes tells how what the workbench shows differs from its base, by path.
func (m *Maker) Changes(ctx context.Context, b *Bench) (all []Change, err error) {
	now, _, err := m.Current(ctx, b)
	if err != nil {
		return nil, err
	}
	p, err := platform.Parse(b.Platform)
	if err != nil {
		return nil, err
	}
	w, err := m.workspace(b)
	if err != nil {
		return nil, err
	}
	held, err := w.Lock()
	if err != nil {
		return nil, err
	}
	finder, err := w.Bases(held, m.Sink)
	if err != nil {
		return nil, err
	}
	scratch := filetree.NewScratch(m.Store.TemporaryFolder)
	defer scratch.Close()
	library := baseimage.NewLibrary(ctx, m.Store, scratch)
	view := func(ref reference.Reference) (*tree.View, error) {
		found, err := finder.Resolve(ctx, ref, p)
		if err != nil {
			return nil, err
		}
		loaded, err := library.Load(ctx, found, nil)
		if err != nil {
			return nil, err
		}
		return loaded.View, nil
	}
	before := tree.NewView()
	if b.Base != "none" {
		ref, err := reference.Parse(b.Base)
		if err == nil {
			before, err = view(ref)
		}
		if err != nil {
			return nil, err
		}
	}
	after, err := view(reference.Reference{Kind: reference.Store, Digest: now.Digest})
	if err != nil {
		return nil, err
	}
	return difference(before, after), nil
}

// difference tells how two views differ.
func difference(before, after *tree.View) (all []Change) {
	before.Each(func(was *tree.Node) {
		if _, has := after.Lookup(was.Path); !has {
			all = append(all, Change{Path: "/" + was.Path, Before: was})
		}
	})
	after.Each(func(is *tree.Node) {
		if was, had := before.Lookup(is.Path); !had {
			all = append(all, Change{Path: "/" + is.Path, After: is})
		} else if !same(was, is) {
			all = append(all, Change{Path: "/" + is.Path, Before: was, After: is})
		}
	})
	slices.SortFunc(all, func(a, b Change) int { return strings.Compare(a.Path, b.Path) })
	return all
}

// same reports whether a path is as it was, its time apart.
func same(a, b *tree.Node) bool {
	return a.Kind == b.Kind && a.Mode == b.Mode && a.UID == b.UID && a.GID == b.GID && a.Size == b.Size && a.Content == b.Content && a.Target == b.Target &&
		maps.Equal(a.Xattrs, b.Xattrs)
}
