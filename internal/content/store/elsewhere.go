package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
)

// elsewhere notes where blobs can be had, by their digests: those that an image of the store needs and that nobody here
// has opened yet, and those that need not be sent where they are already.
const elsewhere = "elsewhere"

// whereabouts is such a note.
type whereabouts struct {
	Blob   digest.Descriptor `json:"blob"`
	Places []string          `json:"places"`         // HOST/REPOSITORY, or an absolute folder of a layout, that lend it: it counts as being here
	Seen   []string          `json:"seen,omitempty"` // HOST/REPOSITORY where it was pulled from or pushed to: it need not be sent to their neighbours
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
	Here   bool // it is here, and is not what the places said
}

func (e *AwayError) Error() string {
	if e.Here {
		return fmt.Sprintf("the layer %s is not what %s said: %s; build again, which makes it here, and see `imbricat store forget`", e.Blob, strings.Join(e.Places, ", "), e.Err)
	}
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

// NoteElsewhere keeps that a blob can be had at a place, which is as good as having it.
func (s *Store) NoteElsewhere(desc digest.Descriptor, place string) error {
	return s.notePlace(desc, place, func(w *whereabouts) *[]string { return &w.Places })
}

// NoteSeen keeps that a place had a blob when it was pulled or pushed. That is no reason to do without it here.
func (s *Store) NoteSeen(desc digest.Descriptor, place string) error {
	return s.notePlace(desc, place, func(w *whereabouts) *[]string { return &w.Seen })
}

func (s *Store) notePlace(desc digest.Descriptor, place string, list func(w *whereabouts) *[]string) error {
	w := s.whereabouts(desc.Digest)
	places := list(&w)
	if slices.Contains(*places, place) || len(desc.Digest.Encoded()) != 64 { // notes are kept for the usual algorithm alone
		return nil
	}
	name, err := s.fileFor(elsewhere, string(desc.Digest), ".json")
	if err != nil {
		return err
	}
	all := append([]string{place}, *places...)
	w.Blob, *places = desc, all[:min(len(all), mostPlaces)]
	text, err := Seal(w)
	if err != nil {
		return err
	}
	return s.WriteQuick(name, text)
}

// whereabouts reads the note of a blob; it is empty where there is none.
func (s *Store) whereabouts(d digest.Digest) (w whereabouts) {
	name, err := s.fileFor(elsewhere, string(d), ".json")
	if err != nil {
		return w
	}
	text, err := os.ReadFile(s.path(name))
	if err != nil || Unseal(text, &w) != nil || w.Blob.Digest != d {
		return whereabouts{}
	}
	s.rely(s.path(name))
	return w
}

// Elsewhere returns the places where a blob can be had, the last noted first.
func (s *Store) Elsewhere(d digest.Digest) []string {
	w := s.whereabouts(d)
	return w.Places
}

// Neighbours returns all places that are known to have, or have had, a blob.
func (s *Store) Neighbours(d digest.Digest) []string {
	w := s.whereabouts(d)
	return append(w.Places, w.Seen...)
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
		if err != nil || Unseal(text, &w) != nil {
			return os.Remove(path)
		}
		useless := func(p string) bool { return slices.Contains(places, p) }
		left, seen := slices.DeleteFunc(slices.Clone(w.Places), useless), slices.DeleteFunc(slices.Clone(w.Seen), useless)
		if len(left) == len(w.Places) && len(seen) == len(w.Seen) {
			return nil
		}
		if len(left) == 0 && len(w.Places) > 0 {
			s.lost.Store(w.Blob.Digest, w.Places)
		}
		name, err := filepath.Rel(s.Dir(), path)
		if err == nil {
			text, err = Seal(whereabouts{w.Blob, left, seen})
		}
		if err != nil || len(left)+len(seen) == 0 {
			return os.Remove(path)
		}
		return s.WriteQuick(name, text)
	})
}

// Knows reports whether a blob is here, or elsewhere in a place that is known.
func (s *Store) Knows(desc digest.Descriptor) bool {
	return s.Has(desc) || len(s.Elsewhere(desc.Digest)) > 0
}

// bring gets a blob that is elsewhere. It tells whether there was anything to do.
func (s *Store) bring(ctx context.Context, desc digest.Descriptor) (bool, error) {
	places := s.Elsewhere(desc.Digest)
	if len(places) == 0 {
		if lost, was := s.lost.Load(desc.Digest); was {
			return true, &AwayError{Blob: desc.Digest, Places: lost.([]string), Err: ErrNotThere}
		}
		return true, &AwayError{Blob: desc.Digest, Err: layout.ErrNotFound}
	}
	if s.FetchElsewhere == nil {
		return false, nil
	}
	var all []error
	for _, place := range places {
		err := s.FetchElsewhere(ctx, desc, place)
		if err == nil {
			return true, nil
		}
		if all = append(all, err); errors.Is(err, ErrNotThere) || errors.Is(err, digest.ErrMismatch) {
			s.forgetPlaces([]string{place}) // a place that lost one blob has likely lost others
		}
	}
	return true, &AwayError{Blob: desc.Digest, Places: places, Err: errors.Join(all...)}
}
