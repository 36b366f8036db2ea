package recipe

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// mostCombinations bounds how many images the lists of a recipe make.
const mostCombinations = 1000

// each are lists of values. An image that has them stands for an image for every combination.
type each struct {
	pos      Pos
	lists    []list
	leaveOut []combination
	also     []combination
	wrong    bool // mistakes were reported
}

// list is a list of values with its name.
type list struct {
	name   string
	values []string
}

// combination is a value for some lists, or for all of them.
type combination struct {
	pos    Pos
	values map[string]string
}

// eachOf looks ahead for the lists of an image, whose names expressions may use. Mistakes are reported where they are read again.
func (d *decoder) eachOf(image *yaml.Node) (names []string) {
	quiet := &decoder{file: d.file, in: d.in}
	pairs, _ := quiet.pairs(image, "")
	for _, p := range pairs {
		if p.key.Value == "each" {
			for _, l := range quiet.lists(p.value).lists {
				names = append(names, l.name)
			}
		}
	}
	return names
}

// lists reads lists of values: alone, or with combinations that are left out or added.
func (d *decoder) lists(n *yaml.Node) *each {
	e := &each{pos: at(d.deref(n))}
	before := len(d.problems)
	var lists, leaveOut, also *yaml.Node
	if of := valueOf(d.deref(n), "of"); of != nil && d.deref(of).Kind == yaml.MappingNode {
		d.object(n, "each", field{key: "of", need: true, read: func(n *yaml.Node) { lists = n }},
			field{key: "leave-out", read: func(n *yaml.Node) { leaveOut = n }}, field{key: "also", read: func(n *yaml.Node) { also = n }})
	} else {
		lists = n
	}
	d.named(lists, "each", func(key, value *yaml.Node) {
		d.checkName(key, "list of each", factName)
		l := list{name: key.Value}
		d.each(value, "the list "+key.Value, false, func(item *yaml.Node) {
			text := d.word(item, "a value of "+key.Value)
			switch target := d.deref(item); {
			case text == "" && target.Kind == yaml.ScalarNode && target.Tag == "!!str":
				d.report(at(target), "a value of %s is empty", key.Value)
			case text != "" && slices.Contains(l.values, text):
				d.report(at(d.deref(item)), "%q stands twice in %s", text, key.Value)
			}
			l.values = append(l.values, text)
		})
		if target := d.deref(value); target.Kind == yaml.SequenceNode && len(target.Content) == 0 {
			d.report(at(key), "the list %s has no value", key.Value)
		}
		e.lists = append(e.lists, l)
	})
	if len(e.lists) == 0 && len(d.problems) == before {
		d.report(e.pos, "each names no list: write a name with its values, such as station: [north, south]")
	}
	if leaveOut != nil {
		e.leaveOut = d.combinations(leaveOut, "leave-out", e, false)
	}
	if also != nil {
		e.also = d.combinations(also, "also", e, true)
	}
	e.wrong = len(d.problems) > before
	return e
}

// combinations reads values for lists; whole, each has one for every list, and else one of those in the list.
func (d *decoder) combinations(n *yaml.Node, what string, e *each, whole bool) (all []combination) {
	d.each(n, what, true, func(item *yaml.Node) {
		one := combination{at(d.deref(item)), map[string]string{}}
		d.named(item, "an entry of "+what, func(key, value *yaml.Node) {
			text := d.word(value, key.Value)
			i := slices.IndexFunc(e.lists, func(l list) bool { return l.name == key.Value })
			switch {
			case i < 0:
				d.report(at(key), "each has no list %q%s", key.Value, suggest(key.Value, e.names()))
			case !whole && !slices.Contains(e.lists[i].values, text):
				d.report(at(d.deref(value)), "the list %s has no %q%s", key.Value, text, suggest(text, e.lists[i].values))
			}
			one.values[key.Value] = text
		})
		if whole {
			for _, l := range e.lists {
				if one.values[l.name] == "" {
					d.report(one.pos, "an entry of also has a value for every list: %s is missing", l.name)
				}
			}
		}
		all = append(all, one)
	})
	return all
}

