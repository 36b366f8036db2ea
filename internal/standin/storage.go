package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/spf13/afero"

	"imbricat/internal/ground/digest"
)

// storage keeps blobs once for all repositories, and for each repository links to the blobs and manifests that it has:
//
//	blobs/ALGORITHM/HEX
//	repositories/NAME/_blobs/ALGORITHM-HEX                   empty
//	repositories/NAME/_manifests/ALGORITHM-HEX               holds the media type
//	repositories/NAME/_referrers/ALGORITHM-HEX/ALGORITHM-HEX holds the descriptor of what refers to the first digest
//	repositories/NAME/_tags/TAG                              holds a digest
//	repositories/NAME/_repository.json                       says how it was made and who may do what
//	uploads/ID
//
// A link's time is when it was last made or asked for. The file system is a folder, or memory.
type storage struct {
	files afero.Fs
	mutex sync.Mutex
	locks map[string]*sync.Mutex // of uploads
	// links is held for reading while a blob becomes part of a repository, and for writing while rubbish is collected.
	links sync.RWMutex
}

// openStorage opens a folder; an empty name is memory.
func openStorage(dir string) (*storage, error) {
	s := &storage{locks: map[string]*sync.Mutex{}}
	if s.files = afero.NewMemMapFs(); dir != "" {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, fmt.Errorf("the stand-in's folder: %w", err)
		}
		s.files = afero.NewBasePathFs(afero.NewOsFs(), dir)
	}
	for _, sub := range []string{"blobs", "repositories", "uploads"} {
		if err := s.files.MkdirAll(sub, 0o755); err != nil {
			return nil, fmt.Errorf("the stand-in's folder: %w", err)
		}
	}
	return s, nil
}

func (s *storage) blobPath(d digest.Digest) string {
	return filepath.Join("blobs", d.Algorithm().String(), d.Encoded())
}

func (s *storage) link(repository, kind string, name ...string) string {
	return filepath.Join(append([]string{"repositories", filepath.FromSlash(repository), kind}, name...)...)
}

func linkName(d digest.Digest) string { return d.Algorithm().String() + "-" + d.Encoded() }

// linked is the digest that a link's name stands for; "" for other names.
func linked(name string) digest.Digest {
	d, err := digest.Parse(strings.Replace(name, "-", ":", 1))
	if err != nil {
		return ""
	}
	return d
}

// write replaces a file as one act.
func (s *storage) write(path string, content []byte) error {
	f, err := afero.TempFile(s.files, "uploads", ".file-*")
	if err != nil {
		return err
	}
	defer s.files.Remove(f.Name())
	if _, err := f.Write(content); err != nil {
		f.Close()
		return err
	}
	return s.install(f, path)
}

// install syncs a finished file and puts it in its place.
func (s *storage) install(f afero.File, path string) error {
	err := f.Sync()
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = s.files.MkdirAll(filepath.Dir(path), 0o755)
	}
	if err == nil {
		err = s.files.Rename(f.Name(), path)
	}
	return err
}

func (s *storage) read(path string) ([]byte, error) { return afero.ReadFile(s.files, path) }

// names lists a folder; one that does not exist is empty.
func (s *storage) names(path string) ([]os.FileInfo, error) {
	list, err := afero.ReadDir(s.files, path)
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return list, err
}

// exists reports whether a repository has a blob or a manifest. What is asked for is spared by the next collection.
func (s *storage) exists(repository, kind string, d digest.Digest) bool {
	s.links.RLock()
	defer s.links.RUnlock()
	name := s.link(repository, kind, linkName(d))
	info, err := s.files.Stat(name)
	if err != nil {
		return false
	}
	if now := time.Now(); kind == "_blobs" && now.Sub(info.ModTime()) > time.Second {
		_ = s.files.Chtimes(name, now, now)
	}
	return true
}

// size of a blob, in bytes; 0 where there is none.
func (s *storage) size(d digest.Digest) int64 {
	info, err := s.files.Stat(s.blobPath(d))
	if err != nil {
		return 0
	}
	return info.Size()
}

// linkBlob lets a repository have a blob that another one has, if it still is there.
func (s *storage) linkBlob(repository string, d digest.Digest) error {
	s.links.RLock()
	defer s.links.RUnlock()
	if _, err := s.files.Stat(s.blobPath(d)); err != nil {
		return err
	}
	return s.write(s.link(repository, "_blobs", linkName(d)), nil)
}

// holder returns a repository that has a blob and passes a test; "" where none does.
func (s *storage) holder(d digest.Digest, may func(repository string) bool) string {
	all, _ := s.repositories()
	for _, one := range all {
		if may(one) && s.exists(one, "_blobs", d) {
			return one
		}
	}
	return ""
}

func (s *storage) putManifest(repository string, d digest.Digest, mediaType string, body []byte) error {
	s.links.RLock()
	defer s.links.RUnlock()
	if err := s.write(s.blobPath(d), body); err != nil {
		return err
	}
	return s.write(s.link(repository, "_manifests", linkName(d)), []byte(mediaType))
}

