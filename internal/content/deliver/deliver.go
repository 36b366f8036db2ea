// Package deliver writes a tree's files into a folder of this machine, for people and scripts that want the files and no image.
// What is there and equal it leaves alone, and what it has no part in too. It never writes outside of the folder, whatever links
// lie in it.
package deliver

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
)

// Report is what was delivered.
type Report struct {
	Files     int   // and links
	Bytes     int64 // of the files
	Written   int   // files and links that were not there, or were others
	Unchanged int   // that were there already
}

// Into writes the files of a tree into a folder, which it makes where it is missing. Files belong to whoever runs this and have the
// permissions that the tree gives them, without set-uid, set-gid and sticky bits; folders that are new may be used by their owner.
// Each file is written beside its place and renamed; a crash of the machine may leave one that is cut short, which the next delivery
// replaces, since it compares what files hold.
func Into(ctx context.Context, dir string, t *filetree.Tree) (*Report, error) {
	entries, err := t.Entries(ctx)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	d := &delivery{root: root, dir: dir, entries: entries, wanted: make([]bool, len(entries))}
	defer d.leave()
	for i := range entries {
		if err := d.place(&entries[i], i); err != nil {
			return nil, d.problem(&entries[i], err)
		}
	}
	var missing []tree.Entry
	var at []int
	for i, wanted := range d.wanted {
		if wanted {
			missing, at = append(missing, entries[i]), append(at, i)
		}
	}
	err = t.Feed(ctx, missing)(func(i int, _ int64, body io.Reader) error {
		e := &entries[at[i]]
		return d.problem(e, d.write(e, digest.WithContext(ctx, body)))
	})
	if err != nil {
		return nil, err
	}
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.Hardlink {
			if err := d.link(e); err != nil {
				return nil, d.problem(e, err)
			}
		}
	}
	return &d.made, d.finish()
}

// delivery is one delivery under way.
type delivery struct {
	root    *os.Root
	dir     string
	parent  string   // the folder that was used last
	within  *os.Root // that folder; nil: none was used yet
	entries []tree.Entry
	wanted  []bool        // by the numbers of entries: files that are to be written
	folders []*tree.Entry // that are new, parents first
	made    Report
}

// folder returns the folder in which a path lies, and the name there. Entries come in the order of their paths, so that it is mostly
// the one that was used last: ways down are walked once for all that lies there.
func (d *delivery) folder(p string) (*os.Root, string, error) {
	above, name := path.Split(p)
	if above = path.Clean(above); above == "." {
		return d.root, name, nil
	}
	if d.within == nil || d.parent != above {
		within, err := d.root.OpenRoot(filepath.FromSlash(above))
		if err != nil {
			return nil, "", err
		}
		d.leave()
		d.parent, d.within = above, within
	}
	return d.within, name, nil
}

// leave ends the use of the folder that was used last.
func (d *delivery) leave() {
	if d.within != nil {
		d.within.Close()
		d.within = nil
	}
}

// problem says at which place of the folder something went wrong.
func (d *delivery) problem(e *tree.Entry, err error) error {
	if err == nil {
		return nil
	}
	err = files.Outside(err)
	var at *fs.PathError
	var of *os.LinkError
	switch {
	case errors.As(err, &at) && (strings.HasSuffix(at.Op, "at") || strings.Contains(at.Path, temporary)):
		err = at.Err // what is known of the place is less than its name
	case errors.As(err, &of):
		err = of.Err
	}
	return fmt.Errorf("%s: %w", d.name(e), err)
}

// temporary is in the names of files that are being written.
const temporary = ".imbricat-"

