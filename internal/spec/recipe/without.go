package recipe

import (
	"slices"

	"go.yaml.in/yaml/v3"
)

// mostRounds bounds how often more is taken out of a recipe because something that it needed went.
const mostRounds = 20

// Without returns a recipe without what has mistakes: the entries of lists and mappings in which problems lie, and then whatever cannot be
// without these. Further mistakes can be looked for in what is left. It is nil where no recipe is left, or a problem has no place in
// the text.
func (f *File) Without(problems []Problem) *Recipe {
	var documents []document
	for _, t := range f.texts {
		d := &decoder{file: f, in: t}
		root := d.decode([]byte(t.whole()))
		if root == nil {
			return nil
		}
		documents = append(documents, document{t, root})
	}
	for range mostRounds {
		for _, p := range problems {
			at := slices.Index(f.texts, f.at(p.Pos.Line))
			if at < 0 || !remove(documents[at].root, p.Pos) {
				return nil
			}
		}
		r, left := parse(&File{Name: f.Name, texts: f.texts}, documents)
		if len(left) == 0 {
			return r
		}
		problems = left
	}
	return nil
}

// remove takes the innermost entry that holds a place out of its list or mapping; false where that would be the whole recipe.
func remove(root *yaml.Node, pos Pos) bool {
	var from *yaml.Node // the list or mapping of the last entry that begins at the place or before
	var first, width int
	var last Pos
	seen := map[*yaml.Node]bool{}
	var visit func(n *yaml.Node)
	visit = func(n *yaml.Node) {
		if seen[n] {
			return
		}
		seen[n] = true
		step := 1
		if n.Kind == yaml.MappingNode {
			step = 2
		}
		for i := 0; i+step <= len(n.Content) && (n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode); i += step {
			begins := at(n.Content[i])
			if !begins.after(pos) && (from == nil || !last.after(begins)) {
				from, first, width, last = n, i, step, begins
			}
			for _, child := range n.Content[i : i+step] {
				if child.Kind != yaml.AliasNode {
					visit(child)
				}
			}
		}
	}
	visit(root)
	if from == nil {
		return false
	}
	from.Content = append(from.Content[:first:first], from.Content[first+width:]...)
	return true
}

// after reports whether a place comes after another in the text.
func (p Pos) after(other Pos) bool {
	return p.Line > other.Line || p.Line == other.Line && p.Column > other.Column
}
