package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/compose"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/ground/paths"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// dating finds when images are said to be made, and whether they are of a commit.
type dating struct {
	o     *Options
	tools *compose.Tools
	times *once.Map[string, created]
}

type created = time.Time

// created returns the time that a unit's image is said to be made. Images that take in the same share the answer.
func (d *dating) created(ctx context.Context, u *plan.Unit) (time.Time, error) {
	in := intakeOf(u)
	return d.times.Do(ctx, in.key(), func(ctx context.Context) (time.Time, error) { return d.o.History.Created(ctx, in.touches(d.o)) })
}

// revision returns the commit that an image says it is made from: the newest that touched what it takes in on any platform, so that one which
// nothing touched stays the same. What no commit has was made of the one that is checked out, for all that is known.
func (d *dating) revision(ctx context.Context, img *plan.Image, strange bool) (string, error) {
	head := d.o.Annotations[v1.AnnotationRevision]
	if head == "" || strange {
		return head, nil
	}
	units, takes := MadeFrom(d.o.Inputs, img)
	return d.o.History.Revision(ctx, units, takes)
}

// MadeFrom returns an image's units for all its platforms, also those that are not built now, and tells which paths of the project folder they
// take in.
func MadeFrom(o Inputs, img *plan.Image) (units []*plan.Unit, takes paths.Set) {
	units = img.Units
	if o.Whole != nil {
		for _, other := range o.Whole.Images {
			if other.Name == img.Name {
				units = other.Units
			}
		}
	}
	in, seen := &intake{}, map[*plan.Unit]bool{}
	for _, u := range units {
		in.add(u, seen)
	}
	if len(in.patterns)+len(in.files) == 0 {
		return units, paths.Set{}
	}
	return units, in.touches(&Options{Inputs: o})
}

// TakenIn returns the paths of the project folder that units take in.
func TakenIn(o Inputs, units []*plan.Unit) paths.Set {
	in, seen := &intake{}, map[*plan.Unit]bool{}
	for _, u := range units {
		in.add(u, seen)
	}
	for _, one := range in.patterns {
		if one.Follow { // links may lead anywhere
			in.patterns = append(in.patterns, plan.Source{From: "."})
			break
		}
	}
	if len(in.patterns)+len(in.files) == 0 {
		return paths.Set{}
	}
	return in.touches(&Options{Inputs: o})
}

// intake is what a unit takes in from the project, by itself and through the units that it uses.
type intake struct {
	patterns []plan.Source
	files    []string     // those that are named by themselves
	places   []recipe.Pos // in the recipes, of the units
}

func intakeOf(u *plan.Unit) *intake {
	in := &intake{}
	in.add(u, map[*plan.Unit]bool{})
	return in
}

func (in *intake) add(u *plan.Unit, seen map[*plan.Unit]bool) {
	if seen[u] {
		return
	}
	seen[u] = true
	in.places = append(in.places, u.Pos)
	for _, other := range u.Needs() {
		in.add(other, seen)
	}
	for _, step := range u.Steps {
		for _, one := range step.Do.Sources() {
			if one.Single {
				in.files = append(in.files, path.Clean(one.From))
			} else {
				in.patterns = append(in.patterns, one)
			}
		}
	}
}

// DatedBy tells by which paths of the project folder an image is dated: those that it takes in, and without any the recipes.
func DatedBy(o Inputs, u *plan.Unit) func(path string) bool {
	return intakeOf(u).touches(&Options{Inputs: o}).Has
}

func (in *intake) key() string {
	var key strings.Builder
	for _, one := range in.patterns {
		fmt.Fprintf(&key, "%q %q\n", one.From, one.LeaveOut)
	}
	fmt.Fprintf(&key, "%q\n", in.files)
	if len(in.patterns)+len(in.files) == 0 {
		fmt.Fprintln(&key, in.places)
	}
	return key.String()
}

// touches tells which paths of the project folder are taken in. Without any the recipes alone decide.
func (in *intake) touches(o *Options) paths.Set {
	if len(in.patterns)+len(in.files) == 0 {
		recipes := []string{o.Plan.File.Name}
		for _, pos := range in.places {
			recipes = append(recipes, o.Plan.File.NameAt(pos))
		}
		return paths.Set{Has: func(path string) bool { return slices.Contains(recipes, path) }, Below: recipes}
	}
	c := covering{below: map[string][]func(string) bool{}}
	for _, one := range in.patterns {
		c.add(one.From, o.Folder.Covers(one.From, one.LeaveOut))
	}
	touched := paths.Set{Has: func(path string) bool { return slices.Contains(in.files, path) || c.has(path) }}
	if len(c.patterns) == 0 {
		touched.Below = slices.AppendSeq(slices.Clone(in.files), maps.Keys(c.below))
	}
	return touched
}

// covering tells whether any of many copies takes a path in.
type covering struct {
	below    map[string][]func(path string) bool // by the file or folder that all of it lies in
	patterns []func(path string) bool            // of those that may lie anywhere
	last     atomic.Pointer[coveringIn]          // paths are asked for folder by folder
}

