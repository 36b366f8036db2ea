package sandbox

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"imbricat/internal/digest"
	"imbricat/internal/tree"
)

// This file lays trees down in folders and reads them back. It works alike in this process, where that is root, and in a
// helper inside a user namespace.

// maxTree bounds the entries of one tree, in bytes as lines.
const maxTree = 1 << 30

// A tree travels as the length of its entries' lines, the lines, and then any number of files: the entry's index and the
// size, as two 64-bit numbers, and the bytes; an index of endOfFiles ends it.
const endOfFiles = ^uint64(0)

// laying is what lay needs to know besides the entries.
type laying struct {
	Dir  string // must not exist, or be an empty folder
	Time int64  // of everything whose entry has none, in seconds
}

// lay makes a tree of what the stream tells. Every folder on the way is an entry, so nothing is created through links.
// Devices are left out: no command may use them.
func (l laying) lay(in io.Reader) error {
	r := bufio.NewReaderSize(in, 256<<10)
	length, err := readNumber(r)
	if err != nil || length > maxTree {
		return fmt.Errorf("laying down %s: %w", l.Dir, errors.Join(err, errTruncated))
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(r, text); err != nil {
		return fmt.Errorf("laying down %s: %w", l.Dir, err)
	}
	entries, err := tree.DecodeEntries(string(text))
	if err != nil {
		return err
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

func readNumber(r io.Reader) (uint64, error) {
	var b [8]byte
	_, err := io.ReadFull(r, b[:])
	return binary.LittleEndian.Uint64(b[:]), err
}

func (l laying) at(p string) string { return filepath.Join(l.Dir, p) }

// skeleton makes all but files and hard links. Folders are open to us until the end.
func (l laying) skeleton(entries []tree.Entry) error {
	folders := map[string]bool{"": true}
	for i := range entries {
		e := &entries[i]
		if clean, err := tree.CleanPath(e.Path); err != nil || clean != e.Path {
			return fmt.Errorf("%q is no path of a tree", e.Path)
		}
		if !folders[tree.Parent(e.Path)] {
			return fmt.Errorf("/%s lies in no folder of its tree", e.Path)
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
func (l laying) files(entries []tree.Entry, r *bufio.Reader) error {
	good := make([]bool, len(entries))
	buffer, sum := make([]byte, 256<<10), digest.NewContent()
	for {
		i, err := readNumber(r)
		if err == nil && i == endOfFiles {
			break
		}
		size, sizeErr := readNumber(r)
		if err = errors.Join(err, sizeErr); err != nil {
			return fmt.Errorf("laying down %s: %w", l.Dir, err)
		}
		if i >= uint64(len(entries)) || entries[i].Kind != tree.File {
			return fmt.Errorf("laying down %s: entry %d is no file", l.Dir, i)
		}
		e := &entries[i]
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
func (l laying) finish(entries []tree.Entry) error {
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.Hardlink {
			if err := os.Link(l.at(e.Target), l.at(e.Path)); err != nil {
				return fmt.Errorf("laying down /%s: %w", e.Path, err)
			}
		}
	}
	for i := len(entries) - 1; i >= 0; i-- {
		switch e := &entries[i]; e.Kind {
		case tree.File, tree.Folder, tree.Symlink, tree.Fifo:
			if err := l.dress(e); err != nil {
				return fmt.Errorf("laying down /%s: %w", e.Path, err)
			}
		}
	}
	return nil
}

func (l laying) dress(e *tree.Entry) error {
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
			if !keptAttribute(attribute) {
				continue
			}
			if err := unix.Setxattr(name, attribute, []byte(value), 0); err != nil && !errors.Is(err, unix.ENOTSUP) {
				return fmt.Errorf("setting %s: %w", attribute, err)
			}
		}
	}
	when := l.Time
	if e.Time != 0 {
		when = e.Time
	}
	return setTime(name, when)
}

func setTime(name string, seconds int64) error {
	at := unix.Timespec{Sec: seconds}
	return unix.UtimesNanoAt(unix.AT_FDCWD, name, []unix.Timespec{at, at}, unix.AT_SYMLINK_NOFOLLOW)
}

// reading is how a folder is read back.
type reading struct {
	Dir       string
	Time      int64 // is set on everything; 0 leaves times alone
	KeepTimes bool  // tells times
	// Before is a file that note wrote, or empty: then only what differs is told, and what is gone as deleted. What was
	// written moves into the folder Into, in the form that an overlay leaves.
	Before, Into string
	Without      []string // paths that are not looked at, with all in them
}

// mostPaths bounds what one command may leave: no layer has more.
const mostPaths = 1_000_000

// maxDepth bounds how deep folders may lie in each other, well below what names of files allow.
const maxDepth = 1000

// read walks the folder and tells all that it holds, sorted by path.
func (r reading) read() ([]Found, error) {
	if r.Before != "" {
		return r.difference()
	}
	var all []Found
	links := map[[2]uint64]int{} // inode → index of its first name
	err := r.walk("", 0, func(p string, stat *unix.Stat_t) error {
		if len(all) > mostPaths {
			return fmt.Errorf("it has more than %d paths", mostPaths)
		}
		one, err := r.entry(p, stat)
		if err != nil || one.Kind == 0 {
			return err
		}
		if one.Kind == tree.File && stat.Nlink > 1 {
			key := [2]uint64{uint64(stat.Dev), stat.Ino}
			if first, twin := links[key]; twin {
				one.Entry = tree.Entry{Path: p, Kind: tree.Hardlink, Mode: one.Mode, UID: one.UID, GID: one.GID, Target: all[first].Path, Time: one.Time}
			} else {
				links[key] = len(all)
			}
		}
		all = append(all, one)
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", r.Dir, err)
	}
	if err := r.contents(all); err != nil {
		return nil, fmt.Errorf("reading %s: %w", r.Dir, err)
	}
	slices.SortFunc(all, func(a, b Found) int { return strings.Compare(a.Path, b.Path) })
	return all, nil
}

// walk visits a folder and all below it, names in order, so that of several links the first in order of paths is the file.
func (r reading) walk(p string, depth int, visit func(p string, stat *unix.Stat_t) error) error {
	if depth > maxDepth {
		return fmt.Errorf("folders lie more than %d deep in each other", maxDepth)
	}
	name := filepath.Join(r.Dir, p)
	if p == "" {
		var stat unix.Stat_t
		if err := unix.Lstat(name, &stat); err != nil {
			return err
		}
		if err := visit("", &stat); err != nil {
			return err
		}
	}
	folder, err := os.Open(name)
	if err != nil {
		return err
	}
	names, err := folder.Readdirnames(-1)
	defer folder.Close()
	if err != nil {
		return err
	}
	slices.Sort(names)
	for _, child := range names {
		below := tree.Join(p, child)
		if slices.Contains(r.Without, below) {
			continue
		}
		var stat unix.Stat_t
		if err := unix.Fstatat(int(folder.Fd()), child, &stat, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return fmt.Errorf("/%s: %w", below, err)
		}
		if err := visit(below, &stat); err != nil {
			return err
		}
		if stat.Mode&unix.S_IFMT == unix.S_IFDIR {
			if err := r.walk(below, depth+1, visit); err != nil {
				return err
			}
		}
	}
	return nil
}

// entry tells what a path is; a socket is none. The contents of files are left to later.
func (r reading) entry(p string, stat *unix.Stat_t) (Found, error) {
	one := Found{Entry: tree.Entry{Path: p, Mode: stat.Mode & 0o7777, UID: int(stat.Uid), GID: int(stat.Gid)}}
	if r.KeepTimes {
		one.Time = stat.Mtim.Sec
	}
	name := filepath.Join(r.Dir, p)
	switch stat.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		one.Kind, one.Size = tree.File, stat.Size
	case unix.S_IFDIR:
		one.Kind = tree.Folder
	case unix.S_IFLNK:
		one.Kind, one.Mode = tree.Symlink, 0o777
		target, err := os.Readlink(name)
		if err != nil {
			return one, err
		}
		one.Target = target
	case unix.S_IFIFO:
		one.Kind = tree.Fifo
	case unix.S_IFCHR:
		if stat.Rdev == 0 {
			one.Entry = tree.Entry{Path: p, Kind: tree.Whiteout}
			return one, nil
		}
		fallthrough
	case unix.S_IFBLK:
		return one, fmt.Errorf("/%s is a device, which no image may hold", p)
	default:
		return Found{}, nil
	}
	if one.Kind == tree.File {
		return one, nil // what else is to be told and done takes opening it, which is done side by side
	}
	if one.Kind == tree.Folder {
		if err := r.attributes(byName(name), &one); err != nil {
			return one, fmt.Errorf("/%s: %w", p, err)
		}
	}
	if r.Time != 0 {
		if err := setTime(name, r.Time); err != nil {
			return one, fmt.Errorf("/%s: %w", p, err)
		}
	}
	return one, nil
}

// attributed is a file or a folder whose extended attributes can be read.
type attributed interface {
	list(to []byte) (int, error)
	get(name string, to []byte) (int, error)
}

type byName string

func (b byName) list(to []byte) (int, error)             { return unix.Llistxattr(string(b), to) }
func (b byName) get(name string, to []byte) (int, error) { return unix.Lgetxattr(string(b), name, to) }

type byHandle int

func (b byHandle) list(to []byte) (int, error)             { return unix.Flistxattr(int(b), to) }
func (b byHandle) get(name string, to []byte) (int, error) { return unix.Fgetxattr(int(b), name, to) }

// attributes reads the extended attributes that belong to a file, and the overlay's own notes.
func (r reading) attributes(of attributed, one *Found) error {
	var room [1024]byte
	n, err := of.list(room[:])
	if n == 0 || errors.Is(err, unix.ENOTSUP) {
		return nil
	}
	list := room[:max(n, 0)]
	if errors.Is(err, unix.ERANGE) {
		list = make([]byte, 64<<10)
		n, err = of.list(list)
		list = list[:max(n, 0)]
	}
	if err != nil {
		return err
	}
	for attribute := range strings.SplitSeq(strings.TrimSuffix(string(list), "\x00"), "\x00") {
		switch {
		case attribute == originAttribute:
			one.CopiedUp = true
			continue
		case attribute != opaqueAttribute && !keptAttribute(attribute):
			continue
		}
		value := make([]byte, 64<<10)
		n, err := of.get(attribute, value)
		if err != nil {
			return err
		}
		value = value[:n]
		if attribute == opaqueAttribute {
			one.Opaque = string(value) == "y"
			continue
		}
		if one.Xattrs == nil {
			one.Xattrs = map[string]string{}
		}
		if attribute == capability {
			value = plainCapability(value)
		}
		one.Xattrs[attribute] = string(value)
	}
	return nil
}

// plainCapability takes the user namespace out of a program's capabilities: version 3, which names the id that the
// namespace's root has outside, becomes version 2, which holds wherever the image runs.
func plainCapability(value []byte) []byte {
	const revision3, revision2, size3 = 0x03000000, 0x02000000, 24
	if len(value) != size3 || binary.LittleEndian.Uint32(value)&0xff000000 != revision3 {
		return value
	}
	plain := slices.Clone(value[:size3-4])
	binary.LittleEndian.PutUint32(plain, binary.LittleEndian.Uint32(value)&0x00ffffff|revision2)
	return plain
}

// contents works out the digests of all files, on all cores.
func (r reading) contents(all []Found) error {
	root, err := unix.Open(r.Dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	var group sync.WaitGroup
	var mutex sync.Mutex
	var first error
	work := make(chan []Found)
	for range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			sum, buffer := digest.NewContent(), make([]byte, 128<<10)
			for part := range work {
				for i := range part {
					if part[i].Kind != tree.File {
						continue
					}
					err := r.file(root, &part[i], sum, buffer)
					if err != nil {
						mutex.Lock()
						if first == nil {
							first = err
						}
						mutex.Unlock()
					}
				}
			}
		})
	}
	for part := range slices.Chunk(all, 64) {
		work <- part
	}
	close(work)
	group.Wait()
	return first
}

// file reads one file: its attributes and its digest; its time is set on the way.
func (r reading) file(root int, one *Found, sum hash.Hash, buffer []byte) error {
	e := &one.Entry
	fd, err := unix.Openat(root, e.Path, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("/%s: %w", e.Path, err)
	}
	defer unix.Close(fd)
	if err := r.attributes(byHandle(fd), one); err != nil {
		return fmt.Errorf("/%s: %w", e.Path, err)
	}
	if r.Time != 0 {
		at := [2]unix.Timespec{{Sec: r.Time}, {Sec: r.Time}}
		if _, _, errno := unix.Syscall6(unix.SYS_UTIMENSAT, uintptr(fd), 0, uintptr(unsafe.Pointer(&at)), 0, 0, 0); errno != 0 {
			return fmt.Errorf("/%s: %w", e.Path, errno)
		}
	}
	sum.Reset()
	total := int64(0)
	for {
		n, err := unix.Read(fd, buffer)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return fmt.Errorf("/%s: %w", e.Path, err)
		}
		if n == 0 {
			break
		}
		sum.Write(buffer[:n])
		if total += int64(n); n < len(buffer) && total == e.Size {
			break
		}
	}
	if total != e.Size {
		return fmt.Errorf("/%s changed while it was read", e.Path)
	}
	e.Content = digest.ContentOf(sum)
	return nil
}

// mend makes a folder what its entries tell.
func (r reading) mend(m Mending) error {
	at := func(p string) string { return filepath.Join(r.Dir, p) }
	touched := map[string]bool{}
	for _, p := range m.Show {
		if err := unix.Removexattr(at(p), opaqueAttribute); err != nil {
			return fmt.Errorf("/%s: %w", p, err)
		}
	}
	for _, p := range m.Hide {
		if err := unix.Mknod(at(p), unix.S_IFCHR, 0); err != nil {
			return fmt.Errorf("/%s: %w", p, err)
		}
		touched[tree.Parent(p)] = true
	}
	for _, p := range m.Drop {
		if err := os.Remove(at(p)); err != nil {
			return fmt.Errorf("/%s: %w", p, err)
		}
		touched[tree.Parent(p)] = true
	}
	for p := range touched {
		if err := setTime(at(p), r.Time); err != nil {
			return err
		}
	}
	return nil
}
