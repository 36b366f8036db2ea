package engine

import (
	"context"
	"fmt"
	"maps"
	"strconv"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/recipe"
)

// DirtyRevision ends the revision of an image that was made of other files than the commit has.
const DirtyRevision = "-dirty"

// assemble stores a platform's config and manifest.
func (w *work) assemble(ctx context.Context, i *imageUnit, revision string) (PlatformResult, time.Time, map[string]string, error) {
	u := i.node.plan
	result := PlatformResult{Platform: u.ID.Platform}
	created, err := w.dating.created(ctx, u)
	if err != nil {
		return result, created, nil, err
	}
	a := &image.Assembly{
		Platform: u.ID.Platform, Base: i.node.inherited(), Settings: i.node.values.Settings,
		Created: created, Annotations: annotations(&w.o, i.node, created, revision),
	}
	common := a.Annotations
	if w.divider.Policy(u) != recipe.Cold {
		// Of this platform's image alone: its index may cover others.
		a.Annotations = maps.Clone(common)
		a.Annotations[layering.BelowKey] = strconv.Itoa(len(i.layering.Inherited) + i.layering.Base)
		if i.division.Follows != "" {
			a.Annotations[layering.FollowsKey] = string(i.division.Follows)
		}
	}
	for n, one := range i.division.Layers {
		l := i.packs[n].packed.Record
		own := image.Layer{Descriptor: l.Layer, DiffID: l.DiffID, CreatedBy: one.Label, Says: map[string]string{}}
		for _, s := range one.Steps {
			maps.Copy(own.Says, s.Annotations)
		}
		a.Layers = append(a.Layers, own)
		result.Unpacked += l.Unpacked
	}
	config, err := put(w.o.Store, v1.MediaTypeImageConfig, a.Config())
	if err != nil {
		return result, created, nil, err
	}
	manifest := a.Manifest(config)
	result.Descriptor, err = put(w.o.Store, v1.MediaTypeImageManifest, manifest)
	result.Layers = len(manifest.Layers)
	for _, l := range manifest.Layers {
		result.Packed += l.Size
	}
	return result, created, common, err
}

func put(s *store.Store, mediaType string, document any) (digest.Descriptor, error) {
	text, err := image.Encode(document)
	if err != nil {
		return digest.Descriptor{}, fmt.Errorf("encoding %s: %w", mediaType, err)
	}
	return s.PutBytes(mediaType, text)
}

// annotations are the standard ones where their values are known, and the recipe's, which win.
func annotations(o *Options, n *unitNode, created time.Time, revision string) map[string]string {
	all := map[string]string{v1.AnnotationCreated: created.Format(time.RFC3339)}
	for key, value := range o.Annotations {
		all[key] = value
	}
	if revision != "" {
		all[v1.AnnotationRevision] = revision
	}
	if n.plan.Version != "" {
		all[v1.AnnotationVersion] = n.plan.Version
	}
	if n.plan.Of != "" {
		all[layering.ImageKey] = n.plan.ID.Name
	}
	if n.named.digest != "" {
		all[v1.AnnotationBaseImageDigest] = string(n.named.digest)
		all[v1.AnnotationBaseImageName] = n.named.name
	}
	for key, value := range n.values.Annotations {
		if all[key] = value; value == "" {
			delete(all, key) // as an empty value drops a label
		}
	}
	return all
}
