package folder

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
)

// Where no overlay can be mounted a command works on a copy of its view. What it wrote shows in the inodes: the kernel
// moves the time of change of whatever is written to, renamed, linked or given another mode, and no program can set it.

// difference tells what is not as it was noted: what was touched, with the folders that it lies in, and what is gone.
func (r Reading) difference() ([]Found, error) {
	before, err := readMarks(r.Before)
	if err != nil {
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
	moved := Reading{Dir: r.Into, Time: r.Time, KeepTimes: r.KeepTimes}
	found, err := moved.Read()
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
func (r Reading) move(touched map[string]bool, stats map[string]unix.Stat_t) error {
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
		if err := (Laying{}).dress(named(to), &e); err != nil {
			return err
		}
	}
	return nil
}
