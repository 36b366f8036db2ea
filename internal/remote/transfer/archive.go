package transfer

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
)

func newVerified(body []byte, desc digest.Descriptor) io.Reader {
	return digest.Verify(bytes.NewReader(body), desc)
}

// archive is a tar file of an image layout, read in place.
type archive struct {
	file  *os.File
	ref   reference.Reference
	parts map[string]section
	list  []layout.Named
}

type section struct{ offset, size int64 }

// maxParts bounds the entries of an archive.
const maxParts = 1_000_000

func openArchive(name string, ref reference.Reference) (*archive, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", ref.Path, errors.Unwrap(err))
	}
	a := &archive{file: f, ref: ref, parts: map[string]section{}}
	if err := a.scan(); err != nil {
		f.Close()
		return nil, fmt.Errorf("reading %s: %w", ref.Path, err)
	}
	return a, nil
}

// scan notes where each file of the archive lies.
func (a *archive) scan() error {
	t := tar.NewReader(a.file)
	for {
		h, err := t.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return fmt.Errorf("it is not a tar archive: %w", layer.Plain(err))
		}
		if len(a.parts) >= maxParts {
			return fmt.Errorf("it has more than %d entries", maxParts)
		}
		if h.Typeflag != tar.TypeReg {
			continue
		}
		offset, err := a.file.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		a.parts[path.Clean(strings.TrimPrefix(h.Name, "/"))] = section{offset, h.Size}
	}
	if _, found := a.parts[v1.ImageLayoutFile]; !found {
		return fmt.Errorf("it is not an archive of an image layout: it has no %s", v1.ImageLayoutFile)
	}
	var index v1.Index
	part := a.parts[v1.ImageIndexFile]
	text, err := io.ReadAll(io.LimitReader(io.NewSectionReader(a.file, part.offset, part.size), 64<<20))
	if err == nil {
		err = json.Unmarshal(text, &index)
	}
	if err != nil {
		return fmt.Errorf("its %s: %w", v1.ImageIndexFile, err)
	}
	for _, m := range index.Manifests {
		a.list = append(a.list, layout.Named{Name: m.Annotations[v1.AnnotationRefName], Descriptor: m})
	}
	return nil
}

func (a *archive) Root(context.Context) (digest.Descriptor, error) {
	desc, err := member(a.list, a.ref)
	if errors.Is(err, layout.ErrNotFound) {
		return desc, &missing{err}
	}
	desc.Annotations = nil
	return desc, err
}

func (a *archive) Fetch(_ context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	if err := desc.Digest.Validate(); err != nil {
		return nil, err
	}
	part, found := a.parts[blobName(desc.Digest)]
	if !found {
		return nil, fmt.Errorf("%s lacks the blob %s: %w", a.ref.Path, desc.Digest, fs.ErrNotExist)
	}
	return io.NopCloser(digest.Verify(io.NewSectionReader(a.file, part.offset, part.size), desc)), nil
}

// FetchFrom implements seekable.
func (a *archive) FetchFrom(_ context.Context, desc digest.Descriptor, from int64) (io.ReadCloser, error) {
	part, found := a.parts[blobName(desc.Digest)]
	if !found || from > part.size {
		return nil, fmt.Errorf("%s lacks the blob %s: %w", a.ref.Path, desc.Digest, fs.ErrNotExist)
	}
	return io.NopCloser(io.NewSectionReader(a.file, part.offset+from, part.size-from)), nil
}

func blobName(d digest.Digest) string {
	return "blobs/" + d.Algorithm().String() + "/" + d.Encoded()
}

var errReadOnly = errors.New("the archive is open for reading")

func (a *archive) Has(context.Context, digest.Descriptor) (bool, error) { return false, errReadOnly }
func (a *archive) Whole() bool                                          { return false }
func (a *archive) Put(context.Context, digest.Descriptor, Opener) error {
	return errReadOnly
}
func (a *archive) Name(context.Context, digest.Descriptor, string) error { return errReadOnly }
func (a *archive) Close() error                                          { return a.file.Close() }
func (a *archive) String() string                                        { return a.ref.Path }

