package store

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// A lease is a file that its process keeps locked; its name begins with the time at which it was taken, in nanoseconds.
// The lock ends with the process, however that ends, so a file without one is what a kill left.

func (s *Store) takeLease() (*flock.Flock, error) {
	if err := os.MkdirAll(s.path("imbricat", "leases"), 0o700); err != nil {
		return nil, err
	}
	for {
		f, err := os.CreateTemp(s.path("imbricat", "leases"), strconv.FormatInt(time.Now().UnixNano(), 10)+"-*")
		if err != nil {
			return nil, err
		}
		name := f.Name()
		f.Close()
		lease := flock.New(name)
		if held, err := lease.TryLock(); err != nil {
			return nil, err
		} else if _, err := os.Stat(name); held && err == nil {
			return lease, nil
		}
		lease.Close() // a trimming process took it for one that is dead
	}
}

// oldestLease returns when the oldest lease that is held was taken; now where only this process has one. What dead
// processes left is removed.
func (s *Store) oldestLease() (time.Time, error) {
	oldest := time.Now()
	entries, err := os.ReadDir(s.path("imbricat", "leases"))
	if err != nil {
		return oldest, fmt.Errorf("reading the store's leases: %w", err)
	}
	for _, e := range entries {
		name := s.path("imbricat", "leases", e.Name())
		if s.lease != nil && name == s.lease.Path() {
			continue
		}
		lock := flock.New(name)
		free, err := lock.TryLock()
		if free && err == nil {
			os.Remove(name)
		}
		lock.Close()
		if taken := leaseTime(e.Name()); !free && taken.Before(oldest) {
			oldest = taken
		}
	}
	return oldest, nil
}

// leaseTime is when a lease was taken, by its name; now where that does not tell.
func leaseTime(name string) time.Time {
	stamp, _, _ := strings.Cut(name, "-")
	taken, err := strconv.ParseInt(stamp, 10, 64)
	if err != nil {
		return time.Now()
	}
	return time.Unix(0, taken)
}

// trimLock is held shared while a file is marked as used, and alone while files are removed, so that nothing is removed
// between somebody's look and his mark.
func (s *Store) trimLock() *flock.Flock {
	return flock.New(s.path("imbricat", "trim.lock"))
}

// rely marks a file as used now and tells whether it is there. A store that cannot be written to is not trimmed either.
func (s *Store) rely(path string) bool { return s.relyAt(path, time.Now()) }

// relyAt is rely for a file that gets a modification time, or keeps the one it has where that is zero.
func (s *Store) relyAt(path string, written time.Time) bool {
	lock := s.trimLock()
	if err := lock.RLock(); err == nil {
		defer lock.Close()
	}
	if err := os.Chtimes(path, time.Now(), written); err == nil {
		return true
	}
	_, err := os.Stat(filepath.Clean(path))
	return err == nil
}
