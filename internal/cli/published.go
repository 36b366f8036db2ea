package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/order"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/retention"
)

// Beside an image whose division is kept or followed the indexes of its own layers are published, as an artifact that
// refers to it: later divisions learn from these what changed, without the layers.
const (
	indexesType = "application/vnd.imbricat.layer-indexes.v1"
	indexType   = "application/vnd.imbricat.layer-index.v1+zstd"
	diffKey     = "dev.imbricat.diff-id"
	// mostPublished bounds how many published images are looked at.
	mostPublished = 20
	// mostIndex bounds a layer's index, in bytes.
	mostIndex = 256 << 20
	// mostUnindexed is up to how many bytes a layer is fetched whose index is not published.
	mostUnindexed = 64 << 20
	// lookWithin bounds how long published images are looked for where they only tell of the past.
	lookWithin = 20 * time.Second
)

// edition is an image for one platform at a registry.
type edition struct {
	place    transfer.Place
	desc     digest.Descriptor
	manifest *v1.Manifest
	config   *v1.Image
}

// editionOf finds the image for a platform that a reference stands for.
func (s *session) editionOf(ctx context.Context, st *store.Store, ref reference.Reference, p platform.Platform) (*edition, error) {
	place, err := s.source(st, ref)
	if err != nil {
		return nil, err
	}
	root, err := place.Root(ctx)
	if err != nil {
		return nil, err
	}
	offers, err := image.Offers(ctx, place, root)
	if err != nil {
		return nil, err
	}
	offer, err := image.Select(offers, p)
	if err != nil {
		return nil, err
	}
	e := &edition{place: place, desc: offer.Descriptor}
	if e.manifest, err = image.ReadManifest(ctx, place, e.desc); err != nil {
		return nil, err
	}
	if e.config, err = image.ReadConfig(ctx, place, e.manifest); err != nil {
		return nil, err
	}
	if len(e.manifest.Layers) != len(e.config.RootFS.DiffIDs) {
		return nil, fmt.Errorf("%w: it lists %d layers and its config %d", image.ErrMalformed, len(e.manifest.Layers), len(e.config.RootFS.DiffIDs))
	}
	return e, nil
}

// trees gives what layers from some place upwards hold, without those that skip names. Indexes come from the store, from
// beside the image, or, of layers that are not large, from the layers themselves.
func (e *edition) trees(ctx context.Context, st *store.Store, from int, skip []digest.DiffID) ([][]tree.Entry, error) {
	var all [][]tree.Entry
	var published map[digest.DiffID]digest.Descriptor
	for i := from; i < len(e.manifest.Layers); i++ {
		id := digest.DiffID(e.config.RootFS.DiffIDs[i])
		if slices.Contains(skip, id) {
			continue
		}
		if known := knownIndex(st, id); known != nil {
			all = append(all, known.Entries)
			continue
		}
		if published == nil {
			published = e.indexes(ctx)
		}
		indexed, verified, err := e.index(ctx, published[id], e.manifest.Layers[i], id)
		if err != nil {
			return nil, err
		}
		// What others say of a layer decides how files are divided, and nothing else: it is kept apart from what layers are
		// known to hold.
		if verified {
			err = st.PutLayerIndex(id, indexed.Encode())
		} else {
			err = st.PutNote(saidKey(id), indexed.Encode())
		}
		if err != nil {
			return nil, err
		}
		all = append(all, indexed.Entries)
	}
	return all, nil
}

// saidKey is where the store notes what others say that a layer holds.
func saidKey(id digest.DiffID) digest.Key {
	return digest.Key(digest.ContentBytes([]byte("published index of " + string(id))))
}

// knownIndex gives the index of a layer from the store, whether the layer was read here or others said what it holds; nil
// where neither is so.
func knownIndex(st *store.Store, id digest.DiffID) *layer.Indexed {
	text, found := st.LayerIndex(id)
	if !found {
		text, found = st.Note(saidKey(id))
	}
	known, err := layer.DecodeIndex(text)
	if !found || err != nil || known.DiffID != id {
		return nil
	}
	return known
}

// indexes lists the published indexes of an image's layers. A registry that does not tell has none.
func (e *edition) indexes(ctx context.Context) map[digest.DiffID]digest.Descriptor {
	all := map[digest.DiffID]digest.Descriptor{}
	from, can := e.place.(interface {
		Referrers(ctx context.Context, subject digest.Digest) ([]digest.Descriptor, error)
	})
	if !can {
		return all
	}
	list, err := from.Referrers(ctx, e.desc.Digest)
	if err != nil {
		return all
	}
	for _, desc := range list {
		if desc.ArtifactType != indexesType {
			continue
		}
		m, err := image.ReadManifest(ctx, e.place, desc)
		if err != nil {
			continue
		}
		for _, l := range m.Layers {
			all[digest.DiffID(l.Annotations[diffKey])] = l
		}
	}
	return all
}

