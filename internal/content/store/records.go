package store

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/klauspost/compress/zstd"

	"imbricat/internal/content/layer"
	"imbricat/internal/ground/digest"
)

// Record is a finished step: the layer that a key stands for.
type Record struct {
	Key      digest.Key        `json:"key"`
	Tree     digest.Key        `json:"tree"` // that the layer holds
	Layer    digest.Descriptor `json:"layer"`
	DiffID   digest.DiffID     `json:"diffID"`
	Unpacked int64             `json:"unpacked"` // bytes of the tar
	Files    int               `json:"files"`
	Millis   int64             `json:"millis"` // how long the work took
	Copied   int64             `json:"copied"` // bytes of the layer that came from the step's earlier one
}

// fileFor returns the path of something kept under a hash in hexadecimal; the name of a digest's algorithm is left out.
func (s *Store) fileFor(kind, id, suffix string) (string, error) {
	hex := hexOf(id)
	if len(hex) != 64 || strings.Trim(hex, "0123456789abcdef") != "" {
		return "", fmt.Errorf("%q is not a hash", id)
	}
	return filepath.Join("imbricat", kind, hex[:2], hex[2:]+suffix), nil
}

// hexOf is a hash without the name of its algorithm.
func hexOf(id string) string { return id[strings.IndexByte(id, ':')+1:] }

// Record finds what a key stands for. A record is only given when its layer is there, or known to be elsewhere; a damaged
// one counts as absent.
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
	if Unseal(text, &r) != nil || r.Key != key || !layer.IsRecordKey(key, r.Tree) || !s.Knows(r.Layer) {
		return nil, false
	}
	s.rely(s.path(name))
	return &r, true
}

// PutRecord keeps a record.
func (s *Store) PutRecord(r *Record) error { return s.putRecord(r, s.WriteFile) }

// ImportRecord keeps a record that came from elsewhere, and can be had again from there.
func (s *Store) ImportRecord(r *Record) error { return s.putRecord(r, s.WriteQuick) }

func (s *Store) putRecord(r *Record, write func(name string, content []byte) error) error {
	name, err := s.fileFor("records", string(r.Key), ".json")
	if err != nil {
		return err
	}
	text, err := Seal(r)
	if err != nil {
		return err
	}
	return write(name, text)
}

// maxKept bounds what is read back of trees, tables and notes, in bytes before compression.
const maxKept = 1 << 30

// Kinds of what the store keeps beside blobs and records. All of it only saves work: what is missing or damaged is made
// again.
const (
	trees  = "trees"  // indexes of unpacked layers, by diffID
	tables = "chunks" // chunk tables of packed layers, by the blob's digest
	notes  = "notes"  // answers that were found before, by a hash of the question
)

// LayerIndex reads the index that was kept for an unpacked layer, and tells whether it was there.
func (s *Store) LayerIndex(id digest.DiffID) ([]byte, bool) { return s.kept(trees, string(id)) }

// HasLayerIndex reports whether an index was kept for an unpacked layer; it stays while the store is open.
func (s *Store) HasLayerIndex(id digest.DiffID) bool {
	name, err := s.fileFor(trees, string(id), ".zst")
	return err == nil && s.rely(s.path(name))
}

// DropLayerIndex forgets the index of an unpacked layer that was found to be wrong.
func (s *Store) DropLayerIndex(id digest.DiffID) { s.drop(trees, string(id)) }

func (s *Store) drop(kind, id string) {
	if name, err := s.fileFor(kind, id, ".zst"); err == nil {
		os.Remove(s.path(name))
	}
}

// PutLayerIndex keeps the index of an unpacked layer.
func (s *Store) PutLayerIndex(id digest.DiffID, content []byte) error {
	return s.keep(trees, string(id), content)
}

// Table reads the chunk table that was kept for a blob.
func (s *Store) Table(blob digest.Digest) ([]byte, bool) { return s.kept(tables, string(blob)) }

// PutTable keeps the chunk table of a blob.
func (s *Store) PutTable(blob digest.Digest, content []byte) error {
	return s.keep(tables, string(blob), content)
}

// Note reads what was noted under a key.
func (s *Store) Note(key digest.Key) ([]byte, bool) { return s.kept(notes, string(key)) }

// PutNote notes something under a key.
func (s *Store) PutNote(key digest.Key, content []byte) error {
	return s.keep(notes, string(key), content)
}

// SmallFile returns the bytes of a small file of an image by its content, where they are known: layers have no random access, so what was
// read of them once is kept.
func (s *Store) SmallFile(content digest.Content) ([]byte, bool) {
	text, found := s.Note(smallFile(content))
	return text, found && digest.ContentBytes(text) == content
}

// PutSmallFile keeps the bytes of a small file.
func (s *Store) PutSmallFile(text []byte) error {
	return s.PutNote(smallFile(digest.ContentBytes(text)), text)
}

func smallFile(content digest.Content) digest.Key {
	return digest.Key(digest.ContentBytes([]byte("small file " + string(content))))
}

func (s *Store) kept(kind, id string) ([]byte, bool) {
	name, err := s.fileFor(kind, id, ".zst")
	if err != nil {
		return nil, false
	}
	packed, err := os.ReadFile(s.path(name))
	if err != nil || !s.rely(s.path(name)) {
		return nil, false
	}
	content, err := decompress(packed)
	if err != nil {
		s.drop(kind, id) // so that nobody takes it for there
	}
	return content, err == nil
}

func decompress(packed []byte) ([]byte, error) {
	if len(packed) == 0 {
		return nil, io.ErrUnexpectedEOF // which the decoder takes for nothing
	}
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxKept))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	return z.DecodeAll(packed, nil)
}

// recordEncoders are encoders of small windows: the lines of a record are alike, and far repetitions save little.
var recordEncoders = sync.Pool{New: func() any {
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithZeroFrames(true), zstd.WithWindowSize(1<<20),
		zstd.WithLowerEncoderMem(true))
	if err != nil {
		panic(err) // the options are constant
	}
	return z
}}

func (s *Store) keep(kind, id string, content []byte) error {
	name, err := s.fileFor(kind, id, ".zst")
	if err != nil {
		return err
	}
	z := recordEncoders.Get().(*zstd.Encoder)
	defer recordEncoders.Put(z)
	packed := z.EncodeAll(content, nil)
	if kind == logs {
		return s.WritePrivate(name, packed)
	}
	return s.WriteQuick(name, packed)
}

// Memo reads a small file of the store that only saves work, such as the memory of file times. A damaged one counts as
// absent.
func (s *Store) Memo(name string) ([]byte, bool) {
	text, err := os.ReadFile(s.path("imbricat", "memo", filepath.Base(name)))
	sum, content, found := bytes.Cut(text, []byte("\n"))
	return content, err == nil && found && string(sum) == string(digest.ContentBytes(content))
}

// PutMemo keeps such a file.
func (s *Store) PutMemo(name string, content []byte) error {
	text := append([]byte(digest.ContentBytes(content)), '\n')
	return s.WriteQuick(filepath.Join("imbricat", "memo", filepath.Base(name)), append(text, content...))
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
