package folder

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"os"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sys/unix"
)

// mark is what tells whether a path was touched: the kernel moves the time of change of whatever is written to, renamed,
// linked or given another mode, and no program can set it.
type mark struct {
	Inode, Device uint64
	Change        [2]int64
	Size          int64 // of a file
}

func markOf(stat *unix.Stat_t) mark {
	m := mark{Inode: stat.Ino, Device: uint64(stat.Dev), Change: [2]int64{int64(stat.Ctim.Sec), int64(stat.Ctim.Nsec)}}
	if stat.Mode&unix.S_IFMT == unix.S_IFREG {
		m.Size = stat.Size
	}
	return m
}

// Note writes the marks of all that a folder holds into a file. Where r.Sure it ends only when the clock of the file system
// has moved on, so that whatever is written afterwards shows.
func (r Reading) Note(to string) error {
	text := []byte(marksHead)
	latest := [2]int64{}
	err := r.walk("", 0, func(p string, stat *unix.Stat_t) error {
		m := markOf(stat)
		if text = appendMark(text, p, m); m.Change[0] > latest[0] || m.Change[0] == latest[0] && m.Change[1] > latest[1] {
			latest = m.Change
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading %s: %w", r.Dir, err)
	}
	for {
		if err := os.WriteFile(to, text, 0o600); err != nil {
			return err
		}
		if !r.Sure {
			return nil
		}
		var stat unix.Stat_t
		err := unix.Lstat(to, &stat)
		if now := markOf(&stat).Change; err != nil || now[0] > latest[0] || now[0] == latest[0] && now[1] > latest[1] {
			return err
		}
	}
}

// marksHead begins a file of marks: for each path its length, the path, and the mark's five numbers, as varints.
const marksHead = "imbricat marks 1\n"

func appendMark(to []byte, p string, m mark) []byte {
	to = append(binary.AppendUvarint(to, uint64(len(p))), p...)
	for _, n := range []uint64{m.Inode, m.Device, uint64(m.Change[0]), uint64(m.Change[1]), uint64(m.Size)} {
		to = binary.AppendUvarint(to, n)
	}
	return to
}

// readMarks reads what note wrote.
func readMarks(name string) (map[string]mark, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	damaged := fmt.Errorf("%s holds no marks", name)
	if len(text) < len(marksHead) || string(text[:len(marksHead)]) != marksHead {
		return nil, damaged
	}
	all := make(map[string]mark, len(text)/64)
	number := func() (n uint64) {
		n, size := binary.Uvarint(text)
		if size <= 0 {
			text = nil
			return 0
		}
		text = text[size:]
		return n
	}
	for text = text[len(marksHead):]; len(text) > 0; {
		size := number()
		if size > uint64(len(text)) {
			return nil, damaged
		}
		p := string(text[:size])
		text = text[size:]
		m := mark{Inode: number(), Device: number(), Change: [2]int64{int64(number()), int64(number())}}
		if len(text) == 0 {
			return nil, damaged
		}
		m.Size = int64(number())
		all[p] = m
	}
	return all, nil
}

// knownMarks are those of folders that this process has looked at before, by the files that they are in.
var knownMarks sync.Map // string to *markedFolder

type markedFolder struct {
	file  mark // of the file of marks
	marks map[string]mark
}

// Touched tells which of some paths of a folder are not as they were when its marks were noted, or were not there then.
func (r Reading) Touched(paths []string) (touched []Found, err error) {
	var stat unix.Stat_t
	if err := unix.Lstat(r.Before, &stat); err != nil {
		return nil, fmt.Errorf("reading %s: %w", r.Before, err)
	}
	folder, _ := knownMarks.Load(r.Before)
	known, _ := folder.(*markedFolder)
	if known == nil || known.file != markOf(&stat) {
		known = &markedFolder{file: markOf(&stat)}
		if known.marks, err = readMarks(r.Before); err != nil {
			return nil, err
		}
		knownMarks.Store(r.Before, known)
	}
	dir, err := unix.Open(r.Dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", r.Dir, err)
	}
	defer unix.Close(dir)
	var group sync.WaitGroup
	var mutex sync.Mutex
	for part := range slices.Chunk(paths, max(1, (len(paths)+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))) {
		group.Go(func() {
			for _, p := range part {
				var stat unix.Stat_t
				was, noted := known.marks[p]
				if err := unix.Fstatat(dir, cmp.Or(p, "."), &stat, unix.AT_SYMLINK_NOFOLLOW); err != nil || !noted || was != markOf(&stat) {
					one := Found{}
					one.Path = p
					mutex.Lock()
					touched = append(touched, one)
					mutex.Unlock()
				}
			}
		})
	}
	group.Wait()
	return touched, nil
}
