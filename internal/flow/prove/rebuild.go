package prove

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/differ"
	"imbricat/internal/content/image"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/local"
	"imbricat/internal/flow"
	"imbricat/internal/flow/history"
	"imbricat/internal/flow/weigh"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/transfer"
)

// Published is an image that somebody published.
type Published struct {
	Reference reference.Reference
	Image     string           // of the recipe
	Receipt   *receipt.Receipt // nil: there is none
}

// Rebuild makes the image of a recipe that was published, without reuse and under other conditions, and compares: by digest, by diffIDs and settings, then
// file by file. It tells what that needs, and what of it is not to be had.
func Rebuild(ctx context.Context, o Options, pub Published) (*report.Rebuilt, error) {
	began := time.Now()
	place, err := o.Work.Places.Source(pub.Reference)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	root, err := place.Root(ctx)
	if err != nil {
		return nil, err
	}
	out := &report.Rebuilt{Reference: pub.Reference.String(), Image: pub.Image, Digest: root.Digest, Needs: needs(o.Work, pub.Receipt), Compared: []*report.Compared{}}
	p := newProver(o)
	held, err := o.Work.Lock()
	if err != nil {
		return nil, err
	}
	finder, err := o.Work.Bases(held, o.Sink)
	if err != nil {
		return nil, err
	}
	p.bases = &noted{engineBases: finder, told: map[string]bool{}, out: out}
	err = p.round(ctx, func(ctx context.Context, w *Elsewhere, ex *local.Local, v *varied) error {
		eo, done, err := p.engine(ctx, w, ex)
		if err != nil {
			return err
		}
		defer done()
		if err := follow(ctx, &eo, w, place, root, pub, out); err != nil {
			return err
		}
		result, err := engine.Run(ctx, eo)
		if err != nil {
			return err
		}
		return compareWith(ctx, o.Work, w, place, root, result, out)
	})
	var failed *command.FailedError
	if errors.As(err, &failed) && ctx.Err() == nil {
		out.Failed, err = fmt.Sprintf("%s, %s: the command %s: %s", failed.Unit, failed.Label, failed.What, lastLine(failed.Output)), nil
	}
	out.Seconds, out.Varied = time.Since(began).Seconds(), p.proof.Varied
	return out, err
}

// needs tells what of what the receipt names is here.
func needs(w *workspace.Workspace, r *receipt.Receipt) (all []report.Need) {
	add := func(name, what string, had bool) { all = append(all, report.Need{Name: name, What: what, Had: had}) }
	git := w.Facts.Git
	if r == nil {
		if git.Known() {
			add("commit", git.Commit, true)
		}
		return all
	}
	if r.Revision != nil {
		switch {
		case git.Commit != r.Revision.Commit:
			here := "this folder is in no version control"
			if git.Known() {
				here = "here is " + git.Commit
			}
			// What a receipt names is not fetched for its sake: that is up to whoever believes it.
			add("commit", fmt.Sprintf("%s, and %s: --source %s --revision %.12s takes the project from there", r.Revision.Commit, here, cmp.Or(r.Revision.Source, "ADDRESS"), r.Revision.Commit), false)
		default:
			add("commit", git.Commit, true)
		}
		if r.Revision.Dirty != nil && *r.Revision.Dirty {
			add("changes", "it was built from files that were changed after the commit, which nobody else has", false)
		}
	}
	if r.Recipe != nil {
		now := digest.FromBytes([]byte(w.Recipe.File.Text()))
		add("recipe", r.Recipe.File+" "+string(r.Recipe.Digest), now == r.Recipe.Digest)
		if r.Recipe.Lock != "" {
			text, err := os.ReadFile(w.LockPath())
			add("lock", string(r.Recipe.Lock), err == nil && digest.FromBytes(text) == r.Recipe.Lock)
		}
	}
	return all
}

