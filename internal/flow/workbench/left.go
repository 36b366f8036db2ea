package workbench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
)

// Keep makes an act of what a command left in a view, and writes its files into the workbench for the act that comes next; by tells
// people whose they are. It is nil where nothing was left. dropped are paths that no recipe can lay down.
func (b *Bench) Keep(ctx context.Context, by string, view *tree.View, entries []tree.Entry, from tree.Contents) (act *Left, dropped []string, err error) {
	act = &Left{By: by}
	gone := removed(view, entries)
	for _, p := range slices.Sorted(maps.Keys(gone)) {
		if !lies(gone, tree.Parent(p)) {
			act.Removed = append(act.Removed, "/"+p)
		}
	}
	var packed []tree.Entry
	for i := range entries {
		e := &entries[i]
		was, had := view.Lookup(e.Path)
		switch e.Kind {
		case tree.Whiteout, tree.Opaque:
		case tree.CharDevice, tree.BlockDevice, tree.Fifo:
			dropped = append(dropped, "/"+e.Path)
		case tree.Folder:
			switch {
			case e.Path == "":
			case !had || lies(gone, e.Path):
				packed = append(packed, *e)
			case was.Mode != e.Mode || was.UID != e.UID || was.GID != e.GID:
				act.Folders = append(act.Folders, Folder{"/" + e.Path, fmt.Sprintf("%d:%d", e.UID, e.GID), fmt.Sprintf("%04o", e.Mode)})
			}
		default:
			packed = append(packed, *e)
		}
	}
	if len(packed) > 0 {
		act.Archive = fmt.Sprintf("left-%d.tar", b.Next)
		if err := b.pack(ctx, act.Archive, packed, from); err != nil {
			return nil, nil, err
		}
	}
	if len(act.Removed) == 0 && len(act.Folders) == 0 && act.Archive == "" {
		return nil, dropped, nil
	}
	return act, dropped, nil
}

// pack writes an archive of the act that comes next.
func (b *Bench) pack(ctx context.Context, name string, entries []tree.Entry, from tree.Contents) (err error) {
	dir := filepath.Join(b.dir, "files", strconv.Itoa(b.Next))
	if err := errors.Join(os.RemoveAll(dir), os.MkdirAll(dir, 0o700)); err != nil {
		return err
	}
	out, err := os.OpenFile(filepath.Join(dir, name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	_, err = layer.Pack(ctx, out, entries, func(e *tree.Entry) (io.ReadCloser, error) { return from.Open(e.Path) }, layer.Options{Compression: layer.None})
	return errors.Join(err, out.Sync())
}

// removed are the paths of a view that go: those that were deleted, folders that were emptied, and what became something else.
func removed(view *tree.View, entries []tree.Entry) map[string]bool {
	gone := map[string]bool{}
	for i := range entries {
		e := &entries[i]
		was, had := view.Lookup(e.Path)
		if had && e.Path != "" && (e.Kind == tree.Whiteout || e.Kind == tree.Opaque || (was.Kind == tree.Folder) != (e.Kind == tree.Folder)) {
			gone[e.Path] = true
		}
	}
	return gone
}

// lies reports whether a path, or a folder that it lies in, is among some.
func lies(among map[string]bool, p string) bool {
	for ; p != ""; p = tree.Parent(p) {
		if among[p] {
			return true
		}
	}
	return false
}
