package registry

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
)

// maxReferrers bounds how many manifests may refer to one.
const maxReferrers = 10_000

// FallbackTag is the tag under which a registry that keeps no list of referrers has one (distribution-spec 1.1,
// "Referrers Tag Schema").
func FallbackTag(subject digest.Digest) string {
	hex := subject.Encoded()
	return subject.Algorithm().String() + "-" + hex[:min(64, len(hex))]
}

// Referrers lists the manifests whose subject is a digest; of one artifact type where that is given.
func (r *Repository) Referrers(ctx context.Context, subject digest.Digest, artifactType string) ([]digest.Descriptor, error) {
	var all []digest.Descriptor
	path := "/referrers/" + string(subject)
	if artifactType != "" {
		path += "?" + url.Values{"artifactType": {artifactType}}.Encode()
	}
	err := r.pages(ctx, "listing what refers to "+string(subject), path, maxPage, func(body []byte, h http.Header) (int, error) {
		list, err := readReferrers(body)
		if all = append(all, list...); err == nil && len(all) > maxReferrers {
			err = fmt.Errorf("more than %d", maxReferrers)
		}
		return len(list), err
	})
	if unsupported(err) {
		all, _, err = r.fallback(ctx, subject)
	}
	if artifactType != "" { // whether or not the registry has filtered
		all = slices.DeleteFunc(all, func(d digest.Descriptor) bool { return d.ArtifactType != artifactType })
	}
	return all, err
}

func readReferrers(body []byte) ([]digest.Descriptor, error) {
	var index v1.Index
	if err := json.Unmarshal(body, &index); err != nil {
		return nil, fmt.Errorf("the answer is not an index: %w", err)
	}
	for _, d := range index.Manifests {
		if err := d.Digest.Validate(); err != nil {
			return nil, fmt.Errorf("a digest in the answer: %w", err)
		}
	}
	return index.Manifests, nil
}

// unsupported reports whether a registry's answer means that it does not know what was asked.
func unsupported(err error) bool {
	var answer *Error
	return errors.As(err, &answer) && answer.Unsupported()
}

// fallback reads the index under the fallback tag; without one there are no referrers.
func (r *Repository) fallback(ctx context.Context, subject digest.Digest) ([]digest.Descriptor, *v1.Index, error) {
	_, body, err := r.Manifest(ctx, FallbackTag(subject), []string{v1.MediaTypeImageIndex})
	index := &v1.Index{MediaType: v1.MediaTypeImageIndex}
	index.SchemaVersion = 2
	if missing(err) {
		return nil, index, nil
	}
	if err != nil {
		return nil, nil, err
	}
	list, err := readReferrers(body)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %s: %w", r, FallbackTag(subject), err)
	}
	return list, index, json.Unmarshal(body, index)
}

// noteReferrer keeps the fallback tag up to date where a registry does not list referrers itself. The protocol has no
// atomic change: of two writers at a time one may be lost, so what was written is read again.
func (r *Repository) noteReferrer(ctx context.Context, mediaType string, body []byte, listed bool) error {
	var manifest struct {
		ArtifactType string             `json:"artifactType"`
		Config       digest.Descriptor  `json:"config"`
		Subject      *digest.Descriptor `json:"subject"`
		Annotations  map[string]string  `json:"annotations"`
	}
	if json.Unmarshal(body, &manifest) != nil || manifest.Subject == nil || listed {
		return nil
	}
	if err := manifest.Subject.Digest.Validate(); err != nil {
		return fmt.Errorf("%s: the subject's digest: %w", r, err)
	}
	own := digest.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(body), Size: int64(len(body)), ArtifactType: manifest.ArtifactType, Annotations: manifest.Annotations}
	if own.ArtifactType == "" {
		own.ArtifactType = manifest.Config.MediaType
	}
	same := func(d digest.Descriptor) bool { return d.Digest == own.Digest }
	for range 3 {
		list, index, err := r.fallback(ctx, manifest.Subject.Digest)
		if err != nil || slices.ContainsFunc(list, same) {
			return err
		}
		index.Manifests = append(list, own)
		text, err := json.Marshal(index)
		if err != nil {
			return err
		}
		if err := r.PutManifest(ctx, FallbackTag(manifest.Subject.Digest), v1.MediaTypeImageIndex, text); err != nil {
			return err
		}
	}
	return fmt.Errorf("%s: others keep writing the list of what refers to %s", r, manifest.Subject.Digest)
}
