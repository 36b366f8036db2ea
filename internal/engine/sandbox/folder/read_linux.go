package folder

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Reading is how a folder is read back.
type Reading struct {
	Dir       string
	Time      int64 // is set on everything; 0 leaves times alone
	KeepTimes bool  // tells times
	// Before is a file that note wrote, or empty: then only what differs is told, and what is gone as deleted. What was
	// written moves into the folder Into, in the form that an overlay leaves.
	Before, Into string
	Sure         bool     // note waits until nothing can happen that its marks do not show
	Without      []string // paths that are not looked at, with all in them
}

// mostPaths bounds what one command may leave: no layer has more.
const mostPaths = 1_000_000

// maxDepth bounds how deep folders may lie in each other, well below what names of files allow.
const maxDepth = 1000

// Read walks the folder and tells all that it holds, sorted by path.
func (r Reading) Read() ([]Found, error) {
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
func (r Reading) walk(p string, depth int, visit func(p string, stat *unix.Stat_t) error) error {
	if depth > maxDepth {
		return fmt.Errorf("folders are nested more than %d deep", maxDepth)
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
func (r Reading) entry(p string, stat *unix.Stat_t) (Found, error) {
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
func (r Reading) attributes(of attributed, one *Found) error {
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
		case attribute != opaqueAttribute && !KeptAttribute(attribute):
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
func (r Reading) contents(all []Found) error {
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
func (r Reading) file(root int, one *Found, sum hash.Hash, buffer []byte) error {
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
		if err := setTimeOf(fd, unix.Timespec{Sec: r.Time}); err != nil {
			return fmt.Errorf("/%s: %w", e.Path, err)
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

// Mend makes a folder what its entries tell.
func (r Reading) Mend(m Mending) error {
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
	for _, p := range m.Gone {
		if err := os.RemoveAll(at(p)); err != nil {
			return fmt.Errorf("/%s: %w", p, err)
		}
		touched[tree.Parent(p)] = true
	}
	for p := range touched {
		if err := setTime(at(p), r.Time); err != nil && !(len(m.Gone) > 0 && errors.Is(err, fs.ErrNotExist)) {
			return err
		}
	}
	return nil
}
