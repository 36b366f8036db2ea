package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"imbricat/internal/digest"
	"imbricat/internal/layout"
)

// elsewhere notes where blobs can be had, by their digests: those that an image of the store needs and that nobody here
// has opened yet, and those that need not be sent where they are already.
const elsewhere = "elsewhere"

// whereabouts is such a note.
type whereabouts struct {
	Blob   digest.Descriptor `json:"blob"`
	Places []string          `json:"places"` // HOST/REPOSITORY, or an absolute folder of a layout
}

// mostPlaces bounds how many places are noted for a blob; the latest stay.
const mostPlaces = 4

// ErrNotThere is wrapped when a place does not have a blob that it was said to have.
var ErrNotThere = errors.New("it is not there any more")

// AwayError says that a blob which is elsewhere could not be brought.
type AwayError struct {
	Blob   digest.Digest
	Places []string
	Err    error
}

func (e *AwayError) Error() string {
	if len(e.Places) == 0 {
		return fmt.Sprintf("the blob %s is not in the store: build or pull again", e.Blob)
	}
	text := fmt.Sprintf("bringing the blob %s, which is not in the store: %s", e.Blob, e.Err)
	if errors.Is(e.Err, ErrNotThere) {
		text += "; build again, which makes it here"
	}
	return text
}

func (e *AwayError) Unwrap() error { return e.Err }

// NoteElsewhere keeps that a blob can be had at a place.
func (s *Store) NoteElsewhere(desc digest.Descriptor, place string) error {
	places := s.Elsewhere(desc.Digest)
	if slices.Contains(places, place) || len(desc.Digest.Encoded()) != 64 { // notes are kept for the usual algorithm alone
		return nil
	}
	name, err := s.fileFor(elsewhere, string(desc.Digest), ".json")
	if err != nil {
		return err
	}
	places = append([]string{place}, places...)
	text, err := json.Marshal(whereabouts{desc, places[:min(len(places), mostPlaces)]})
	if err != nil {
		return err
	}
	return s.WriteQuick(name, text)
}

// Elsewhere gives the places where a blob can be had, the last noted first.
func (s *Store) Elsewhere(d digest.Digest) []string {
	name, err := s.fileFor(elsewhere, string(d), ".json")
	if err != nil {
		return nil
	}
	text, err := os.ReadFile(s.path(name))
	var w whereabouts
	if err != nil || json.Unmarshal(text, &w) != nil || w.Blob.Digest != d {
		return nil
	}
	s.rely(s.path(name))
	return w.Places
}

// ForgetPlaces drops some places, which turned out to be of no use, from all notes.
func (s *Store) ForgetPlaces(places []string) {
	s.lost.Clear()
	s.forgetPlaces(places)
}

// forgetPlaces is ForgetPlaces, for whoever keeps in mind what is lost by it: others who are about to open the same blob
// are to learn that it was elsewhere until now.
func (s *Store) forgetPlaces(places []string) {
	_ = s.eachFile(filepath.Join("imbricat", elsewhere), func(path string) error {
		text, err := os.ReadFile(path)
		var w whereabouts
		if err != nil || json.Unmarshal(text, &w) != nil {
			return os.Remove(path)
		}
		left := slices.DeleteFunc(slices.Clone(w.Places), func(p string) bool { return slices.Contains(places, p) })
		if len(left) == len(w.Places) {
			return nil
		}
		name, err := filepath.Rel(s.Dir(), path)
		if err == nil {
			text, err = json.Marshal(whereabouts{w.Blob, left})
		}
		if err != nil || len(left) == 0 {
			s.lost.Store(w.Blob.Digest, w.Places)
			return os.Remove(path)
		}
		return s.WriteQuick(name, text)
	})
}

// Knows tells whether a blob is here, or elsewhere in a place that is known.
func (s *Store) Knows(desc digest.Descriptor) bool {
	return s.Has(desc) || len(s.Elsewhere(desc.Digest)) > 0
}

// bring gets a blob that is elsewhere. It tells whether there was anything to do.
func (s *Store) bring(ctx context.Context, desc digest.Descriptor) (bool, error) {
	places := s.Elsewhere(desc.Digest)
	if len(places) == 0 {
		if lost, was := s.lost.Load(desc.Digest); was {
			return true, &AwayError{desc.Digest, lost.([]string), ErrNotThere}
		}
		return true, &AwayError{desc.Digest, nil, layout.ErrNotFound}
	}
	if s.Bring == nil {
		return false, nil
	}
	var all []error
	for _, place := range places {
		err := s.Bring(ctx, desc, place)
		if err == nil {
			return true, nil
		}
		if all = append(all, err); errors.Is(err, ErrNotThere) || errors.Is(err, digest.ErrMismatch) {
			s.forgetPlaces([]string{place}) // a place that lost one blob has likely lost others
		}
	}
	return true, &AwayError{desc.Digest, places, errors.Join(all...)}
}
