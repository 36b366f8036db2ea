package build

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sort"
	"strings"
	"sync"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"golang.org/x/sync/errgroup"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/image"
	"imbricat/internal/plan"
	"imbricat/internal/platform"
	"imbricat/internal/recipe"
	"imbricat/internal/reference"
	"imbricat/internal/tree"
)

// baseKey tells bases apart.
type baseKey struct {
	ref      string
	platform platform.Platform
}

func keyOf(ref reference.Reference, u *plan.Unit) baseKey {
	return baseKey{ref.String(), u.Machine}
}

// base is an image elsewhere that units start from or take from.
type base struct {
	resolved *Resolved
	once     sync.Once
	err      error
	config   *v1.Image
	layers   []digest.Descriptor
	view     *tree.View // shared: cloned before anything is applied
	contents []*packedContents

	strataOnce sync.Once
	strata     []*stratum
}

// prepare finds every base and every source before any work, and reports all that is wrong at once.
func (b *builder) prepare(ctx context.Context) error {
	problems := &recipe.Errors{File: b.o.Plan.File}
	b.checkSources(problems)
	err := b.resolveBases(ctx, problems)
	if err == nil && !b.looking {
		err = b.checkMachine(ctx)
	}
	// What is wrong with the recipe comes before what is wrong with a registry.
	if len(problems.Problems) == 0 || ctx.Err() != nil {
		return err
	}
	sort.SliceStable(problems.Problems, func(i, j int) bool {
		x, y := problems.Problems[i].Pos, problems.Problems[j].Pos
		return x.Line < y.Line || x.Line == y.Line && x.Column < y.Column
	})
	return problems
}

func report(problems *recipe.Errors, pos recipe.Pos, format string, args ...any) {
	p := recipe.Problem{Pos: pos, Message: fmt.Sprintf(format, args...)}
	for _, known := range problems.Problems {
		if known == p {
			return
		}
	}
	problems.Problems = append(problems.Problems, p)
}

func (b *builder) checkSources(problems *recipe.Errors) {
	for _, u := range b.o.Plan.Units {
		for i := range u.Steps {
			step := &u.Steps[i]
			switch do := step.Do.(type) {
			case plan.Copy:
				b.checkCopy(problems, step, do)
			case plan.Unpack:
				if do.From != "" {
					b.checkArchive(problems, do)
				}
			}
		}
	}
}

func (b *builder) checkCopy(problems *recipe.Errors, step *plan.Step, do plan.Copy) {
	var folders []string
	defer func() {
		b.tellMerged(step, folders, do.Structure, "structure: true keeps them, or a copy for each with a to of its own")
	}()
	for i, from := range do.From {
		got, err := b.pick(do, from)
		switch {
		case errors.Is(err, tree.ErrNoMatch):
			b.warning(step, event.NoMatch, b.o.Plan.File.Describe(do.FromPos[i], err.Error()+", so nothing is copied"))
		case err != nil:
			report(problems, do.FromPos[i], "%s", err)
		default:
			for _, p := range got.survey.Special {
				b.warning(step, event.SpecialFile, fmt.Sprintf("%s is a socket, a pipe or a device: it is left out", p))
			}
			if !got.survey.SingleFile && !isPattern(from) {
				folders = append(folders, from)
			}
			b.tellModes(step, do, from, got.survey.Picked)
		}
	}
}

func isPattern(from string) bool { return strings.ContainsAny(from, "*?[{") }

// tellMerged says that what several folders hold is laid into one.
func (b *builder) tellMerged(step *plan.Step, folders []string, structure bool, how string) {
	if len(folders) > 1 && !structure {
		b.warning(step, event.Merged, b.o.Plan.File.Describe(step.Pos, fmt.Sprintf(
			"what %s hold is laid into one folder, and their own names are not kept; %s", Some(folders), how)))
	}
}

// fewModes is how many files may get other permissions without a word: a private file or two are no root file system.
const fewModes = 3

// tellModes says that a copy without a mode changes what many files were: that they are private, set-uid or sticky. Where
// all of them are private that is the umask's doing, and the rule is meant for it.
func (b *builder) tellModes(step *plan.Step, do plan.Copy, from string, picked []tree.Picked) {
	if do.Mode.Given() {
		return
	}
	var changed []string
	all := 0
	for i := range picked {
		p := &picked[i]
		if p.Kind == tree.Symlink {
			continue
		}
		all++
		if given := do.Mode.Apply(p.Mode, p.Kind == tree.Folder); given&^p.Mode != 0 || p.Mode&0o7000 != 0 {
			changed = append(changed, p.Path)
		}
	}
	if len(changed) > fewModes && len(changed) < all {
		b.warning(step, event.Modes, b.o.Plan.File.Describe(step.Pos, fmt.Sprintf(
			"%s of %s are private, set-uid or sticky, and will not be so in the image (%s); mode: keep leaves them as they are",
			plural(len(changed), "file"), from, Some(changed))))
	}
}

