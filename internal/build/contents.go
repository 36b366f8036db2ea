package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"

	"imbricat/internal/digest"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// preparer is a tree.Contents that must be told, before its files are opened, which ones will be.
type preparer interface {
	prepare(ctx context.Context, paths []string) error
}

// packedContents gives the files of a layer or an archive. What is compressed has no random access, so the files that are
// wanted are unpacked in one pass into a temporary folder.
type packedContents struct {
	name    string // for messages
	store   *store.Store
	entries []tree.Entry
	sources []string                                         // the archive, where it is a file of the project
	blob    func(ctx context.Context) (io.ReadCloser, error) // of a layer
	// walk visits the files of the archive in its order, by their names there.
	walk func(ctx context.Context, visit func(path string, body io.Reader) error) error

	// unpacked gives the files without unpacking, once a command has needed the layer.
	unpacked atomic.Pointer[snapshotContents]

	mutex  sync.Mutex
	folder string
	files  map[string]string // path in the archive → unpacked file
}

// ReadLayer gives what a layer of the store holds, from the store's memory where it was read before.
func ReadLayer(ctx context.Context, s *store.Store, desc digest.Descriptor, id digest.DiffID) (*layer.Indexed, error) {
	if text, found := s.Tree(id); found {
		if known, err := layer.DecodeIndex(text); err == nil && known.DiffID == id {
			return known, nil
		}
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
	return s.PutTree(indexed.DiffID, indexed.Encode())
}

// layerContents gives what a layer holds, read once.
func (b *builder) layerContents(ctx context.Context, desc digest.Descriptor, id digest.DiffID) (*packedContents, error) {
	ctx = b.whole(ctx)
	l, _, err := b.layered.do(id, func() (*packedContents, error) {
		indexed, err := ReadLayer(ctx, b.o.Store, desc, id)
		if err != nil {
			return nil, err
		}
		blob := func(ctx context.Context) (io.ReadCloser, error) {
			if err := b.o.Store.Prove(ctx, desc, id); err != nil {
				return nil, err
			}
			return b.o.Store.Fetch(ctx, desc)
		}
		return b.fromBlob("the layer "+string(desc.Digest), indexed.Entries, blob), nil
	})
	return l, err
}

// lazily gives what a layer holds whose entries are known already: it is opened when somebody needs a file of it.
func (b *builder) lazily(record *store.Record, entries []tree.Entry) *packedContents {
	contents, _, _ := b.layered.do(record.DiffID, func() (*packedContents, error) { // nothing can go wrong yet
		blob := func(ctx context.Context) (io.ReadCloser, error) { return b.o.Store.Fetch(ctx, record.Layer) }
		return b.fromBlob("the layer "+string(record.Layer.Digest), entries, blob), nil
	})
	return contents
}

func (b *builder) fromBlob(name string, entries []tree.Entry, blob func(ctx context.Context) (io.ReadCloser, error)) *packedContents {
	contents := b.packed(name, entries, func(ctx context.Context, visit func(string, io.Reader) error) error {
		body, err := blob(ctx)
		if err != nil {
			return err
		}
		defer body.Close()
		return walkTar(ctx, body, visit)
	})
	contents.blob = blob
	return contents
}

// packed makes contents that are cleaned up when the build ends.
func (b *builder) packed(name string, entries []tree.Entry, walk func(context.Context, func(string, io.Reader) error) error) *packedContents {
	p := &packedContents{name: name, store: b.o.Store, entries: entries, walk: walk, files: map[string]string{}}
	b.closeMutex.Lock()
	b.closers = append(b.closers, p.close)
	b.closeMutex.Unlock()
	return p
}

// walkTar visits the files of a tar, compressed or not.
func walkTar(ctx context.Context, r io.Reader, visit func(string, io.Reader) error) error {
	plain, err := layer.Decompress(digest.WithContext(ctx, r))
	if err != nil {
		return err
	}
	defer plain.Close()
	return layer.Walk(plain, func(e *tree.Entry, body io.Reader) error {
		if e.Kind != tree.File {
			return nil
		}
		return visit(e.Path, body)
	})
}

func (l *packedContents) close() {
	if l.folder != "" {
		os.RemoveAll(l.folder)
	}
}

func (l *packedContents) prepare(ctx context.Context, paths []string) error {
	if l.unpacked.Load() != nil {
		return nil
	}
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
	contents := map[string]digest.Content{}
	for i := range l.entries {
		contents[l.entries[i].Path] = l.entries[i].Content
	}
	err := l.walk(ctx, func(path string, body io.Reader) error {
		if !wanted[path] {
			return ctx.Err()
		}
		return l.unpack(path, contents[path], body)
	})
	if err != nil {
		return fmt.Errorf("%s: %w", l.name, err)
	}
	return nil
}

func (l *packedContents) unpack(p string, want digest.Content, body io.Reader) error {
	name := filepath.Join(l.folder, strconv.Itoa(len(l.files)))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("unpacking /%s: %w", p, err)
	}
	sum := digest.NewContent()
	_, err = io.Copy(io.MultiWriter(f, sum), body)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("unpacking /%s: %w", p, err)
	}
	if digest.ContentOf(sum) == want {
		l.files[p] = name
	}
	// Another digest is an earlier entry of the same path, which a later one replaces.
	return nil
}

// Open gives an unpacked file.
func (l *packedContents) Open(p string) (io.ReadCloser, error) {
	if whole := l.unpacked.Load(); whole != nil {
		return whole.Open(p)
	}
	l.mutex.Lock()
	name := l.files[p]
	l.mutex.Unlock()
	if name == "" {
		return nil, fmt.Errorf("%s has no file /%s with the contents that its index tells: %w", l.name, p, digest.ErrMismatch)
	}
	return os.Open(name)
}

// sourceContents gives files of the project folder and notices those that changed since their digest was taken.
type sourceContents struct {
	files map[string]remembered

	mutex  sync.Mutex
	opener *tree.Opener
}

// Open opens a file by its path in the project folder.
func (s *sourceContents) Open(p string) (io.ReadCloser, error) {
	s.mutex.Lock()
	f, stat, err := s.opener.Open(p)
	s.mutex.Unlock()
	if err != nil {
		return nil, err
	}
	if stat != s.files[p].Stat {
		f.Close()
		return nil, fmt.Errorf("%s %w; build again when nothing writes to it", p, layer.ErrChanged)
	}
	return &steadyFile{f, p, stat}, nil
}

// steadyFile tells when it is closed whether the file changed while it was open.
type steadyFile struct {
	*tree.SourceFile
	path string
	stat tree.Stat
}

// Close closes the file.
func (f *steadyFile) Close() error {
	after, statErr := f.Stat()
	err := f.SourceFile.Close()
	if statErr == nil && after != f.stat {
		return fmt.Errorf("%s %w; build again when nothing writes to it", f.path, layer.ErrChanged)
	}
	return errors.Join(statErr, err)
}
