// Package share exchanges finished steps between machines: records, what commands learnt, entries of trees, and where
// layers are, through a repository of a registry or through a folder.
//
// A shared cache is one manifest under one tag. It lists packs, each of which holds what one build used, and as blobs the
// layers that belong to them, so that a registry keeps them. Looking things up takes the manifest and the few packs that
// say in their annotations that they have what is asked for; layers are fetched when somebody opens them. Nothing here
// may fail a build: what cannot be read in time counts as absent. Whoever may write to the cache, or of a cache that is
// limited to signers whoever has one of their keys, is believed as far as records go; what is fetched is verified by its
// digest all the same, and a layer that is opened by what was said of it. It knows no recipe and runs nothing.
package share

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/ground/digest"
)

// Mode is which way things go.
type Mode string

// The modes.
const (
	Read  Mode = "read"
	Write Mode = "write"
	Both  Mode = "both"
)

// Backend is where a shared cache lies. A missing manifest wraps ErrNone.
type Backend interface {
	// Manifest returns the cache's manifest.
	Manifest(ctx context.Context) ([]byte, error)
	// PutManifest replaces the manifest; what it lists is there before.
	PutManifest(ctx context.Context, body []byte) error
	// Fetch opens a blob; reading it to the end verifies it.
	Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error)
	// Has reports whether a blob is there.
	Has(ctx context.Context, desc digest.Descriptor) (bool, error)
	// Put stores a blob, from one of the places where it is known to be or from what open gives. It tells whether bytes
	// were sent.
	Put(ctx context.Context, desc digest.Descriptor, places []string, open func() (io.ReadCloser, error)) (bool, error)
	// Place names it as the store notes where blobs are.
	Place() string
	// Delete deletes a manifest that another one came in place of. Where it lies elsewhere than in the list of the cache nothing happens.
	Delete(ctx context.Context, manifest digest.Digest) error
	// Locked runs act while no other process changes the cache, where that can be had.
	Locked(ctx context.Context, act func() error) error
}

// ErrNone is that there is nothing yet.
var ErrNone = errors.New("there is no shared cache yet")

// Bounds of what is read, in bytes and numbers.
const (
	maxPack     = 64 << 20
	maxUnpacked = 1 << 30
	maxManifest = 4 << 20
	mostPacks   = 32
)

// Patience bounds how long looking things up may hold a build up.
type Patience struct {
	Manifest time.Duration // for the manifest
	Pack     time.Duration // for each pack
	Stall    time.Duration // without any byte of a layer
	All      time.Duration // over all look-ups of a build
}

// DefaultPatience is some seconds in all.
var DefaultPatience = Patience{Manifest: 3 * time.Second, Pack: 5 * time.Second, Stall: 5 * time.Second, All: 8 * time.Second}

// Cache is a shared cache in use by one build.
type Cache struct {
	backend  Backend
	store    *store.Store
	mode     Mode
	patience Patience
	doubt    func(err error) // is told once, of the first thing that went wrong

	mutex    sync.Mutex
	spent    time.Duration
	off      bool // nothing more is asked
	away     bool // its manifest cannot be had
	trust    Trust
	signer   *Signer                // signs what is written; nil: nobody
	bad      map[digest.Digest]bool // packs that cannot be read
	manifest *v1.Manifest
	loaded   bool
	packs    map[digest.Digest]bool // imported, or found to be of no use
	took     map[digest.Digest]bool // imported
	used     map[string]bool        // names that this build asked for
	stats    Stats
}

// Stats tell what a build moved.
type Stats struct {
	Requests int
	Read     int64 // bytes of packs and layers
	Written  int64
}

// New makes a cache of a backend.
func New(b Backend, s *store.Store, mode Mode, p Patience, doubt func(error)) *Cache {
	return &Cache{backend: b, store: s, mode: mode, patience: p, doubt: doubt, packs: map[digest.Digest]bool{}, took: map[digest.Digest]bool{}, used: map[string]bool{}, bad: map[digest.Digest]bool{}}
}

// Reads reports whether things are looked up.
func (c *Cache) Reads() bool { return c.mode != Write }

