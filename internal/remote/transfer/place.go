// Package transfer moves images between a registry, the store, a layout directory and an archive.
//
// All four are a Place with the same contract, so that push, pull and copy are one act. Content comes before what names
// it: blobs, then the manifests that list them, then the index, and tags last of all.
package transfer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layout"
	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
)

// Place is one side of a transfer.
type Place interface {
	// Fetch opens a blob or a manifest; reading it to the end verifies it.
	Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error)
	// Root returns what the place's reference stands for. A missing one wraps fs.ErrNotExist.
	Root(ctx context.Context) (digest.Descriptor, error)
	// Has reports whether a blob or a manifest is there. A manifest is only there with all that it lists when Whole.
	Has(ctx context.Context, desc digest.Descriptor) (bool, error)
	// Whole tells that a manifest is never there without what it lists.
	Whole() bool
	// Put stores a blob or a manifest. open may be called several times.
	Put(ctx context.Context, desc digest.Descriptor, open Opener) error
	// Name makes name (a tag; a name of the store, the layout or the archive) stand for an image that is there.
	Name(ctx context.Context, desc digest.Descriptor, name string) error
	// Close ends the use of the place. An archive is complete only then.
	Close() error
	// String is the place for messages.
	String() string
}

// Opener opens content from one of its bytes on.
type Opener = registry.Opener

// seekable is a place that opens blobs from one of their bytes on, without verifying them.
type seekable interface {
	FetchFrom(ctx context.Context, desc digest.Descriptor, from int64) (io.ReadCloser, error)
}

// referring is a place that knows what refers to what.
type referring interface {
	Referrers(ctx context.Context, subject digest.Digest) ([]digest.Descriptor, error)
}

// keeper is a place that remembers where else blobs are.
type keeper interface {
	NoteSeen(desc digest.Descriptor, place string) error
}

// lender is a place that knows where else blobs can be had.
type lender interface {
	Neighbours(d digest.Digest) []string
}

// mounter is a place that can take blobs over from a neighbour: a place HOST/REPOSITORY of the same registry.
type mounter interface {
	Mount(ctx context.Context, desc digest.Descriptor, place string) (bool, error)
}

// Places opens places.
type Places struct {
	Store  *store.Store
	Client *registry.Client
	Dir    string // what relative paths are relative to; empty: the working directory
}

// Source opens a place to read from.
func (o *Places) Source(ref reference.Reference) (Place, error) {
	switch ref.Kind {
	case reference.Archive:
		return openArchive(o.path(ref), ref)
	case reference.Registry:
		return &remote{repository: o.Client.Source(ref.Host, ref.Repository), ref: ref}, nil
	}
	return o.place(ref, layout.Open)
}

// Destination opens a place to write to and makes it where it does not exist.
func (o *Places) Destination(ref reference.Reference) (Place, error) {
	if ref.Kind == reference.Archive {
		return createArchive(o.path(ref), ref)
	}
	return o.place(ref, func(dir string) (*layout.Layout, error) { return layout.Create(dir, "") })
}

// place opens what is read and written alike.
func (o *Places) place(ref reference.Reference, open func(dir string) (*layout.Layout, error)) (Place, error) {
	switch ref.Kind {
	case reference.Registry:
		return &remote{repository: o.Client.Repository(ref.Host, ref.Repository), ref: ref}, nil
	case reference.Store:
		return &stored{local{Layout: o.Store.Layout, ref: ref}, o.Store}, nil
	}
	l, err := open(o.path(ref))
	if err != nil {
		return nil, err
	}
	return &local{Layout: l, ref: ref}, nil
}

func (o *Places) path(ref reference.Reference) string {
	if o.Dir == "" || filepath.IsAbs(ref.Path) {
		return ref.Path
	}
	return filepath.Join(o.Dir, ref.Path)
}

// local is the store or a layout directory.
type local struct {
	*layout.Layout
	ref reference.Reference
}

// stored is the store, some of whose blobs may be elsewhere.
type stored struct {
	local
	store *store.Store
}