// place finds out what is at an entry's place. Folders and links are made; files that are wanted are noted.
func (d *delivery) place(e *tree.Entry, number int) error {
	in, name, err := d.folder(e.Path)
	if err != nil {
		return err
	}
	there, err := in.Lstat(name)
	exists := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if exists && there.IsDir() != (e.Kind == tree.Folder) {
		return fmt.Errorf("it is a %s, and a %s is to lie there: move it away", kindOf(there), e.Kind)
	}
	if e.Kind != tree.Folder {
		d.made.Files++
		d.made.Bytes += e.Size
	}
	switch e.Kind {
	case tree.Folder:
		if exists {
			return nil
		}
		d.folders = append(d.folders, e)
		if err := in.Mkdir(name, 0o700); !errors.Is(err, fs.ErrExist) { // another delivery may make it meanwhile
			return err
		}
		return nil
	case tree.File:
		if exists && holds(in, name, there, e) {
			d.made.Unchanged++
			return chmod(in, name, there, e)
		}
		d.wanted[number] = true
		return nil
	case tree.Symlink:
		if to, err := in.Readlink(name); err == nil && to == e.Target {
			d.made.Unchanged++
			return nil
		}
		return d.renamed(in, name, func(beside string) error { return in.Symlink(e.Target, beside) })
	case tree.Hardlink: // when the file that it is a link to is there
		return nil
	}
	return fmt.Errorf("it would be a %s, which is not written into a folder", e.Kind)
}

// name is what a person calls an entry's place.
func (d *delivery) name(e *tree.Entry) string {
	return filepath.Join(d.dir, filepath.FromSlash(e.Path))
}

func kindOf(info fs.FileInfo) string {
	switch {
	case info.IsDir():
		return "folder"
	case info.Mode().IsRegular():
		return "file"
	}
	return "link or a special file"
}

// holds reports whether a file of the folder holds what an entry has.
func holds(in *os.Root, name string, there fs.FileInfo, e *tree.Entry) bool {
	if !there.Mode().IsRegular() || there.Size() != e.Size {
		return false
	}
	f, err := in.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	sum := digest.NewContent()
	_, err = io.Copy(sum, f)
	return err == nil && digest.ContentOf(sum) == e.Content
}

// mode is the mode that a file or a folder gets.
func mode(e *tree.Entry) fs.FileMode {
	m := fs.FileMode(e.Mode & 0o777)
	if e.Kind == tree.Folder {
		m |= 0o700
	}
	return m
}

func chmod(in *os.Root, name string, there fs.FileInfo, e *tree.Entry) error {
	if there.Mode().Perm() == mode(e) {
		return nil
	}
	return in.Chmod(name, mode(e))
}

// write writes a file.
func (d *delivery) write(e *tree.Entry, body io.Reader) error {
	in, name, err := d.folder(e.Path)
	if err != nil {
		return err
	}
	return d.renamed(in, name, func(beside string) error {
		f, err := in.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		sum := digest.NewContent()
		_, err = io.Copy(io.MultiWriter(f, sum), body)
		if err == nil && digest.ContentOf(sum) != e.Content {
			err = digest.ErrMismatch
		}
		if err == nil {
			err = f.Chmod(mode(e))
		}
		return errors.Join(err, f.Close())
	})
}

// link gives a file another name.
func (d *delivery) link(e *tree.Entry) error {
	name, target := filepath.FromSlash(e.Path), filepath.FromSlash(e.Target)
	there, err := d.root.Lstat(name)
	if of, targetErr := d.root.Lstat(target); err == nil && targetErr == nil && os.SameFile(there, of) {
		d.made.Unchanged++
		return nil
	}
	return d.renamed(d.root, name, func(beside string) error { return d.root.Link(target, beside) })
}

// renamed makes something beside its place and puts it there as one act.
func (d *delivery) renamed(in *os.Root, name string, make func(beside string) error) error {
	beside := fmt.Sprintf("%s%s%08x", name, temporary, rand.Uint32())
	err := make(beside)
	if err == nil {
		err = in.Rename(beside, name)
	}
	if err != nil {
		_ = in.Remove(beside)
		return err
	}
	d.made.Written++
	return nil
}

// finish gives the new folders their modes, the lowest first.
func (d *delivery) finish() error {
	for i := len(d.folders) - 1; i >= 0; i-- {
		e := d.folders[i]
		if err := d.root.Chmod(filepath.FromSlash(e.Path), mode(e)); err != nil {
			return d.problem(e, err)
		}
	}
	return nil
}