// index reads the index of one layer; verified tells that it comes from the layer itself.
func (e *edition) index(ctx context.Context, published, desc digest.Descriptor, id digest.DiffID) (indexed *layer.Indexed, verified bool, err error) {
	if published.Digest != "" && published.Size <= mostIndex {
		if indexed, err := e.readIndex(ctx, published); err == nil && indexed.DiffID == id {
			return indexed, false, nil
		}
	}
	if desc.Size > mostUnindexed {
		return nil, false, fmt.Errorf("the index of the layer %s is not published beside it, and the layer has %d bytes", desc.Digest, desc.Size)
	}
	blob, err := e.place.Fetch(ctx, desc)
	if err != nil {
		return nil, false, err
	}
	defer blob.Close()
	indexed, err = layer.Index(digest.WithContext(ctx, blob))
	if err != nil {
		return nil, false, fmt.Errorf("the layer %s: %w", desc.Digest, err)
	}
	if _, err := io.Copy(io.Discard, blob); err != nil {
		return nil, false, err
	}
	if indexed.DiffID != id {
		return nil, false, fmt.Errorf("the layer %s unpacks to %s, and its image says %s: %w", desc.Digest, indexed.DiffID, id, digest.ErrMismatch)
	}
	return indexed, true, nil
}

func (e *edition) readIndex(ctx context.Context, desc digest.Descriptor) (*layer.Indexed, error) {
	blob, err := e.place.Fetch(ctx, desc)
	if err != nil {
		return nil, err
	}
	defer blob.Close()
	packed, err := io.ReadAll(blob)
	if err != nil {
		return nil, err
	}
	z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostIndex))
	if err != nil {
		return nil, err
	}
	defer z.Close()
	text, err := z.DecodeAll(packed, nil)
	if err != nil {
		return nil, err
	}
	return layer.DecodeIndex(text)
}

// publishIndexes puts the indexes of an image's own layers beside it, for every platform whose division is kept or followed.
func publishIndexes(ctx context.Context, st *store.Store, to transfer.Place, root digest.Descriptor) error {
	offers, err := image.Offers(ctx, st, root)
	if err != nil {
		return err
	}
	z, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1))
	if err != nil {
		return err
	}
	put := func(desc digest.Descriptor, body []byte) error {
		return to.Put(ctx, desc, func(from int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body[from:])), nil })
	}
	for _, offer := range offers {
		m, err := image.ReadManifest(ctx, st, offer.Descriptor)
		if err != nil {
			return err
		}
		if m.Annotations[layering.BelowKey] == "" {
			continue
		}
		config, err := image.ReadConfig(ctx, st, m)
		if err != nil {
			return err
		}
		if err := put(v1.DescriptorEmptyJSON, v1.DescriptorEmptyJSON.Data); err != nil {
			return err
		}
		subject := digest.Descriptor{MediaType: offer.Descriptor.MediaType, Digest: offer.Descriptor.Digest, Size: offer.Descriptor.Size}
		artifact := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, ArtifactType: indexesType,
			Config: v1.DescriptorEmptyJSON, Layers: []digest.Descriptor{}, Subject: &subject}
		artifact.Config.Data = nil
		for _, id := range config.RootFS.DiffIDs[(&edition{manifest: m}).below():] {
			known := knownIndex(st, digest.DiffID(id))
			if known == nil {
				continue // later ones read the layer itself
			}
			body := z.EncodeAll(known.Encode(), nil)
			desc := digest.Descriptor{MediaType: indexType, Digest: digest.FromBytes(body), Size: int64(len(body)), Annotations: map[string]string{diffKey: string(id)}}
			if err := put(desc, body); err != nil {
				return err
			}
			artifact.Layers = append(artifact.Layers, desc)
		}
		text, err := image.Encode(artifact)
		if err != nil || len(artifact.Layers) == 0 {
			return err
		}
		if err := put(digest.Descriptor{MediaType: v1.MediaTypeImageManifest, Digest: digest.FromBytes(text), Size: int64(len(text))}, text); err != nil {
			return err
		}
	}
	return nil
}

// destinationsOf gives where an image of the plan is published.
func destinationsOf(p *plan.Plan, name string) []plan.Destination {
	for _, i := range p.Images {
		if i.Name == name {
			return i.Destinations
		}
	}
	return nil
}