func (s *storage) manifest(repository string, d digest.Digest) (mediaType string, body []byte, err error) {
	kind, err := s.read(s.link(repository, "_manifests", linkName(d)))
	if err != nil {
		return "", nil, err
	}
	body, err = s.read(s.blobPath(d))
	return string(kind), body, err
}

// manifests lists the digests of a repository's manifests.
func (s *storage) manifests(repository string) ([]digest.Digest, error) {
	entries, err := s.names(s.link(repository, "_manifests"))
	var list []digest.Digest
	for _, e := range entries {
		if d := linked(e.Name()); d != "" {
			list = append(list, d)
		}
	}
	return list, err
}

// dropManifest removes a manifest, with the tags that stand on it and its place among the referrers.
func (s *storage) dropManifest(repository string, d digest.Digest) error {
	_, body, err := s.manifest(repository, d)
	if err != nil {
		return err
	}
	tags, err := s.tags(repository)
	if err != nil {
		return err
	}
	for _, tag := range tags {
		if on, err := s.tag(repository, tag); err == nil && on == d {
			if err := s.files.Remove(s.link(repository, "_tags", tag)); err != nil {
				return err
			}
		}
	}
	if subject := readParts(body).Subject; subject != nil && subject.Digest.Validate() == nil {
		_ = s.files.Remove(s.link(repository, "_referrers", linkName(subject.Digest), linkName(d)))
	}
	return s.files.Remove(s.link(repository, "_manifests", linkName(d)))
}

func (s *storage) tag(repository, tag string) (digest.Digest, error) {
	text, err := s.read(s.link(repository, "_tags", tag))
	if err != nil {
		return "", err
	}
	return digest.Parse(string(text))
}

// tagged tells when a tag was written.
func (s *storage) tagged(repository, tag string) time.Time {
	info, err := s.files.Stat(s.link(repository, "_tags", tag))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

func (s *storage) putTag(repository, tag string, d digest.Digest) error {
	return s.write(s.link(repository, "_tags", tag), []byte(d))
}

// tags lists a repository's tags in the order of their bytes. A repository that does not exist is fs.ErrNotExist.
func (s *storage) tags(repository string) ([]string, error) {
	if !s.has(repository) {
		return nil, fs.ErrNotExist
	}
	entries, err := s.names(s.link(repository, "_tags"))
	list := []string{}
	for _, e := range entries {
		list = append(list, e.Name())
	}
	sort.Strings(list)
	return list, err
}

// noteReferrer keeps that a manifest refers to another one.
func (s *storage) noteReferrer(repository string, subject digest.Digest, desc digest.Descriptor) error {
	text, err := json.Marshal(desc)
	if err != nil {
		return err
	}
	return s.write(s.link(repository, "_referrers", linkName(subject), linkName(desc.Digest)), text)
}

// referrers lists what refers to a digest, in the order of digests.
func (s *storage) referrers(repository string, subject digest.Digest) ([]digest.Descriptor, error) {
	entries, err := s.names(s.link(repository, "_referrers", linkName(subject)))
	list := []digest.Descriptor{}
	for _, e := range entries {
		text, err := s.read(s.link(repository, "_referrers", linkName(subject), e.Name()))
		var desc digest.Descriptor
		if err != nil || json.Unmarshal(text, &desc) != nil {
			continue // deleted meanwhile
		}
		list = append(list, desc)
	}
	slices.SortFunc(list, func(a, b digest.Descriptor) int { return strings.Compare(string(a.Digest), string(b.Digest)) })
	return list, err
}

// has reports whether a repository exists: it was created, or something was pushed to it.
func (s *storage) has(repository string) bool {
	for _, kind := range []string{"_repository.json", "_manifests", "_blobs"} {
		if _, err := s.files.Stat(s.link(repository, kind)); err == nil {
			return true
		}
	}
	return false
}

// repositories lists all of them by name.
func (s *storage) repositories() ([]string, error) {
	var list []string
	var walk func(name string) error
	walk = func(name string) error {
		entries, err := s.names(filepath.Join("repositories", filepath.FromSlash(name)))
		is := false
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), "_") {
				is = is || e.Name() == "_repository.json" || e.Name() == "_manifests" || e.Name() == "_blobs"
			} else if err := walk(path.Join(name, e.Name())); err != nil {
				return err
			}
		}
		if is {
			list = append(list, name)
		}
		return err
	}
	err := walk("")
	sort.Strings(list)
	return list, err
}

// held sums up what a repository's blobs and manifests take, in bytes.
func (s *storage) held(repository string) (int64, error) {
	var sum int64
	for _, kind := range []string{"_blobs", "_manifests"} {
		entries, err := s.names(s.link(repository, kind))
		if err != nil {
			return 0, err
		}
		for _, e := range entries {
			if d := linked(e.Name()); d != "" {
				sum += s.size(d)
			}
		}
	}
	return sum, nil
}
