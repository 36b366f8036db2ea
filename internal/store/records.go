package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zstd"

	"imbricat/internal/digest"
)

// Record is a finished step: the layer that a key stands for.
type Record struct {
	Key      digest.Key        `json:"key"`
	Layer    digest.Descriptor `json:"layer"`
	DiffID   digest.DiffID     `json:"diffID"`
	Unpacked int64             `json:"unpacked"` // bytes of the tar
	Files    int               `json:"files"`
	Millis   int64             `json:"millis"` // how long the work took
}

// fileFor gives the path of something kept under a digest; the algorithm's name is left out.
func (s *Store) fileFor(kind, id, suffix string) (string, error) {
	d, err := digest.Parse(id)
	if err != nil {
		return "", err
	}
	hex := d.Encoded()
	return filepath.Join("imbricat", kind, hex[:2], hex[2:]+suffix), nil
}

// Record finds what a key stands for. A record is only given when its layer is there; a damaged one counts as absent.
func (s *Store) Record(key digest.Key) (*Record, bool) {
	name, err := s.fileFor("records", string(key), ".json")
	if err != nil {
		return nil, false
	}
	text, err := os.ReadFile(s.path(name))
	if err != nil {
		return nil, false
	}
	var r Record
	if json.Unmarshal(text, &r) != nil || r.Key != key || !s.Has(r.Layer) {
		return nil, false
	}
	return &r, true
}

// PutRecord keeps a record.
func (s *Store) PutRecord(r *Record) error {
	name, err := s.fileFor("records", string(r.Key), ".json")
	if err != nil {
		return err
	}
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return s.WriteFile(name, text)
}

// maxTree bounds a stored tree index, in bytes before compression.
const maxTree = 4 << 30

// Tree reads what was kept for an unpacked layer, and tells whether it was there. A damaged one counts as absent.
func (s *Store) Tree(id digest.DiffID, into any) bool {
	name, err := s.fileFor("trees", string(id), ".json.zst")
	if err != nil {
		return false
	}
	f, err := os.Open(s.path(name))
	if err != nil {
		return false
	}
	defer f.Close()
	z, err := zstd.NewReader(f, zstd.WithDecoderConcurrency(1))
	if err != nil {
		return false
	}
	defer z.Close()
	return json.NewDecoder(io.LimitReader(z, maxTree)).Decode(into) == nil
}

// PutTree keeps the tree index of an unpacked layer.
func (s *Store) PutTree(id digest.DiffID, content any) error {
	name, err := s.fileFor("trees", string(id), ".json.zst")
	if err != nil {
		return err
	}
	w, err := s.Begin()
	if err != nil {
		return err
	}
	defer w.Abort()
	z, err := zstd.NewWriter(w, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return err
	}
	if err := json.NewEncoder(z).Encode(content); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return w.Rename(s.path(name))
}

// Memo reads a small file of the store that only saves work, such as the memory of file times.
func (s *Store) Memo(name string) ([]byte, bool) {
	text, err := os.ReadFile(s.path("imbricat", "memo", filepath.Base(name)))
	return text, err == nil
}

// PutMemo keeps such a file.
func (s *Store) PutMemo(name string, content []byte) error {
	return s.WriteFile(filepath.Join("imbricat", "memo", filepath.Base(name)), content)
}

// eachFile visits the files below a folder of the store.
func (s *Store) eachFile(folder string, visit func(path string) error) error {
	err := filepath.WalkDir(s.path(folder), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasPrefix(d.Name(), ".new-") {
			return err
		}
		return visit(path)
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("reading the store: %w", err)
	}
	return nil
}