// Writes reports whether finished steps are shared.
func (c *Cache) Writes() bool { return c.mode != Read }

// Place is where the cache lies.
func (c *Cache) Place() string { return c.backend.Place() }

// Stats tells what was moved so far.
func (c *Cache) Stats() Stats {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.stats
}

// giveUp stops asking, and says why, once.
func (c *Cache) giveUp(err error) {
	if !c.off {
		c.off = true
		c.doubt(fmt.Errorf("the shared cache %s is not used: %w", c.backend.Place(), err))
	}
}

// nameLength is how many digits of a hash stand for it in annotations. More than enough to find a pack: what it holds is
// compared whole.
const nameLength = 12

func nameOf(id string) string {
	hex := id[strings.IndexByte(id, ':')+1:]
	return hex[:min(nameLength, len(hex))]
}

// within runs an act in what is left of the patience.
func (c *Cache) within(ctx context.Context, most time.Duration, act func(ctx context.Context) error) error {
	left := min(most, c.patience.All-c.spent)
	if left <= 0 {
		return fmt.Errorf("looking things up took longer than %s", c.patience.All)
	}
	limited, cancel := context.WithTimeout(ctx, left)
	defer cancel()
	began := time.Now()
	err := act(limited)
	c.spent += time.Since(began)
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		err = fmt.Errorf("it did not answer within %s", left.Round(time.Millisecond))
	}
	return err
}

// load reads the manifest, once.
func (c *Cache) load(ctx context.Context) {
	if c.loaded || c.off {
		return
	}
	c.loaded = true
	err := c.within(ctx, c.patience.Manifest, func(ctx context.Context) error {
		c.stats.Requests++
		body, err := c.backend.Manifest(ctx)
		if err != nil {
			return err
		}
		c.manifest, err = decodeManifest(body)
		return err
	})
	if err != nil && !errors.Is(err, ErrNone) && ctx.Err() == nil {
		c.away = true
		c.giveUp(err)
	}
}

// look brings in every pack that has one of the names. It tells whether any was brought in now.
func (c *Cache) look(ctx context.Context, id string) {
	if !c.Reads() || c.off {
		return
	}
	c.load(ctx)
	name := nameOf(id)
	if c.manifest == nil || c.used[name] {
		return
	}
	c.used[name] = true
	for _, desc := range slices.Backward(c.manifest.Layers) { // the newest come last
		if c.off || c.packs[desc.Digest] || desc.MediaType != packType || !c.trust.believes(desc) || !slices.Contains(strings.Fields(desc.Annotations[namesKey]), name) {
			continue
		}
		c.packs[desc.Digest] = true
		err := c.within(ctx, c.patience.Pack, func(ctx context.Context) error { return c.take(ctx, desc) })
		if err != nil && ctx.Err() == nil {
			c.giveUp(err)
		}
	}
}

// take reads a pack and keeps what it holds in the store.
func (c *Cache) take(ctx context.Context, desc digest.Descriptor) error {
	if desc.Size > maxPack {
		return fmt.Errorf("a pack of %d bytes is larger than any that is written", desc.Size)
	}
	c.stats.Requests++
	blob, err := c.backend.Fetch(ctx, desc)
	if err != nil {
		return err
	}
	defer blob.Close()
	packed, err := digest.ReadAll(blob, desc, maxPack)
	if err != nil {
		c.bad[desc.Digest] = errors.Is(err, digest.ErrMismatch)
		return err
	}
	c.stats.Read += int64(len(packed))
	p, err := decodePack(packed)
	if err != nil {
		c.bad[desc.Digest] = true
		return fmt.Errorf("the pack %s: %w", desc.Digest, err)
	}
	c.took[desc.Digest] = true
	return c.keep(p, desc.Digest)
}

