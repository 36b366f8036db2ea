package store

import (
	"encoding/json"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/ground/digest"
)

// uploads notes where uploads to registries stand, so that a later run goes on with them.
const uploads = "uploads"

// maxUploadAge is how long such a note is believed: registries forget uploads too.
const maxUploadAge = 24 * time.Hour

type begun struct {
	Repository string    `json:"repository"` // HOST/REPOSITORY
	Blob       string    `json:"blob"`
	Address    string    `json:"address"`
	Time       time.Time `json:"time"`
}

// Upload is the note of an upload that this process alone works on.
type Upload struct {
	store *Store
	lock  *flock.Flock
	name  string
	note  begun
}

// TakeUpload opens the note of a blob's upload to a repository, new or left by an earlier run. It is nil while another
// process works on that upload, and where nothing can be noted: a note only saves work.
func (s *Store) TakeUpload(repository string, blob digest.Digest) *Upload {
	name, err := s.fileFor(uploads, string(digest.FromBytes([]byte(repository+"\n"+string(blob)))), ".json")
	if err != nil || os.MkdirAll(filepath.Dir(s.path(name)), 0o700) != nil {
		return nil
	}
	u := &Upload{store: s, lock: flock.New(s.path(name) + ".lock"), name: name, note: begun{Repository: repository, Blob: string(blob)}}
	if held, err := u.lock.TryLock(); err != nil || !held {
		return nil
	}
	var old begun
	text, err := os.ReadFile(s.path(name))
	if err == nil && json.Unmarshal(text, &old) == nil && old.Repository == repository && old.Blob == string(blob) && time.Since(old.Time) < maxUploadAge {
		u.note.Address = old.Address
	}
	return u
}

// Address is where the upload was begun; "" where it was not.
func (u *Upload) Address() string { return u.note.Address }

// Note keeps where the upload stands.
func (u *Upload) Note(address string) {
	u.note.Address, u.note.Time = address, time.Now()
	if text, err := json.Marshal(u.note); err == nil {
		_ = u.store.WriteQuick(u.name, text)
	}
}

// Release ends the work on the upload. What is finished is forgotten.
func (u *Upload) Release(finished bool) {
	if finished || u.note.Address == "" {
		_ = os.Remove(u.store.path(u.name))
		_ = os.Remove(u.lock.Path())
	}
	_ = u.lock.Unlock()
}
