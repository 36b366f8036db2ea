package transfer

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/remote/registry"
)

// Tag is what is known of a tag of a repository.
type Tag struct {
	Name      string
	Digest    digest.Digest
	MediaType string
	Platforms []string
	Created   time.Time               // of the image; zero where it does not say
	Pushed    time.Time               // zero where the registry does not tell
	Packed    int64                   // bytes of the layers of all platforms, each once
	Blobs     map[digest.Digest]int64 // those layers, with their sizes
}

// Inventory looks at every tag of a repository. below gives what an index lists.
type Inventory struct {
	Tags  []Tag
	Below func(d digest.Digest) []digest.Digest
}

// parallelLooks is how many documents are asked for at once.
const parallelLooks = 8

// Look makes an inventory of a repository. Documents that several tags share are fetched once.
func Look(ctx context.Context, r *registry.Repository) (*Inventory, error) {
	names, err := r.Tags(ctx)
	if err != nil {
		return nil, err
	}
	l := &looker{repository: r, known: map[digest.Digest]*look{}}
	tags := make([]*Tag, len(names))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(parallelLooks)
	for i, name := range names {
		group.Go(func() (err error) {
			tags[i], err = l.tag(ctx, name)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	inventory := &Inventory{Below: l.below}
	for _, t := range tags {
		if t != nil { // else it was deleted meanwhile
			inventory.Tags = append(inventory.Tags, *t)
		}
	}
	return inventory, nil
}

type looker struct {
	repository *registry.Repository
	mutex      sync.Mutex
	known      map[digest.Digest]*look
}

// look is one document, read once.
type look struct {
	once sync.Once
	body []byte
	err  error
}

func (l *looker) tag(ctx context.Context, name string) (*Tag, error) {
	document, err := l.repository.Tagged(ctx, name, image.Accepted)
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	t := &Tag{Name: name, Digest: document.Descriptor.Digest, MediaType: document.Descriptor.MediaType, Pushed: document.Pushed, Platforms: []string{}, Blobs: map[digest.Digest]int64{}}
	l.put(t.Digest, document.Body)
	return t, l.describe(ctx, t, document.Descriptor, map[digest.Digest]bool{}, 0)
}

func (l *looker) put(d digest.Digest, body []byte) {
	one := l.at(d)
	one.once.Do(func() { one.body = body })
}

func (l *looker) at(d digest.Digest) *look {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	one := l.known[d]
	if one == nil {
		one = &look{}
		l.known[d] = one
	}
	return one
}

func (l *looker) fetch(ctx context.Context, desc digest.Descriptor) ([]byte, error) {
	one := l.at(desc.Digest)
	one.once.Do(func() {
		_, one.body, one.err = l.repository.Manifest(ctx, string(desc.Digest), []string{desc.MediaType})
	})
	return one.body, one.err
}

// seen is what an inventory reads of manifests and indexes.
type seen struct {
	Manifests   []digest.Descriptor `json:"manifests"`
	Config      *digest.Descriptor  `json:"config"`
	Layers      []digest.Descriptor `json:"layers"`
	Annotations map[string]string   `json:"annotations"`
}

// describe adds up what lies below a document. What is malformed is left out: it can still be listed and deleted.
func (l *looker) describe(ctx context.Context, t *Tag, desc digest.Descriptor, had map[digest.Digest]bool, depth int) error {
	if had[desc.Digest] || depth > 4 || desc.Digest.Validate() != nil {
		return nil
	}
	had[desc.Digest] = true
	body, err := l.fetch(ctx, desc)
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return nil // an index need not be whole
	}
	if err != nil {
		return err
	}
	var s seen
	if json.Unmarshal(body, &s) != nil {
		return nil
	}
	if at, err := time.Parse(time.RFC3339, s.Annotations[v1.AnnotationCreated]); err == nil && t.Created.IsZero() {
		t.Created = at
	}
	for _, child := range s.Manifests {
		if child.Platform != nil && child.Platform.OS != "unknown" && !slices.Contains(t.Platforms, platform.FromOCI(*child.Platform).String()) {
			t.Platforms = append(t.Platforms, platform.FromOCI(*child.Platform).String())
		}
		if document(child) {
			if err := l.describe(ctx, t, child, had, depth+1); err != nil {
				return err
			}
		}
	}
	for _, blob := range s.Layers {
		if !had[blob.Digest] {
			had[blob.Digest] = true
			t.Packed += blob.Size
			t.Blobs[blob.Digest] = blob.Size
		}
	}
	if s.Config == nil || had[s.Config.Digest] {
		return nil
	}
	had[s.Config.Digest] = true
	if depth > 0 && !t.Created.IsZero() || !image.IsConfig(s.Config.MediaType) {
		return nil
	}
	return l.config(ctx, t, *s.Config, depth)
}

// config reads what only an image's config tells.
func (l *looker) config(ctx context.Context, t *Tag, desc digest.Descriptor, depth int) error {
	text, err := image.ReadDocument(ctx, l.repository.Blobs(), desc)
	var config v1.Image
	if errors.Is(err, registry.ErrUnreachable) {
		return err
	}
	if err != nil || json.Unmarshal(text, &config) != nil {
		return nil
	}
	if config.Created != nil && t.Created.IsZero() {
		t.Created = *config.Created
	}
	if depth == 0 && config.OS != "" {
		t.Platforms = append(t.Platforms, platform.FromOCI(config.Platform).String())
	}
	return nil
}

// below returns the documents that an index which was looked at lists.
func (l *looker) below(d digest.Digest) []digest.Digest {
	var s seen
	if json.Unmarshal(l.at(d).body, &s) != nil {
		return nil
	}
	var list []digest.Digest
	for _, child := range s.Manifests {
		if child.Digest.Validate() == nil {
			list = append(list, child.Digest)
		}
	}
	return list
}

// SubjectOf returns the digest that a fallback tag lists the referrers of; "" for other tags.
func SubjectOf(tag string) digest.Digest {
	d, err := digest.Parse(strings.Replace(tag, "-", ":", 1))
	if err != nil {
		return ""
	}
	return d
}
