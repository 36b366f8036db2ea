package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/digest"
)

// Run is a finished run step: the tree that the command left.
type Run struct {
	Key    digest.Key `json:"key"`
	Tree   digest.Key `json:"tree"`
	Files  int        `json:"files"`
	Bytes  int64      `json:"bytes"` // of the files
	Millis int64      `json:"millis"`
	Made   time.Time  `json:"made"`
	Kept   []string   `json:"kept,omitempty"` // kept directories that the command had
}

// More kinds of what only saves work.
const (
	runs      = "runs"      // run records, by their keys
	indexes   = "indexes"   // entries of trees, by the trees' keys
	logs      = "logs"      // what commands printed, by the keys of their runs
	snapshots = "snapshots" // unpacked trees, by the form of the folders and the trees' keys
	keptKind  = "kept"      // kept directories, by who owns them and their names
)

// Run finds what a command left before.
func (s *Store) Run(key digest.Key) (*Run, bool) {
	name, err := s.fileFor(runs, string(key), ".json")
	if err != nil {
		return nil, false
	}
	text, err := os.ReadFile(s.path(name))
	var r Run
	if err != nil || json.Unmarshal(text, &r) != nil || r.Key != key {
		return nil, false
	}
	return &r, s.rely(s.path(name))
}

// PutRun keeps that a command ran: what it printed, and last the record. The entries of its tree are kept before.
func (s *Store) PutRun(r *Run, log []byte) error {
	if err := s.keep(logs, string(r.Key), log); err != nil {
		return err
	}
	name, err := s.fileFor(runs, string(r.Key), ".json")
	if err != nil {
		return err
	}
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.WriteFile(name, text)
}

// Log gives what the command of a run printed.
func (s *Store) Log(key digest.Key) ([]byte, bool) { return s.kept(logs, string(key)) }

// Entries gives the entries of a tree, as lines.
func (s *Store) Entries(tree digest.Key) ([]byte, bool) { return s.kept(indexes, string(tree)) }

// PutEntries keeps the entries of a tree.
func (s *Store) PutEntries(tree digest.Key, entries []byte) error {
	return s.keep(indexes, string(tree), entries)
}

// snapshot describes an unpacked tree.
type snapshot struct {
	Tree  digest.Key `json:"tree"`
	Bytes int64      `json:"bytes"`
	Boot  string     `json:"boot"` // which start of the machine saw it whole
}

const snapshotFile = "snapshot.json"

// boot names this start of the machine. What is unpacked is not synced file by file; after another start it is looked at
// before it is relied on.
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
		return "", fmt.Errorf("%q in the form %q is no unpacked tree", tree, form)
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
	text, err := os.ReadFile(filepath.Join(dir, snapshotFile))
	var about snapshot
	if err != nil || json.Unmarshal(text, &about) != nil || about.Tree != tree || !s.rely(filepath.Join(dir, snapshotFile)) {
		return "", false, false
	}
	// What cannot be checked is not relied on; the index stays as long as the tree.
	if index, err := s.fileFor(indexes, string(tree), ".zst"); err != nil || !s.rely(s.path(index)) {
		return "", false, false
	}
	return filepath.Join(dir, "root"), about.Boot == boot(), true
}

// PutSnapshot takes over a folder root in a temporary folder of this store as an unpacked tree and gives where it is now.
// One that is there already stays, and the temporary one is left to the caller.
func (s *Store) PutSnapshot(form string, tree digest.Key, temporary string, bytes int64) (string, error) {
	dir, err := s.snapshotDir(form, tree)
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(snapshot{tree, bytes, boot()})
	if err != nil {
		return "", err
	}
	if err := os.WriteFile(filepath.Join(temporary, snapshotFile), text, 0o644); err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	err = os.Rename(temporary, dir)
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	s.rely(filepath.Join(dir, snapshotFile))
	return filepath.Join(dir, "root"), nil
}

// SawSnapshot notes that an unpacked tree was found whole since the machine started.
func (s *Store) SawSnapshot(form string, tree digest.Key, bytes int64) error {
	dir, err := s.snapshotDir(form, tree)
	if err != nil {
		return err
	}
	text, err := json.Marshal(snapshot{tree, bytes, boot()})
	if err != nil {
		return err
	}
	below, err := filepath.Rel(s.Dir(), filepath.Join(dir, snapshotFile))
	if err != nil {
		return err
	}
	return s.WriteQuick(below, text)
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
	away, err := s.TemporaryFolder()
	if err != nil {
		return err
	}
	if err := os.Rename(dir, filepath.Join(away, "gone")); err != nil {
		os.Remove(away)
		return err
	}
	return s.Discard(away)
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

// Kept is a kept directory.
type Kept struct {
	Name   string
	Owners string // whose ids its files have
	Dir    string
	Used   time.Time
}

// Holder says who has a kept directory.
type Holder struct {
	Step    string    `json:"step"`
	Process int       `json:"process"`
	Since   time.Time `json:"since"`
}

func (s *Store) keptPath(owners, name string) string {
	return s.path("imbricat", keptKind, owners, name)
}

// Kept gives a kept directory, which may not exist yet, and the lock that guards it.
func (s *Store) Kept(owners, name string) (Kept, *flock.Flock, error) {
	if name == "" || name != filepath.Base(name) || owners != filepath.Base(owners) || strings.HasPrefix(name, ".") {
		return Kept{}, nil, fmt.Errorf("%q is no name of a kept directory", name)
	}
	path := s.keptPath(owners, name)
	if err := os.MkdirAll(path, 0o755); err != nil {
		return Kept{}, nil, fmt.Errorf("writing to the store: %w", err)
	}
	return Kept{Name: name, Owners: owners, Dir: filepath.Join(path, "data")}, flock.New(filepath.Join(path, "lock")), nil
}

// HoldKept notes who has a kept directory, for those who wait, and when it was used.
func (s *Store) HoldKept(k Kept, h Holder) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(filepath.Dir(k.Dir), "holder.json"), text, 0o644)
}

// KeptHolder tells who had a kept directory last.
func (s *Store) KeptHolder(k Kept) (Holder, bool) {
	text, err := os.ReadFile(filepath.Join(filepath.Dir(k.Dir), "holder.json"))
	var h Holder
	return h, err == nil && json.Unmarshal(text, &h) == nil
}

// KeptList lists the kept directories, sorted by name.
func (s *Store) KeptList() ([]Kept, error) {
	var all []Kept
	found, err := filepath.Glob(s.path("imbricat", keptKind, "*", "*", "data"))
	if err != nil {
		return nil, err
	}
	for _, dir := range found {
		path := filepath.Dir(dir)
		k := Kept{Name: filepath.Base(path), Owners: filepath.Base(filepath.Dir(path)), Dir: dir}
		for _, file := range []string{path, filepath.Join(path, "holder.json")} {
			if info, err := os.Stat(file); err == nil && info.ModTime().After(k.Used) {
				k.Used = info.ModTime()
			}
		}
		all = append(all, k)
	}
	return all, nil
}

// DropKept removes a kept directory that nobody has; it tells whether it did.
func (s *Store) DropKept(owners, name string) (bool, error) {
	k, lock, err := s.Kept(owners, name)
	if err != nil {
		return false, err
	}
	if free, err := lock.TryLock(); err != nil || !free {
		return false, err
	}
	defer lock.Close()
	return true, s.removeFolder(k.Dir)
}
