package share

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/klauspost/compress/zstd"
	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Media types and annotations of a shared cache. The manifest is an image manifest with an artifact type, as the
// image-spec describes for what is no image.
const (
	artifactType = "application/vnd.imbricat.cache.v1+json"
	packType     = "application/vnd.imbricat.pack.v1+json.zstd"
	namesKey     = "dev.imbricat.names"  // of a pack: what it can be asked for
	layersKey    = "dev.imbricat.layers" // of a pack: layers that belong to it
	madeKey      = "dev.imbricat.made"
	usedKey      = "dev.imbricat.used"     // of a pack: the day that a build which writes last took something from it
	replacedKey  = "dev.imbricat.replaced" // of the manifest: those that it came in place of, which a trim deletes
)

// pack is what one build used.
type pack struct {
	Format  int                      `json:"format"`
	Runs    []packedRun              `json:"runs"`
	Traces  map[digest.Key]string    `json:"traces"`
	Trees   map[digest.Key]string    `json:"trees"`   // entries of what commands left
	Layers  []store.Record           `json:"layers"`  // of layers
	Indexes map[digest.DiffID]string `json:"indexes"` // of foreign layers
	Files   []string                 `json:"files"`   // of foreign layers: lists of users and groups
}

// accountFiles are those of a foreign layer that steps look into without running anything: nobody is to pull a layer for a name.
var accountFiles = []string{"etc/group", "etc/passwd"}

const (
	mostFile  = 64 << 10 // bytes of such a file
	mostFiles = 100      // of a pack
)

const packFormat = 2

type packedRun struct{ store.Run }

// origin is what a pack brings into a store.
func (p *pack) origin(place string) store.Origin {
	o := store.Origin{Place: place}
	for i := range p.Runs {
		r := &p.Runs[i]
		o.Runs, o.Trees = append(o.Runs, store.RunName{Key: r.Key, Trace: r.Trace}), append(o.Trees, r.Tree)
	}
	for i := range p.Layers {
		l := &p.Layers[i]
		o.Records, o.Layers, o.Trees = append(o.Records, l.Key), append(o.Layers, l.Layer.Digest), append(o.Trees, l.Tree)
	}
	for id := range p.Indexes {
		o.Indexes = append(o.Indexes, id)
	}
	return o
}

func (p *pack) names() []string {
	all := map[string]bool{}
	for i := range p.Runs {
		// The trace is there for telling whether a run is shared already.
		all[nameOf(string(p.Runs[i].Key))], all[nameOf(string(p.Runs[i].Trace))] = true, true
	}
	for i := range p.Layers {
		all[nameOf(string(p.Layers[i].Key))] = true
	}
	for id := range p.Indexes {
		all[nameOf(string(id))] = true
	}
	return sortedNames(all)
}

func sortedNames(all map[string]bool) []string {
	names := make([]string, 0, len(all))
	for name := range all {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

func (p *pack) encode() ([]byte, error) {
	p.Format = packFormat
	text, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	return compressed(text), nil
}

func compressed(text []byte) []byte {
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		panic(err) // the options are constants
	}
	return z.EncodeAll(text, nil)
}

func decodePack(packed []byte) (*pack, error) {
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxUnpacked))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	text, err := z.DecodeAll(packed, nil)
	if err != nil {
		return nil, fmt.Errorf("unpacking: %w", err)
	}
	p := &pack{}
	if err := json.Unmarshal(text, p); err != nil {
		return nil, fmt.Errorf("reading: %w", err)
	}
	if p.Format != packFormat {
		return nil, fmt.Errorf("it has format %d, and this version reads %d", p.Format, packFormat)
	}
	return p, nil
}

// treeMatches reports whether entries are those of the tree whose name they stand under.
func treeMatches(id digest.Key, text string) bool {
	entries, err := tree.DecodeEntries(text)
	return err == nil && clean(entries) && layer.KeyOf(entries) == id
}

// clean reports whether no path leads out, or has more than one form.
func clean(entries []tree.Entry) bool {
	return !slices.ContainsFunc(entries, func(e tree.Entry) bool {
		path, err := tree.CleanPath(e.Path)
		return err != nil || path != e.Path
	})
}

// indexMatches reports whether an index says of itself that it is of the layer. Whether that is true shows when the layer is
// unpacked.
func indexMatches(id digest.DiffID, text string) bool {
	indexed, err := layer.DecodeIndex([]byte(text))
	return err == nil && indexed.DiffID == id && digest.Digest(id).Validate() == nil && clean(indexed.Entries)
}

func decodeManifest(body []byte) (*v1.Manifest, error) {
	if len(body) > maxManifest {
		return nil, errors.New("its manifest is larger than any that is written")
	}
	m := &v1.Manifest{}
	if err := json.Unmarshal(body, m); err != nil {
		return nil, fmt.Errorf("its manifest cannot be read: %w", err)
	}
	if m.ArtifactType != artifactType {
		return nil, fmt.Errorf("it holds %q, not a shared cache", strings.ToValidUTF8(m.ArtifactType, "?"))
	}
	for _, l := range m.Layers {
		if err := l.Digest.Validate(); err != nil || l.Size < 0 {
			return nil, fmt.Errorf("its manifest names the blob %q", l.Digest)
		}
	}
	return m, nil
}

// lastUse is when a pack was made or used, as text that sorts by time.
func lastUse(p v1.Descriptor) string {
	return max(p.Annotations[madeKey], p.Annotations[usedKey])
}

// withPack returns a manifest that also lists a pack and its layers. The oldest packs go beyond the bound, and layers that
// no pack needs any more with them.
func withPack(old *v1.Manifest, desc v1.Descriptor, layers []v1.Descriptor) *v1.Manifest {
	m := &v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, ArtifactType: artifactType, Config: v1.DescriptorEmptyJSON}
	m.Config.Data = nil
	var packs, rest []v1.Descriptor
	if old != nil {
		for _, l := range old.Layers {
			switch {
			case l.MediaType == packType && l.Digest != desc.Digest:
				packs = append(packs, l)
			case l.MediaType != packType:
				rest = append(rest, l)
			}
		}
	}
	packs = append(packs, desc)
	if len(packs) > mostPacks { // the one that is of no use for longest goes
		oldest := slices.MinFunc(packs[:len(packs)-1], func(a, b v1.Descriptor) int { return strings.Compare(lastUse(a), lastUse(b)) })
		packs = slices.DeleteFunc(packs, func(p v1.Descriptor) bool { return p.Digest == oldest.Digest })
	}
	packs = packs[max(0, len(packs)-mostPacks):]
	needed := map[string]bool{}
	for _, p := range packs {
		for _, name := range strings.Fields(p.Annotations[layersKey]) {
			needed[name] = true
		}
	}
	listed := map[digest.Digest]bool{}
	for _, l := range append(rest, layers...) {
		if needed[nameOf(string(l.Digest))] && !listed[l.Digest] {
			listed[l.Digest] = true
			m.Layers = append(m.Layers, l)
		}
	}
	m.Layers = append(m.Layers, packs...)
	return m
}
