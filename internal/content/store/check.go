package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
)

// Finding is something wrong in a store.
type Finding struct {
	Path string `json:"path"` // below the store
	What string `json:"what"`
	Done string `json:"done,omitempty"` // what mended it
}

// Report is the outcome of a check.
type Report struct {
	Blobs    int       `json:"blobs"`
	Bytes    int64     `json:"bytes"` // of all blobs
	Images   int       `json:"images"`
	Records  int       `json:"records"`
	Trees    int       `json:"trees"` // that lie unpacked
	Findings []Finding `json:"findings"`
}

// checker collects what is wrong; several goroutines report to it.
type checker struct {
	store   *Store
	repair  bool
	broken  map[digest.Digest]bool // images that lack something, by what their names stand for
	root    digest.Digest          // of the image that is looked at
	damaged sync.Map               // digest.Digest: blobs that were found to be
	mutex   sync.Mutex
	report  Report
}

// found reports what is wrong with a file. What only takes its place away mends it: the blob or record is made or
// brought again when it is needed.
func (c *checker) found(path, format string, args ...any) {
	done := ""
	if c.repair {
		if err := os.RemoveAll(path); err == nil {
			done = "removed"
		}
	}
	c.note(path, done, format, args...)
}

func (c *checker) note(path, done, format string, args ...any) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if below, err := filepath.Rel(c.store.Dir(), path); err == nil {
		path = filepath.ToSlash(below)
	}
	c.report.Findings = append(c.report.Findings, Finding{path, fmt.Sprintf(format, args...), done})
}

// Check reads the whole store: every blob against its digest, every image down to its layers, every record, everything
// that saves work. With repair what is damaged is removed, and images that lack something lose their names. The error is
// for what kept it from checking; what it found is in the report.
func (s *Store) Check(ctx context.Context, repair bool) (*Report, error) {
	c := &checker{store: s, repair: repair, broken: map[digest.Digest]bool{}}
	if err := c.blobs(ctx); err != nil {
		return nil, err
	}
	if err := c.images(ctx); err != nil {
		return nil, err
	}
	group, limited := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	err := s.eachFile("imbricat/records", func(path string) error {
		group.Go(func() error { return c.record(limited, path) })
		return limited.Err()
	})
	if waitErr := group.Wait(); err == nil {
		err = waitErr
	}
	if err != nil {
		return nil, err
	}
	if err := s.eachFile(filepath.Join("imbricat", runs), c.run); err != nil {
		return nil, err
	}
	for _, folder := range []string{trees, tables, notes, traces, indexes, logs} {
		if err := s.eachFile(filepath.Join("imbricat", folder), c.saved); err != nil {
			return nil, err
		}
	}
	if err := s.EachSnapshot(func(form string, tree digest.Key, root string) error {
		c.unpacked(form, tree, root)
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	slices.SortFunc(c.report.Findings, func(a, b Finding) int { return strings.Compare(a.Path+a.What, b.Path+b.What) })
	return &c.report, nil
}

// saved checks something that only saves work.
func (c *checker) saved(path string) error {
	packed, err := os.ReadFile(path)
	if err == nil {
		_, err = decompress(packed)
	}
	if err != nil {
		c.found(path, "cannot be read: %s", err)
	}
	return nil
}

// unpacked compares an unpacked tree with its index.
func (c *checker) unpacked(form string, tree digest.Key, root string) {
	if c.store.CheckTree == nil {
		return
	}
	c.report.Trees++
	entries, found := c.store.TreeEntries(tree)
	if !found {
		return // nobody relies on it: merely useless, and so no finding
	}
	err := c.store.CheckTree(form, root, entries)
	if err == nil {
		return
	}
	done := ""
	if c.repair {
		if records, dropErr := c.store.DropDamaged(form, tree); dropErr == nil {
			if done = "removed"; records > 0 {
				done = fmt.Sprintf("removed; records of commands that ran over it, also removed: %d", records)
			}
		}
	}
	c.note(root, done, "%s", err)
}

func (c *checker) blobs(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	err := filepath.WalkDir(c.store.path("blobs"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		group.Go(func() error { return c.blob(ctx, path) })
		return ctx.Err()
	})
	if waitErr := group.Wait(); err == nil {
		err = waitErr
	}
	return err
}

func (c *checker) blob(ctx context.Context, path string) error {
	want, err := digest.Parse(filepath.Base(filepath.Dir(path)) + ":" + filepath.Base(path))
	if err != nil {
		c.found(path, "is not a blob: its name is not a digest")
		return nil
	}
	f, err := openUnused(path)
	if err != nil {
		c.found(path, "cannot be read: %s", err)
		return nil
	}
	defer f.Close()
	verifier := want.Verifier()
	n, err := io.Copy(verifier, digest.WithContext(ctx, f))
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		c.found(path, "cannot be read: %s", err)
	} else if !verifier.Verified() {
		c.found(path, "its bytes have another digest than its name")
	}
	if err != nil || !verifier.Verified() {
		c.damaged.Store(want, true)
	}
	c.mutex.Lock()
	c.report.Blobs++
	c.report.Bytes += n
	c.mutex.Unlock()
	return nil
}

func (c *checker) images(ctx context.Context) error {
	list, err := c.store.List()
	if err != nil {
		return c.mendIndex(ctx, err)
	}
	c.report.Images = len(list)
	for _, image := range list {
		c.root = image.Descriptor.Digest
		c.reaches(image.String(), image.Descriptor, 0)
	}
	if !c.repair || len(c.broken) == 0 {
		return nil
	}
	_, err = c.store.Drop(ctx, func(image layout.Named) bool { return c.broken[image.Descriptor.Digest] })
	return err
}

// mendIndex makes a list of images that cannot be read anew, of all that no other image lists, without their names.
func (c *checker) mendIndex(ctx context.Context, cause error) error {
	if inner := errors.Unwrap(cause); inner != nil {
		cause = fmt.Errorf("cannot be read: %w", inner) // the path and what mends it stand beside that
	}
	path := c.store.path(v1.ImageIndexFile)
	if !c.repair {
		c.note(path, "", "%s", cause)
		return nil
	}
	roots := map[digest.Digest]digest.Descriptor{}
	below := map[digest.Digest]bool{}
	err := c.store.eachFile("blobs", func(path string) error {
		d := digest.Digest(filepath.Base(filepath.Dir(path)) + ":" + filepath.Base(path))
		if desc, document := c.store.Document(d); document {
			roots[d] = desc
			for _, need := range c.store.needs(d) {
				below[need.Digest] = true
			}
		}
		return ctx.Err()
	})
	if err != nil {
		return err
	}
	empty, err := json.Marshal(v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: []v1.Descriptor{}})
	if err == nil {
		err = c.store.WriteFile(v1.ImageIndexFile, empty)
	}
	for d, desc := range roots {
		if err == nil && !below[d] {
			c.report.Images++
			err = c.store.Name(ctx, "", desc)
		}
	}
	c.note(path, "the images are listed again, without their names", "%s", cause)
	return err
}