// Neighbours implements lender.
func (s *stored) Neighbours(d digest.Digest) []string { return s.store.Neighbours(d) }

// NoteSeen implements keeper.
func (s *stored) NoteSeen(desc digest.Descriptor, place string) error {
	return s.store.NoteSeen(desc, place)
}

func (l *local) Root(context.Context) (digest.Descriptor, error) {
	var desc digest.Descriptor
	var err error
	switch {
	case l.ref.Kind == reference.Store && l.ref.Digest != "":
		desc, err = l.LookupPrefix(l.ref.Digest.Encoded())
	case l.ref.Kind == reference.Store:
		desc, err = l.Lookup(l.ref.StoreName())
		if digits, prefix := l.ref.DigestPrefix(); errors.Is(err, layout.ErrNotFound) && prefix {
			desc, err = l.LookupPrefix(digits)
		}
	default:
		var list []layout.Named
		if list, err = l.List(); err == nil {
			desc, err = member(list, l.ref)
		}
	}
	if errors.Is(err, layout.ErrNotFound) {
		if l.ref.Kind == reference.Store {
			err = fmt.Errorf("%w; `imbricat store list` shows what the store holds", err)
		}
		return desc, &missing{err}
	}
	return desc, err
}

// missing adds fs.ErrNotExist to an error without changing its words.
type missing struct{ error }

func (m *missing) Is(target error) bool { return target == fs.ErrNotExist }
func (m *missing) Unwrap() error        { return m.error }

// member picks one image of several by the name after '#'.
func member(list []layout.Named, ref reference.Reference) (digest.Descriptor, error) {
	if ref.Member == "" && len(list) == 1 {
		return list[0].Descriptor, nil
	}
	var names []string
	for _, n := range list {
		if ref.Member != "" && (n.Name == ref.Member || string(n.Descriptor.Digest) == ref.Member) {
			return n.Descriptor, nil
		}
		if n.Name == "" {
			n.Name = string(n.Descriptor.Digest)
		}
		names = append(names, n.Name)
	}
	if ref.Member == "" && len(list) > 1 {
		return digest.Descriptor{}, fmt.Errorf("%s holds %d images: add #NAME, one of %q", ref.Path, len(list), names)
	}
	return digest.Descriptor{}, fmt.Errorf("%s holds no image %q, it has %q: %w", ref.Path, ref.Member, names, layout.ErrNotFound)
}

func (l *local) Has(_ context.Context, desc digest.Descriptor) (bool, error) {
	return l.Layout.Has(desc), nil
}

func (l *local) Whole() bool { return false }

// FetchFrom implements seekable.
func (l *local) FetchFrom(ctx context.Context, desc digest.Descriptor, from int64) (io.ReadCloser, error) {
	name, err := l.BlobPath(desc.Digest)
	if err != nil {
		return nil, err
	}
	// It may have to be brought first, or must not be given away.
	r, err := l.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	r.Close()
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	return seek(f, from)
}

func seek(f *os.File, from int64) (io.ReadCloser, error) {
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

func (l *local) Put(ctx context.Context, desc digest.Descriptor, open Opener) error {
	r, err := open(0)
	if err != nil {
		return err
	}
	defer r.Close()
	return l.Layout.Put(ctx, desc, r)
}

func (l *local) Name(ctx context.Context, desc digest.Descriptor, name string) error {
	return l.Layout.Name(ctx, name, desc)
}

func (l *local) Close() error { return nil }

func (l *local) String() string {
	if l.ref.Kind == reference.Store {
		return "the store"
	}
	return l.ref.Path
}

// remote is a repository of a registry.
type remote struct {
	repository *registry.Repository
	ref        reference.Reference
	mutex      sync.Mutex
	documents  map[digest.Digest][]byte // that were fetched or put last
}

func (r *remote) Root(ctx context.Context) (digest.Descriptor, error) {
	if r.ref.Identifier() == "" {
		return digest.Descriptor{}, fmt.Errorf("%s needs a tag or a digest: none is assumed", r.ref)
	}
	desc, body, err := r.repository.Manifest(ctx, r.ref.Identifier(), image.Accepted)
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return desc, &missing{err}
	}
	if err == nil {
		r.keep(desc.Digest, body)
	}
	return desc, err
}