func (e *each) names() (names []string) {
	for _, l := range e.lists {
		names = append(names, l.name)
	}
	return names
}

// all returns every combination, those of the first list's first value first; false where they are too many.
func (e *each) all() (all []map[string]string, few bool) {
	all = []map[string]string{{}}
	for _, l := range e.lists {
		var longer []map[string]string
		for _, before := range all {
			for _, value := range l.values {
				one := maps.Clone(before)
				one[l.name] = value
				longer = append(longer, one)
			}
			if len(longer) > mostCombinations {
				return nil, false
			}
		}
		all = longer
	}
	all = slices.DeleteFunc(all, func(one map[string]string) bool {
		return slices.ContainsFunc(e.leaveOut, func(c combination) bool {
			for name, value := range c.values {
				if one[name] != value {
					return false
				}
			}
			return true
		})
	})
	for _, c := range e.also {
		all = append(all, c.values)
	}
	return all, len(all) <= mostCombinations
}

// name is what the image for a combination is called.
func (e *each) name(image string, one map[string]string) string {
	for _, l := range e.lists {
		image += "-" + mendName(one[l.name])
	}
	return image
}

// mendName makes a part of a name out of any text: letters in lower case, and what no name may hold as a dash.
func mendName(text string) string {
	var out strings.Builder
	for _, r := range strings.ToLower(text) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			out.WriteRune(r)
		case out.Len() > 0 && !strings.HasSuffix(out.String(), "-"):
			if r != '.' && r != '_' || strings.HasSuffix(out.String(), ".") || strings.HasSuffix(out.String(), "_") {
				r = '-'
			}
			out.WriteRune(r)
		}
	}
	return strings.TrimRight(out.String(), "._-")
}

// variantsOf returns the images that one entry of a recipe stands for: itself, or one for each combination.
func (d *decoder) variantsOf(i Image, e *each) []Image {
	if e == nil || e.wrong {
		return []Image{i}
	}
	all, few := e.all()
	switch {
	case !few || d.combined+len(all) > mostCombinations:
		d.report(e.pos, "the lists of each make more than %d images", mostCombinations)
		return []Image{i}
	case len(all) == 0:
		d.report(e.pos, "leave-out leaves no image of %s", i.Name)
		return []Image{i}
	}
	d.combined += len(all)
	var images []Image
	made := map[string]bool{}
	for _, values := range all {
		one := i
		told := fmt.Sprintf("%q", values)
		one.Of, one.Each, one.Said, one.Held = i.Name, values, i.Said+told, i.Held+told
		if one.Name = e.name(i.Name, values); !unitName.MatchString(one.Name) || len(one.Name) > 100 {
			d.report(e.pos, "%q is not a valid name for an image: the values of each become parts of it", one.Name)
		}
		as := strings.NewReplacer(".", "-", "_", "-").Replace(one.Name) // so that they are told apart in the names of a receipt's values too
		if made[as] {
			d.report(e.pos, "two combinations of each would both be the image %q: their values differ in nothing but signs, or letters' case", one.Name)
			continue
		}
		made[as] = true
		one.For = slices.Clone(i.For) // names of bases are looked up in each
		for n, v := range one.For {
			if v.Base != nil {
				own := *v.Base
				one.For[n].Base = &own
			}
		}
		images = append(images, one)
	}
	return images
}

// Matches reports whether an image is meant by what a person writes: its name, that of the entry which stands for it and others, or a
// pattern (path.Match) of names.
func (i *Image) Matches(wanted string) bool {
	return i.Name == wanted || i.Of == wanted && wanted != "" || MatchesName(wanted, i.Name)
}

// Matches is that of a stage: its name, or a pattern.
func (s *Stage) Matches(wanted string) bool { return s.Name == wanted || MatchesName(wanted, s.Name) }

// MatchesName reports whether a text is a pattern, and a name is one that it stands for.
func MatchesName(pattern, name string) bool {
	is, err := path.Match(pattern, name)
	return is && err == nil && isPattern(pattern)
}

// isPattern reports whether a person means names by a pattern.
func isPattern(text string) bool { return strings.ContainsAny(text, "*?[") }
