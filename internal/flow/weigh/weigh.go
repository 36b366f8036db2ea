// Package weigh weighs images wherever they are: it reads what their layers hold, each layer once, and remembers it.
//
// Of an image elsewhere layers are read as they come, and not kept. It prints nothing.
package weigh

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/image"
	"imbricat/internal/content/installed"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/weight"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/report"
)

// Source is an image somewhere.
type Source struct {
	Name  string
	From  image.Fetcher
	Root  digest.Descriptor
	Store *store.Store // remembers what layers hold
	// Elsewhere tells that reading layers means fetching them.
	Elsewhere bool
}

// Choose returns the offer of a source for a platform; of several, where none is wanted, that of this machine, or else the first.
func (s *Source) Choose(ctx context.Context, wanted []platform.Platform) (chosen image.Offer, all []image.Offer, err error) {
	offers, err := image.Offers(ctx, s.From, s.Root)
	if err != nil {
		return chosen, nil, err
	}
	for _, one := range offers {
		if !one.Platform.Unknown() {
			all = append(all, one)
		}
	}
	switch {
	case len(all) == 0:
		return chosen, nil, flow.Usagef("%s holds no image", s.Name)
	case len(wanted) > 0:
		chosen, err = image.Select(all, wanted[0])
		if err != nil {
			err = fmt.Errorf("%s: %w", s.Name, err)
		}
		return chosen, all, err
	}
	if here, err := image.Select(all, platform.Here()); err == nil {
		return here, all, nil
	}
	return all[0], all, nil
}

// Documents are those of an image for one platform.
type Documents struct {
	Manifest *v1.Manifest
	Config   *v1.Image
}

// Read reads the documents of an image.
func (s *Source) Read(ctx context.Context, desc digest.Descriptor) (d Documents, err error) {
	if d.Manifest, err = image.ReadManifest(ctx, s.From, desc); err == nil {
		d.Config, err = image.ReadConfig(ctx, s.From, d.Manifest)
	}
	return d, err
}

// Layers reads what the layers of an image hold, several at a time.
func (s *Source) Layers(ctx context.Context, d Documents) ([]weight.Layer, error) {
	steps := inspect.MadeBy(d.Config, len(d.Manifest.Layers))
	all := make([]weight.Layer, len(d.Manifest.Layers))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, desc := range d.Manifest.Layers {
		group.Go(func() (err error) {
			all[i], err = s.layer(ctx, desc)
			all[i].Step = steps[i]
			return err
		})
	}
	return all, group.Wait()
}

// encode writes what is remembered of a layer's blob: a line with the lengths of three parts, the index, the weights, and what files tell of packages
// as JSON.
func encode(one weight.Layer) ([]byte, error) {
	evidence, err := json.Marshal(one.Evidence)
	if err != nil {
		return nil, err
	}
	index, weights := one.Index.Encode(), one.Weights.Encode()
	out := make([]byte, 0, 64+len(index)+len(weights)+len(evidence))
	out = fmt.Appendf(out, "%d %d %d\n", len(index), len(weights), len(evidence))
	return append(append(append(out, index...), weights...), evidence...), nil
}

// decode reads what encode wrote.
func decode(text []byte) (one weight.Layer, err error) {
	head, rest, _ := bytes.Cut(text, []byte("\n"))
	var index, weights, evidence int
	if _, err = fmt.Sscanf(string(head), "%d %d %d", &index, &weights, &evidence); err != nil || min(index, weights, evidence) < 0 || index+weights+evidence != len(rest) {
		return one, fmt.Errorf("%q begins nothing that was noted of a layer", head)
	}
	if one.Index, err = layer.DecodeIndex(rest[:index]); err != nil {
		return one, err
	}
	if one.Weights, err = layer.DecodeWeights(rest[index:index+weights], len(one.Index.Entries)); err != nil {
		return one, err
	}
	return one, json.Unmarshal(rest[index+weights:], &one.Evidence)
}

// noteKey names what is remembered of a blob. The number changes with what is found in layers.
func noteKey(desc digest.Descriptor) digest.Key {
	return digest.Key(digest.ContentBytes(fmt.Appendf(nil, "imbricat weighed layer 3\n%s %d\n", desc.Digest, desc.Size)))
}

