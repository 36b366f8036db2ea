// Package store keeps blobs by their digest, names for images, and records of finished work, in one folder that is a
// valid OCI image layout.
//
// Every write is atomic: a temporary file, synced, renamed. A kill at any moment loses nothing finished, and several
// processes may share a store. The package knows no registry and builds nothing.
package store

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
)

// format is the version of what lies below the folder imbricat/ of a store.
const format = "4"

// Store is an open store. Its methods may be called from several goroutines.
type Store struct {
	*layout.Layout
	// Unlink removes a folder of which parts belong to ids that only a user namespace may act as; nil where there is no
	// such thing.
	Unlink func(dir string) error
	// CheckTree compares an unpacked tree in a folder of some form with the lines of its entries; nil where none can be read.
	CheckTree func(form, root string, entries []byte) error
	// FetchElsewhere puts a blob that is elsewhere into the store; nil where nothing is brought.
	FetchElsewhere func(ctx context.Context, desc digest.Descriptor, place string) error
	// unsynced are unpacked trees of this process by their folders, until they lie on the disk.
	unsynced sync.Map // string to digest.Key
	// unpacked tells whether this process has unpacked a tree.
	unpacked atomic.Bool

	proven sync.Map // digest.Digest to fs.FileInfo: blobs whose bytes were compared with their names, see intact
	spoilt sync.Map // digest.Digest to string: blobs that were found to hold other bytes, and what was done

	lost  sync.Map // digest.Digest to []string: places that were forgotten by this process, see forgetPlaces
	lease *flock.Flock
}

// Open opens a store and makes it where it does not exist. While it is open it holds a lease: nothing that was used since
// then is trimmed away by any process.
func Open(dir string) (*Store, error) {
	// Sandboxes and helpers work elsewhere.
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, fmt.Errorf("opening the store: %w", err)
	}
	l, err := layout.CreatePrivate(dir, filepath.Join(dir, "imbricat", "tmp"))
	if err != nil {
		return nil, fmt.Errorf("opening the store: %w", err)
	}
	s := &Store{Layout: l}
	if err := s.checkFormat(); err != nil {
		return nil, err
	}
	// Who may only read a store holds no lease; what is trimmed meanwhile is missing, and said to be.
	if s.lease, err = s.takeLease(); err != nil && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, syscall.EROFS) {
		return nil, fmt.Errorf("opening the store: %w", err)
	}
	s.Use, s.Complete, s.Absent, s.Admit = s.relyOnBlob, mark, s.bring, s.admit
	s.Sweep()
	return s, nil
}

// Close gives the lease back. A process that ends without loses it too.
func (s *Store) Close() error {
	if s.lease == nil {
		return nil
	}
	name := s.lease.Path()
	return errors.Join(s.lease.Close(), os.Remove(name))
}

func (s *Store) path(parts ...string) string {
	return filepath.Join(append([]string{s.Dir()}, parts...)...)
}

// saved are the folders of what only saves work, below imbricat/.
var saved = []string{"records", trees, tables, notes, "memo", runs, traces, indexes, logs, elsewhere, uploads, claims, origins}

// checkFormat brings an older store up to date: what older formats kept beside blobs and names only saved work, and is
// made again.
func (s *Store) checkFormat() error {
	text, err := os.ReadFile(s.path("imbricat", "format"))
	if errors.Is(err, fs.ErrNotExist) {
		return s.CreateOnce(filepath.Join("imbricat", "format"), []byte(format+"\n"))
	}
	if err != nil {
		return fmt.Errorf("opening the store: %w", err)
	}
	switch found := strings.TrimSpace(string(text)); found {
	case format:
		return nil
	case "1", "2", "3":
		return s.renew()
	default:
		if _, err := strconv.Atoi(found); err == nil {
			return fmt.Errorf("the store %s has format %s; this version of imbricat reads formats 1 to %s: use the version that made it, or another folder with --store; where no later version was here the file is damaged, and `imbricat store check --repair` writes it again",
				s.Dir(), found, format)
		}
		return fmt.Errorf("%s of the store %s is damaged; `imbricat store check --repair` writes it again", filepath.Join("imbricat", "format"), s.Dir())
	}
}

// renew drops what only saves work and says which format there is now.
func (s *Store) renew() error {
	for _, folder := range saved {
		if err := os.RemoveAll(s.path("imbricat", folder)); err != nil {
			return fmt.Errorf("bringing the store %s up to date: %w", s.Dir(), err)
		}
	}
	return s.WriteFile(filepath.Join("imbricat", "format"), []byte(format+"\n"))
}

// MendFormat writes the format of a store again where that cannot be read or is none that is known, and drops what only
// saves work with it. It reports whether there was anything to mend.
func MendFormat(dir string) (bool, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return false, err
	}
	text, err := os.ReadFile(filepath.Join(dir, "imbricat", "format"))
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if n, numberErr := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && numberErr == nil && n > 0 && strconv.Itoa(n) <= format {
		return false, nil
	}
	l, err := layout.CreatePrivate(dir, filepath.Join(dir, "imbricat", "tmp"))
	if err != nil {
		return false, fmt.Errorf("opening the store: %w", err)
	}
	return true, (&Store{Layout: l}).renew()
}

// Sweep removes what killed processes left unfinished: folders at once, since they name the lease of their process, and
// files after a day.
func (s *Store) Sweep() {
	entries, err := os.ReadDir(s.path("imbricat", "tmp"))
	if err != nil {
		return
	}
	for _, e := range entries {
		name := s.path("imbricat", "tmp", e.Name())
		lease, of, named := strings.Cut(strings.TrimPrefix(e.Name(), workPrefix), "_")
		switch info, err := e.Info(); {
		case err != nil:
		case strings.HasPrefix(e.Name(), workPrefix) && named && of != "":
			if !s.holds(lease) {
				_ = s.Discard(name) // what cannot go now goes with the next one who may
			}
		case time.Since(info.ModTime()) > 24*time.Hour:
			os.RemoveAll(name)
		}
	}
}

// holds reports whether a process that lives has a lease.
func (s *Store) holds(lease string) bool {
	name := s.path("imbricat", "leases", lease)
	if s.lease != nil && name == s.lease.Path() {
		return true
	}
	if _, err := os.Stat(name); err != nil {
		return false
	}
	lock := flock.New(name)
	free, err := lock.TryLock()
	lock.Close()
	return err != nil || !free
}

// workPrefix begins the names of temporary folders; the name of a lease and an underscore follow.
const workPrefix = "work-"

// Trusted reports whether something about this machine was found to hold since it started, and what was noted with it.
func (s *Store) Trusted(name string) (string, bool) {
	text, found := s.Memo(name)
	note, is := strings.CutPrefix(string(text), boot()+"\n")
	return note, found && is
}

// Trust notes that something about this machine holds until it is started again.
func (s *Store) Trust(name, note string) error {
	return s.PutMemo(name, []byte(boot()+"\n"+note))
}

// TemporaryFolder makes a folder that the caller removes; what a kill leaves is swept up later.
func (s *Store) TemporaryFolder() (string, error) {
	lease := "none"
	if s.lease != nil {
		lease = filepath.Base(s.lease.Path())
	}
	dir, err := os.MkdirTemp(s.path("imbricat", "tmp"), workPrefix+lease+"_*")
	if err != nil {
		return "", fmt.Errorf("writing to the store: %w", err)
	}
	return dir, nil
}
