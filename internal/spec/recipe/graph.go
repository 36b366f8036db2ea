package recipe

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/reference"
)

// mostRecipes bounds how many recipes one names.
const mostRecipes = 1000

// Source is the text of a recipe. Name is its file relative to the project folder, with slashes.
type Source struct {
	Name string
	Text []byte
}

// Find returns the recipes that a pattern of files below the project folder stands for, sorted by their names.
type Find func(pattern string) ([]Source, error)

// ParseGraph reads a recipe with all that it names below recipes: one graph, whose stages and images are named FOLDER#NAME where they are
// those of a recipe in another folder. The error is an *Errors with every problem found.
func ParseGraph(name string, own []byte, find Find) (*Recipe, error) {
	file := &File{Name: name}
	d := &decoder{file: file, in: file.add(name, "", own)}
	root := d.decodeWith(own, find)
	if root == nil {
		return &Recipe{File: file}, merge(file, d.problems)
	}
	documents := []document{{d.in, root}}
	if find != nil {
		documents = append(documents, d.others(root, find)...)
	}
	r, problems := parse(file, documents)
	return r, merge(file, append(d.problems, problems...))
}

// Others are the patterns of the further recipes that a text names. Mistakes are passed over.
func Others(own []byte) (patterns []string) {
	file := &File{}
	d := &decoder{file: file, in: file.add("", "", own)}
	list := d.keyAhead(own, "recipes")
	if root := d.decode(own); root != nil {
		list = valueOf(root, "recipes")
	}
	if list != nil {
		patterns = d.words(list, "recipes")
	}
	return patterns
}

// document is a text as it was decoded.
type document struct {
	text *text
	root *yaml.Node
}

// others decodes the recipes that a recipe names. What is wrong is reported where it is written.
func (d *decoder) others(root *yaml.Node, find Find) (all []document) {
	list := valueOf(root, "recipes")
	if list == nil {
		return nil
	}
	quiet := &decoder{file: d.file, in: d.in} // the list is read again with the recipe
	quiet.each(list, "recipes", true, func(item *yaml.Node) {
		pos, pattern := at(d.deref(item)), quiet.word(item, "recipes")
		if pattern == "" || !fs.ValidPath(pattern) {
			return
		}
		found, err := find(pattern)
		if err != nil {
			d.report(pos, "recipes: %s: %s", pattern, err)
		}
		for _, s := range found {
			if slices.ContainsFunc(d.file.texts, func(t *text) bool { return t.name == s.Name }) {
				continue // another pattern has it, or it is this one
			}
			folder := path.Dir(s.Name)
			switch i := slices.IndexFunc(all, func(other document) bool { return other.text.folder == folder }); {
			case len(all) == mostRecipes:
				d.report(pos, "recipes names more than %d recipes", mostRecipes)
				return
			case folder == ".":
				d.report(pos, "%s lies beside this recipe, and a recipe is named by its folder: give it one of its own", s.Name)
				continue
			case i >= 0:
				d.report(pos, "%s and %s lie in one folder, and a recipe is named by its folder", all[i].text.name, s.Name)
				continue
			case !reference.IsFolder(folder):
				d.report(pos, "%s: the folder of a recipe is part of names: letters, digits, and . _ - after them", s.Name)
				continue
			}
			other := &decoder{file: d.file, in: d.file.add(s.Name, folder, s.Text)}
			if root := other.decodeWith(s.Text, find); root != nil {
				all = append(all, document{other.in, root})
			}
			d.problems = append(d.problems, other.problems...)
		}
	})
	return all
}

// recipes reads the names of further recipes, which ParseGraph has read by now.
func (d *decoder) recipes(n *yaml.Node) {
	if d.in.folder != "" {
		d.report(at(n), "further recipes are named in one place, %s, which names this one", d.file.Name)
		return
	}
	d.each(n, "recipes", true, func(item *yaml.Node) {
		before := len(d.problems)
		if pattern := d.word(item, "an entry of recipes"); len(d.problems) == before && !fs.ValidPath(pattern) {
			d.report(at(d.deref(item)), "recipes lie below this one: %q is no path of the project folder such as stations/*/%s", pattern, DefaultName)
		}
	})
}

// own is what the whole graph calls a stage, an image, a secret or a fact of this recipe.
func (d *decoder) own(name string) string { return Named(d.in.folder, name) }

// Named is what the graph calls what a recipe in a folder calls name; the first recipe's own folder is the empty one.
func Named(folder, name string) string {
	if folder == "" || name == "" {
		return name
	}
	return folder + "#" + name
}

// meant is what the graph calls what this recipe names: a name of its own, FOLDER#NAME of another recipe, or #NAME of the first one.
func (d *decoder) meant(text string) string { return meantIn(d.in.folder, text) }

func meantIn(folder, text string) string {
	before, name, elsewhere := strings.Cut(text, "#")
	if elsewhere {
		return Named(before, name)
	}
	return Named(folder, text)
}

// secret is what the graph calls a secret: this recipe's, or that of the first one.
func (d *decoder) secret(name string) string {
	if slices.Contains(d.secretNames, name) {
		return d.own(name)
	}
	return name
}

// In returns the names of the images of a folder's recipe, and of those in folders below it.
func (r *Recipe) In(folder string) (names []string) {
	for _, i := range r.Images {
		if folder == "." || i.In == folder || strings.HasPrefix(i.In, folder+"/") {
			names = append(names, i.Name)
		}
	}
	return names
}

// Of returns the names of the images of a folder's own recipe.
func (r *Recipe) Of(folder string) (names []string) {
	for _, i := range r.Images {
		if i.In == folder {
			names = append(names, i.Name)
		}
	}
	return names
}

// Files are the files of all recipes, relative to the project folder.
func (r *Recipe) Files() (all []string) {
	for _, t := range r.File.texts {
		all = append(all, t.name)
	}
	return all
}
