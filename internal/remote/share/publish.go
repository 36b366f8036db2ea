package share

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Finished is what a build used and others may want.
type Finished struct {
	Runs   []*store.Run
	Layers map[digest.Key]*store.Record // by the trees that they hold
	Bases  []digest.DiffID              // foreign layers, whose indexes are worth having
	// Places are repositories in which layers may be already.
	Places []string
}

// Publish shares what a build finished. What the cache has already is not sent again, and where there is nothing new
// nothing is written. The error is for a warning.
func (c *Cache) Publish(ctx context.Context, f Finished) error {
	c.mutex.Lock()
	away, bad, took := c.away, maps.Clone(c.bad), maps.Clone(c.took)
	c.mutex.Unlock()
	if !c.Writes() || away {
		return nil // that it is away was said
	}
	p, layers := c.gather(f)
	if len(p.Runs)+len(p.Layers)+len(took) == 0 {
		return nil
	}
	packed, err := p.encode()
	if err != nil {
		return err
	}
	if len(packed) > maxPack {
		return fmt.Errorf("what is to be shared takes %d bytes without layers, more than %d", len(packed), maxPack)
	}
	desc := v1.Descriptor{MediaType: packType, Digest: digest.FromBytes(packed), Size: int64(len(packed)), Annotations: map[string]string{
		namesKey: strings.Join(p.names(), " "), layersKey: strings.Join(namesOfBlobs(layers), " "), madeKey: time.Now().UTC().Format(time.RFC3339)}}
	c.signer.sign(&desc)
	return c.backend.Locked(ctx, func() error {
		// Another writer may replace the manifest between our reading and our writing, so it is read again.
		for range 3 {
			old, body, err := c.current(ctx)
			if err != nil {
				return err
			}
			touched := touch(old, took, time.Now())
			if old != nil { // what cannot be read goes
				old.Layers = slices.DeleteFunc(old.Layers, func(l v1.Descriptor) bool { return bad[l.Digest] })
			}
			if old != nil && hasAll(old, c.trust, p, layers) {
				if !touched {
					return nil
				}
				return c.put(ctx, old, body) // that another writer may lose it does no harm
			}
			if len(p.Runs)+len(p.Layers) == 0 {
				return nil // what it was taken from is not there any more
			}
			if err := c.send(ctx, old, desc, packed, layers, f.Places); err != nil {
				return err
			}
			if err := c.put(ctx, withPack(old, desc, layers), body); err != nil {
				return err
			}
			if now, _, err := c.current(ctx); err == nil && now != nil && slices.ContainsFunc(now.Layers, func(l v1.Descriptor) bool { return l.Digest == desc.Digest }) {
				return nil
			}
		}
		return errors.New("others keep writing to it")
	})
}

func (c *Cache) count(requests int, written int64) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.stats.Requests += requests
	c.stats.Written += written
}

func namesOfBlobs(layers []v1.Descriptor) []string {
	all := map[string]bool{}
	for _, l := range layers {
		all[nameOf(string(l.Digest))] = true
	}
	return sortedNames(all)
}

// hasAll reports whether a manifest's packs know all of what a pack can be asked for, and its layers.
func hasAll(m *v1.Manifest, trust Trust, p *pack, layers []v1.Descriptor) bool {
	known := map[string]bool{}
	for _, l := range m.Layers {
		if l.MediaType == packType {
			if !trust.believes(l) {
				continue // whoever believes these alone has nothing of it
			}
			for _, name := range strings.Fields(l.Annotations[namesKey]) {
				known[name] = true
			}
		} else {
			known[string(l.Digest)] = true
		}
	}
	return !slices.ContainsFunc(p.names(), func(name string) bool { return !known[name] }) &&
		!slices.ContainsFunc(layers, func(l v1.Descriptor) bool { return !known[string(l.Digest)] })
}

func (c *Cache) current(ctx context.Context) (*v1.Manifest, []byte, error) {
	limited, cancel := context.WithTimeout(ctx, 2*c.patience.Manifest)
	defer cancel()
	c.count(1, 0)
	return current(limited, c.backend)
}

// current returns the manifest that is there, and its text; nil where there is none.
func current(ctx context.Context, b Backend) (*v1.Manifest, []byte, error) {
	body, err := b.Manifest(ctx)
	if errors.Is(err, ErrNone) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	// What is no cache belongs to somebody else and is never replaced.
	m, err := decodeManifest(body)
	return m, body, err
}

// put puts a manifest in place of another one; nil: there was none.
func (c *Cache) put(ctx context.Context, m *v1.Manifest, before []byte) error {
	text, err := replacing(m, before)
	if err != nil {
		return err
	}
	c.count(1, 0)
	return c.backend.PutManifest(ctx, text)
}