// newestTags gives the tags of a repository that tell most of the past: those that look like versions last.
func (s *session) newestTags(ctx context.Context, st *store.Store, repository reference.Reference) ([]string, error) {
	opener, err := s.opener(st)
	if err != nil {
		return nil, err
	}
	tags, err := opener.Client.Source(repository.Host, repository.Repository).Tags(ctx)
	var answer *registry.Error
	if errors.Is(err, fs.ErrNotExist) || errors.As(err, &answer) && answer.Status == 404 {
		return nil, nil
	}
	// A registry that cannot list what refers to an image keeps that under a tag.
	tags = slices.DeleteFunc(tags, func(tag string) bool { return strings.HasPrefix(tag, "sha256-") })
	slices.SortFunc(tags, retention.Compare)
	return tags[max(0, len(tags)-2*mostPublished):], err
}

// published gives the versions of an image at its first destination, oldest first, as far as they touch what the image is
// to hold. A registry that cannot be asked tells nothing.
func (h *historyFinder) published(ctx context.Context, u *plan.Unit, c *layering.Content) ([]order.Version, error) {
	dests := destinationsOf(h.p.plan, u.ID.Name)
	if !h.far || len(dests) == 0 {
		return nil, nil
	}
	within, stop := context.WithTimeout(ctx, lookWithin)
	defer stop()
	list, err := h.editions(within, u, dests[0].Repository)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		return nil, nil // there are other sources, and what is wrong shows when something is pushed
	}
	var versions []order.Version
	for _, e := range list {
		trees, err := e.trees(within, h.st, 0, c.Base)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue
		}
		versions = append(versions, layering.VersionOf(trees))
	}
	return versions, nil
}

// editions lists what stands on the tags of a repository, and what that followed, by when it was made.
func (h *historyFinder) editions(ctx context.Context, u *plan.Unit, repository reference.Reference) ([]*edition, error) {
	tags, err := h.s.newestTags(ctx, h.st, repository)
	if err != nil {
		return nil, err
	}
	var todo []reference.Reference
	for _, tag := range slices.Backward(tags) {
		ref := repository
		ref.Tag = tag
		todo = append(todo, ref)
	}
	var list []*edition
	for ; len(todo) > 0 && len(list) < mostPublished; todo = todo[1:] {
		e, err := h.s.editionOf(ctx, h.st, todo[0], u.ID.Platform)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil || e.config.Created == nil || slices.ContainsFunc(list, func(o *edition) bool { return o.desc.Digest == e.desc.Digest }) {
			continue // deleted meanwhile, or not an image for the platform
		}
		list = append(list, e)
		if follows := e.manifest.Annotations[layering.FollowsKey]; follows != "" {
			ref := repository
			ref.Tag, ref.Digest = "", digest.Digest(follows)
			todo = append(todo, ref)
		}
	}
	return inOrder(list), nil
}

// inOrder sorts editions by when they were made; of one time, what was followed comes first.
func inOrder(list []*edition) []*edition {
	depth := map[digest.Digest]int{}
	by := map[digest.Digest]*edition{}
	for _, e := range list {
		by[e.desc.Digest] = e
	}
	for _, e := range list {
		n := 0
		for at := e; at != nil && n <= len(list); n++ {
			at = by[digest.Digest(at.manifest.Annotations[layering.FollowsKey])]
		}
		depth[e.desc.Digest] = n
	}
	slices.SortStableFunc(list, func(a, b *edition) int {
		return cmp.Or(a.config.Created.Compare(*b.config.Created), cmp.Compare(depth[a.desc.Digest], depth[b.desc.Digest]))
	})
	return list
}

// pastBuilds gives what earlier builds on this machine made of an image.
func (h *historyFinder) pastBuilds(u *plan.Unit) (versions []order.Version) {
	for _, ids := range readPast(h.st, h.s, u.ID) {
		var trees [][]tree.Entry
		for _, id := range ids {
			text, found := h.st.LayerIndex(id)
			known, err := layer.DecodeIndex(text)
			if !found || err != nil {
				trees = nil
				break
			}
			trees = append(trees, known.Entries)
		}
		if trees != nil {
			versions = append(versions, layering.VersionOf(trees))
		}
	}
	return versions
}

// createdBy gives for each layer what its line of history says.
func createdBy(config *v1.Image) []string {
	made := make([]string, len(config.RootFS.DiffIDs))
	n := 0
	for _, h := range config.History {
		if !h.EmptyLayer && n < len(made) {
			made[n] = h.CreatedBy
			n++
		}
	}
	return made
}

// below is how many layers of an image are not its own.
func (e *edition) below() int {
	n, err := strconv.Atoi(e.manifest.Annotations[layering.BelowKey])
	if err != nil || n < 0 || n > len(e.manifest.Layers) {
		return 0
	}
	return n
}
