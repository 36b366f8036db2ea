package recipe

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"
)

// said writes what a value of a unit says, with the defaults of its recipe, so that two texts that say the same are the same.
func (d *decoder) said(n *yaml.Node) string { return d.saidBut(n, "each") }

// held is what is said of what an image holds: not where it goes, and what is held against it.
func (d *decoder) held(n *yaml.Node) string {
	return d.saidBut(n, "each", "publish", "checks", "also-needs")
}

// saidBut leaves keys of a unit out.
func (d *decoder) saidBut(n *yaml.Node, keys ...string) string {
	var out strings.Builder
	left := maxNodes
	if entry := d.deref(n); entry.Kind == yaml.MappingNode { // what lists there are makes no difference to an image that has its values
		own := *entry
		own.Content = nil
		for i := 0; i+1 < len(entry.Content); i += 2 {
			if !slices.Contains(keys, entry.Content[i].Value) {
				own.Content = append(own.Content, entry.Content[i], entry.Content[i+1])
			}
		}
		n = &own
	}
	write(&out, n, &left)
	if d.defaults != nil {
		write(&out, d.defaults, &left)
	}
	return out.String()
}

// write writes a value without its form: aliases as what they stand for.
func write(out *strings.Builder, n *yaml.Node, left *int) {
	for n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	if *left--; *left < 0 {
		return // such a recipe is refused
	}
	if len(n.Content) == 0 {
		fmt.Fprintf(out, "%s %q\n", n.Tag, n.Value)
		return
	}
	fmt.Fprintf(out, "%s {\n", n.Tag)
	for _, child := range n.Content {
		write(out, child, left)
	}
	out.WriteString("}\n")
}

// patterns reads patterns of paths below the recipe's folder.
func (d *decoder) patterns(n *yaml.Node, what string) (list []string) {
	d.each(n, what, true, func(item *yaml.Node) {
		before := len(d.problems)
		pattern := d.word(item, "an entry of "+what)
		if len(d.problems) == before && (!doublestar.ValidatePattern(pattern) || path.IsAbs(pattern) || pattern == "" || slices.Contains(strings.Split(pattern, "/"), "..")) {
			d.report(at(d.deref(item)), "%q is no pattern of paths below the recipe's folder, such as common/astro/**", pattern)
		}
		list = append(list, pattern)
	})
	return list
}

// Asks are what values ask for that lies outside of the recipe.
type Asks struct {
	Facts   []Fact   // by themselves and by others
	Git     []string // names below git
	Date    bool
	Files   []string // of the project folder
	AnyFile bool     // files whose names are computed
}

// Asks tells what a stage or an image asks for: content, for what it holds; all, for anything that the recipe says of it.
func (r *Recipe) Asks(s *Stage) (content, all Asks) {
	return r.asks(s.content), r.asks(s.all)
}

func (r *Recipe) asks(expressions []*Expression) (a Asks) {
	seen := map[string]bool{}
	var add func(list []*Expression)
	add = func(list []*Expression) {
		for _, e := range list {
			a.Git = append(a.Git, e.Uses("git")...)
			a.Date = a.Date || len(e.Uses("date")) > 0
			for _, file := range e.files {
				a.Files = append(a.Files, path.Join(e.in, file))
			}
			a.AnyFile = a.AnyFile || e.anyFile
			for _, name := range e.Uses("facts") {
				fact := r.factIn(e.in, name)
				if fact == nil || seen[Named(fact.In, name)] {
					continue
				}
				seen[Named(fact.In, name)] = true
				a.Facts = append(a.Facts, *fact)
				add(fact.Value.Expressions())
			}
		}
	}
	add(expressions)
	slices.Sort(a.Git)
	a.Git = slices.Compact(a.Git)
	return a
}

// factIn finds what a folder's recipe calls a fact: its own, or that of the first recipe; nil where there is none.
func (r *Recipe) factIn(folder, name string) (found *Fact) {
	for i := range r.Facts {
		if f := &r.Facts[i]; f.Name == name && (f.In == folder || f.In == "" && found == nil) {
			found = f
		}
	}
	return found
}

// Unit is what the recipe has of a stage or an image, with what an image needs also; nil where it has none of that name.
func (r *Recipe) Unit(name string) (says *Stage, also []string) {
	for i := range r.Stages {
		if r.Stages[i].Name == name {
			return &r.Stages[i], nil
		}
	}
	for i := range r.Images {
		if r.Images[i].Name == name {
			return &r.Images[i].Stage, r.Images[i].AlsoNeeds
		}
	}
	return nil, nil
}

// LeftOut is what the recipe leaves out of a path of the project folder, for comparing.
func (r *Recipe) LeftOut(from string) string {
	var out strings.Builder
	for _, s := range r.Sources {
		if s.In == "" || Related(s.In, from) {
			fmt.Fprintf(&out, "%q %q %t\n", s.In, s.LeaveOut, s.HonourGitignore)
		}
	}
	return out.String()
}

// Related reports whether one of two paths is the other, or lies in it. What may be a pattern is related to all in its folder.
func Related(a, b string) bool {
	b, _, _ = strings.Cut(b, "*")
	if i := strings.IndexAny(b, `?[{\`); i >= 0 {
		b = b[:i]
	}
	if b == "" || b == "." || a == "." || a == "" {
		return true
	}
	return a == b || strings.HasPrefix(a, strings.TrimSuffix(b, "/")+"/") || strings.HasPrefix(b, a+"/") || strings.HasPrefix(a, b)
}