// lacks reports that an image lacks something.
func (c *checker) lacks(path, format string, args ...any) {
	done := ""
	if c.repair {
		done = "the image is no longer listed: build or pull it again"
	}
	c.broken[c.root] = true
	c.note(path, done, format, args...)
}

// reaches follows a manifest or an index to all that it needs.
func (c *checker) reaches(name string, desc digest.Descriptor, depth int) {
	path, err := c.store.BlobPath(desc.Digest)
	switch {
	case err != nil:
		c.lacks(v1.ImageIndexFile, "the image %s: %s", name, err)
		return
	case !c.store.Lists(desc) && depth > 0 && len(c.store.Elsewhere(desc.Digest)) > 0:
		return // it is brought when somebody opens it
	case !c.store.Lists(desc):
		c.lacks(path, "is missing or has another size; the image %s needs it", name)
		return
	case depth > 4:
		c.lacks(path, "indexes are nested too deep in the image %s", name)
		return
	}
	if _, document := c.store.Document(desc.Digest); !document {
		return
	}
	for _, need := range c.store.needs(desc.Digest) {
		c.reaches(name, need, depth+1)
	}
}

// run checks the record of a run step.
func (c *checker) run(path string) error {
	c.report.Records++
	text, err := os.ReadFile(path)
	var r Run
	if err == nil {
		err = Unseal(text, &r)
	}
	if err != nil {
		c.found(path, "is not a record: %s", err)
	} else if name, err := c.store.runFile(r.Key, r.Trace); err != nil || c.store.path(name) != path {
		c.found(path, "lies under another key than it holds")
	}
	return nil
}

// layer compares what a layer holds with what its record says.
func (c *checker) layer(ctx context.Context, path string, r *Record) {
	indexed, err := c.store.index(ctx, r.Layer)
	switch {
	case ctx.Err() != nil:
	case err != nil:
		c.found(path, "its layer cannot be read: %s", err)
	case indexed.DiffID != r.DiffID || layer.KeyOf(indexed.Entries) != r.Tree || !layer.IsRecordKey(r.Key, r.Tree):
		c.found(path, "its layer %s holds something else than the record says", r.Layer.Digest)
	}
}

func (c *checker) record(ctx context.Context, path string) error {
	c.mutex.Lock()
	c.report.Records++
	c.mutex.Unlock()
	text, err := os.ReadFile(path)
	if err != nil {
		c.found(path, "cannot be read: %s", err)
		return nil
	}
	var r Record
	if err := Unseal(text, &r); err != nil {
		c.found(path, "is not a record: %s", err)
		return nil
	}
	if name, err := c.store.fileFor("records", string(r.Key), ".json"); err != nil || c.store.path(name) != path {
		c.found(path, "lies under another key than it holds")
		return nil
	}
	if _, damaged := c.damaged.Load(r.Layer.Digest); !damaged && c.store.Lists(r.Layer) {
		c.layer(ctx, path, &r)
	}
	// A record whose layer is gone is merely useless, and so no finding.
	return nil
}