func document(desc digest.Descriptor) bool {
	return image.IsIndex(desc.MediaType) || image.IsManifest(desc.MediaType)
}

func (r *remote) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	if !document(desc) {
		return r.repository.Blob(ctx, desc)
	}
	if body, known := r.kept(desc.Digest); known {
		return io.NopCloser(newVerified(body, desc)), nil
	}
	got, body, err := r.repository.Manifest(ctx, string(desc.Digest), []string{desc.MediaType})
	if err != nil {
		return nil, err
	}
	if got.MediaType != desc.MediaType {
		return nil, fmt.Errorf("%s@%s: %w: it was announced as %q and is %q", r.repository, desc.Digest, image.ErrMalformed, desc.MediaType, got.MediaType)
	}
	r.keep(desc.Digest, body)
	return io.NopCloser(newVerified(body, desc)), nil
}

// maxKept bounds how many documents of one place are remembered: they are asked for several times, and small.
const maxKept = 64

func (r *remote) keep(d digest.Digest, body []byte) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.documents == nil || len(r.documents) >= maxKept {
		r.documents = map[digest.Digest][]byte{}
	}
	r.documents[d] = body
}

func (r *remote) kept(d digest.Digest) ([]byte, bool) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	body, known := r.documents[d]
	return body, known
}

// FetchFrom implements seekable.
func (r *remote) FetchFrom(ctx context.Context, desc digest.Descriptor, from int64) (io.ReadCloser, error) {
	return r.repository.BlobFrom(ctx, desc, from)
}

// Referrers implements referring.
func (r *remote) Referrers(ctx context.Context, subject digest.Digest) ([]digest.Descriptor, error) {
	return r.repository.Referrers(ctx, subject, "")
}

// standing tells what a tag stands on; "" where it does not exist.
func (r *remote) standing(ctx context.Context, tag string) (digest.Digest, error) {
	d, there, err := r.repository.HasManifest(ctx, tag, image.Accepted)
	if !there {
		d = ""
	}
	return d, err
}

func (r *remote) Has(ctx context.Context, desc digest.Descriptor) (bool, error) {
	if !document(desc) {
		return r.repository.HasBlob(ctx, desc)
	}
	_, there, err := r.repository.HasManifest(ctx, string(desc.Digest), []string{desc.MediaType})
	return there, err
}

// Mount implements mounter.
func (r *remote) Mount(ctx context.Context, desc digest.Descriptor, place string) (bool, error) {
	from, same := strings.CutPrefix(place, r.repository.Host()+"/")
	if !same || from == r.repository.Name() {
		return false, nil
	}
	return r.repository.Mount(ctx, desc, from)
}

func (r *remote) Whole() bool { return true }

func (r *remote) Put(ctx context.Context, desc digest.Descriptor, open Opener) error {
	if !document(desc) {
		return r.repository.PutBlob(ctx, desc, open)
	}
	body, err := readDocument(desc, open)
	if err != nil {
		return err
	}
	r.keep(desc.Digest, body)
	return r.repository.PutManifest(ctx, string(desc.Digest), desc.MediaType, body)
}

func readDocument(desc digest.Descriptor, open Opener) ([]byte, error) {
	in, err := open(0)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return digest.ReadAll(in, desc, image.MaxDocument)
}

func (r *remote) Name(ctx context.Context, desc digest.Descriptor, name string) error {
	body, known := r.kept(desc.Digest)
	if !known {
		var err error
		if _, body, err = r.repository.Manifest(ctx, string(desc.Digest), []string{desc.MediaType}); err != nil {
			return err
		}
	}
	return r.repository.PutManifest(ctx, name, desc.MediaType, body)
}

func (r *remote) Close() error { return nil }

func (r *remote) String() string { return r.repository.String() }
