package build

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/digest"
	"imbricat/internal/image"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
)

const indexMediaType = v1.MediaTypeImageIndex

// assemble stores a platform's config and manifest.
func (b *builder) assemble(ctx context.Context, u *plan.Unit, s *unitState) (PlatformResult, time.Time, map[string]string, error) {
	result := PlatformResult{Platform: u.ID.Platform}
	created, err := b.created(ctx, u)
	if err != nil {
		return result, created, nil, err
	}
	a := &image.Assembly{
		Platform: u.ID.Platform, Base: b.inherit(u, s), Settings: u.Settings,
		Created: created, Annotations: b.annotations(u, s, created),
	}
	common := a.Annotations
	if b.o.PolicyOf(u) != recipe.Cold {
		// Of this platform's image alone: its index may cover others.
		a.Annotations = maps.Clone(common)
		a.Annotations[BelowKey] = strconv.Itoa(len(s.floor) + baseLayers(s))
		if s.follows != "" {
			a.Annotations[FollowsKey] = string(s.follows)
		}
	}
	for _, t := range s.layers {
		l := t.layer
		a.Layers = append(a.Layers, image.Layer{Descriptor: l.Layer, DiffID: l.DiffID, CreatedBy: t.history()})
		result.Unpacked += l.Unpacked
	}
	config, err := b.put(v1.MediaTypeImageConfig, a.Config())
	if err != nil {
		return result, created, nil, err
	}
	manifest := a.Manifest(config)
	result.Descriptor, err = b.put(v1.MediaTypeImageManifest, manifest)
	result.Layers = len(manifest.Layers)
	for _, l := range manifest.Layers {
		result.Packed += l.Size
	}
	return result, created, common, err
}

func baseLayers(s *unitState) int {
	if s.base == nil {
		return 0
	}
	return len(s.base.Layers)
}

func (b *builder) put(mediaType string, document any) (digest.Descriptor, error) {
	text, err := image.Encode(document)
	if err != nil {
		return digest.Descriptor{}, fmt.Errorf("encoding %s: %w", mediaType, err)
	}
	return b.o.Store.PutBytes(mediaType, text)
}

// inherit gives the base with the settings of the images of the recipe that lie between.
func (b *builder) inherit(u *plan.Unit, s *unitState) *image.Base {
	if s.base == nil {
		return nil
	}
	base := *s.base
	var chain []*plan.Unit
	for below := u.Base.Unit; below != nil; below = below.Base.Unit {
		chain = append(chain, below)
	}
	for i := len(chain) - 1; i >= 0; i-- {
		base.Config.Config = image.Inherit(base.Config.Config, chain[i].Settings)
	}
	return &base
}

// annotations are the standard ones where their values are known, and the recipe's, which win.
func (b *builder) annotations(u *plan.Unit, s *unitState, created time.Time) map[string]string {
	all := map[string]string{v1.AnnotationCreated: created.Format(time.RFC3339)}
	for key, value := range b.o.Annotations {
		all[key] = value
	}
	if u.Version != "" {
		all[v1.AnnotationVersion] = u.Version
	}
	if s.info.digest != "" {
		all[v1.AnnotationBaseImageDigest] = string(s.info.digest)
		all[v1.AnnotationBaseImageName] = s.info.name
	}
	for key, value := range u.Annotations {
		all[key] = value
	}
	return all
}

// created gives the time that a unit's image is said to be made. Images that take in the same share the answer.
func (b *builder) created(ctx context.Context, u *plan.Unit) (time.Time, error) {
	var copies []plan.Copy
	copiesOf(u, map[*plan.Unit]bool{}, &copies)
	var key strings.Builder
	for _, c := range copies {
		fmt.Fprintf(&key, "%q %q\n", c.From, c.LeaveOut)
	}
	when, _, err := b.times.do(key.String(), func() (time.Time, error) { return b.o.Created(ctx, b.touches(copies)) })
	return when, err
}

// copiesOf collects what a unit takes in from the project, by itself and through the units that it uses.
func copiesOf(u *plan.Unit, seen map[*plan.Unit]bool, copies *[]plan.Copy) {
	if u == nil || seen[u] {
		return
	}
	seen[u] = true
	copiesOf(u.Base.Unit, seen, copies)
	for _, step := range u.Steps {
		switch do := step.Do.(type) {
		case plan.Copy:
			*copies = append(*copies, do)
		case plan.Take:
			copiesOf(do.Unit, seen, copies)
		}
	}
}

// touches tells which paths of the project folder some copies take in. Without any the recipe alone decides.
func (b *builder) touches(copies []plan.Copy) func(path string) bool {
	if len(copies) == 0 {
		return func(path string) bool { return path == b.o.Plan.File.Name }
	}
	var covers []func(path string) bool
	for _, c := range copies {
		for _, from := range c.From {
			covers = append(covers, b.o.Source.Covers(from, c.LeaveOut))
		}
	}
	return func(path string) bool {
		return slices.ContainsFunc(covers, func(covered func(string) bool) bool { return covered(path) })
	}
}