// newArchive is an archive that is being written. Nothing is under its name until it is complete.
type newArchive struct {
	file   *os.File
	target string
	ref    reference.Reference

	mutex sync.Mutex
	tar   *tar.Writer
	has   map[digest.Digest]bool
	named []digest.Descriptor
	done  bool
}

func createArchive(name string, ref reference.Reference) (*newArchive, error) {
	f, err := os.CreateTemp(filepath.Dir(name), ".new-*.tar")
	if err != nil {
		return nil, fmt.Errorf("writing %s: %w", ref.Path, errors.Unwrap(err))
	}
	return &newArchive{file: f, target: name, ref: ref, tar: tar.NewWriter(f), has: map[digest.Digest]bool{}}, nil
}

func (a *newArchive) Fetch(context.Context, digest.Descriptor) (io.ReadCloser, error) {
	return nil, fs.ErrNotExist
}

func (a *newArchive) Root(context.Context) (digest.Descriptor, error) {
	return digest.Descriptor{}, fs.ErrNotExist
}

func (a *newArchive) Has(_ context.Context, desc digest.Descriptor) (bool, error) {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	return a.has[desc.Digest], nil
}

func (a *newArchive) Whole() bool { return false }

// archiveTime is the time of every file of an archive, so that the same images give the same archive.
var archiveTime = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

func (a *newArchive) add(name string, size int64, r io.Reader) error {
	if err := a.tar.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: size, ModTime: archiveTime}); err != nil {
		return fmt.Errorf("writing %s: %w", a.ref.Path, err)
	}
	n, err := io.Copy(a.tar, r)
	if err == nil && n != size {
		err = fmt.Errorf("%d of %d bytes", n, size)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", a.ref.Path, err)
	}
	return nil
}

func (a *newArchive) Put(ctx context.Context, desc digest.Descriptor, open Opener) error {
	a.mutex.Lock()
	defer a.mutex.Unlock()
	r, err := open(0)
	if err != nil {
		return err
	}
	defer r.Close()
	if err := a.add(blobName(desc.Digest), desc.Size, digest.WithContext(ctx, digest.Verify(r, desc))); err != nil {
		return err
	}
	a.has[desc.Digest] = true
	return nil
}

// Name lists an image in the archive and completes it.
func (a *newArchive) Name(_ context.Context, desc digest.Descriptor, name string) error {
	entry := digest.Descriptor{MediaType: desc.MediaType, Digest: desc.Digest, Size: desc.Size}
	if name != "" {
		entry.Annotations = map[string]string{v1.AnnotationRefName: name}
	}
	a.named = append(a.named, entry)
	index, err := json.Marshal(v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: a.named})
	if err != nil {
		return err
	}
	version, err := json.Marshal(v1.ImageLayout{Version: v1.ImageLayoutVersion})
	if err != nil {
		return err
	}
	if err := a.add(v1.ImageIndexFile, int64(len(index)), bytes.NewReader(index)); err != nil {
		return err
	}
	if err := a.add(v1.ImageLayoutFile, int64(len(version)), bytes.NewReader(version)); err != nil {
		return err
	}
	err = a.tar.Close()
	if err == nil {
		err = a.file.Chmod(0o644)
	}
	if err == nil {
		err = a.file.Sync()
	}
	if err == nil {
		err = a.file.Close()
	}
	if err == nil {
		err = os.Rename(a.file.Name(), a.target)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", a.ref.Path, err)
	}
	a.done = true
	return nil
}

// Close removes an archive that was not completed.
func (a *newArchive) Close() error {
	if a.done {
		return nil
	}
	a.file.Close()
	return os.Remove(a.file.Name())
}

func (a *newArchive) String() string { return a.ref.Path }