// checkArchive finds an archive that is missing before any work.
func (b *builder) checkArchive(problems *recipe.Errors, do plan.Unpack) {
	got, err := b.pick(plan.Copy{}, do.From)
	switch {
	case err != nil:
		report(problems, do.FromPos, "%s", err)
	case !got.survey.SingleFile || len(got.survey.Picked) != 1 || got.survey.Picked[0].Kind != tree.File:
		report(problems, do.FromPos, "unpack takes one archive: %q is no file", do.From)
	}
}

// resolveBases asks for all bases at once. A base that is missing or lacks the platform is a problem of the recipe; a
// registry that cannot be reached or refuses is an error of its own.
func (b *builder) resolveBases(ctx context.Context, problems *recipe.Errors) error {
	var mutex sync.Mutex
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(8)
	ask := func(pos recipe.Pos, what string, ref reference.Reference, u *plan.Unit) {
		key := keyOf(ref, u)
		if _, known := b.bases[key]; known {
			return
		}
		one := &base{}
		b.bases[key] = one
		group.Go(func() error {
			resolved, err := b.o.Bases.Resolve(ctx, ref, u.Machine)
			var lacks *image.NoPlatformError
			if errors.As(err, &lacks) || errors.Is(err, fs.ErrNotExist) {
				mutex.Lock()
				defer mutex.Unlock()
				report(problems, pos, "%s %s: %s", what, ref, err)
				return nil
			}
			one.resolved = resolved
			if err != nil {
				return fmt.Errorf("%s %s: %w", what, ref, err)
			}
			return nil
		})
	}
	for _, u := range b.o.Plan.Units {
		if u.Base.Kind == recipe.ReferenceBase {
			ask(u.Base.Pos, "the base", u.Base.Reference, u)
		}
		for _, step := range u.Steps {
			if take, ok := step.Do.(plan.Take); ok && take.Unit == nil {
				ask(take.Pos, "the image", take.Reference, u)
			}
		}
	}
	return group.Wait()
}

// load brings a base into the store and reads what its layers hold.
func (one *base) load(ctx context.Context, b *builder) error {
	one.once.Do(func() { one.err = one.read(b.whole(ctx), b) })
	return one.err
}

// lend tells whether a base can be used without its layers: those are brought when a command needs them, if all that they
// hold is known.
func (one *base) lend(ctx context.Context, b *builder) (bool, error) {
	if b.o.Shared == nil || one.resolved.Lend == nil || one.resolved.Here(ctx) {
		return false, nil
	}
	if err := one.resolved.Lend(ctx); err != nil {
		return false, err
	}
	manifest, err := image.ReadManifest(ctx, b.o.Store, one.resolved.Descriptor)
	if err != nil {
		return false, err
	}
	config, err := image.ReadConfig(ctx, b.o.Store, manifest)
	if err != nil {
		return false, err
	}
	for _, id := range config.RootFS.DiffIDs {
		if !b.o.Store.HasTree(digest.DiffID(id)) {
			b.o.Shared.Index(ctx, digest.DiffID(id))
		}
		if !b.o.Store.HasTree(digest.DiffID(id)) {
			return false, nil
		}
	}
	return true, nil
}

func (one *base) read(ctx context.Context, b *builder) error {
	if lent, err := one.lend(ctx, b); err != nil {
		return err
	} else if !lent {
		if err := one.resolved.Bring(ctx); err != nil {
			return err
		}
	}
	manifest, err := image.ReadManifest(ctx, b.o.Store, one.resolved.Descriptor)
	if err != nil {
		return err
	}
	if one.config, err = image.ReadConfig(ctx, b.o.Store, manifest); err != nil {
		return err
	}
	one.layers = manifest.Layers
	contents := make([]*packedContents, len(manifest.Layers))
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(cap(b.packing))
	for i, desc := range manifest.Layers {
		group.Go(func() (err error) {
			contents[i], err = b.layerContents(ctx, desc, digest.DiffID(one.config.RootFS.DiffIDs[i]))
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	one.view, one.contents = tree.NewView(), contents
	for i, c := range contents {
		if err := one.view.Apply(c.entries, c); err != nil {
			return fmt.Errorf("layer %d: %w", i+1, err)
		}
	}
	return nil
}
