package filetree

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Stratum is a tree as it lies in a folder below a command's view: a layer of a base, or what a step laid down. Every folder
// on the way to something is among its entries.
type Stratum interface {
	// Title is for messages.
	Title() string
	ID() digest.Key
	// Entries returns the entries, sorted by path. They are not to be changed.
	Entries(ctx context.Context) ([]tree.Entry, error)
	// Feed returns the files of the entries, or of some of them: those that are given.
	Feed(ctx context.Context, entries []tree.Entry) Feed
	// Offer tells of contents that have the files under their own paths.
	Offer(from tree.Contents)
}

// stepStratum is what a step laid down.
type stepStratum struct {
	*Tree
	title string
}

// StratumOf returns a tree as a stratum.
func StratumOf(t *Tree, title string) Stratum { return stepStratum{t, title} }

func (s stepStratum) Title() string       { return s.title }
func (s stepStratum) ID() digest.Key      { return s.Key }
func (s stepStratum) Offer(tree.Contents) {}

// layerStratum is a layer of an image, with what it lacks on its own.
type layerStratum struct {
	*Archive
	title    string
	key      digest.Key
	entries  []tree.Entry
	borrowed map[string]*tree.Node
}

func (s *layerStratum) Title() string  { return s.title }
func (s *layerStratum) ID() digest.Key { return s.key }
func (s *layerStratum) Entries(context.Context) ([]tree.Entry, error) {
	return s.entries, nil
}
func (s *layerStratum) Feed(ctx context.Context, entries []tree.Entry) Feed {
	return s.feed(ctx, entries, s.borrowed)
}

// Stratify returns the layers of an image as strata, lowest first. The image is known to be one: its layers can be applied.
func Stratify(name string, layers []*Archive) (all []Stratum) {
	view := tree.NewView()
	for i, c := range layers {
		_ = view.Apply(c.Entries, c)
		entries, borrowed := complete(c, view)
		if slices.ContainsFunc(c.Entries, func(e tree.Entry) bool { return e.Kind == tree.Opaque && e.Path == "" }) {
			all = nil // it hides everything below, and an overlay takes no note of such a mark
		}
		all = append(all, &layerStratum{Archive: c, title: fmt.Sprintf("layer %d of %s", i+1, name), key: layer.KeyOf(entries), entries: entries, borrowed: borrowed})
	}
	return all
}

// Whole returns a view as one tree: its entries, sorted by path, and their files.
func Whole(ctx context.Context, view *tree.View) ([]tree.Entry, Feed) {
	type one struct {
		entry tree.Entry
		node  *tree.Node
	}
	var all []one
	view.Each(func(n *tree.Node) { all = append(all, one{n.Entry, n}) })
	slices.SortFunc(all, func(a, b one) int { return strings.Compare(a.entry.Path, b.entry.Path) })
	entries := make([]tree.Entry, len(all))
	for i := range all {
		entries[i] = all[i].entry
	}
	return entries, func(put Put) error {
		wanted := map[Preparer][]string{}
		for _, one := range all {
			if p, needs := one.node.From.(Preparer); needs && one.entry.Kind == tree.File {
				wanted[p] = append(wanted[p], one.node.At)
			}
		}
		for p, paths := range wanted {
			if err := p.Prepare(ctx, paths); err != nil {
				return err
			}
		}
		for i, one := range all {
			if one.entry.Kind != tree.File {
				continue
			}
			if err := putFile(put, i, one.node.From, one.node.At); err != nil {
				return err
			}
		}
		return nil
	}
}

// complete returns a foreign layer's entries as they can be laid down in a folder that lies in an overlay: with every folder
// on the way, which has what the view shows, without what the layer itself replaces, and with the files that are hard
// links to lower layers. These are told by path.
func complete(c *Archive, after *tree.View) (entries []tree.Entry, borrowed map[string]*tree.Node) {
	if isComplete(c.Entries) {
		return c.Entries, nil
	}
	plain, hides, borrowed := sift(c.Entries, after)
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
				add[above] = Bare(n)
			}
		}
		return true
	}
	twins := map[string]string{} // path in the layer → first name
	own.Each(func(n *tree.Node) {
		if n.From == nil { // nobody's, but on the way to something
			// The root is a folder anyway; without it our own layers have the keys of the steps that made them.
			if shown, exists := after.Lookup(n.Path); exists && n.Path != "" {
				add[n.Path] = Bare(shown)
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
				add[h.Path] = Bare(n)
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

// isComplete reports whether there is nothing to do, as with layers that hold files, folders and links, each in its folder.
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

// Bare is a folder's entry.
func Bare(n *tree.Node) tree.Entry {
	return tree.Entry{Path: n.Path, Kind: tree.Folder, Mode: n.Mode, UID: n.UID, GID: n.GID, Xattrs: n.Xattrs, Time: n.Time}
}