// gather puts a pack together. What the store has lost meanwhile is left out.
func (c *Cache) gather(f Finished) (*pack, []v1.Descriptor) {
	p := &pack{Traces: map[digest.Key]string{}, Trees: map[digest.Key]string{}, Indexes: map[digest.DiffID]string{}, Runs: []packedRun{}, Layers: []store.Record{}}
	var layers []v1.Descriptor
	for tree, record := range f.Layers {
		own := *record
		own.Tree = tree
		p.Layers = append(p.Layers, own)
		if !slices.ContainsFunc(layers, func(l v1.Descriptor) bool { return l.Digest == record.Layer.Digest }) {
			layers = append(layers, v1.Descriptor{MediaType: record.Layer.MediaType, Digest: record.Layer.Digest, Size: record.Layer.Size})
		}
	}
	slices.SortFunc(p.Layers, func(a, b store.Record) int { return strings.Compare(string(a.Key), string(b.Key)) })
	slices.SortFunc(layers, func(a, b v1.Descriptor) int { return strings.Compare(string(a.Digest), string(b.Digest)) })
	keys := map[digest.Key]*store.Record{}
	for _, record := range f.Layers {
		keys[record.Key] = record
	}
	for _, run := range f.Runs {
		learnt, found := c.store.Trace(run.Trace)
		entries, there := c.store.TreeEntries(run.Tree)
		if !found || !there || run.Bytes > 0 && f.Layers[run.Tree] == nil && !inParts(run, func(key digest.Key) bool { return keys[key] != nil }) {
			continue
		}
		for _, key := range run.Parts {
			// Which of the files lies in which part only the parts' indexes tell.
			if record := keys[key]; record != nil {
				if text, found := c.store.LayerIndex(record.DiffID); found {
					p.Indexes[record.DiffID] = string(text)
				}
			}
		}
		shared := *run
		shared.Log, shared.Build, shared.Shared = "", "", false // what was printed stays on the machine
		p.Runs = append(p.Runs, packedRun{shared})
		p.Traces[run.Trace], p.Trees[run.Tree] = string(learnt), string(entries)
	}
	slices.SortFunc(p.Runs, func(a, b packedRun) int { return strings.Compare(string(a.Key+a.Trace), string(b.Key+b.Trace)) })
	for _, id := range f.Bases {
		if text, found := c.store.LayerIndex(id); found {
			p.Indexes[id] = string(text)
			p.Files = append(p.Files, c.accounts(text)...)
		}
	}
	slices.Sort(p.Files)
	p.Files = slices.Compact(p.Files)
	return p, layers
}

// accounts returns the lists of users and groups of a foreign layer that this machine has read.
func (c *Cache) accounts(index []byte) (texts []string) {
	indexed, err := layer.DecodeIndex(index)
	if err != nil {
		return nil
	}
	for i := range indexed.Entries {
		e := &indexed.Entries[i]
		if e.Kind != tree.File || e.Size > mostFile || !slices.Contains(accountFiles, e.Path) {
			continue
		}
		if text, found := c.store.SmallFile(e.Content); found {
			texts = append(texts, string(text))
		}
	}
	return texts
}

// inParts reports whether a run's files lie in several layers that are all there.
func inParts(run *store.Run, there func(key digest.Key) bool) bool {
	return len(run.Parts) > 0 && !slices.ContainsFunc(run.Parts, func(key digest.Key) bool { return !there(key) })
}

// send puts the blobs of a pack that the manifest does not list yet.
func (c *Cache) send(ctx context.Context, old *v1.Manifest, desc v1.Descriptor, body []byte, layers []v1.Descriptor, places []string) error {
	listed := map[digest.Digest]bool{}
	if old != nil {
		for _, l := range old.Layers {
			listed[l.Digest] = true
		}
	}
	var written atomic.Int64
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(4)
	put := func(blob v1.Descriptor, places []string, open func() (io.ReadCloser, error)) {
		group.Go(func() error {
			c.count(1, 0)
			sent, err := c.backend.Put(ctx, blob, places, open)
			if err != nil {
				return fmt.Errorf("sharing the blob %s: %w", blob.Digest, err)
			}
			if sent {
				written.Add(blob.Size)
			}
			return c.store.NoteElsewhere(blob, c.backend.Place())
		})
	}
	for _, l := range layers {
		if listed[l.Digest] {
			continue
		}
		put(l, append(c.store.Neighbours(l.Digest), places...), func() (io.ReadCloser, error) { return c.store.Fetch(ctx, l) })
	}
	bytesOf := func(text []byte) func() (io.ReadCloser, error) {
		return func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(text)), nil }
	}
	if old == nil {
		put(v1.Descriptor{MediaType: v1.MediaTypeEmptyJSON, Digest: v1.DescriptorEmptyJSON.Digest, Size: v1.DescriptorEmptyJSON.Size}, nil, bytesOf([]byte("{}")))
	}
	put(desc, nil, bytesOf(body))
	err := group.Wait()
	c.count(0, written.Load())
	return err
}
