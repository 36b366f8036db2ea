package workbench

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"

	"imbricat/internal/flow"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/files"
	"imbricat/internal/spec/recipe"
)

// TakeIn copies files of the machine into the workbench, for the act that comes next, and returns how its recipe names them. What lies
// in the folder here keeps its path there; anything else has its name alone. Of a whole folder neither the workbenches' own store nor
// what steps never take unless it is named is taken. special are sockets, pipes and devices, which are left out.
func (b *Bench) TakeIn(ctx context.Context, here string, paths []string, store string) (from, special []string, err error) {
	if here, err = filepath.Abs(here); err != nil {
		return nil, nil, err
	}
	own, err := os.Stat(store)
	if err != nil {
		return nil, nil, err
	}
	c := &copying{to: filepath.Join(b.dir, "files", strconv.Itoa(b.Next)), here: here, store: own, goOn: ctx.Err, linked: map[[2]uint64]string{}}
	if err := os.RemoveAll(c.to); err != nil { // of a process that was killed
		return nil, nil, err
	}
	for _, one := range paths {
		whole := one
		if !filepath.IsAbs(whole) {
			whole = filepath.Join(here, one)
		}
		at, err := filepath.Rel(here, whole)
		if err != nil || !filepath.IsLocal(at) {
			at = filepath.Base(whole)
		}
		if slices.Contains(from, filepath.ToSlash(at)) {
			return nil, nil, flow.Usagef("%s comes twice, or two of the files that are named have one name", one)
		}
		info, err := os.Stat(whole)
		if err != nil {
			return nil, nil, flow.WrongUse(err)
		}
		if _, inside := workspace.Inside(store, whole); inside || os.SameFile(info, own) {
			return nil, nil, flow.Usagef("%s is a part of the store, which no image takes in", one)
		}
		if info.IsDir() { // also through a link
			if whole, err = filepath.EvalSymlinks(whole); err != nil {
				return nil, nil, err
			}
		}
		if err := os.MkdirAll(filepath.Join(c.to, filepath.Dir(at)), 0o755); err != nil {
			return nil, nil, err
		}
		if err := c.all(whole, filepath.Join(c.to, at)); err != nil {
			return nil, nil, err
		}
		from = append(from, filepath.ToSlash(at))
	}
	return from, c.special, nil
}

// copying is files on their way into a workbench.
type copying struct {
	to, here string
	store    fs.FileInfo // that no copy takes in
	goOn     func() error
	linked   map[[2]uint64]string // where files with several names are already
	special  []string
}

// all copies a file, or a folder with all in it. Folders get their modes when they are full.
func (c *copying) all(from, to string) error {
	type made struct {
		path string
		mode fs.FileMode
	}
	var folders []made
	err := filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err = errors.Join(err, c.goOn()); err != nil {
			return err
		}
		below, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		at := filepath.Join(to, below)
		switch {
		case below != "." && c.leavesOut(path, info):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		case d.IsDir():
			folders = append(folders, made{at, info.Mode().Perm()})
			return os.MkdirAll(at, 0o700)
		case info.Mode().IsRegular():
			return c.file(path, at, info)
		case info.Mode()&fs.ModeSymlink != 0:
			target, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(target, at)
		}
		c.special = append(c.special, path)
		return nil
	})
	for _, one := range slices.Backward(folders) {
		err = errors.Join(err, os.Chmod(one.path, one.mode|0o700)) // so that this user can read and remove them
	}
	return err
}

// leavesOut reports whether what lies in a folder that is copied is no part of it.
func (c *copying) leavesOut(path string, info fs.FileInfo) bool {
	if os.SameFile(info, c.store) || info.Name() == ".git" {
		return true
	}
	return filepath.Dir(path) == c.here && (info.Name() == recipe.DefaultName || info.Name() == recipe.LockName)
}

func (c *copying) file(from, to string, info fs.FileInfo) (err error) {
	id := files.LinkID(info)
	if earlier, known := c.linked[id]; known && id != [2]uint64{} {
		return os.Link(earlier, to)
	}
	c.linked[id] = to
	in, err := files.OpenRegular(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, out.Close()) }()
	if _, err := io.Copy(out, in); err != nil {
		return fmt.Errorf("copying %s: %w", from, err)
	}
	// Also the bits that a copy keeps only where the step says so.
	return out.Chmod(info.Mode() & (fs.ModePerm | fs.ModeSetuid | fs.ModeSetgid | fs.ModeSticky))
}
