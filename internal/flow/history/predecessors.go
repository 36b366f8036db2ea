package history

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow/published"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
	"imbricat/internal/spec/retention"
)

// Predecessors finds the images that builds follow.
type Predecessors struct {
	store  *store.Store
	places *transfer.Places
	plan   *plan.Plan
	mutex  sync.Mutex
	roots  map[string]reference.Reference // by image; the zero value: none
	pinned map[plan.UnitID]reference.Reference
}

// Pin has an image for a platform follow one image, whatever is published; the zero value: none.
func (p *Predecessors) Pin(unit plan.UnitID, to reference.Reference) {
	if p.pinned == nil {
		p.pinned = map[plan.UnitID]reference.Reference{}
	}
	p.pinned[unit] = to
}

// NewPredecessors returns the finder of the images that those of a plan follow.
func NewPredecessors(p *plan.Plan, st *store.Store, places *transfer.Places) *Predecessors {
	return &Predecessors{store: st, places: places, plan: p, roots: map[string]reference.Reference{}}
}

// Predecessor returns the image of a unit that was published last: what the moving tag of the recipe stands on, else the highest
// version.
func (p *Predecessors) Predecessor(ctx context.Context, u *plan.Unit) (*layering.Predecessor, error) {
	ref, pinned := p.pinned[u.ID]
	var err error
	if !pinned {
		ref, err = p.root(ctx, u)
	}
	if err != nil || ref == (reference.Reference{}) {
		return nil, err
	}
	e, err := published.Find(ctx, p.places, ref, u.ID.Platform)
	var none *image.NoPlatformError
	if errors.As(err, &none) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the image that %s follows, %s: %w", u.ID.Name, ref, err)
	}
	out := &layering.Predecessor{Digest: e.Descriptor.Digest, Follows: digest.Digest(e.Manifest.Annotations[layering.FollowsKey])}
	if out.Layers, err = e.Trees(ctx, p.store, e.Below(), nil); err != nil {
		return nil, fmt.Errorf("the image that %s follows, %s: %w", u.ID.Name, ref, err)
	}
	out.Place = ref.Host + "/" + ref.Repository
	made := e.CreatedBy()
	for i := e.Below(); i < len(e.Manifest.Layers); i++ {
		l := e.Manifest.Layers[i]
		out.Stored = append(out.Stored, layering.StoredLayer{Descriptor: digest.Descriptor{MediaType: l.MediaType, Digest: l.Digest, Size: l.Size},
			DiffID: digest.DiffID(e.Config.RootFS.DiffIDs[i]), CreatedBy: made[i]})
	}
	for before := e; len(out.Past) < mostPublished; {
		follows := before.Manifest.Annotations[layering.FollowsKey]
		if follows == "" {
			break
		}
		at := ref
		at.Tag, at.Digest = "", digest.Digest(follows)
		if before, err = published.Find(ctx, p.places, at, u.ID.Platform); err != nil {
			break // it was deleted; what is left tells the past
		}
		trees, err := before.Trees(ctx, p.store, before.Below(), nil)
		if err != nil {
			break
		}
		out.Past = append([][][]tree.Entry{trees}, out.Past...)
	}
	return out, nil
}

func (p *Predecessors) root(ctx context.Context, u *plan.Unit) (reference.Reference, error) {
	name := u.ID.Name
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if ref, known := p.roots[name]; known {
		return ref, nil
	}
	ref, err := p.find(ctx, u)
	if err == nil {
		p.roots[name] = ref
	}
	return ref, err
}

func (p *Predecessors) find(ctx context.Context, u *plan.Unit) (reference.Reference, error) {
	dests := p.plan.Destinations(u.ID.Name)
	if len(dests) == 0 {
		return reference.Reference{}, nil
	}
	to := dests[0]
	tags, err := published.NewestTags(ctx, p.places.Client, to.Repository, 2*mostPublished)
	if err != nil || len(tags) == 0 {
		return reference.Reference{}, err
	}
	slices.Reverse(tags)
	for _, tag := range slices.Concat(to.Tags, to.HeldTags()) {
		if slices.Contains(tags, tag) && !retention.Match(to.Fixed, tag) {
			tags = append([]string{tag}, tags...)
			break
		}
	}
	var single reference.Reference
	for _, tag := range tags {
		stands, err := p.places.Client.Source(to.Repository.Host, to.Repository.Repository).Tagged(ctx, tag, image.Accepted)
		if err != nil {
			return reference.Reference{}, err
		}
		var says struct{ Annotations map[string]string }
		if json.Unmarshal(stands.Body, &says) == nil && isOther(u, says.Annotations) {
			continue
		}
		ref := to.Repository
		ref.Tag, ref.Digest = "", stands.Descriptor.Digest
		if image.IsIndex(stands.Descriptor.MediaType) {
			return ref, nil
		}
		if single.Digest == "" { // a tag of one platform's image, which tells nothing of the others
			single = ref
		}
	}
	return single, nil
}

// Followed reports whether an image of the plan follows the one that was published last.
func Followed(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Units, func(u *plan.Unit) bool { return u.IsImage && u.Stack.Policy == recipe.Following })
}