// mostEvidence bounds what is remembered of packages of one layer, in packages and paths.
const mostEvidence = 3_000_000

func (s *Source) layer(ctx context.Context, desc digest.Descriptor) (weight.Layer, error) {
	if known, is := s.known(desc); is {
		return known, nil
	}
	blob, err := s.From.Fetch(ctx, desc)
	if err != nil {
		return weight.Layer{}, err
	}
	defer blob.Close()
	one := weight.Layer{Size: desc.Size, Evidence: installed.Evidence{}}
	paths := 0
	one.Index, one.Weights, err = layer.Weigh(digest.WithContext(ctx, blob), func(e *tree.Entry, body io.Reader) error {
		if paths > mostEvidence {
			return nil
		}
		found, err := installed.Look(e, body)
		for i := range found {
			paths += 1 + len(found[i].Files)
		}
		if len(found) > 0 {
			one.Evidence[e.Path] = found
		} else {
			delete(one.Evidence, e.Path) // an earlier entry of the path told something
		}
		return err
	})
	if err == nil {
		_, err = io.Copy(io.Discard, blob) // to the end, so that the blob's own digest is checked too
	}
	if err != nil {
		return weight.Layer{}, fmt.Errorf("the layer %s: %w", desc.Digest, err)
	}
	s.keep(desc, one)
	return one, nil
}

// known returns what was found in a layer before.
func (s *Source) known(desc digest.Descriptor) (one weight.Layer, is bool) {
	text, found := s.Store.Note(noteKey(desc))
	if !found {
		return one, false
	}
	one, err := decode(text)
	one.Size = desc.Size
	return one, err == nil
}

// keep remembers what was found. Failing to costs time the next time, and nothing else.
func (s *Source) keep(desc digest.Descriptor, one weight.Layer) {
	if text, err := encode(one); err == nil {
		_ = s.Store.PutNote(noteKey(desc), text)
	}
}

// imageKey names what is remembered of an image: it depends on its layers and their steps alone. The number changes with what is told.
func imageKey(d Documents, steps []string) digest.Key {
	text := []byte("imbricat weighed image 2\n")
	for i, desc := range d.Manifest.Layers {
		text = fmt.Appendf(text, "%s %d %q\n", desc.Digest, desc.Size, steps[i])
	}
	return digest.Key(digest.ContentBytes(text))
}

// weigh weighs the layers of an image, or remembers that.
func (s *Source) weigh(ctx context.Context, d Documents) (*weight.Image, error) {
	key := imageKey(d, inspect.MadeBy(d.Config, len(d.Manifest.Layers)))
	if text, found := s.Store.Note(key); found {
		known := &weight.Image{}
		if json.Unmarshal(text, known) == nil && len(known.Layers) == len(d.Manifest.Layers) {
			return known, nil
		}
	}
	layers, err := s.Layers(ctx, d)
	if err != nil {
		return nil, err
	}
	weighed, err := weight.Of(layers)
	if err != nil {
		return nil, err
	}
	if text, err := json.Marshal(weighed); err == nil {
		_ = s.Store.PutNote(key, text) // it only saves time
	}
	return weighed, nil
}

// Image weighs an image for one platform.
func (s *Source) Image(ctx context.Context, wanted []platform.Platform) (*report.Weighed, error) {
	chosen, all, err := s.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	d, err := s.Read(ctx, chosen.Descriptor)
	if err != nil {
		return nil, err
	}
	return s.whole(ctx, chosen, all, d)
}

func (s *Source) whole(ctx context.Context, chosen image.Offer, all []image.Offer, d Documents) (*report.Weighed, error) {
	out := s.described(chosen, all, d)
	var err error
	if out.Image, err = s.weigh(ctx, d); err != nil {
		return nil, fmt.Errorf("%s: %w", s.Name, err)
	}
	out.WastedShare = out.Image.Share()
	return out, nil
}

