package plan

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"imbricat/internal/ground/reference"
)

// Redirection is where somebody has images go, and under which tags, in place of what the recipe says or besides.
type Redirection struct {
	to   []newPlace
	tags []newTag
}

// forImage is what one part of a redirection is for.
type forImage struct {
	image string // empty: every image
	add   bool   // it comes beside what there is
}

type newPlace struct {
	forImage
	repository reference.Reference
	below      bool // the image's name comes behind the repository's
}

type newTag struct {
	forImage
	tag string
}

// ParseRedirection reads places as [+][IMAGE=]HOST/REPOSITORY, or HOST/PREFIX/ for a repository below it that is called as the image, and
// tags as [+][IMAGE=]TAG. What begins with + is added, all else replaces.
func ParseRedirection(to, tags []string) (*Redirection, error) {
	r := &Redirection{}
	for _, text := range to {
		f, rest := parseFor(text)
		at := newPlace{forImage: f}
		rest, at.below = strings.CutSuffix(rest, "/")
		var err error
		if at.repository, err = reference.ParseRepository(rest); err != nil {
			if !at.below || reference.CheckHost(rest) != nil {
				return nil, fmt.Errorf("--to %s: %w", text, err)
			}
			at.repository = reference.Reference{Kind: reference.Registry, Host: rest}
		}
		r.to = append(r.to, at)
	}
	for _, text := range tags {
		f, tag := parseFor(text)
		if err := reference.CheckTag(tag); err != nil {
			return nil, fmt.Errorf("--tag %s: %w", text, err)
		}
		r.tags = append(r.tags, newTag{f, tag})
	}
	return r, nil
}

func parseFor(text string) (f forImage, rest string) {
	rest, f.add = strings.CutPrefix(text, "+")
	if image, behind, named := strings.Cut(rest, "="); named {
		f.image, rest = image, behind
	}
	return f, rest
}

// Redirect returns the plan with its images going elsewhere. known reports whether the recipe has an image. What is built stays the same: a
// division that follows what was published goes on from where the recipe publishes.
func (p *Plan) Redirect(r *Redirection, known func(image string) bool) (*Plan, error) {
	if len(r.to)+len(r.tags) == 0 {
		return p, nil
	}
	for _, f := range r.parts() {
		if f.image != "" && !known(f.image) {
			return nil, fmt.Errorf("the recipe has no image %q to send elsewhere", f.image)
		}
	}
	out := *p
	out.Images = nil
	stands := map[string]string{}
	for _, i := range p.Images {
		one := *i
		one.Said = append([]Destination{}, i.Destinations...) // nowhere is not nil
		places, err := r.places(i, len(p.Images))
		if err != nil {
			return nil, err
		}
		one.Destinations = r.tagged(i.Name, places)
		for _, d := range one.Destinations {
			if len(d.Tags)+len(d.Held) == 0 && len(i.Destinations) == 0 {
				return nil, fmt.Errorf("the recipe publishes %s nowhere, so it names no tag, and none is assumed: give --tag", i.Name)
			}
			for _, tag := range d.Tags {
				name := d.Repository.String() + ":" + tag
				if other, taken := stands[name]; taken && other != i.Name {
					return nil, fmt.Errorf("%s would stand on the image %s and on %s: give each a repository or a tag of its own", name, other, i.Name)
				}
				stands[name] = i.Name
			}
		}
		out.Images = append(out.Images, &one)
	}
	return &out, nil
}

func (r *Redirection) parts() (all []forImage) {
	for _, at := range r.to {
		all = append(all, at.forImage)
	}
	for _, t := range r.tags {
		all = append(all, t.forImage)
	}
	return all
}

// places returns where an image of so many goes.
func (r *Redirection) places(i *Image, of int) ([]Destination, error) {
	var instead, besides []Destination
	for n, at := range r.to {
		if at.image != "" && at.image != i.Name {
			continue
		}
		if at.image == "" && !at.below && of > 1 {
			return nil, fmt.Errorf("--to %s is one repository for %d images: write IMAGE=%s, or %s/ for repositories below it", at.repository, of, at.repository, at.repository)
		}
		to := at.repository
		if at.below {
			text := path.Join(to.String(), i.Name[strings.LastIndex(i.Name, "#")+1:])
			var err error
			if to, err = reference.ParseRepository(text); err != nil {
				return nil, fmt.Errorf("--to for the image %s: %w", i.Name, err)
			}
		}
		for _, d := range likeFirst(i.Destinations) {
			d.Repository = to
			if d.Name = "given"; n > 0 {
				d.Name += fmt.Sprint("-", n+1)
			}
			if at.add {
				besides = append(besides, d)
			} else {
				instead = append(instead, d)
			}
		}
	}
	if instead == nil {
		instead = i.Destinations
	}
	return slices.Concat(instead, besides), nil
}

// likeFirst returns what the first destination of the recipe is: that of the index, and those of single platforms that share its name.
func likeFirst(all []Destination) []Destination {
	if len(all) == 0 {
		return []Destination{{}}
	}
	return slices.DeleteFunc(slices.Clone(all), func(d Destination) bool { return d.Name != all[0].Name })
}

// tagged returns destinations of an image with the tags that are wanted there.
func (r *Redirection) tagged(image string, all []Destination) []Destination {
	var instead, besides []string
	for _, t := range r.tags {
		switch {
		case t.image != "" && t.image != image:
		case t.add:
			besides = append(besides, t.tag)
		default:
			instead = append(instead, t.tag)
		}
	}
	all = slices.Clone(all)
	if instead != nil { // tags of single platforms are among what is replaced
		all = slices.DeleteFunc(all, func(d Destination) bool { return !d.Whole() })
	}
	for n := range all {
		d := &all[n]
		if !d.Whole() {
			continue
		}
		if instead != nil {
			d.Tags, d.Prefixes, d.Held = instead, nil, nil
		}
		d.Tags = slices.Clone(d.Tags)
		for _, tag := range besides {
			if !slices.Contains(d.Tags, tag) {
				d.Tags = append(d.Tags, tag)
			}
		}
		d.Held = slices.DeleteFunc(slices.Clone(d.Held), func(h Held) bool { return slices.Contains(d.Tags, h.Tag) })
	}
	return all
}
