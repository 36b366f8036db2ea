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
	"unsafe"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
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
			return fmt.Errorf("%q is not a path of a tree", e.Path)
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

// finish links, and sets owners, modes, attributes and times of all but files, folders after what they hold.
func (l Laying) finish(entries []tree.Entry) error {
	// What is linked to is an entry too: of that it is known that no part of its path is a link.
	var files map[string]bool
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.Hardlink {
			if files == nil {
				files = linkable(entries)
			}
			if !files[e.Target] {
				return fmt.Errorf("laying down /%s: it is another name of /%s, which is not a file of the tree", e.Path, e.Target)
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
		case tree.Folder, tree.Symlink, tree.Fifo:
			if err := l.dress(named(l.at(e.Path)), e); err != nil {
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

// dressed is something that was laid down: a file while it is open, which saves looking for it, or anything by its name.
type dressed interface {
	own(uid, gid int) error
	mode(mode uint32) error
	attribute(name, value string) error
	time(at unix.Timespec) error
}

type openFile int

func (f openFile) own(uid, gid int) error { return unix.Fchown(int(f), uid, gid) }
func (f openFile) mode(mode uint32) error { return unix.Fchmod(int(f), mode) }
func (f openFile) attribute(name, value string) error {
	return unix.Fsetxattr(int(f), name, []byte(value), 0)
}
func (f openFile) time(at unix.Timespec) error { return setTimeOf(int(f), at) }

type named string

func (n named) own(uid, gid int) error { return os.Lchown(string(n), uid, gid) }
func (n named) mode(mode uint32) error { return unix.Chmod(string(n), mode) }
func (n named) attribute(name, value string) error {
	return unix.Setxattr(string(n), name, []byte(value), 0)
}
func (n named) time(at unix.Timespec) error { return setTime(string(n), at.Sec) }

func (l Laying) dress(what dressed, e *tree.Entry) error {
	// In a namespace with one id nothing else can be owned; the index knows the owner.
	if err := what.own(e.UID, e.GID); err != nil && !errors.Is(err, unix.EINVAL) {
		return err
	}
	if e.Kind != tree.Symlink {
		if err := what.mode(e.Mode); err != nil {
			return err
		}
		for attribute, value := range e.Xattrs {
			if !KeptAttribute(attribute) {
				continue
			}
			if err := what.attribute(attribute, value); err != nil && !errors.Is(err, unix.ENOTSUP) {
				return fmt.Errorf("setting %s: %w", attribute, err)
			}
		}
	}
	when := l.Time
	// Times of folders move with whatever is put beside; nobody is to depend on them.
	if e.Time != 0 && e.Kind != tree.Folder {
		when = e.Time
	}
	return what.time(unix.Timespec{Sec: when})
}

func setTime(name string, seconds int64) error {
	at := unix.Timespec{Sec: seconds}
	return unix.UtimesNanoAt(unix.AT_FDCWD, name, []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW)
}

// setTimeOf sets the times of something open.
func setTimeOf(fd int, at unix.Timespec) error {
	both := [2]unix.Timespec{at, at}
	if _, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&both)), 0, 0, 0); errno != 0 {
		return errno
	}
	return nil
}
