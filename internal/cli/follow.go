package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
	"imbricat/internal/spec/retention"
)

// predecessors finds the images that builds follow.
type predecessors struct {
	s     *session
	st    *store.Store
	p     *plan.Plan
	mutex sync.Mutex
	roots map[string]reference.Reference // by image; the zero value: none
}

// Predecessor gives the image of a unit that was published last: what the moving tag of the recipe stands on, else the highest
// version.
func (p *predecessors) Predecessor(ctx context.Context, u *plan.Unit) (*layering.Predecessor, error) {
	ref, err := p.root(ctx, u.ID.Name)
	if err != nil || ref == (reference.Reference{}) {
		return nil, err
	}
	e, err := p.s.editionOf(ctx, p.st, ref, u.ID.Platform)
	var none *image.NoPlatformError
	if errors.As(err, &none) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("the image that %s follows, %s: %w", u.ID.Name, ref, err)
	}
	out := &layering.Predecessor{Digest: e.desc.Digest, Follows: digest.Digest(e.manifest.Annotations[layering.FollowsKey])}
	if out.Layers, err = e.trees(ctx, p.st, e.below(), nil); err != nil {
		return nil, fmt.Errorf("the image that %s follows, %s: %w", u.ID.Name, ref, err)
	}
	out.Place = ref.Host + "/" + ref.Repository
	made := createdBy(e.config)
	for i := e.below(); i < len(e.manifest.Layers); i++ {
		l := e.manifest.Layers[i]
		out.Stored = append(out.Stored, layering.StoredLayer{Descriptor: digest.Descriptor{MediaType: l.MediaType, Digest: l.Digest, Size: l.Size},
			DiffID: digest.DiffID(e.config.RootFS.DiffIDs[i]), CreatedBy: made[i]})
	}
	for before := e; len(out.Past) < mostPublished; {
		follows := before.manifest.Annotations[layering.FollowsKey]
		if follows == "" {
			break
		}
		at := ref
		at.Tag, at.Digest = "", digest.Digest(follows)
		if before, err = p.s.editionOf(ctx, p.st, at, u.ID.Platform); err != nil {
			break // it was deleted; what is left tells the past
		}
		trees, err := before.trees(ctx, p.st, before.below(), nil)
		if err != nil {
			break
		}
		out.Past = append([][][]tree.Entry{trees}, out.Past...)
	}
	return out, nil
}

func (p *predecessors) root(ctx context.Context, name string) (reference.Reference, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if ref, known := p.roots[name]; known {
		return ref, nil
	}
	ref, err := p.find(ctx, name)
	if err == nil {
		p.roots[name] = ref
	}
	return ref, err
}

func (p *predecessors) find(ctx context.Context, name string) (reference.Reference, error) {
	dests := destinationsOf(p.p, name)
	if len(dests) == 0 {
		return reference.Reference{}, nil
	}
	to := dests[0]
	tags, err := p.s.newestTags(ctx, p.st, to.Repository)
	if err != nil || len(tags) == 0 {
		return reference.Reference{}, err
	}
	pick := tags[len(tags)-1]
	for _, tag := range slices.Concat(to.Tags, heldNames(to.Held)) {
		if slices.Contains(tags, tag) && !retention.Match(to.Fixed, tag) {
			pick = tag
			break
		}
	}
	opener, err := p.s.opener(p.st)
	if err != nil {
		return reference.Reference{}, err
	}
	stands, err := opener.Client.Source(to.Repository.Host, to.Repository.Repository).Tagged(ctx, pick, image.Accepted)
	if err != nil {
		return reference.Reference{}, err
	}
	ref := to.Repository
	ref.Tag, ref.Digest = "", stands.Descriptor.Digest
	return ref, nil
}

// followed tells whether an image of the plan follows the one that was published last.
func followed(p *plan.Plan) bool {
	return slices.ContainsFunc(p.Units, func(u *plan.Unit) bool { return u.IsImage && u.Stack.Policy == recipe.Following })
}