// coveringIn is what may take in the files of a folder, by their folder or one above it.
type coveringIn struct {
	dir string
	all []func(path string) bool
}

func (c *covering) add(from string, covers func(path string) bool) {
	if from == "." || strings.ContainsAny(from, `*?[{\\`) {
		c.patterns = append(c.patterns, covers)
		return
	}
	c.below[from] = append(c.below[from], covers)
}

func (c *covering) has(p string) bool {
	takes := func(covers func(string) bool) bool { return covers(p) }
	return slices.ContainsFunc(c.below[p], takes) || slices.ContainsFunc(c.in(tree.Parent(p)), takes)
}

func (c *covering) in(dir string) []func(path string) bool {
	if last := c.last.Load(); last != nil && last.dir == dir {
		return last.all
	}
	all := slices.Clip(c.patterns)
	for at := dir; at != ""; at = tree.Parent(at) {
		all = append(all, c.below[at]...)
	}
	c.last.Store(&coveringIn{dir, all})
	return all
}

// dirty lists what an image is made from that differs from the commit, and tells of what the commit does not have.
func (d *dating) dirty(ctx context.Context, img *plan.Image) (dirty []string, strange bool, err error) {
	if !d.o.History.Committed() {
		return nil, false, nil
	}
	var found dirt
	key, settled, err := d.dirtKey(ctx, img)
	if err != nil {
		return nil, false, err
	}
	note, known := d.o.Store.Note(key)
	if !known || json.Unmarshal(note, &found) != nil {
		difference, err := d.o.History.Difference()
		if err != nil {
			return nil, false, err
		}
		found.Strange = d.strange(difference, img)
		if found.Dirty, err = dirtyFiles(ctx, d.o, difference, img); err != nil {
			return nil, false, err
		}
		if text, err := json.Marshal(found); err == nil && settled {
			_ = d.o.Store.PutNote(key, text) // it only saves time
		}
	}
	if len(found.Strange) > 0 {
		d.tools.Warner.Warn(nil, event.Untracked, fmt.Sprintf("%s takes in what version control does not have: %s", img.Name, say.Some(found.Strange)))
	}
	return found.Dirty, len(found.Strange) > 0, nil
}

// dirt is how what an image is made from differs from its commit.
type dirt struct{ Dirty, Strange []string }

// dirtKey names the commit and all that an image is made from, by the stats of files that it takes in: the answer depends on nothing else. It is
// settled where every later change would show.
func (d *dating) dirtKey(ctx context.Context, img *plan.Image) (key digest.Key, settled bool, err error) {
	says, err := d.o.History.Says(ctx, img.Units)
	if err != nil {
		return "", false, err
	}
	var text strings.Builder
	fmt.Fprintf(&text, "imbricat dirt note 3\n%s\n%s\n", d.o.Annotations[v1.AnnotationRevision], says)
	settled = says != ""
	for _, u := range img.Units {
		in := intakeOf(u)
		settled = settled && len(in.files) == 0
		for _, one := range in.patterns {
			// What was recalled without reading was settled when it was noted.
			if got, err := d.tools.Project.Pick(one); err == nil && got.WasRead() {
				settled = settled && got.Settled()
			}
		}
		question, err := d.tools.Project.Question("", in.patterns)
		settled = settled && err == nil
		fmt.Fprintln(&text, question)
	}
	return filetree.KeyOfText(text.String()), settled, nil
}

// Dirty lists the files of version control that an image is made from and that differ from the commit.
func Dirty(ctx context.Context, o Inputs, img *plan.Image) ([]string, error) {
	if !o.History.Committed() {
		return nil, nil
	}
	difference, err := o.History.Difference()
	if err != nil {
		return nil, err
	}
	return dirtyFiles(ctx, &Options{Inputs: o}, difference, img)
}

func dirtyFiles(ctx context.Context, o *Options, d Difference, img *plan.Image) ([]string, error) {
	if len(d.Changed) == 0 {
		return nil, nil
	}
	list, err := o.History.Edited(ctx, img.Units, d.Changed)
	if err != nil {
		return nil, err
	}
	for _, u := range img.Units {
		in := intakeOf(u)
		if len(in.patterns)+len(in.files) == 0 {
			continue
		}
		touches := in.touches(o)
		for _, name := range d.Changed {
			if touches.Has(name) && !slices.Contains(list, name) {
				list = append(list, name)
			}
		}
	}
	slices.Sort(list)
	return list, nil
}

// strange lists files that an image takes in and that its commit does not have.
func (d *dating) strange(difference Difference, img *plan.Image) (names []string) {
	if difference.Tracked == nil {
		return nil
	}
	note := func(name string) {
		if !difference.Tracked[name] && !slices.Contains(difference.Changed, name) && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, u := range img.Units {
		in := intakeOf(u)
		for _, one := range in.patterns {
			if got, err := d.tools.Project.Pick(one); err == nil {
				for i := range got.Survey.Picked {
					if got.Survey.Picked[i].Kind == tree.File {
						note(got.Survey.Picked[i].Path)
					}
				}
			}
		}
		for _, name := range in.files {
			note(name)
		}
	}
	return names
}
