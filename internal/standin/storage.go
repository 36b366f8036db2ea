package standin

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"imbricat/internal/digest"
)

// storage keeps blobs once for all repositories, and for each repository links to the blobs and manifests that it has:
//
//	blobs/ALGORITHM/HEX
//	repositories/NAME/_blobs/ALGORITHM-HEX       empty
//	repositories/NAME/_manifests/ALGORITHM-HEX   holds the media type
//	repositories/NAME/_tags/TAG                  holds a digest
//	uploads/ID
type storage struct {
	dir   string
	mutex sync.Mutex
	locks map[string]*sync.Mutex // of uploads
}

func openStorage(dir string) (*storage, error) {
	s := &storage{dir: dir, locks: map[string]*sync.Mutex{}}
	for _, sub := range []string{"blobs", "repositories", "uploads"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			return nil, fmt.Errorf("the stand-in's folder: %w", err)
		}
	}
	s.sweep()
	return s, nil
}

// sweep removes uploads that nobody has gone on with for a day.
func (s *storage) sweep() {
	entries, err := os.ReadDir(filepath.Join(s.dir, "uploads"))
	if err != nil {
		return
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && time.Since(info.ModTime()) > 24*time.Hour {
			os.Remove(filepath.Join(s.dir, "uploads", e.Name()))
		}
	}
}

func (s *storage) blobPath(d digest.Digest) string {
	return filepath.Join(s.dir, "blobs", d.Algorithm().String(), d.Encoded())
}

func (s *storage) link(repository, kind, name string) string {
	return filepath.Join(s.dir, "repositories", filepath.FromSlash(repository), kind, name)
}

func linkName(d digest.Digest) string { return d.Algorithm().String() + "-" + d.Encoded() }

// write replaces a file as one act.
func (s *storage) write(path string, content []byte) error {
	f, err := os.CreateTemp(filepath.Join(s.dir, "uploads"), ".file-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if _, err := f.Write(content); err != nil {
		f.Close()
		return err
	}
	return s.install(f, path)
}

// install syncs a finished file and puts it in its place.
func (s *storage) install(f *os.File, path string) error {
	err := f.Sync()
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o755)
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	return err
}

// exists tells whether a repository has a blob or a manifest.
func (s *storage) exists(repository, kind string, d digest.Digest) bool {
	_, err := os.Stat(s.link(repository, kind, linkName(d)))
	return err == nil
}

// linkBlob lets a repository have a blob that another one has.
func (s *storage) linkBlob(repository string, d digest.Digest) error {
	return s.write(s.link(repository, "_blobs", linkName(d)), nil)
}

func (s *storage) putManifest(repository string, d digest.Digest, mediaType string, body []byte) error {
	if err := s.write(s.blobPath(d), body); err != nil {
		return err
	}
	return s.write(s.link(repository, "_manifests", linkName(d)), []byte(mediaType))
}

func (s *storage) manifest(repository string, d digest.Digest) (mediaType string, body []byte, err error) {
	kind, err := os.ReadFile(s.link(repository, "_manifests", linkName(d)))
	if err != nil {
		return "", nil, err
	}
	body, err = os.ReadFile(s.blobPath(d))
	return string(kind), body, err
}

func (s *storage) tag(repository, tag string) (digest.Digest, error) {
	text, err := os.ReadFile(s.link(repository, "_tags", tag))
	if err != nil {
		return "", err
	}
	return digest.Parse(string(text))
}

func (s *storage) putTag(repository, tag string, d digest.Digest) error {
	return s.write(s.link(repository, "_tags", tag), []byte(d))
}

// tags lists a repository's tags, sorted. A repository without content is fs.ErrNotExist.
func (s *storage) tags(repository string) ([]string, error) {
	if _, err := os.Stat(s.link(repository, "_manifests", "")); err != nil {
		if _, err := os.Stat(s.link(repository, "_blobs", "")); err != nil {
			return nil, fs.ErrNotExist
		}
	}
	entries, err := os.ReadDir(s.link(repository, "_tags", ""))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	list := []string{}
	for _, e := range entries {
		list = append(list, e.Name())
	}
	sort.Strings(list)
	return list, nil
}

// beginUpload makes an empty upload and gives its name.
func (s *storage) beginUpload() (string, error) {
	random := make([]byte, 16)
	rand.Read(random)
	id := hex.EncodeToString(random)
	f, err := os.OpenFile(s.uploadPath(id), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return "", err
	}
	return id, f.Close()
}

func (s *storage) uploadPath(id string) string { return filepath.Join(s.dir, "uploads", id) }

// validUpload keeps names of uploads from being paths.
func validUpload(id string) bool {
	return len(id) == 32 && strings.Trim(id, "0123456789abcdef") == ""
}

// lock lets one request at a time work on an upload.
func (s *storage) lock(id string) func() {
	s.mutex.Lock()
	m := s.locks[id]
	if m == nil {
		m = &sync.Mutex{}
		s.locks[id] = m
	}
	s.mutex.Unlock()
	m.Lock()
	return m.Unlock
}

func (s *storage) forget(id string) {
	s.mutex.Lock()
	delete(s.locks, id)
	s.mutex.Unlock()
}

// appendUpload adds bytes at the end and gives the size after that.
func (s *storage) appendUpload(id string, r io.Reader) (int64, error) {
	f, err := os.OpenFile(s.uploadPath(id), os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if _, err := io.Copy(f, r); err != nil {
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// finishUpload turns an upload into a blob where its bytes have the digest.
func (s *storage) finishUpload(id, repository string, d digest.Digest) (matches bool, err error) {
	f, err := os.OpenFile(s.uploadPath(id), os.O_RDWR, 0)
	if err != nil {
		return false, err
	}
	defer f.Close()
	verifier := d.Verifier()
	if _, err := io.Copy(verifier, f); err != nil {
		return false, err
	}
	if !verifier.Verified() {
		return false, nil
	}
	if err := s.install(f, s.blobPath(d)); err != nil {
		return true, err
	}
	return true, s.linkBlob(repository, d)
}