func (s *Source) described(chosen image.Offer, all []image.Offer, d Documents) *report.Weighed {
	out := &report.Weighed{Reference: s.Name, Digest: chosen.Descriptor.Digest, Platform: chosen.Platform.String(), Created: knownTime(d.Config.Created)}
	for _, one := range all {
		out.Platforms = append(out.Platforms, one.Platform.String())
	}
	out.BaseName, out.BaseDigest = d.Manifest.Annotations[v1.AnnotationBaseImageName], digest.Digest(d.Manifest.Annotations[v1.AnnotationBaseImageDigest])
	return out
}

// Documents weighs an image by what its documents tell, and fetches no layer. Where all layers were read before it is weighed whole.
func (s *Source) Documents(ctx context.Context, wanted []platform.Platform) (*report.Weighed, error) {
	chosen, all, err := s.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	d, err := s.Read(ctx, chosen.Descriptor)
	if err != nil {
		return nil, err
	}
	if _, known := s.Store.Note(imageKey(d, inspect.MadeBy(d.Config, len(d.Manifest.Layers)))); known {
		return s.whole(ctx, chosen, all, d)
	}
	out := s.described(chosen, all, d)
	out.Image = weight.Nothing()
	out.Image.Total = weight.Bytes{Unpacked: -1, Files: -1}
	for i, step := range inspect.MadeBy(d.Config, len(d.Manifest.Layers)) {
		size := d.Manifest.Layers[i].Size
		out.Total.Packed += size
		out.Layers = append(out.Layers, weight.LayerShare{Step: step, Bytes: weight.Bytes{Packed: size, Unpacked: -1, Files: -1}})
	}
	return out, nil
}

// Against tells what an image that was weighed costs a machine that has another one, by the documents of both.
func (s *Source) Against(ctx context.Context, wanted []platform.Platform, weighed *report.Weighed, other *Source) (*report.Against, error) {
	chosen, _, err := s.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	own, err := s.Read(ctx, chosen.Descriptor)
	if err != nil {
		return nil, err
	}
	there, _, err := other.Choose(ctx, []platform.Platform{chosen.Platform})
	if err != nil {
		return nil, err
	}
	has, err := other.Read(ctx, there.Descriptor)
	if err != nil {
		return nil, err
	}
	out := &report.Against{Reference: other.Name, Digest: there.Descriptor.Digest}
	have := map[digest.Digest]bool{}
	for _, desc := range has.Manifest.Layers {
		have[desc.Digest] = true
		out.Grown -= desc.Size
	}
	for i, desc := range own.Manifest.Layers {
		if out.Grown += desc.Size; have[desc.Digest] {
			out.Shared++
			weighed.Layers[i].Shared = true
			continue
		}
		out.Fetched += desc.Size
		out.Unpacked += weighed.Layers[i].Unpacked
	}
	return out, nil
}

// knownTime leaves out times that stand for none.
func knownTime(t *time.Time) *time.Time {
	if t == nil || image.KnownTime(*t).IsZero() {
		return nil
	}
	return t
}

// Use tells which files of an image were opened, by the traces of commands that ran in it.
func (s *Source) Use(ctx context.Context, wanted []platform.Platform, commands []string, traces []*trace.Trace) (*weight.Use, error) {
	opened, below := map[string]bool{}, []string{}
	for i, t := range traces {
		if t.Why != "" {
			return nil, flow.Unablef("what %q opens could not be observed: %s", commands[i], t.Why)
		}
		for _, e := range t.Entries {
			if e.Asked&trace.Content != 0 {
				opened[e.Path] = true
			}
			if e.Asked&trace.Whole != 0 {
				below = append(below, e.Path)
			}
		}
	}
	chosen, _, err := s.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	d, err := s.Read(ctx, chosen.Descriptor)
	if err != nil {
		return nil, err
	}
	layers, err := s.Layers(ctx, d)
	if err != nil {
		return nil, err
	}
	use, err := weight.UseOf(layers, func(p string) bool {
		return opened[p] || slices.ContainsFunc(below, func(dir string) bool { return dir == "" || p == dir || strings.HasPrefix(p, dir+"/") })
	})
	if err != nil {
		return nil, err
	}
	use.Commands = commands
	return use, nil
}
