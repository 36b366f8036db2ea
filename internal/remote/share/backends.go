package share

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/registry"
)

// DefaultTag is the tag of a cache in a registry where none is given.
const DefaultTag = "shared-cache"

// InRegistry is a cache under a tag of a repository.
func InRegistry(r *registry.Repository, tag string) Backend {
	if tag == "" {
		tag = DefaultTag
	}
	return &remote{r, tag}
}

type remote struct {
	repository *registry.Repository
	tag        string
}

func (r *remote) Place() string { return r.repository.String() }

func (r *remote) Manifest(ctx context.Context) ([]byte, error) {
	_, body, err := r.repository.Manifest(ctx, r.tag, []string{v1.MediaTypeImageManifest})
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return nil, fmt.Errorf("%s:%s: %w", r.repository, r.tag, ErrNone)
	}
	return body, err
}

func (r *remote) PutManifest(ctx context.Context, body []byte) error {
	return r.repository.PutManifest(ctx, r.tag, v1.MediaTypeImageManifest, body)
}

func (r *remote) Delete(ctx context.Context, manifest digest.Digest) error {
	_, body, err := r.repository.Manifest(ctx, string(manifest), []string{v1.MediaTypeImageManifest})
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return nil
	}
	if err != nil {
		return err
	}
	if _, err := decodeManifest(body); err != nil {
		return nil // it is something else, whoever says that it was a cache
	}
	return r.repository.Delete(ctx, string(manifest))
}

func (r *remote) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	return r.repository.Blob(ctx, desc)
}

func (r *remote) Has(ctx context.Context, desc digest.Descriptor) (bool, error) {
	return r.repository.HasBlob(ctx, desc)
}

func (r *remote) Put(ctx context.Context, desc digest.Descriptor, places []string, open func() (io.ReadCloser, error)) (bool, error) {
	if there, err := r.Has(ctx, desc); err != nil || there {
		return false, err
	}
	for _, place := range places {
		from, same := strings.CutPrefix(place, r.repository.Host()+"/")
		if !same || from == r.repository.Name() {
			continue
		}
		if mounted, err := r.repository.Mount(ctx, desc, from); err == nil && mounted {
			return false, nil
		}
	}
	return true, r.repository.PutBlob(ctx, desc, func(from int64) (io.ReadCloser, error) {
		in, err := open()
		if err == nil {
			_, err = io.CopyN(io.Discard, in, from)
		}
		return in, err
	})
}

// Locked just runs: registries know no locks, so an entry of two writers at once may be lost, and is written again by
// whoever needs it next.
func (r *remote) Locked(_ context.Context, act func() error) error { return act() }

// InFolder is a cache in a folder, which is an image layout. It is made where it does not exist when something is written.
func InFolder(dir string) (Backend, error) {
	abs, err := filepath.Abs(dir)
	return &folder{dir: abs}, err
}

type folder struct{ dir string }

func (f *folder) Place() string { return f.dir }

func (f *folder) Manifest(ctx context.Context) ([]byte, error) {
	l, err := layout.Open(f.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s: %w", f.dir, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	desc, err := l.Lookup(DefaultTag)
	if errors.Is(err, layout.ErrNotFound) {
		return nil, fmt.Errorf("%s: %w", f.dir, ErrNone)
	}
	if err != nil {
		return nil, err
	}
	in, err := l.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return digest.ReadAll(in, desc, maxManifest)
}

func (f *folder) PutManifest(ctx context.Context, body []byte) error {
	l, err := layout.Create(f.dir, "")
	if err != nil {
		return err
	}
	desc, err := l.PutBytes(v1.MediaTypeImageManifest, body)
	if err != nil {
		return err
	}
	if err := l.Name(ctx, DefaultTag, desc); err != nil {
		return err
	}
	return f.sweep(body, desc)
}

// sweep removes blobs that the manifest does not list, so that the folder does not grow without end. What is young may
// belong to a writer that has not got as far as its manifest.
func (f *folder) sweep(body []byte, own digest.Descriptor) error {
	m, err := decodeManifest(body)
	if err != nil {
		return err
	}
	listed := map[string]bool{own.Digest.Encoded(): true, m.Config.Digest.Encoded(): true}
	for _, l := range m.Layers {
		listed[l.Digest.Encoded()] = true
	}
	entries, err := os.ReadDir(filepath.Join(f.dir, "blobs", "sha256"))
	if err != nil {
		return err
	}
	for _, e := range entries {
		info, err := e.Info()
		if err == nil && !listed[e.Name()] && time.Since(info.ModTime()) > time.Hour {
			os.Remove(filepath.Join(f.dir, "blobs", "sha256", e.Name()))
		}
	}
	return nil
}

// Delete leaves it to sweep, which removes what no manifest lists.
func (f *folder) Delete(context.Context, digest.Digest) error { return nil }

func (f *folder) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	l, err := layout.Open(f.dir)
	if err != nil {
		return nil, err
	}
	return l.Fetch(ctx, desc)
}

func (f *folder) Has(_ context.Context, desc digest.Descriptor) (bool, error) {
	l, err := layout.Open(f.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && l.Has(desc), err
}

func (f *folder) Put(ctx context.Context, desc digest.Descriptor, _ []string, open func() (io.ReadCloser, error)) (bool, error) {
	l, err := layout.Create(f.dir, "")
	if err != nil || l.Has(desc) {
		return false, err
	}
	in, err := open()
	if err != nil {
		return false, err
	}
	defer in.Close()
	return true, l.Put(ctx, desc, in)
}

func (f *folder) Locked(ctx context.Context, act func() error) error {
	if _, err := layout.Create(f.dir, ""); err != nil {
		return err
	}
	lock := flock.New(filepath.Join(f.dir, ".lock"))
	if _, err := lock.TryLockContext(ctx, 50*time.Millisecond); err != nil {
		return fmt.Errorf("waiting for others that write to %s: %w", f.dir, err)
	}
	defer lock.Close()
	return act()
}
