package tree

import (
	"bytes"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"sync"

	"golang.org/x/sys/unix"
)

// descriptor is a folder by its descriptor. Each name costs one system call and no more memory than is kept, which is
// what makes looking at a large project that has not changed about as fast as listing it.
type descriptor int

// folder opens a folder of the project. Links on the way are followed inside the project.
func (s *Source) folder(p string) (handle, error) {
	if p == "" {
		p = "."
	}
	f, err := s.root.Open(filepath.FromSlash(p))
	if err != nil {
		return nil, fmt.Errorf("reading %q: %w", p, plain(err))
	}
	defer f.Close()
	fd, err := openAt(int(f.Fd()), ".", unix.O_DIRECTORY)
	if err != nil {
		return nil, fmt.Errorf("reading %q: %w", p, err)
	}
	return descriptor(fd), nil
}

func openAt(fd int, name string, flags int) (int, error) {
	for {
		opened, err := unix.Openat(fd, name, unix.O_RDONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC|unix.O_NONBLOCK|flags, 0)
		if err != unix.EINTR {
			return opened, err
		}
	}
}

func (d descriptor) close() { unix.Close(int(d)) }

var direntBuffers = sync.Pool{New: func() any { return new([16 << 10]byte) }}

func (d descriptor) names() ([]string, error) {
	var names []string
	buffer := direntBuffers.Get().(*[16 << 10]byte)
	defer direntBuffers.Put(buffer)
	for {
		n, err := unix.ReadDirent(int(d), buffer[:])
		if err == unix.EINTR {
			continue
		}
		if err != nil || n <= 0 {
			return names, err
		}
		_, _, names = unix.ParseDirent(buffer[:n], -1, names)
	}
}

func (d descriptor) lookup(name string) (found, error) {
	var raw unix.Stat_t
	for {
		err := unix.Fstatat(int(d), name, &raw, unix.AT_SYMLINK_NOFOLLOW)
		if err == nil {
			return foundOf(&raw), nil
		}
		if err != unix.EINTR {
			return found{}, err
		}
	}
}

func foundOf(raw *unix.Stat_t) found {
	f := found{mode: raw.Mode & 0o7777, stat: Stat{Size: raw.Size, ModTime: raw.Mtim.Nano(), Change: raw.Ctim.Nano(), Inode: raw.Ino}}
	switch raw.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		if f.kind = File; raw.Nlink > 1 {
			f.twin = FileID{raw.Dev, raw.Ino}
		}
	case unix.S_IFDIR:
		f.kind = Folder
	case unix.S_IFLNK:
		f.kind = Symlink
	}
	return f
}

func (d descriptor) readlink(name string) (string, error) {
	buffer := make([]byte, 4097)
	n, err := unix.Readlinkat(int(d), name, buffer)
	if err != nil {
		return "", err
	}
	return string(buffer[:n]), nil
}

func (d descriptor) folder(name string) (handle, error) {
	fd, err := openAt(int(d), name, unix.O_DIRECTORY)
	return descriptor(fd), err
}

// maxXattr bounds an attribute's value, as the kernel does.
const maxXattr = 64 << 10

func (d descriptor) xattrs(name string, keep func(string) bool) (map[string]string, error) {
	// There is no call that takes a folder's descriptor and a name; this path leads to the name and through no link.
	path := "/proc/self/fd/" + strconv.Itoa(int(d)) + "/" + name
	list := make([]byte, maxXattr)
	n, err := unix.Llistxattr(path, list)
	if err == unix.ENOTSUP {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all map[string]string
	for attribute := range bytes.SplitSeq(bytes.TrimSuffix(list[:n], []byte{0}), []byte{0}) {
		if len(attribute) == 0 || !keep(string(attribute)) {
			continue
		}
		value := make([]byte, maxXattr)
		n, err := unix.Lgetxattr(path, string(attribute), value)
		if err != nil {
			return nil, err
		}
		if all == nil {
			all = map[string]string{}
		}
		all[string(attribute)] = string(value[:n])
	}
	return all, nil
}

// SourceFile is an open file of the project folder.
type SourceFile struct{ fd int }

// Read reads on.
func (f *SourceFile) Read(p []byte) (int, error) {
	for {
		n, err := unix.Read(f.fd, p)
		switch {
		case err == unix.EINTR:
			continue
		case err != nil:
			return 0, err
		case n == 0 && len(p) > 0:
			return 0, io.EOF
		}
		return n, nil
	}
}

// Stat tells what the file is like now.
func (f *SourceFile) Stat() (Stat, error) {
	var raw unix.Stat_t
	if err := unix.Fstat(f.fd, &raw); err != nil {
		return Stat{}, err
	}
	return foundOf(&raw).stat, nil
}

// Close lets the file go.
func (f *SourceFile) Close() error { return unix.Close(f.fd) }

// Opener opens files of a project folder; the folder of the last one stays open, since the next often lies in it too.
// It is for one goroutine.
type Opener struct {
	source *Source
	dir    string
	open   handle
}

// Open opens a regular file by its path and tells what it is like at that moment.
func (o *Opener) Open(p string) (*SourceFile, Stat, error) {
	opened.Add(1)
	dir, name := Parent(p), p[len(Parent(p)):]
	if dir != "" {
		name = name[1:]
	}
	if o.open == nil || o.dir != dir {
		o.Close()
		open, err := o.source.folder(dir)
		if err != nil {
			return nil, Stat{}, err
		}
		o.open, o.dir = open, dir
	}
	fd, err := openAt(int(o.open.(descriptor)), name, 0)
	if err != nil {
		return nil, Stat{}, fmt.Errorf("reading %q: %w", p, err)
	}
	var raw unix.Stat_t
	if err := unix.Fstat(fd, &raw); err != nil || foundOf(&raw).kind != File {
		unix.Close(fd)
		return nil, Stat{}, fmt.Errorf("reading %q: it is no longer a regular file", p)
	}
	return &SourceFile{fd}, foundOf(&raw).stat, nil
}

// Close lets the folder go.
func (o *Opener) Close() {
	if o.open != nil {
		o.open.close()
		o.open = nil
	}
}
