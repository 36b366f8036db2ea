package folder

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Laying trees down in folders, and reading them back, works alike in this process, where that is root, and in a helper
// inside a user namespace.

// maxTree bounds the entries of one tree, in bytes as lines.
const maxTree = 1 << 30

// A tree travels as the length of its entries' lines, the lines, and then any number of files: the entry's index and the
// size, as two 64-bit numbers, and the bytes; an index of EndOfFiles ends it.
const EndOfFiles = ^uint64(0)

// Laying is what lay needs to know besides the entries.
type Laying struct {
	Dir  string // must not exist, or be an empty folder
	Time int64  // of everything whose entry has none, in seconds
	// Missing leaves what is there already as it is.
	Missing bool

	there map[string]fs.FileMode // of the paths that were
}

// Lay makes a tree of what the stream tells. Every folder on the way is an entry, so nothing is created through links.
// Devices are left out: no command may use them.
func (l Laying) Lay(in io.Reader) error {
	r := bufio.NewReaderSize(in, 256<<10)
	length, err := ReadNumber(r)
	if err != nil || length > maxTree {
		return fmt.Errorf("laying down %s: %w", l.Dir, errors.Join(err, ErrTruncated))
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(r, text); err != nil {
		return fmt.Errorf("laying down %s: %w", l.Dir, err)
	}
	entries, err := tree.DecodeEntries(string(text))
	if err != nil {
		return err
	}
	if l.Missing {
		if l.there, err = l.found(entries); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(l.Dir, 0o755); err != nil {
		return err
	}
	if err := l.skeleton(entries); err != nil {
		return err
	}
	if err := l.files(entries, r); err != nil {
		return err
	}
	return l.finish(entries)
}

// found tells which entries' paths are there already.
func (l Laying) found(entries []tree.Entry) (map[string]fs.FileMode, error) {
	there := map[string]fs.FileMode{}
	for i := range entries {
		info, err := os.Lstat(l.at(entries[i].Path))
		switch {
		case err == nil:
			there[entries[i].Path] = info.Mode()
		case !errors.Is(err, fs.ErrNotExist):
			return nil, fmt.Errorf("laying down /%s: %w", entries[i].Path, err)
		}
	}
	return there, nil
}

func ReadNumber(r io.Reader) (uint64, error) {
	var b [8]byte
	_, err := io.ReadFull(r, b[:])
	return binary.LittleEndian.Uint64(b[:]), err
}

func (l Laying) at(p string) string { return filepath.Join(l.Dir, p) }

// skeleton makes all but files and hard links. Folders are open to us until the end.
func (l Laying) skeleton(entries []tree.Entry) error {
	folders := map[string]bool{"": true}
	for i := range entries {
		e := &entries[i]
		if clean, err := tree.CleanPath(e.Path); err != nil || clean != e.Path {
			return fmt.Errorf("%q is no path of a tree", e.Path)
		}
		if !folders[tree.Parent(e.Path)] {
			return fmt.Errorf("/%s lies in no folder of its tree", e.Path)
		}
		if mode, there := l.there[e.Path]; there {
			folders[e.Path] = mode.IsDir()
			continue
		}
		var err error
		switch name := l.at(e.Path); e.Kind {
		case tree.Folder:
			folders[e.Path] = true
			if e.Path != "" {
				if err = os.Mkdir(name, 0o700); errors.Is(err, fs.ErrExist) {
					if info, statErr := os.Lstat(name); statErr == nil && info.IsDir() {
						err = nil
					}
				}
			}
		case tree.Symlink:
			err = os.Symlink(e.Target, name)
		case tree.Fifo:
			err = unix.Mkfifo(name, 0o600)
		case tree.Whiteout:
			err = unix.Mknod(name, unix.S_IFCHR, 0)
		case tree.Opaque:
			err = unix.Setxattr(name, opaqueAttribute, []byte("y"), 0)
		}
		if err != nil {
			return fmt.Errorf("laying down /%s: %w", e.Path, err)
		}
	}
	return nil
}

const (
	overlayPrefix   = "user.overlay."
	opaqueAttribute = overlayPrefix + "opaque"
	originAttribute = overlayPrefix + "origin"
)

// files writes the files as they come. Of one that comes more than once, as in archives, the last stays; all must have
// the contents that their entries tell.
func (l Laying) files(entries []tree.Entry, r *bufio.Reader) error {
	good := make([]bool, len(entries))
	buffer, sum := make([]byte, 256<<10), digest.NewContent()
	for {
		i, err := ReadNumber(r)
		if err == nil && i == EndOfFiles {
			break
		}
		size, sizeErr := ReadNumber(r)
		if err = errors.Join(err, sizeErr); err != nil {
			return fmt.Errorf("laying down %s: %w", l.Dir, err)
		}
		if i >= uint64(len(entries)) || entries[i].Kind != tree.File {
			return fmt.Errorf("laying down %s: entry %d is no file", l.Dir, i)
		}
		e := &entries[i]
		if _, there := l.there[e.Path]; there {
			if _, err := io.CopyN(io.Discard, r, int64(size)); err != nil {
				return fmt.Errorf("laying down /%s: %w", e.Path, err)
			}
			good[i] = true
			continue
		}
		f, err := os.OpenFile(l.at(e.Path), os.O_CREATE|os.O_TRUNC|os.O_WRONLY|unix.O_NOFOLLOW, 0o600)
		if err != nil {
			return fmt.Errorf("laying down /%s: %w", e.Path, err)
		}
		sum.Reset()
		_, err = io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(f, sum)}, struct{ io.Reader }{io.LimitReader(r, int64(size))}, buffer)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if err != nil {
			return fmt.Errorf("laying down /%s: %w", e.Path, err)
		}
		good[i] = digest.ContentOf(sum) == e.Content
	}
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File && !good[i] {
			return fmt.Errorf("laying down /%s: %w", e.Path, digest.ErrMismatch)
		}
	}
	return nil
}

