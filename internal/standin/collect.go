package standin

import (
	"errors"
	"io/fs"
	"path/filepath"
	"time"

	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/retention"
)

// Cleaned tells what a clean-up removed.
type Cleaned struct {
	Tags      int   `json:"tags"`      // by rules of retention
	Manifests int   `json:"manifests"` // that those tags stood on
	Blobs     int   `json:"blobs"`
	Uploads   int   `json:"uploads"`
	Bytes     int64 `json:"bytes"`
}

// Clean applies the rules of retention and removes content that nothing lists. No stand-in may be running on the folder: a
// running one cleans by itself.
func (s *Server) Clean() (Cleaned, error) {
	release, err := s.own()
	if err != nil {
		return Cleaned{}, err
	}
	defer release()
	return s.clean()
}

func (s *Server) clean() (c Cleaned, err error) {
	all, err := s.storage.repositories()
	if err != nil {
		return c, err
	}
	for _, one := range all {
		if err := s.retain(one, &c); err != nil {
			return c, err
		}
	}
	if err := s.storage.collect(all, s.o.Grace, &c); err != nil {
		return c, err
	}
	if c != (Cleaned{}) {
		s.byKeeper(Event{What: "clean", Bytes: c.Bytes})
	}
	return c, nil
}

// retain drops the tags of a repository that its rule does not keep, and the manifests that nothing reaches then.
func (s *Server) retain(repository string, c *Cleaned) error {
	rule := s.rightsOf(repository)
	if !rule.Retain.given {
		return nil
	}
	defer s.storage.lock("tags of " + repository)()
	names, err := s.storage.tags(repository)
	if err != nil {
		return err
	}
	var tags []retention.Tag
	for _, name := range names {
		if d, err := s.storage.tag(repository, name); err == nil {
			tags = append(tags, retention.Tag{Name: name, Digest: d, Time: s.storage.tagged(repository, name)})
		}
	}
	keep := rule.Retain.rule
	keep.Keep = append(append([]string{}, keep.Keep...), rule.Fixed...)
	verdicts := retention.Decide(tags, keep, time.Now())
	for _, v := range verdicts {
		if v.Keep {
			continue
		}
		if err := s.storage.files.Remove(s.storage.link(repository, "_tags", v.Name)); err != nil {
			return err
		}
		c.Tags++
		s.byKeeper(Event{What: "delete", Repository: repository, Tag: v.Name, Digest: v.Digest, Why: "retention"})
	}
	for _, d := range retention.Doomed(verdicts, func(d digest.Digest) []digest.Digest { return s.storage.children(repository, d) }) {
		if err := s.storage.dropManifest(repository, d); err == nil {
			c.Manifests++
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// children lists the manifests that an index lists.
func (s *storage) children(repository string, d digest.Digest) (list []digest.Digest) {
	_, body, err := s.manifest(repository, d)
	if err != nil {
		return nil
	}
	for _, one := range readParts(body).Manifests {
		if one.Digest.Validate() == nil {
			list = append(list, one.Digest)
		}
	}
	return list
}

// collect removes links to blobs that no manifest of their repository lists, blobs without a link, and uploads that were
// given up; all of it only where nobody touched it for a while.
func (s *storage) collect(repositories []string, grace time.Duration, c *Cleaned) error {
	s.links.Lock()
	defer s.links.Unlock()
	linkedBlobs := map[digest.Digest]bool{}
	for _, one := range repositories {
		if err := s.collectLinks(one, grace, linkedBlobs); err != nil {
			return err
		}
	}
	algorithms, err := s.names("blobs")
	if err != nil {
		return err
	}
	for _, algorithm := range algorithms {
		blobs, err := s.names(filepath.Join("blobs", algorithm.Name()))
		if err != nil {
			return err
		}
		for _, blob := range blobs {
			if linkedBlobs[digest.Digest(algorithm.Name()+":"+blob.Name())] || time.Since(blob.ModTime()) < grace {
				continue
			}
			if err := s.files.Remove(filepath.Join("blobs", algorithm.Name(), blob.Name())); err != nil {
				return err
			}
			c.Blobs++
			c.Bytes += blob.Size()
		}
	}
	return s.collectUploads(max(grace, 24*time.Hour), c)
}

// collectLinks drops a repository's links to blobs that nothing lists, and gathers what is linked.
func (s *storage) collectLinks(repository string, grace time.Duration, linkedBlobs map[digest.Digest]bool) error {
	manifests, err := s.manifests(repository)
	if err != nil {
		return err
	}
	listed := map[digest.Digest]bool{}
	for _, d := range manifests {
		linkedBlobs[d] = true
		_, body, err := s.manifest(repository, d)
		if err != nil {
			continue
		}
		p := readParts(body)
		for _, desc := range p.blobs() {
			listed[desc.Digest] = true
		}
	}
	blobs, err := s.names(s.link(repository, "_blobs"))
	if err != nil {
		return err
	}
	for _, blob := range blobs {
		d := linked(blob.Name())
		if d == "" || !listed[d] && time.Since(blob.ModTime()) >= grace {
			if err := s.files.Remove(s.link(repository, "_blobs", blob.Name())); err != nil {
				return err
			}
			continue
		}
		linkedBlobs[d] = true
	}
	return nil
}

// collectUploads removes uploads that nobody has gone on with.
func (s *storage) collectUploads(grace time.Duration, c *Cleaned) error {
	uploads, err := s.names("uploads")
	if err != nil {
		return err
	}
	for _, upload := range uploads {
		if time.Since(upload.ModTime()) < grace {
			continue
		}
		if err := s.files.Remove(filepath.Join("uploads", upload.Name())); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		c.Uploads++
		c.Bytes += upload.Size()
	}
	return nil
}
