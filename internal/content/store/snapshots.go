package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/ground/digest"
)

// Room is what the entries of an unpacked tree take on the disk.
type Room struct {
	Bytes int64 `json:"bytes"`
	Files int   `json:"files"` // with folders and links
}

// snapshot describes an unpacked tree.
type snapshot struct {
	Version int        `json:"version"`
	Tree    digest.Key `json:"tree"`
	Room
	Boot   string `json:"boot"`   // which start of the machine saw it whole
	Synced bool   `json:"synced"` // it lies on the disk, whatever becomes of the machine
}

// snapshotVersion is what unpacked trees must have, so that those of a version that could be wrong are made again.
const snapshotVersion = 2

const (
	snapshotFile = "snapshot.json"
	// marksFile is where whoever unpacked a tree notes how to tell, without reading, that nobody has touched it.
	marksFile = "marks"
)

// MarksOf returns the file in which the marks of an unpacked tree are noted, by the tree's folder.
func MarksOf(root string) string { return filepath.Join(filepath.Dir(root), marksFile) }

// boot names this start of the machine. What was unpacked is synced when a build ends, all at once; what a machine that
// stopped before left is looked at before it is relied on.
func boot() string {
	text, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return "unknown"
	}
	return strings.TrimSpace(string(text))
}

func (s *Store) snapshotDir(form string, tree digest.Key) (string, error) {
	hex := string(tree)[strings.IndexByte(string(tree), ':')+1:]
	if len(hex) != 64 || strings.Trim(hex, "0123456789abcdef") != "" || form != filepath.Base(form) {
		return "", fmt.Errorf("%q in the form %q is not an unpacked tree", tree, form)
	}
	return s.path("imbricat", snapshots, form, hex), nil
}

// Snapshot finds an unpacked tree and gives its folder. seen tells whether it was made or looked at since the machine
// started.
func (s *Store) Snapshot(form string, tree digest.Key) (dir string, seen, found bool) {
	dir, err := s.snapshotDir(form, tree)
	if err != nil {
		return "", false, false
	}
	about, valid := readSnapshot(dir, tree)
	if !valid || !s.rely(filepath.Join(dir, snapshotFile)) {
		return "", false, false
	}
	// What cannot be checked is not relied on; the index stays as long as the tree.
	if index, err := s.fileFor(indexes, string(tree), ".zst"); err != nil || !s.rely(s.path(index)) {
		return "", false, false
	}
	return filepath.Join(dir, "root"), about.Synced || about.Boot == boot(), true
}

// readSnapshot reads what is said of an unpacked tree, and tells whether it is one that may be relied on.
func readSnapshot(dir string, tree digest.Key) (about snapshot, valid bool) {
	text, err := os.ReadFile(filepath.Join(dir, snapshotFile))
	valid = err == nil && Unseal(text, &about) == nil && about.Tree == tree && about.Version == snapshotVersion
	return about, valid
}

// ownRoom is what two folders and the description of an unpacked tree take on the disk, in bytes.
const ownRoom = 3 * 4096

// PutSnapshot takes over a folder root in a temporary folder of this store as an unpacked tree and gives where it is now.
// One that is there already stays, and the temporary one is left to the caller.
func (s *Store) PutSnapshot(form string, tree digest.Key, temporary string, room Room) (string, error) {
	dir, err := s.snapshotDir(form, tree)
	if err != nil {
		return "", err
	}
	room.Bytes, room.Files = room.Bytes+ownRoom, room.Files+3
	if marks, err := os.Stat(filepath.Join(temporary, marksFile)); err == nil {
		room.Bytes, room.Files = room.Bytes+diskSize(marks), room.Files+1
	}
	s.unpacked.Store(true)
	text, err := Seal(snapshot{snapshotVersion, tree, room, boot(), false})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(temporary, snapshotFile), text, 0o600); err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o700); err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	err = os.Rename(temporary, dir)
	if errors.Is(err, fs.ErrExist) {
		if _, valid := readSnapshot(dir, tree); !valid { // what is there is of no use to anybody
			if err := s.removeFolder(dir); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return "", err
			}
			err = os.Rename(temporary, dir)
		}
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	s.rely(filepath.Join(dir, snapshotFile))
	s.unsynced.Store(dir, tree)
	return filepath.Join(dir, "root"), nil
}