// finish links, and sets owners, modes, attributes and times, folders after what they hold.
func (l Laying) finish(entries []tree.Entry) error {
	// What is linked to is an entry too: of that it is known that no part of its path is a link.
	var files map[string]bool
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.Hardlink {
			if files == nil {
				files = linkable(entries)
			}
			if !files[e.Target] {
				return fmt.Errorf("laying down /%s: it is another name of /%s, which is no file of the tree", e.Path, e.Target)
			}
			if err := os.Link(l.at(e.Target), l.at(e.Path)); err != nil {
				return fmt.Errorf("laying down /%s: %w", e.Path, err)
			}
		}
	}
	for i := len(entries) - 1; i >= 0; i-- {
		if _, there := l.there[entries[i].Path]; there {
			continue
		}
		switch e := &entries[i]; e.Kind {
		case tree.File, tree.Folder, tree.Symlink, tree.Fifo:
			if err := l.dress(e); err != nil {
				return fmt.Errorf("laying down /%s: %w", e.Path, err)
			}
		}
	}
	return nil
}

// linkable returns the paths of what can have more names.
func linkable(entries []tree.Entry) map[string]bool {
	files := map[string]bool{}
	for i := range entries {
		switch entries[i].Kind {
		case tree.File, tree.Symlink, tree.Fifo, tree.Hardlink:
			files[entries[i].Path] = true
		}
	}
	return files
}

func (l Laying) dress(e *tree.Entry) error {
	name := l.at(e.Path)
	// In a namespace with one id nothing else can be owned; the index knows the owner.
	if err := os.Lchown(name, e.UID, e.GID); err != nil && !errors.Is(err, unix.EINVAL) {
		return err
	}
	if e.Kind != tree.Symlink {
		if err := unix.Chmod(name, e.Mode); err != nil {
			return err
		}
		for attribute, value := range e.Xattrs {
			if !KeptAttribute(attribute) {
				continue
			}
			if err := unix.Setxattr(name, attribute, []byte(value), 0); err != nil && !errors.Is(err, unix.ENOTSUP) {
				return fmt.Errorf("setting %s: %w", attribute, err)
			}
		}
	}
	when := l.Time
	// Times of folders move with whatever is put beside; nobody is to depend on them.
	if e.Time != 0 && e.Kind != tree.Folder {
		when = e.Time
	}
	return setTime(name, when)
}

func setTime(name string, seconds int64) error {
	at := unix.Timespec{Sec: seconds}
	return unix.UtimesNanoAt(unix.AT_FDCWD, name, []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW)
}
