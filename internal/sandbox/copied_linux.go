package sandbox

import (
	"encoding/gob"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"imbricat/internal/tree"
)

// Where no overlay can be mounted a command works on a copy of its view. What it wrote shows in the inodes: the kernel
// moves the time of change of whatever is written to, renamed, linked or given another mode, and no program can set it.

// mark is what tells whether a path was touched.
type mark struct {
	Inode, Device uint64
	Change        [2]int64
	Folder        bool
}

func markOf(stat *unix.Stat_t) mark {
	return mark{stat.Ino, uint64(stat.Dev), [2]int64{int64(stat.Ctim.Sec), int64(stat.Ctim.Nsec)}, stat.Mode&unix.S_IFMT == unix.S_IFDIR}
}

// note writes the marks of all that a folder holds into a file. It ends only when the clock of the file system has moved
// on, so that whatever is written afterwards shows.
func (r reading) note(to string) error {
	marks := map[string]mark{}
	latest := [2]int64{}
	err := r.walk("", 0, func(p string, stat *unix.Stat_t) error {
		marks[p] = markOf(stat)
		if c := marks[p].Change; c[0] > latest[0] || c[0] == latest[0] && c[1] > latest[1] {
			latest = c
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("reading %s: %w", r.Dir, err)
	}
	for {
		f, err := os.Create(to)
		if err != nil {
			return err
		}
		if err := gob.NewEncoder(f).Encode(marks); err != nil {
			f.Close()
			return err
		}
		var stat unix.Stat_t
		err = unix.Fstat(int(f.Fd()), &stat)
		if closeErr := f.Close(); err == nil {
			err = closeErr
		}
		if now := markOf(&stat).Change; err != nil || now[0] > latest[0] || now[0] == latest[0] && now[1] > latest[1] {
			return err
		}
	}
}

// difference tells what is not as it was noted: what was touched, with the folders that it lies in, and what is gone.
func (r reading) difference() ([]Found, error) {
	f, err := os.Open(r.Before)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	before := map[string]mark{}
	if err := gob.NewDecoder(f).Decode(&before); err != nil {
		return nil, err
	}
	stats := map[string]unix.Stat_t{}
	touched := map[string]bool{}
	err = r.walk("", 0, func(p string, stat *unix.Stat_t) error {
		stats[p] = *stat
		if was, known := before[p]; !known || was != markOf(stat) {
			for above := p; !touched[above]; above = tree.Parent(above) {
				touched[above] = true
				if above == "" {
					break
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", r.Dir, err)
	}
	var all []Found
	for p := range before {
		_, there := stats[p]
		_, above := stats[tree.Parent(p)]
		// Of what is gone with its folder the folder is enough; what lies under another kind of thing is hidden by it.
		if !there && above && !slices.ContainsFunc(r.Without, func(w string) bool { return p == w || strings.HasPrefix(p, w+"/") }) {
			if parent := stats[tree.Parent(p)]; parent.Mode&unix.S_IFMT == unix.S_IFDIR {
				all = append(all, Found{Entry: tree.Entry{Path: p, Kind: tree.Whiteout}})
				touched[tree.Parent(p)] = true
			}
		}
	}
	if err := r.move(touched, stats); err != nil {
		return nil, err
	}
	moved := reading{Dir: r.Into, Time: r.Time, KeepTimes: r.KeepTimes}
	found, err := moved.read()
	for i := range found {
		was, known := before[found[i].Path]
		found[i].CopiedUp = known && was.Inode == stats[found[i].Path].Ino
	}
	// The file system may take no marks for what is gone, and where nothing is mounted nobody reads them.
	found = append(found, all...)
	slices.SortFunc(found, func(a, b Found) int { return strings.Compare(a.Path, b.Path) })
	return found, err
}

// move puts what was touched into a folder of its own.
func (r reading) move(touched map[string]bool, stats map[string]unix.Stat_t) error {
	if err := os.Mkdir(r.Into, 0o755); err != nil {
		return err
	}
	paths := make([]string, 0, len(touched))
	for p := range touched {
		paths = append(paths, p)
	}
	slices.Sort(paths)
	for _, p := range paths {
		stat, from, to := stats[p], filepath.Join(r.Dir, p), filepath.Join(r.Into, p)
		if stat.Mode&unix.S_IFMT != unix.S_IFDIR {
			if err := os.Rename(from, to); err != nil {
				return err
			}
			continue
		}
		if err := os.Mkdir(to, 0o700); err != nil && (p != "" || !os.IsExist(err)) {
			return err
		}
		one := Found{}
		if err := r.attributes(byName(from), &one); err != nil {
			return err
		}
		e := tree.Entry{Path: p, Kind: tree.Folder, Mode: stat.Mode & 0o7777, UID: int(stat.Uid), GID: int(stat.Gid), Xattrs: one.Xattrs}
		if err := (laying{Dir: r.Into}).dress(&e); err != nil {
			return err
		}
	}
	return nil
}
