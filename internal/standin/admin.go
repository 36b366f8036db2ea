package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
)

// Repository is what the stand-in tells of one of its repositories.
type Repository struct {
	Name   string    `json:"name"`
	Tags   int       `json:"tags"`
	Bytes  int64     `json:"bytes"` // of all that it holds; what repositories share counts in each
	Closed bool      `json:"closed"`
	Pushed time.Time `json:"pushed,omitzero"` // the last tag
	Pull   []string  `json:"pull"`            // who may; empty: whoever has a login
	Push   []string  `json:"push"`
}

// Tag is what the stand-in tells of a tag.
type Tag struct {
	Name      string        `json:"name"`
	Digest    digest.Digest `json:"digest"`
	Platforms []string      `json:"platforms"`
	Bytes     int64         `json:"bytes"` // of its blobs, each once
	Pushed    time.Time     `json:"pushed"`
}

// ErrName is that something is no name of a repository.
var ErrName = errors.New("it is not a name of a repository: lower-case letters, digits and - _ . in parts between /")

// Create makes a repository by hand. It tells whether there was none before.
func (s *Server) Create(name string) (bool, error) {
	if !nameForm.MatchString(name) || len(name) > 255 {
		return false, fmt.Errorf("%q: %w", name, ErrName)
	}
	defer s.storage.lock("note of " + name)()
	if s.storage.has(name) {
		return false, nil
	}
	if err := s.storage.putNote(name, Note{Created: time.Now().UTC()}); err != nil {
		return false, err
	}
	s.byKeeper(Event{What: "create", Repository: name})
	return true, nil
}

// Change changes what is said of a repository by hand. One that does not exist is fs.ErrNotExist.
func (s *Server) Change(name, what string, change func(n *Note)) error {
	if !nameForm.MatchString(name) || !s.storage.has(name) {
		return fmt.Errorf("there is no repository %q: %w", name, fs.ErrNotExist)
	}
	defer s.storage.lock("note of " + name)()
	n, made := s.storage.note(name)
	if !made {
		n.Created = time.Now().UTC()
	}
	change(&n)
	if err := s.storage.putNote(name, n); err != nil {
		return err
	}
	s.byKeeper(Event{What: what, Repository: name})
	return nil
}

// Repositories lists those that pass a test.
func (s *Server) Repositories(want func(name string) bool) ([]Repository, error) {
	names, err := s.storage.repositories()
	if err != nil {
		return nil, err
	}
	list := []Repository{}
	for _, name := range names {
		if !want(name) {
			continue
		}
		tags, err := s.storage.tags(name)
		if err != nil {
			return nil, err
		}
		rule := s.rightsOf(name)
		one := Repository{Name: name, Tags: len(tags), Closed: rule.Closed, Pull: orNone(rule.Pull), Push: orNone(rule.Push)}
		if one.Bytes, err = s.storage.held(name); err != nil {
			return nil, err
		}
		for _, tag := range tags {
			if at := s.storage.tagged(name, tag); at.After(one.Pushed) {
				one.Pushed = at
			}
		}
		list = append(list, one)
	}
	return list, nil
}

func orNone(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

// Tags describes a repository's tags.
func (s *Server) Tags(repository string) ([]Tag, error) {
	names, err := s.storage.tags(repository)
	if err != nil {
		return nil, err
	}
	list := []Tag{}
	for _, name := range names {
		d, err := s.storage.tag(repository, name)
		if err != nil {
			continue
		}
		one := Tag{Name: name, Digest: d, Pushed: s.storage.tagged(repository, name), Platforms: []string{}}
		s.describe(repository, d, &one, map[digest.Digest]bool{}, 0)
		list = append(list, one)
	}
	return list, nil
}

// describe adds the platforms and the size of what a digest stands for.
func (s *Server) describe(repository string, d digest.Digest, t *Tag, seen map[digest.Digest]bool, depth int) {
	_, body, err := s.storage.manifest(repository, d)
	if err != nil || seen[d] || depth > 4 {
		return
	}
	seen[d] = true
	p := readParts(body)
	for _, child := range p.Manifests {
		if child.Platform != nil {
			t.Platforms = append(t.Platforms, platformOf(child.Platform.OS, child.Platform.Architecture, child.Platform.Variant))
		}
		s.describe(repository, child.Digest, t, seen, depth+1)
	}
	for _, blob := range p.blobs() {
		if !seen[blob.Digest] {
			seen[blob.Digest] = true
			t.Bytes += blob.Size
		}
	}
	if depth == 0 && p.Config != nil && p.Config.Size < maxManifest && p.Config.Digest.Validate() == nil {
		var config v1.Image
		if text, err := s.storage.read(s.storage.blobPath(p.Config.Digest)); err == nil && json.Unmarshal(text, &config) == nil && config.OS != "" {
			t.Platforms = append(t.Platforms, platformOf(config.OS, config.Architecture, config.Variant))
		}
	}
}

func platformOf(parts ...string) string { return strings.TrimRight(strings.Join(parts, "/"), "/") }

// Events lists the last events, the newest last; of one repository where a name is given.
func (s *Server) Events(most int, repository string) ([]Event, error) {
	return s.journal.list(most, func(e Event) bool { return repository == "" || e.Repository == repository })
}