// SyncSnapshots makes sure that what was unpacked since the store was opened lies on the disk, all at once. What cannot be
// synced is looked at after the machine has started again.
func (s *Store) SyncSnapshots() error {
	due := map[string]digest.Key{}
	s.unsynced.Range(func(dir, tree any) bool {
		due[dir.(string)] = tree.(digest.Key)
		return true
	})
	if len(due) == 0 {
		return nil
	}
	if err := syncFileSystem(s.Dir()); err != nil {
		return fmt.Errorf("writing to the store: %w", err)
	}
	for dir, tree := range due {
		s.unsynced.Delete(dir)
		about, valid := readSnapshot(dir, tree)
		if !valid {
			continue // it is gone, or another one by now
		}
		about.Synced = true
		if err := s.describe(dir, about); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) describe(dir string, about snapshot) error {
	text, err := Seal(about)
	if err != nil {
		return err
	}
	below, err := filepath.Rel(s.Dir(), filepath.Join(dir, snapshotFile))
	if err != nil {
		return err
	}
	return s.WriteQuick(below, text)
}

// SawSnapshot notes that an unpacked tree was found whole since the machine started.
func (s *Store) SawSnapshot(form string, tree digest.Key) error {
	dir, err := s.snapshotDir(form, tree)
	if err != nil {
		return err
	}
	about, valid := readSnapshot(dir, tree)
	if !valid {
		return nil // it is gone by now
	}
	about.Boot = boot()
	return s.describe(dir, about)
}

// DropDamaged removes an unpacked tree that is not what was unpacked, with every record of a command that had it below. It
// returns how many records these were.
func (s *Store) DropDamaged(form string, tree digest.Key) (records int, err error) {
	if err := s.DropSnapshot(form, tree); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	return dropSealed(s, runs, func(r *Run) bool {
		return slices.ContainsFunc(r.Over, func(below digest.Key) bool { return hexOf(string(below)) == hexOf(string(tree)) })
	})
}

// DropSnapshot removes an unpacked tree.
func (s *Store) DropSnapshot(form string, tree digest.Key) error {
	dir, err := s.snapshotDir(form, tree)
	if err != nil {
		return err
	}
	return s.removeFolder(dir)
}

// removeFolder takes a folder out of sight first, so that nobody finds half of it.
func (s *Store) removeFolder(dir string) error {
	away, err := s.hide(dir)
	if err != nil {
		return err
	}
	return s.Discard(away)
}

// hiddenPrefix begins the names of folders of removed folders.
const hiddenPrefix = "gone-"

// hide takes a folder out of sight, and returns the temporary folder that it lies in. removeHidden removes it.
func (s *Store) hide(dir string) (string, error) {
	away, err := os.MkdirTemp(s.path("imbricat", "tmp"), hiddenPrefix)
	if err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	if err := os.Rename(dir, filepath.Join(away, "gone")); err != nil {
		os.Remove(away)
		return "", err
	}
	return away, nil
}

// removeHidden removes folders that were taken out of sight, by this process or by others, until the context is done.
func (s *Store) removeHidden(ctx context.Context) {
	found, _ := filepath.Glob(s.path("imbricat", "tmp", hiddenPrefix+"*"))
	for _, dir := range found {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return errors.Join(err, ctx.Err())
			}
			return os.Remove(path)
		})
		if ctx.Err() != nil {
			return
		}
		if err == nil || s.Unlink != nil { // folders are left, or what others own
			_ = s.Discard(dir)
		}
	}
}

// Discard removes a temporary folder, of which parts may belong to other ids.
func (s *Store) Discard(dir string) error {
	err := os.RemoveAll(dir)
	if err != nil && s.Unlink != nil {
		err = s.Unlink(dir)
	}
	return err
}

// EachSnapshot visits the unpacked trees.
func (s *Store) EachSnapshot(visit func(form string, tree digest.Key, root string) error) error {
	forms, err := os.ReadDir(s.path("imbricat", snapshots))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("reading the store: %w", err)
	}
	for _, form := range forms {
		all, err := os.ReadDir(s.path("imbricat", snapshots, form.Name()))
		if err != nil {
			return fmt.Errorf("reading the store: %w", err)
		}
		for _, one := range all {
			root := s.path("imbricat", snapshots, form.Name(), one.Name(), "root")
			if err := visit(form.Name(), digest.Key(one.Name()), root); err != nil {
				return err
			}
		}
	}
	return nil
}