// follow has images follow those that the published ones followed, whatever is published since.
func follow(ctx context.Context, eo *engine.Options, w *Elsewhere, place transfer.Place, root digest.Descriptor, pub Published, out *report.Rebuilt) error {
	if eo.Predecessors == nil {
		return nil
	}
	offers, err := image.Offers(ctx, place, root)
	if err != nil {
		return err
	}
	finder := history.NewPredecessors(w.Plan, w.Store, w.Places)
	for _, u := range w.Plan.Units {
		if u.ID.Name != pub.Image {
			continue
		}
		offer, err := image.Select(offers, u.ID.Platform)
		if err != nil {
			continue // comparing tells it
		}
		manifest, err := image.ReadManifest(ctx, place, offer.Descriptor)
		if err != nil {
			return err
		}
		follows := digest.Digest(manifest.Annotations[layering.FollowsKey])
		if follows == "" {
			finder.Pin(u.ID, reference.Reference{})
			continue
		}
		at := pub.Reference
		at.Tag, at.Digest = "", follows
		before, err := w.Places.Source(at)
		if err == nil {
			_, err = before.Root(ctx)
			before.Close()
		}
		if out.Needs = append(out.Needs, report.Need{Name: "predecessor", What: string(follows), Had: err == nil}); err == nil {
			finder.Pin(u.ID, at)
		}
	}
	eo.Predecessors = finder
	return nil
}

// noted notes which bases were had.
type noted struct {
	engineBases
	mutex sync.Mutex
	told  map[string]bool
	out   *report.Rebuilt
}

// ofConfig reports whether a setting is one of the image itself, rather than said of it.
func ofConfig(v differ.Value) bool { return !strings.HasPrefix(v.Name, "annotation ") }

// compareWith holds what was made against what was published.
func compareWith(ctx context.Context, w *workspace.Workspace, other *Elsewhere, place transfer.Place, root digest.Descriptor, result *engine.Result, out *report.Rebuilt) error {
	at := slices.IndexFunc(result.Images, func(i engine.ImageResult) bool { return i.Name == out.Image })
	if at < 0 {
		return flow.Usagef("the recipe has no image %s any more", out.Image)
	}
	made := result.Images[at]
	out.Again = made.Descriptor.Digest
	if image.IsManifest(root.MediaType) { // of one platform
		for _, p := range made.Platforms {
			if p.Descriptor.Digest == root.Digest || len(made.Platforms) == 1 {
				out.Again = p.Descriptor.Digest
			}
		}
	}
	if out.Again == out.Digest {
		out.Equal = report.EqualDigest
		return nil
	}
	offers, err := image.Offers(ctx, place, root)
	if err != nil {
		return err
	}
	first := &weigh.Source{Name: out.Reference, From: place, Root: root, Store: w.Store, Elsewhere: true}
	second := &weigh.Source{Name: out.Image + ", built again", From: other.Store, Root: made.Descriptor, Store: other.Store}
	layers, files := true, true
	for _, offer := range offers {
		if offer.Platform.Unknown() {
			continue
		}
		same, one, err := comparePlatform(ctx, first, second, offer.Platform)
		var none *image.NoPlatformError
		if errors.As(err, &none) {
			out.Needs = append(out.Needs, report.Need{Name: "platform", What: offer.Platform.String() + ", which the recipe does not build", Had: false})
			layers, files = false, false
			continue
		}
		if err != nil {
			return err
		}
		layers = layers && same
		files = files && len(one.Counts)+len(one.Settings) == 0
		if !one.Same {
			out.Compared = append(out.Compared, one)
		}
	}
	switch {
	case layers:
		out.Equal = report.EqualLayers
	case files:
		out.Equal = report.EqualFiles
	}
	return nil
}

// comparePlatform compares for one platform, and reports whether the layers hold the same, and the settings are the same.
func comparePlatform(ctx context.Context, first, second *weigh.Source, p platform.Platform) (same bool, one *report.Compared, err error) {
	var configs [2]*v1.Image
	for i, s := range []*weigh.Source{first, second} {
		opened, err := s.Open(ctx, []platform.Platform{p})
		if err != nil {
			return false, nil, err
		}
		configs[i] = opened.Config
	}
	if one, err = weigh.Compare(ctx, first, second, []platform.Platform{p}, nil); err != nil {
		return false, nil, err
	}
	return slices.Equal(configs[0].RootFS.DiffIDs, configs[1].RootFS.DiffIDs) && !slices.ContainsFunc(one.Settings, ofConfig), one, nil
}
