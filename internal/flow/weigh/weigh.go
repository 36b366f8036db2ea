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

// Image is an image of a source for one platform, whose documents were read.
type Image struct {
	*Source
	Offer    image.Offer
	Offers   []image.Offer // all that the source has
	Manifest *v1.Manifest
	Config   *v1.Image
	steps    []string // what made the layers
}

// Open reads the documents of the image that Choose chooses.
func (s *Source) Open(ctx context.Context, wanted []platform.Platform) (*Image, error) {
	chosen, all, err := s.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	return s.open(ctx, chosen, all)
}

func (s *Source) open(ctx context.Context, chosen image.Offer, all []image.Offer) (i *Image, err error) {
	i = &Image{Source: s, Offer: chosen, Offers: all}
	if i.Manifest, err = image.ReadManifest(ctx, s.From, chosen.Descriptor); err != nil {
		return nil, err
	}
	if i.Config, err = image.ReadConfig(ctx, s.From, i.Manifest); err != nil {
		return nil, err
	}
	i.steps = inspect.MadeBy(i.Config, len(i.Manifest.Layers))
	return i, nil
}

// Layers reads what the layers of an image hold, several at a time.
func (i *Image) Layers(ctx context.Context) ([]weight.Layer, error) {
	all := make([]weight.Layer, len(i.Manifest.Layers))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for n, desc := range i.Manifest.Layers {
		group.Go(func() (err error) {
			all[n], err = i.layer(ctx, desc)
			all[n].Step = i.steps[n]
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, fmt.Errorf("%s: %w", i.Name, err)
	}
	return all, nil
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
	return digest.Key(digest.ContentBytes(fmt.Appendf(nil, "imbricat weighed layer 4\n%s %d\n", desc.Digest, desc.Size)))
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

// key names what is remembered of an image: it depends on its layers and their steps alone. The number changes with what is told.
func (i *Image) key() digest.Key {
	text := []byte("imbricat weighed image 3\n")
	for n, desc := range i.Manifest.Layers {
		text = fmt.Appendf(text, "%s %d %q\n", desc.Digest, desc.Size, i.steps[n])
	}
	return digest.Key(digest.ContentBytes(text))
}

// recall returns what an image weighed before; nil: it was not weighed.
func (i *Image) recall() *weight.Image {
	text, found := i.Store.Note(i.key())
	known := &weight.Image{}
	if !found || json.Unmarshal(text, known) != nil || len(known.Layers) != len(i.Manifest.Layers) {
		return nil
	}
	return known
}

// Weigh weighs an image, or remembers that.
func (i *Image) Weigh(ctx context.Context) (*report.Weighed, error) {
	weighed := i.recall()
	if weighed == nil {
		layers, err := i.Layers(ctx)
		if err != nil {
			return nil, err
		}
		if weighed, err = weight.Of(layers); err != nil {
			return nil, fmt.Errorf("%s: %w", i.Name, err)
		}
		if text, err := json.Marshal(weighed); err == nil {
			_ = i.Store.PutNote(i.key(), text) // it only saves time
		}
	}
	return i.described(weighed), nil
}

// Look weighs an image by what its documents tell, and fetches no layer; what was weighed before is told whole.
func (i *Image) Look() *report.Weighed {
	if known := i.recall(); known != nil {
		return i.described(known)
	}
	weighed := weight.Nothing()
	weighed.Total = weight.Bytes{Unpacked: -1, Files: -1}
	for n, desc := range i.Manifest.Layers {
		weighed.Total.Packed += desc.Size
		weighed.Layers = append(weighed.Layers, weight.LayerShare{Step: i.steps[n], Bytes: weight.Bytes{Packed: desc.Size, Unpacked: -1, Files: -1}})
	}
	return i.described(weighed)
}

func (i *Image) described(weighed *weight.Image) *report.Weighed {
	out := &report.Weighed{Reference: i.Name, Digest: i.Offer.Descriptor.Digest, Platform: i.Offer.Platform.String(), Platforms: platformsOf(i.Offers), Created: knownTime(i.Config.Created), Image: weighed, WastedShare: weighed.Share()}
	out.BaseName, out.BaseDigest = i.Manifest.Annotations[v1.AnnotationBaseImageName], digest.Digest(i.Manifest.Annotations[v1.AnnotationBaseImageDigest])
	return out
}

func platformsOf(offers []image.Offer) (names []string) {
	for _, one := range offers {
		names = append(names, one.Platform.String())
	}
	return names
}

// Against tells what an image that was weighed costs a machine that has another one, by the documents of both.
func (i *Image) Against(ctx context.Context, weighed *report.Weighed, other *Source) (*report.Against, error) {
	has, err := other.Open(ctx, []platform.Platform{i.Offer.Platform})
	if err != nil {
		return nil, err
	}
	out := &report.Against{Reference: other.Name, Digest: has.Offer.Descriptor.Digest}
	have := map[digest.Digest]bool{}
	for _, desc := range has.Manifest.Layers {
		have[desc.Digest] = true
		out.Grown -= desc.Size
	}
	for n, desc := range i.Manifest.Layers {
		if out.Grown += desc.Size; have[desc.Digest] {
			out.Shared++
			weighed.Layers[n].Shared = true
			continue
		}
		out.Fetched += desc.Size
		out.Unpacked += weighed.Layers[n].Unpacked
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
func (i *Image) Use(ctx context.Context, commands []string, traces []*trace.Trace) (*weight.Use, error) {
	opened, below := map[string]bool{}, []string{}
	for n, t := range traces {
		if t.Why != "" {
			return nil, flow.Unablef("what %q opens could not be observed: %s", commands[n], t.Why)
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
	layers, err := i.Layers(ctx)
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
