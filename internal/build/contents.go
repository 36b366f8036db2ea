package build

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"

	"imbricat/internal/digest"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// preparer is a tree.Contents that must be told, before its files are opened, which ones will be.
type preparer interface {
	prepare(ctx context.Context, paths []string) error
}

// layerContents gives the files of a layer in the store. A compressed layer has no random access, so the files that are
// wanted are unpacked in one pass into a temporary folder.
type layerContents struct {
	store   *store.Store
	desc    digest.Descriptor
	entries []tree.Entry

	mutex  sync.Mutex
	folder string
	files  map[string]string // path in the layer → unpacked file
}

// ReadLayer gives what a layer of the store holds, from the store's memory where it was read before.
func ReadLayer(ctx context.Context, s *store.Store, desc digest.Descriptor, id digest.DiffID) (*layer.Indexed, error) {
	known := &layer.Indexed{}
	if s.Tree(id, known) && known.DiffID == id {
		return known, nil
	}
	blob, err := s.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	defer blob.Close()
	indexed, err := layer.Index(digest.WithContext(ctx, blob))
	if err != nil {
		return nil, fmt.Errorf("the layer %s: %w", desc.Digest, err)
	}
	// To the end, so that the blob's own digest is checked too.
	if _, err := io.Copy(io.Discard, blob); err != nil {
		return nil, err
	}
	if indexed.DiffID != id {
		return nil, fmt.Errorf("the layer %s unpacks to %s, and its image says %s: %w", desc.Digest, indexed.DiffID, id, digest.ErrMismatch)
	}
	return indexed, keepIndex(s, indexed)
}

// keepIndex remembers what a layer holds.
func keepIndex(s *store.Store, indexed *layer.Indexed) error {
	if !indexed.Storable() {
		return nil
	}
	return s.PutTree(indexed.DiffID, indexed)
}

func (b *builder) layerContents(ctx context.Context, desc digest.Descriptor, id digest.DiffID) (*layerContents, error) {
	l, _, err := b.trees.do(id, func() (*layerContents, error) {
		indexed, err := ReadLayer(ctx, b.o.Store, desc, id)
		if err != nil {
			return nil, err
		}
		return &layerContents{store: b.o.Store, desc: desc, entries: indexed.Entries, files: map[string]string{}}, nil
	})
	return l, err
}

func (l *layerContents) close() {
	if l.folder != "" {
		os.RemoveAll(l.folder)
	}
}

func (l *layerContents) prepare(ctx context.Context, paths []string) error {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	wanted := map[string]bool{}
	for _, p := range paths {
		if l.files[p] == "" {
			wanted[p] = true
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	if l.folder == "" {
		folder, err := l.store.TemporaryFolder()
		if err != nil {
			return err
		}
		l.folder = folder
	}
	digests := map[string]digest.Digest{}
	for i := range l.entries {
		digests[l.entries[i].Path] = l.entries[i].Digest
	}
	blob, err := l.store.Fetch(ctx, l.desc)
	if err != nil {
		return err
	}
	defer blob.Close()
	plain, err := layer.Decompress(blob)
	if err != nil {
		return err
	}
	defer plain.Close()
	err = layer.Walk(plain, func(e *tree.Entry, body io.Reader) error {
		if e.Kind != tree.File || !wanted[e.Path] {
			return ctx.Err()
		}
		return l.unpack(e.Path, digests[e.Path], body)
	})
	if err != nil {
		return fmt.Errorf("the layer %s: %w", l.desc.Digest, err)
	}
	return nil
}

func (l *layerContents) unpack(p string, want digest.Digest, body io.Reader) error {
	name := filepath.Join(l.folder, strconv.Itoa(len(l.files)))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("unpacking /%s: %w", p, err)
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(f, sum), body)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("unpacking /%s: %w", p, err)
	}
	if digest.FromHash(sum) == want {
		l.files[p] = name
	}
	// Another digest is an earlier entry of the same path, which a later one replaces.
	return nil
}

// Open gives an unpacked file.
func (l *layerContents) Open(p string) (io.ReadCloser, error) {
	l.mutex.Lock()
	name := l.files[p]
	l.mutex.Unlock()
	if name == "" {
		return nil, fmt.Errorf("the layer %s has no file /%s with the contents that its index tells: %w", l.desc.Digest, p, digest.ErrMismatch)
	}
	return os.Open(name)
}

// sourceContents gives files of the project folder and notices those that changed since their digest was taken.
type sourceContents struct {
	source *tree.Source
	stats  map[string]tree.Stat
}

// Open opens a file by its path in the project folder.
func (s *sourceContents) Open(p string) (io.ReadCloser, error) {
	f, stat, err := s.source.Open(p)
	if err != nil {
		return nil, err
	}
	if stat != s.stats[p] {
		f.Close()
		return nil, fmt.Errorf("%s %w; build again when nothing writes to it", p, layer.ErrChanged)
	}
	return &steadyFile{f, p, stat}, nil
}

// steadyFile tells when it is closed whether the file changed while it was open.
type steadyFile struct {
	*os.File
	path string
	stat tree.Stat
}

// Close closes the file.
func (f *steadyFile) Close() error {
	after, statErr := tree.StatFile(f.File)
	err := f.File.Close()
	if statErr == nil && after != f.stat {
		return fmt.Errorf("%s %w; build again when nothing writes to it", f.path, layer.ErrChanged)
	}
	return errors.Join(statErr, err)
}
