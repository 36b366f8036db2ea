package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
)

// KeptSuffix ends the names of files that hold a kept directory each.
const KeptSuffix = ".tar.zst"

// fillsSuffix ends the names of the files beside these that tell what filled the directories.
const fillsSuffix = ".fills.json"

// KeptSize adds up the files of a kept directory, in bytes.
func KeptSize(box *sandbox.Box, k store.KeptDir) (files int, bytes int64, err error) {
	found, err := box.Read(k.Dir, true)
	for i := range found {
		if found[i].Kind == tree.File {
			files++
			bytes += found[i].Size
		}
	}
	return files, bytes, err
}

// KeptBusy says that a step has a kept directory now.
func KeptBusy(name string) error {
	return fmt.Errorf("a step has the kept directory %s now; try again when it is done", name)
}

// ExportKept writes a kept directory as a file into a folder: a tar with its times, packed.
func ExportKept(ctx context.Context, s *store.Store, box *sandbox.Box, name, folder string) (err error) {
	k, lock, err := s.Kept(box.Owners(), name)
	if err != nil {
		return err
	}
	if free, err := lock.TryLock(); err != nil || !free {
		return errors.Join(err, KeptBusy(name))
	}
	defer lock.Close()
	found, err := box.Read(k.Dir, true)
	if err != nil {
		return err
	}
	var entries []tree.Entry
	for _, f := range found {
		if f.Path != "" {
			entries = append(entries, f.Entry)
		}
	}
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	out, err := os.CreateTemp(folder, ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	from := contentsIn(box, k.Dir, entries)
	if _, err := layer.Pack(ctx, out, entries, func(e *tree.Entry) (io.ReadCloser, error) { return from.Open(e.Path) }, layer.Options{Compression: layer.Zstd}); err != nil {
		return fmt.Errorf("the kept directory %s: %w", name, err)
	}
	if err := errors.Join(out.Chmod(0o644), out.Sync(), out.Close()); err != nil {
		return err
	}
	// What filled it goes last: without that it is filled again, and that of an older directory would be wrong.
	fills := filepath.Join(folder, name+fillsSuffix)
	if err := os.RemoveAll(fills); err != nil {
		return err
	}
	if err := os.Rename(out.Name(), filepath.Join(folder, name+KeptSuffix)); err != nil {
		return err
	}
	return s.ExportFills(k, fills)
}

// ImportKept makes a kept directory of such a file, in place of the one there is.
func ImportKept(ctx context.Context, s *store.Store, box *sandbox.Box, file string) error {
	name := strings.TrimSuffix(filepath.Base(file), KeptSuffix)
	k, lock, err := s.Kept(box.Owners(), name)
	if err != nil {
		return err
	}
	if free, err := lock.TryLock(); err != nil || !free {
		return errors.Join(err, KeptBusy(name))
	}
	defer lock.Close()
	entries := []tree.Entry{{Kind: tree.Folder, Mode: 0o755}}
	sum := digest.NewContent()
	err = walkFile(ctx, file, func(e *tree.Entry, body io.Reader) error {
		if e.Kind == tree.Whiteout || e.Kind == tree.Opaque || e.Path == "" {
			return fmt.Errorf("%w: it holds a deletion", layer.ErrMalformed)
		}
		if e.Kind == tree.File {
			sum.Reset()
			if _, err := io.Copy(sum, body); err != nil {
				return err
			}
			e.Content = digest.ContentOf(sum)
		}
		entries = append(entries, *e)
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading %s: %w", file, err)
	}
	slices.SortStableFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	at := map[string]int{}
	for i := range entries {
		if _, twice := at[entries[i].Path]; twice {
			return fmt.Errorf("reading %s: %w: /%s stands twice", file, layer.ErrMalformed, entries[i].Path)
		}
		at[entries[i].Path] = i
	}
	work, err := s.TemporaryFolder()
	if err != nil {
		return err
	}
	defer s.Discard(work)
	next := filepath.Join(work, "data")
	err = box.Lay(ctx, next, entries, func(put filetree.Put) error {
		return walkFile(ctx, file, func(e *tree.Entry, body io.Reader) error {
			if e.Kind != tree.File {
				return nil
			}
			return put(at[e.Path], -1, body)
		})
	})
	if err != nil {
		return fmt.Errorf("unpacking %s: %w", file, err)
	}
	// What is said of its content is never that of another: until it is there, nothing is said.
	return s.ImportFills(k, strings.TrimSuffix(file, KeptSuffix)+fillsSuffix, func() error {
		if err := box.Exchange(next, k.Dir); err != nil {
			return fmt.Errorf("writing to the store: %w", err)
		}
		return nil
	})
}

func walkFile(ctx context.Context, name string, visit func(e *tree.Entry, body io.Reader) error) error {
	if info, err := os.Stat(name); err == nil && !info.Mode().IsRegular() {
		return errors.New("it is not a file") // opening a pipe would wait for ever
	}
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	plain, err := layer.Decompress(digest.WithContext(ctx, f))
	if err != nil {
		return err
	}
	defer plain.Close()
	return layer.WalkTimed(plain, visit)
}
