package store

import (
	"encoding/json"
	"os"
	"time"

	"imbricat/internal/digest"
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

func (s *Store) uploadFile(repository, blob string) (string, error) {
	return s.fileFor(uploads, string(digest.FromBytes([]byte(repository+"\n"+blob))), ".json")
}

// Upload gives the address of an upload that was begun and not finished; "" where there is none.
func (s *Store) Upload(repository, blob string) string {
	name, err := s.uploadFile(repository, blob)
	if err != nil {
		return ""
	}
	text, err := os.ReadFile(s.path(name))
	var b begun
	if err != nil || json.Unmarshal(text, &b) != nil || b.Repository != repository || b.Blob != blob || time.Since(b.Time) > maxUploadAge {
		return ""
	}
	return b.Address
}

// NoteUpload keeps the address of an upload; an empty one forgets it. It only saves work, so it cannot fail.
func (s *Store) NoteUpload(repository, blob, address string) {
	name, err := s.uploadFile(repository, blob)
	if err != nil {
		return
	}
	if address == "" {
		_ = os.Remove(s.path(name))
		return
	}
	if text, err := json.Marshal(begun{repository, blob, address, time.Now()}); err == nil {
		_ = s.WriteQuick(name, text)
	}
}
