package build

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/image"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/tree"
)

// DirtyRevision ends the revision of an image that was made of other files than the commit has.
const DirtyRevision = "-dirty"

const indexMediaType = v1.MediaTypeImageIndex

// assemble stores a platform's config and manifest.
func (b *builder) assemble(ctx context.Context, u *plan.Unit, s *unitState, dirty bool) (PlatformResult, time.Time, map[string]string, error) {
	result := PlatformResult{Platform: u.ID.Platform}
	created, err := b.created(ctx, u)
	if err != nil {
		return result, created, nil, err
	}
	a := &image.Assembly{
		Platform: u.ID.Platform, Base: b.inherit(u, s), Settings: u.Settings,
		Created: created, Annotations: b.annotations(u, s, created, dirty),
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
func (b *builder) annotations(u *plan.Unit, s *unitState, created time.Time, dirty bool) map[string]string {
	all := map[string]string{v1.AnnotationCreated: created.Format(time.RFC3339)}
	for key, value := range b.o.Annotations {
		all[key] = value
	}
	if dirty {
		all[v1.AnnotationRevision] += DirtyRevision
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
	in := intakeOf(u)
	when, _, err := b.times.do(in.key(), func() (time.Time, error) { return b.o.Created(b.whole(ctx), in.touches(b.o)) })
	return when, err
}

// intake is what a unit takes in from the project, by itself and through the units that it uses.
type intake struct {
	copies   []plan.Copy
	archives []string // files of the project that are unpacked
}

func intakeOf(u *plan.Unit) *intake {
	in := &intake{}
	in.add(u, map[*plan.Unit]bool{})
	return in
}

func (in *intake) add(u *plan.Unit, seen map[*plan.Unit]bool) {
	if u == nil || seen[u] {
		return
	}
	seen[u] = true
	in.add(u.Base.Unit, seen)
	for _, step := range u.Steps {
		switch do := step.Do.(type) {
		case plan.Copy:
			in.copies = append(in.copies, do)
		case plan.Unpack:
			if do.From != "" {
				in.archives = append(in.archives, path.Clean(do.From))
			}
		case plan.Take:
			in.add(do.Unit, seen)
		}
	}
}

func (in *intake) key() string {
	var key strings.Builder
	for _, c := range in.copies {
		fmt.Fprintf(&key, "%q %q\n", c.From, c.LeaveOut)
	}
	fmt.Fprintf(&key, "%q\n", in.archives)
	return key.String()
}

// touches tells which paths of the project folder are taken in. Without any the recipe alone decides.
func (in *intake) touches(o Options) func(path string) bool {
	if len(in.copies)+len(in.archives) == 0 {
		return func(path string) bool { return path == o.Plan.File.Name }
	}
	var covers []func(path string) bool
	for _, c := range in.copies {
		for _, from := range c.From {
			covers = append(covers, o.Source.Covers(from, c.LeaveOut))
		}
	}
	return func(path string) bool {
		return slices.Contains(in.archives, path) ||
			slices.ContainsFunc(covers, func(covered func(string) bool) bool { return covered(path) })
	}
}

// Difference is how the project folder differs from its commit, in paths relative to it.
type Difference struct {
	Changed []string        // known to version control and other than in the commit
	Tracked map[string]bool // what the commit has
}

// dirty lists what an image takes in that differs from the commit, and tells of what the commit does not have.
func (b *builder) dirty(img *plan.Image) ([]string, error) {
	if b.o.Difference == nil {
		return nil, nil
	}
	var found dirt
	key, settled := b.dirtKey(img)
	note, known := b.o.Store.Note(key)
	if !known || json.Unmarshal(note, &found) != nil {
		var err error
		if found.Dirty, err = Dirty(b.o, img); err == nil {
			found.Strange, err = b.strange(img)
		}
		if err != nil {
			return nil, err
		}
		if text, err := json.Marshal(found); err == nil && settled {
			_ = b.o.Store.PutNote(key, text) // it only saves time
		}
	}
	if len(found.Strange) > 0 {
		b.warning(nil, event.Untracked, fmt.Sprintf("%s takes in what version control does not have: %s", img.Name, Some(found.Strange)))
	}
	return found.Dirty, nil
}

// dirt is how what an image takes in differs from its commit.
type dirt struct{ Dirty, Strange []string }

// dirtKey names the commit and all that an image takes in, by the files' stats: the answer depends on nothing else. It is
// settled where every later change would show in them.
func (b *builder) dirtKey(img *plan.Image) (key digest.Key, settled bool) {
	var text strings.Builder
	fmt.Fprintf(&text, "imbricat dirt note 1\n%s\n", b.o.Annotations[v1.AnnotationRevision])
	settled = true
	seen := map[string]bool{}
	for _, u := range img.Units {
		in := intakeOf(u)
		settled = settled && len(in.archives) == 0
		for _, do := range in.copies {
			for _, from := range do.From {
				got, err := b.pick(do, from)
				if err != nil || seen[fmt.Sprint(from, do.LeaveOut)] {
					continue
				}
				seen[fmt.Sprint(from, do.LeaveOut)] = true
				// What was recalled without reading was settled when it was noted.
				settled = settled && (got.files == nil || got.settled())
			}
			question := b.question(do)
			settled = settled && question != ""
			fmt.Fprintln(&text, question)
		}
	}
	return keyOfText(text.String()), settled
}

// Dirty lists the files of version control that an image takes in and that differ from the commit.
func Dirty(o Options, img *plan.Image) ([]string, error) {
	if o.Difference == nil {
		return nil, nil
	}
	d, err := o.Difference()
	if err != nil {
		return nil, err
	}
	var list []string
	for _, u := range img.Units {
		touches := intakeOf(u).touches(o)
		for _, name := range d.Changed {
			if touches(name) && !slices.Contains(list, name) {
				list = append(list, name)
			}
		}
	}
	return list, nil
}

// strange lists files that an image takes in and that its commit does not have.
func (b *builder) strange(img *plan.Image) ([]string, error) {
	d, err := b.o.Difference()
	if err != nil || d.Tracked == nil {
		return nil, err
	}
	var names []string
	note := func(name string) {
		if !d.Tracked[name] && !slices.Contains(d.Changed, name) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, u := range img.Units {
		in := intakeOf(u)
		for _, c := range in.copies {
			for _, from := range c.From {
				if got, err := b.pick(c, from); err == nil {
					for i := range got.survey.Picked {
						if got.survey.Picked[i].Kind == tree.File {
							note(got.survey.Picked[i].Path)
						}
					}
				}
			}
		}
		for _, name := range in.archives {
			note(name)
		}
	}
	return names, nil
}

// Some names the first of a list, for people.
func Some(names []string) string {
	const most = 3
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}
