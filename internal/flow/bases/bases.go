// Package bases finds what images start from and take from, wherever a reference points, and notes what was found, so that a
// registry that is away does not stop a build. It builds nothing and prints nothing.
package bases

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/recipe"
)

// Finder finds images. A registry's tag is taken from the lock where that has it, else asked for; what was found is kept in the
// store.
type Finder struct {
	Places *transfer.Places
	Store  *store.Store
	Lock   *lock.Lock // nil: there is none
	Sink   event.Sink // of warnings, and of what is brought
	told   sync.Map   // warnings that were given: each platform asks
	asked  sync.Map   // what names of registries stand for, as *answer
}

// answer is what a name stands for. It is asked for once: a tag that moves meanwhile must not give each platform another image.
type answer struct {
	mutex sync.Mutex
	root  digest.Descriptor // none: it is not known yet
}

// Resolve implements baseimage.Finder.
func (f *Finder) Resolve(ctx context.Context, ref reference.Reference, p platform.Platform) (*baseimage.Found, error) {
	name := ref.String()
	switch held := f.locked(name); {
	case ref.Digest != "":
	case ref.Kind == reference.Store && held != "":
		ref = reference.Reference{Kind: reference.Store, Digest: held}
	case ref.Kind == reference.Registry:
		if ref.Digest = held; held == "" {
			f.moves(name)
		}
	}
	place, err := f.Places.Source(ref)
	if err != nil {
		return nil, err
	}
	root, from, err := f.root(ctx, ref, name, place)
	if err != nil {
		return nil, err
	}
	offers, err := image.Offers(ctx, from, root)
	if err != nil {
		return nil, err
	}
	offer, err := image.Select(offers, p)
	if err != nil {
		return nil, err
	}
	if k, is := from.(*keeping); is {
		k.keep()
	}
	local, err := f.Places.Source(reference.Reference{Kind: reference.Store, Digest: offer.Descriptor.Digest})
	if err != nil {
		return nil, err
	}
	return &baseimage.Found{Name: name, Root: root, Descriptor: offer.Descriptor,
		Source: &source{finder: f, ref: ref, desc: offer.Descriptor, from: place, local: local}}, nil
}

// source is where an image comes from.
type source struct {
	finder      *Finder
	ref         reference.Reference
	desc        digest.Descriptor
	from, local transfer.Place
}

// IsLocal implements baseimage.Source.
func (s *source) IsLocal(ctx context.Context) bool {
	missing, err := transfer.Missing(ctx, s.local, s.desc)
	return err == nil && missing == 0
}

// FetchAll implements baseimage.Source.
func (s *source) FetchAll(ctx context.Context) error {
	if s.IsLocal(ctx) {
		return nil
	}
	_, err := transfer.Copy(ctx, s.from, s.local, transfer.Options{Root: s.desc, Sink: s.finder.Sink})
	return err
}

// FetchMetadata implements baseimage.Source. The layers of a registry can be had one by one.
func (s *source) FetchMetadata(ctx context.Context) (bool, error) {
	if s.ref.Kind != reference.Registry {
		return false, nil
	}
	manifest, err := image.ReadManifest(ctx, s.from, s.desc)
	if err != nil {
		return false, err
	}
	for _, desc := range []digest.Descriptor{manifest.Config, s.desc} {
		text, err := image.ReadDocument(ctx, s.from, desc)
		if err != nil {
			return false, err
		}
		if _, err := s.finder.Store.PutBytes(desc.MediaType, text); err != nil {
			return false, err
		}
	}
	for _, layer := range manifest.Layers {
		if err := s.finder.Store.NoteElsewhere(layer, s.ref.Host+"/"+s.ref.Repository); err != nil {
			return false, err
		}
	}
	return true, nil
}

func (f *Finder) locked(name string) digest.Digest {
	if f.Lock == nil {
		return ""
	}
	return f.Lock.Bases[name]
}

func (f *Finder) moves(name string) {
	why := "pin it with `imbricat lock`"
	if f.Lock != nil {
		why = recipe.LockName + " does not have it: `imbricat lock` adds it"
	}
	f.warn(event.MovingBase, fmt.Sprintf("the base %s: its tag may move; %s", name, why))
}

