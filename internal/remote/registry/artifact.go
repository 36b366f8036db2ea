package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"io"

	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
)

// Artifact is one document that is kept as a manifest (image-spec 1.1, "Guidelines for Artifact Usage").
type Artifact struct {
	Type        string // of the artifact and of its document
	Content     []byte
	Subject     *digest.Descriptor // what it refers to; nil: nothing
	Annotations map[string]string
}

// PutArtifact stores an artifact under a tag, or under its digest where that is empty, and returns its digest.
func (r *Repository) PutArtifact(ctx context.Context, tag string, a Artifact) (digest.Digest, error) {
	layer := digest.Descriptor{MediaType: a.Type, Digest: digest.FromBytes(a.Content), Size: int64(len(a.Content))}
	manifest := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, ArtifactType: a.Type,
		Config: v1.DescriptorEmptyJSON, Layers: []digest.Descriptor{layer}, Subject: a.Subject, Annotations: a.Annotations}
	manifest.Config.Data = nil
	body, err := json.Marshal(manifest)
	if err != nil {
		return "", err
	}
	for desc, content := range map[*digest.Descriptor][]byte{&manifest.Config: []byte("{}"), &layer: a.Content} {
		if err := r.PutBlob(ctx, *desc, func(at int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content[at:])), nil }); err != nil {
			return "", err
		}
	}
	name := digest.FromBytes(body)
	if tag == "" {
		tag = string(name)
	}
	return name, r.PutManifest(ctx, tag, v1.MediaTypeImageManifest, body)
}
