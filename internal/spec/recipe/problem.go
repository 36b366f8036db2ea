package recipe

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/agnivade/levenshtein"
)

// File is the text of a recipe with its name, and of the recipes that it names, for messages. Positions count lines through all of them.
type File struct {
	Name        string
	texts       []*text
	expressions []*Expression
}

// text is one of the texts.
type text struct {
	name   string // as messages show it
	folder string // where the recipe lies, relative to the first one's folder, which is the empty one
	begins int    // lines of the texts before
	lines  []string
}

// add adds a text.
func (f *File) add(name, folder string, content []byte) *text {
	t := &text{name: name, folder: folder, lines: strings.Split(strings.ReplaceAll(string(content), "\r\n", "\n"), "\n")}
	if n := len(f.texts); n > 0 {
		t.begins = f.texts[n-1].begins + len(f.texts[n-1].lines)
	}
	f.texts = append(f.texts, t)
	return t
}

// NameAt is the file of the recipe that a place is in.
func (f *File) NameAt(pos Pos) string {
	if t := f.at(pos.Line); t != nil {
		return t.name
	}
	return f.Name
}

// Place is a place as people know it: the file, and where it is in that. Without a line the file alone is known.
func (f *File) Place(pos Pos) (name string, line, column int) {
	t := f.at(pos.Line)
	if t == nil {
		return f.Name, 0, 0
	}
	return t.name, pos.Line - t.begins, pos.Column
}

// at finds the text that a line is of; nil where there is none.
func (f *File) at(line int) *text {
	for _, t := range f.texts {
		if line > t.begins && line <= t.begins+len(t.lines) {
			return t
		}
	}
	return nil
}

// line is one that the lines of all texts are counted with, without its end.
func (t *text) line(number int) (string, bool) {
	if number -= t.begins; number < 1 || number > len(t.lines) {
		return "", false
	}
	return t.lines[number-1], true
}

func (t *text) whole() string { return strings.Join(t.lines, "\n") }

// Text returns the lines of all recipes.
func (f *File) Text() string {
	var all []string
	for _, t := range f.texts {
		all = append(all, t.whole())
	}
	return strings.Join(all, "\n")
}

// Texts returns the text of each file, by its name.
func (f *File) Texts() map[string]string {
	all := map[string]string{}
	for _, t := range f.texts {
		all[t.name] = t.whole()
	}
	return all
}

// Problem is one mistake at one place.
type Problem struct {
	Pos     Pos
	Message string
}

// Compare orders problems by their places in the text.
func (p Problem) Compare(other Problem) int {
	return cmp.Or(p.Pos.Line-other.Pos.Line, p.Pos.Column-other.Pos.Column)
}

// Errors is every problem found in a recipe.
type Errors struct {
	File     *File
	Problems []Problem
}

// mostTold bounds how many problems are told: of hundreds that are all alike the first tell enough.
const mostTold = 50

// Error returns each problem as file:line:column, the message, and the line with a mark below it.
func (e *Errors) Error() string {
	var out strings.Builder
	for i, p := range e.Problems {
		if i > 0 {
			out.WriteByte('\n')
		}
		if i == mostTold {
			fmt.Fprintf(&out, "and %d more mistakes", len(e.Problems)-i)
			break
		}
		out.WriteString(e.File.Describe(p.Pos, p.Message))
	}
	return out.String()
}

// Add notes a problem, each once.
func (e *Errors) Add(pos Pos, format string, args ...any) {
	p := Problem{Pos: pos, Message: fmt.Sprintf(format, args...)}
	if !slices.Contains(e.Problems, p) {
		e.Problems = append(e.Problems, p)
	}
}

// Problem makes an Errors of one problem, for packages that find mistakes after parsing.
func (f *File) Problem(pos Pos, format string, args ...any) *Errors {
	return &Errors{File: f, Problems: []Problem{{Pos: pos, Message: fmt.Sprintf(format, args...)}}}
}

// Describe is a message with its place and the line.
func (f *File) Describe(pos Pos, message string) string {
	in := f.at(pos.Line)
	switch {
	case in == nil:
		return fmt.Sprintf("%s: %s", f.Name, message)
	case pos.Column == 0: // it is about the whole text
		return fmt.Sprintf("%s: %s", in.name, message)
	}
	line, _ := in.line(pos.Line)
	line = strings.ReplaceAll(line, "\t", " ")
	pos.Line -= in.begins
	runes := []rune(line)
	column := min(max(pos.Column, 1), len(runes)+1)
	// A window keeps very long lines readable.
	start := 0
	if len(runes) > 160 && column > 100 {
		start = column - 100
	}
	shown := string(runes[start:min(len(runes), start+160)])
	gutter := fmt.Sprintf("%5d | ", pos.Line)
	return fmt.Sprintf("%s:%d:%d: %s\n%s%s\n      | %s^",
		in.name, pos.Line, pos.Column, message, gutter, shown, strings.Repeat(" ", column-1-start))
}

// merge collects the problems of several errors, in the order of the text and without repeats.
func merge(file *File, problems []Problem) error {
	if len(problems) == 0 {
		return nil
	}
	slices.SortStableFunc(problems, Problem.Compare)
	kept := problems[:1]
	for _, p := range problems[1:] {
		if p != kept[len(kept)-1] {
			kept = append(kept, p)
		}
	}
	return &Errors{File: file, Problems: kept}
}

// Nearest returns the candidate that is most like word, or "" where none is near enough to be a slip of the hand.
func Nearest(word string, candidates []string) string {
	best, distance := "", 1+max(1, len(word)/3)
	for _, candidate := range candidates {
		d := levenshtein.ComputeDistance(word, candidate)
		if strings.HasPrefix(candidate, word) && len(word) > 2 || letters(candidate) == letters(word) {
			d = min(d, 1)
		}
		if d < distance {
			best, distance = candidate, d
		}
	}
	return best
}

// letters sorts a word's letters: two that were swapped are one slip.
func letters(word string) string {
	sorted := []byte(word)
	slices.Sort(sorted)
	return string(sorted)
}

// suggest is the end of a message about an unknown word.
func suggest(word string, candidates []string) string {
	if near := Nearest(word, candidates); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	if len(candidates) == 0 {
		return ""
	}
	return "; known here: " + strings.Join(candidates, ", ")
}
