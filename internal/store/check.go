package store

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/digest"
)

// Finding is something wrong in a store.
type Finding struct {
	Path string `json:"path"` // below the store
	What string `json:"what"`
}

// Report is the outcome of a check.
type Report struct {
	Blobs    int       `json:"blobs"`
	Bytes    int64     `json:"bytes"` // of all blobs
	Images   int       `json:"images"`
	Records  int       `json:"records"`
	Findings []Finding `json:"findings"`
}

// checker collects what is wrong; several goroutines report to it.
type checker struct {
	store  *Store
	mutex  sync.Mutex
	report Report
}

func (c *checker) found(path, format string, args ...any) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if below, err := filepath.Rel(c.store.Dir(), path); err == nil {
		path = filepath.ToSlash(below)
	}
	c.report.Findings = append(c.report.Findings, Finding{path, fmt.Sprintf(format, args...)})
}

// Check reads the whole store: every blob against its digest, every image down to its layers, every record. The error
// is for what kept it from checking; what it found is in the report.
func (s *Store) Check(ctx context.Context) (*Report, error) {
	c := &checker{store: s}
	if err := c.blobs(ctx); err != nil {
		return nil, err
	}
	if err := c.images(); err != nil {
		return nil, err
	}
	if err := s.eachFile("imbricat/records", c.record); err != nil {
		return nil, err
	}
	slices.SortFunc(c.report.Findings, func(a, b Finding) int { return strings.Compare(a.Path+a.What, b.Path+b.What) })
	return &c.report, nil
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
		c.found(path, "is no blob: its name is no digest")
		return nil
	}
	f, err := os.Open(path)
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
	c.mutex.Lock()
	c.report.Blobs++
	c.report.Bytes += n
	c.mutex.Unlock()
	return nil
}

func (c *checker) images() error {
	list, err := c.store.List()
	if err != nil {
		c.found(c.store.path(v1.ImageIndexFile), "%s", err)
		return nil
	}
	c.report.Images = len(list)
	for _, image := range list {
		name := image.Name
		if name == "" {
			name = string(image.Descriptor.Digest)
		}
		c.reaches(name, image.Descriptor, 0)
	}
	return nil
}

// reaches follows a manifest or an index to all that it needs.
func (c *checker) reaches(name string, desc digest.Descriptor, depth int) {
	path, err := c.store.BlobPath(desc.Digest)
	switch {
	case err != nil:
		c.found(v1.ImageIndexFile, "the image %s: %s", name, err)
		return
	case !c.store.Has(desc):
		c.found(path, "is missing or has another size; the image %s needs it", name)
		return
	case depth > 4:
		c.found(path, "indexes are nested too deep in the image %s", name)
		return
	}
	if _, document := c.store.Document(desc.Digest); !document {
		return
	}
	text, err := os.ReadFile(path)
	if err != nil {
		c.found(path, "cannot be read: %s", err)
		return
	}
	var both struct {
		Manifests []digest.Descriptor `json:"manifests"`
		Config    *digest.Descriptor  `json:"config"`
		Layers    []digest.Descriptor `json:"layers"`
	}
	if err := json.Unmarshal(text, &both); err != nil {
		c.found(path, "is no manifest: %s", err)
		return
	}
	needs := append(both.Manifests, both.Layers...)
	if both.Config != nil {
		needs = append(needs, *both.Config)
	}
	for _, need := range needs {
		c.reaches(name, need, depth+1)
	}
}

func (c *checker) record(path string) error {
	c.report.Records++
	text, err := os.ReadFile(path)
	if err != nil {
		c.found(path, "cannot be read: %s", err)
		return nil
	}
	var r Record
	if err := json.Unmarshal(text, &r); err != nil {
		c.found(path, "is no record: %s", err)
		return nil
	}
	if name, err := c.store.fileFor("records", string(r.Key), ".json"); err != nil || c.store.path(name) != path {
		c.found(path, "lies under another key than it holds")
	}
	// A record whose layer is gone is merely useless, and so no finding.
	return nil
}