func (f *Finder) warn(code, text string) {
	if _, told := f.told.LoadOrStore(text, true); !told {
		f.Sink.Send(event.Warning{Code: code, Text: text})
	}
}

// root finds what a reference stands for, and where its documents are read.
func (f *Finder) root(ctx context.Context, ref reference.Reference, name string, place transfer.Place) (digest.Descriptor, image.Fetcher, error) {
	if ref.Kind != reference.Registry {
		root, err := place.Root(ctx)
		switch {
		case !errors.Is(err, fs.ErrNotExist) || ref.Kind != reference.Store:
		case name != ref.String():
			err = &goneError{ref.Digest, name}
		case ref.Name != "":
			err = fmt.Errorf("%w; an image of a registry is named with its host, such as registry.tideline.example/%s", err, name)
		}
		return root, place, err
	}
	if ref.Digest != "" {
		if root, here := f.Store.Document(ref.Digest); here && f.Store.Has(root) && f.reads(ctx, root) {
			return root, f.Store, nil
		}
	}
	held := name != ref.String()
	note := digest.Key(digest.ContentBytes([]byte("imbricat resolution 1 " + name)))
	of, _ := f.asked.LoadOrStore(name, &answer{})
	answered := of.(*answer)
	answered.mutex.Lock()
	defer answered.mutex.Unlock()
	if root := answered.root; root.Digest != "" {
		if f.reads(ctx, root) {
			return root, f.Store, nil
		}
		return root, &keeping{Fetcher: place, store: f.Store}, nil
	}
	root, err := place.Root(ctx)
	if errors.Is(err, registry.ErrUnreachable) || isTemporary(err) {
		if last, known := f.last(ctx, note); known && ref.Digest == "" {
			answered.root = last
			f.warn(event.Offline, fmt.Sprintf("the registry of the base %s cannot be reached; what it stood for last, %s, serves", name, last.Digest))
			return last, f.Store, nil
		}
	}
	if errors.Is(err, fs.ErrNotExist) && held {
		err = fmt.Errorf("%s names a digest that the registry does not have any more: `imbricat lock` writes what the tag stands for now: %w", recipe.LockName, err)
	}
	if err != nil {
		return root, nil, err
	}
	if text, jsonErr := json.Marshal(root); jsonErr == nil {
		_ = f.Store.PutNote(note, text) // it only helps when the registry is away
	}
	answered.root = root
	return root, &keeping{Fetcher: place, store: f.Store}, nil
}

// reads reports whether the store has the documents that tell what an image offers.
func (f *Finder) reads(ctx context.Context, root digest.Descriptor) bool {
	_, err := image.Offers(ctx, f.Store, root)
	return err == nil
}

// goneError is that the store lacks what the lock holds for a name.
type goneError struct {
	held digest.Digest
	name string
}

// Error implements error.
func (e *goneError) Error() string {
	return fmt.Sprintf("%s holds %s, which the store does not have: build it here, or `imbricat lock` takes what %s stands for now", recipe.LockName, e.held, e.name)
}

// Is reports that it is an error of what does not exist.
func (e *goneError) Is(target error) bool { return target == fs.ErrNotExist }

func isTemporary(err error) bool {
	var answer *registry.Error
	return errors.As(err, &answer) && answer.Temporary()
}

// last returns what a reference stood for when it was asked for last, where the store has its documents.
func (f *Finder) last(ctx context.Context, note digest.Key) (digest.Descriptor, bool) {
	var root digest.Descriptor
	text, found := f.Store.Note(note)
	if !found || json.Unmarshal(text, &root) != nil {
		return root, false
	}
	return root, f.reads(ctx, root)
}

// keeping remembers the documents that it fetches, for the store.
type keeping struct {
	image.Fetcher
	store *store.Store
	seen  []document
}

type document struct {
	mediaType string
	text      []byte
}

// Fetch implements image.Fetcher.
func (k *keeping) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	text, err := image.ReadDocument(ctx, k.Fetcher, desc)
	if err != nil {
		return nil, err
	}
	k.seen = append(k.seen, document{desc.MediaType, text})
	return io.NopCloser(bytes.NewReader(text)), nil
}

// keep puts what was fetched into the store. It only helps when the registry is away.
func (k *keeping) keep() {
	for _, d := range k.seen {
		_, _ = k.store.PutBytes(d.mediaType, d.text)
	}
}
