// Package store keeps blobs by their digest, names for images, and records of finished work, in one folder that is a
// valid OCI image layout.
//
// Every write is atomic: a temporary file, synced, renamed. A kill at any moment loses nothing finished, and several
// processes may share a store. The package knows no registry and builds nothing.
package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"imbricat/internal/layout"
)

// format is the version of what lies below the folder imbricat/ of a store.
const format = "1"

// Store is an open store. Its methods may be called from several goroutines.
type Store struct{ *layout.Layout }

// Open opens a store and makes it where it does not exist.
func Open(dir string) (*Store, error) {
	l, err := layout.Create(dir, filepath.Join(dir, "imbricat", "tmp"))
	if err != nil {
		return nil, fmt.Errorf("opening the store: %w", err)
	}
	s := &Store{l}
	if err := s.checkFormat(); err != nil {
		return nil, err
	}
	s.sweep()
	return s, nil
}

func (s *Store) path(parts ...string) string {
	return filepath.Join(append([]string{s.Dir()}, parts...)...)
}

func (s *Store) checkFormat() error {
	text, err := os.ReadFile(s.path("imbricat", "format"))
	if errors.Is(err, fs.ErrNotExist) {
		return s.CreateOnce(filepath.Join("imbricat", "format"), []byte(format+"\n"))
	}
	if err != nil {
		return fmt.Errorf("opening the store: %w", err)
	}
	if found := strings.TrimSpace(string(text)); found != format {
		return fmt.Errorf("the store %s has format %q; this version of imbricat reads format %s: use another folder with --store", s.Dir(), found, format)
	}
	return nil
}

// sweep removes temporary files that a killed process left more than a day ago.
func (s *Store) sweep() {
	entries, err := os.ReadDir(s.path("imbricat", "tmp"))
	if err != nil {
		return
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
			os.RemoveAll(s.path("imbricat", "tmp", e.Name()))
		}
	}
}

// TemporaryFolder makes a folder that the caller removes; what a kill leaves is swept up later.
func (s *Store) TemporaryFolder() (string, error) {
	dir, err := os.MkdirTemp(s.path("imbricat", "tmp"), "work-*")
	if err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	return dir, nil
}

// use marks a file of the store as used now, so that trimming, which drops what was not used for long, spares it.
func (s *Store) use(name string) {
	now := time.Now()
	// A file that is gone or not ours costs work at most.
	_ = os.Chtimes(s.path(name), now, now)
}