// keep puts what a pack holds into the store: what belongs to records before the records. What contradicts itself is
// left out.
func (c *Cache) keep(p *pack, name digest.Digest) error {
	place := c.backend.Place()
	if err := c.store.NoteOrigin(digest.Key(name), p.origin(place)); err != nil {
		return err
	}
	listed := map[digest.Digest]bool{}
	for _, l := range c.manifest.Layers {
		listed[l.Digest] = true
	}
	traces, trees, layers := map[digest.Key]bool{}, map[digest.Key]bool{}, map[digest.Key]bool{}
	for id, text := range p.Traces {
		if _, err := trace.Decode(text); err == nil && trace.ID([]byte(text)) == id {
			if err := c.store.PutTrace(id, []byte(text)); err != nil {
				return err
			}
			traces[id] = true
		}
	}
	for id, text := range p.Trees {
		if treeMatches(id, text) {
			if err := c.store.PutTreeEntries(id, []byte(text)); err != nil {
				return err
			}
			trees[id] = true
		}
	}
	for id, text := range p.Indexes {
		if indexMatches(id, text) && !c.store.HasLayerIndex(id) {
			if err := c.store.Claimed(string(id), store.Claim{Place: place, DiffID: id}); err != nil {
				return err
			}
			if err := c.store.PutLayerIndex(id, []byte(text)); err != nil {
				return err
			}
		}
	}
	for _, text := range p.Files[:min(len(p.Files), mostFiles)] {
		// It is found by what it holds alone, so it needs no belief.
		if len(text) > mostFile {
			continue
		}
		if err := c.store.PutSmallFile([]byte(text)); err != nil {
			return err
		}
	}
	for i := range p.Layers {
		l := &p.Layers[i]
		if l.Layer.Digest.Validate() != nil || digest.Digest(l.DiffID).Validate() != nil || l.Layer.Size < 0 || !listed[l.Layer.Digest] || !layer.IsRecordKey(l.Key, l.Tree) {
			continue // a record counts only where its layer is known to be there: the manifest makes the registry keep it
		}
		layers[l.Key] = true
		if _, known := c.store.Record(l.Key); known {
			continue
		}
		// That the layer holds the tree is believed until somebody opens it.
		if err := c.store.Claimed(string(l.Layer.Digest), store.Claim{Place: place, DiffID: l.DiffID, Tree: l.Tree}); err != nil {
			return err
		}
		if err := c.store.NoteElsewhere(l.Layer, place); err != nil {
			return err
		}
		if err := c.store.ImportRecord(l); err != nil {
			return err
		}
	}
	for i := range p.Runs {
		r := &p.Runs[i]
		if !traces[r.Trace] || !trees[r.Tree] || r.Bytes > 0 && !inParts(&r.Run, func(key digest.Key) bool { return layers[key] }) &&
			!slices.ContainsFunc(p.Layers, func(l store.Record) bool { return l.Tree == r.Tree && layers[l.Key] }) {
			continue
		}
		r.Shared, r.Build = true, ""
		if err := c.store.ImportRun(&r.Run); err != nil {
			return err
		}
	}
	return nil
}

// Run looks for runs of a command. What is found lies in the store afterwards.
func (c *Cache) Run(ctx context.Context, key digest.Key) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.look(ctx, string(key))
}

// Layer looks for a layer by the key of its record.
func (c *Cache) Layer(ctx context.Context, key digest.Key) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.look(ctx, string(key))
}

// Index looks for what a foreign layer holds.
func (c *Cache) Index(ctx context.Context, id digest.DiffID) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.look(ctx, string(id))
}

// FetchBlob puts a layer of this cache into the store.
func (c *Cache) FetchBlob(ctx context.Context, desc digest.Descriptor) error {
	limited, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	stalled := time.AfterFunc(c.patience.Stall, func() { cancel(fmt.Errorf("no byte came for %s", c.patience.Stall)) })
	defer stalled.Stop()
	blob, err := c.backend.Fetch(limited, desc)
	if err == nil {
		defer blob.Close()
		err = c.store.Put(limited, desc, &lively{blob, stalled, c.patience.Stall})
	}
	if err != nil && limited.Err() != nil && ctx.Err() == nil {
		err = context.Cause(limited)
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.stats.Requests++
	if err == nil {
		c.stats.Read += desc.Size
	}
	return err
}

// lively puts an alarm off with every byte.
type lively struct {
	io.Reader
	alarm *time.Timer
	after time.Duration
}

func (l *lively) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p)
	if n > 0 {
		l.alarm.Reset(l.after)
	}
	return n, err
}
