package answers

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/fnv"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/conditions"
)

// listing names an open folder of a process.
type listing struct {
	pid, fd  int
	dev, ino uint64
}

// entry is a name of a folder as the kernel tells it.
type entry struct {
	inode uint64
	kind  byte
	name  string
}

// mostListings bounds how many folders are remembered while they are listed, mostNames how many names one may have.
const (
	mostListings = 1000
	mostNames    = 4 << 20
)

// list answers a call for names of a folder with those that are due, in the order that is asked for. Where the process stands in the list
// is told by the position of what it has open, as with any folder: the number of the next name.
func (a *Answerer) list(c Call) (Reply, error) {
	if a.under.Order == "" {
		return Reply{}, nil
	}
	if c.Name != "getdents64" {
		return Reply{}, unable("the order of what the call %s lists", c.Name)
	}
	pid, err := a.process(c.PID)
	if err != nil {
		return Reply{}, nil // it is gone
	}
	open, err := openOf(c, pid, int(int32(c.Args[0])))
	if err != nil {
		if errors.Is(err, unix.EBADF) || errors.Is(err, unix.ESRCH) {
			return Reply{}, nil
		}
		return Reply{}, unable("the order of a list: %w", err)
	}
	defer unix.Close(open)
	var stat unix.Stat_t
	var system unix.Statfs_t
	if unix.Fstat(open, &stat) != nil || stat.Mode&unix.S_IFMT != unix.S_IFDIR || unix.Fstatfs(open, &system) != nil || system.Type == unix.PROC_SUPER_MAGIC {
		return Reply{}, nil
	}
	at, err := unix.Seek(open, 0, unix.SEEK_CUR)
	if err != nil {
		return Reply{}, unable("the order of a list: %w", err)
	}
	key := listing{pid, int(int32(c.Args[0])), stat.Dev, stat.Ino}
	names, known := a.lists[key]
	if !known || at == 0 {
		if names, err = a.read(c.PID, int(int32(c.Args[0]))); err != nil {
			return Reply{}, err
		}
		if len(a.lists) >= mostListings {
			clear(a.lists) // who goes on with one has it read again
		}
		a.lists[key] = names
	}
	text, next := pack(names, int(min(at, int64(len(names)))), int(min(c.Args[2], 1<<20)))
	if len(text) == 0 && next < len(names) {
		return Reply{Done: true, Errno: unix.EINVAL}, nil // there is no room for one
	}
	if len(text) == 0 {
		delete(a.lists, key)
	}
	if _, err := unix.Seek(open, int64(next), unix.SEEK_SET); err != nil {
		return Reply{}, unable("the order of a list: %w", err)
	}
	return a.written(c, c.Args[1], text, int64(len(text))), nil
}

// process returns the number of the process that a thread belongs to.
func (a *Answerer) process(thread int) (int, error) {
	fd, err := unix.Openat(a.proc, fmt.Sprintf("%d/status", thread), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return 0, err
	}
	defer unix.Close(fd)
	text := make([]byte, 512)
	n, err := unix.Read(fd, text)
	if err != nil {
		return 0, err
	}
	_, rest, _ := strings.Cut(string(text[:n]), "\nTgid:")
	pid := 0
	_, err = fmt.Sscan(rest, &pid)
	return pid, err
}

// openOf returns a descriptor of what a process has open, which shares its position.
func openOf(c Call, pid, fd int) (int, error) {
	process, err := unix.PidfdOpen(pid, 0)
	if err != nil {
		return 0, err
	}
	defer unix.Close(process)
	if !c.Waits() {
		return 0, unix.ESRCH
	}
	return unix.PidfdGetfd(process, fd, 0)
}

// read reads all names of a folder that a process has open, by a descriptor with a position of its own.
func (a *Answerer) read(pid, fd int) (all []entry, err error) {
	open, err := unix.Openat(a.proc, fmt.Sprintf("%d/fd/%d", pid, fd), unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, unable("the order of a list: %w", err)
	}
	defer unix.Close(open)
	buffer := make([]byte, 64<<10)
	for {
		n, err := unix.Getdents(open, buffer)
		if err != nil {
			return nil, unable("the order of a list: %w", err)
		}
		if n == 0 {
			break
		}
		for part := buffer[:n]; len(part) >= 19; {
			size := int(binary.LittleEndian.Uint16(part[16:]))
			name, _, _ := strings.Cut(string(part[19:size]), "\x00")
			all = append(all, entry{binary.LittleEndian.Uint64(part), part[18], name})
			part = part[size:]
		}
		if len(all) > mostNames {
			return nil, unable("the order of a folder of more than %d names", mostNames)
		}
	}
	slices.SortFunc(all, func(x, y entry) int { return a.compare(x.name, y.name) })
	return all, nil
}

// compare orders names. Those of the folder itself and of the one above come first, as everywhere.
func (a *Answerer) compare(x, y string) int {
	first := func(name string) int {
		if name == "." || name == ".." {
			return len(name)
		}
		return 3
	}
	if by := cmp.Compare(first(x), first(y)); by != 0 {
		return by
	}
	switch a.under.Order {
	case conditions.Reversed:
		return strings.Compare(y, x)
	case conditions.Shuffled:
		return cmp.Or(cmp.Compare(hashOf(x), hashOf(y)), strings.Compare(x, y))
	}
	return strings.Compare(x, y)
}

func hashOf(name string) uint64 {
	h := fnv.New64a()
	_, _ = h.Write([]byte(name)) // it never fails
	return h.Sum64()
}

// pack writes names from one on into so many bytes, as getdents64 does, and returns the number of the next one.
func pack(names []entry, from, most int) (text []byte, next int) {
	for next = from; next < len(names); next++ {
		e := names[next]
		size := (19 + len(e.name) + 1 + 7) &^ 7
		if len(text)+size > most {
			break
		}
		one := make([]byte, size)
		binary.LittleEndian.PutUint64(one, e.inode)
		binary.LittleEndian.PutUint64(one[8:], uint64(next+1))
		binary.LittleEndian.PutUint16(one[16:], uint16(size))
		one[18] = e.kind
		copy(one[19:], e.name)
		text = append(text, one...)
	}
	return text, next
}
