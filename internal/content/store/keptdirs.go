package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/ground/digest"
)

// KeptDir is a kept directory.
type KeptDir struct {
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

// Kept returns a kept directory, which may not exist yet, and the lock that guards it.
func (s *Store) Kept(owners, name string) (KeptDir, *flock.Flock, error) {
	if name == "" || name != filepath.Base(name) || owners != filepath.Base(owners) || strings.HasPrefix(name, ".") {
		return KeptDir{}, nil, fmt.Errorf("%q is not a valid name of a kept directory", name)
	}
	path := s.keptPath(owners, name)
	if err := os.MkdirAll(path, 0o700); err != nil {
		return KeptDir{}, nil, fmt.Errorf("writing to the store: %w", err)
	}
	return KeptDir{Name: name, Owners: owners, Dir: filepath.Join(path, "data")}, flock.New(filepath.Join(path, "lock")), nil
}

// HoldKept notes who has a kept directory, for those who wait, and when it was used.
func (s *Store) HoldKept(k KeptDir, h Holder) error {
	text, err := json.Marshal(h)
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(filepath.Dir(k.Dir), "holder.json"), text, 0o600)
}

// KeptHolder tells who had a kept directory last.
func (s *Store) KeptHolder(k KeptDir) (Holder, bool) {
	text, err := os.ReadFile(filepath.Join(filepath.Dir(k.Dir), "holder.json"))
	var h Holder
	return h, err == nil && json.Unmarshal(text, &h) == nil
}

// KeptDirs lists the kept directories, sorted by name.
func (s *Store) KeptDirs() ([]KeptDir, error) {
	var all []KeptDir
	found, err := filepath.Glob(s.path("imbricat", keptKind, "*", "*", "data"))
	if err != nil {
		return nil, err
	}
	for _, dir := range found {
		path := filepath.Dir(dir)
		k := KeptDir{Name: filepath.Base(path), Owners: filepath.Base(filepath.Dir(path)), Dir: dir}
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
	return s.dropKept(owners, name, s.removeFolder)
}

func (s *Store) dropKept(owners, name string, dispose func(dir string) error) (bool, error) {
	k, lock, err := s.Kept(owners, name)
	if err != nil {
		return false, err
	}
	if free, err := lock.TryLock(); err != nil || !free {
		return false, err
	}
	defer lock.Close()
	return true, errors.Join(os.RemoveAll(k.file(fillsFile)), dispose(k.Dir))
}

// Fill is what filled a kept directory: a command, and the run of it that did so last.
type Fill struct {
	Key     digest.Key `json:"key"`             // of the command
	Trace   digest.Key `json:"trace,omitempty"` // of the run; empty: it began, and nobody knows how far it came
	Project string     `json:"project"`
	Unit    string     `json:"unit"`
	Step    int        `json:"step"` // by its place in the unit
}

const (
	fillsFile = "fills.json"
	// mostFills bounds how many are remembered; the oldest go, and what they filled is filled again when it is needed.
	mostFills = 1000
	maxFills  = 4 << 20 // bytes of such a file
)

func (k KeptDir) file(name string) string { return filepath.Join(filepath.Dir(k.Dir), name) }

// Fills tells what filled a kept directory, the latest last. What cannot be read counts as nothing.
func (s *Store) Fills(k KeptDir) []Fill {
	all, err := readFills(k.file(fillsFile))
	if err != nil {
		return nil
	}
	return all
}

func readFills(name string) ([]Fill, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxFills {
		return nil, fmt.Errorf("%s has more than %d bytes", name, maxFills)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var all []Fill
	err = Unseal(text, &all)
	return all, err
}

// NoteFill remembers that a run filled a kept directory, or begins to.
func (s *Store) NoteFill(k KeptDir, f Fill) error {
	lock := flock.New(k.file("fills.lock")) // several may have the directory at once
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("writing to the store: %w", err)
	}
	defer lock.Close()
	all := slices.DeleteFunc(s.Fills(k), func(old Fill) bool {
		return old.Key == f.Key && old.Project == f.Project && old.Unit == f.Unit
	})
	return s.putFills(k, append(all, f))
}

func (s *Store) putFills(k KeptDir, all []Fill) error {
	text, err := Seal(all[max(0, len(all)-mostFills):])
	if err != nil {
		return err
	}
	below, err := filepath.Rel(s.Dir(), k.file(fillsFile))
	if err != nil {
		return err
	}
	return s.WriteFile(below, text)
}

// ExportFills writes what is known of a kept directory into a file.
func (s *Store) ExportFills(k KeptDir, file string) error {
	text, err := Seal(s.Fills(k))
	if err != nil {
		return err
	}
	return os.WriteFile(file, text, 0o644)
}

// ImportFills has a kept directory brought from elsewhere and takes over what a file says about it; without the file nothing
// is known of it, nor while it is brought.
func (s *Store) ImportFills(k KeptDir, file string, bring func() error) error {
	all, err := readFills(file)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading %s: %w", file, err)
	}
	if err := os.RemoveAll(k.file(fillsFile)); err != nil {
		return fmt.Errorf("writing to the store: %w", err)
	}
	if err := bring(); err != nil || len(all) == 0 {
		return err
	}
	return s.putFills(k, all)
}
