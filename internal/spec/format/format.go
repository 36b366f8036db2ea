// Package format gives a recipe its one form: two blanks for each level, lists one level below their key, one blank after a colon and a dash,
// no trailing blanks, never more than one empty line, one line end at the end.
//
// It works on lines, so that comments, order, quotes and empty lines stay where they are, and only moves blanks. What it returns is read again
// and has the same values, or it returns an error: the meaning never changes.
package format

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// ErrUnsafe is that the form of a recipe cannot be changed without its meaning.
var ErrUnsafe = errors.New("the recipe is written in a way that cannot be formatted safely")

// indent is how far a level is moved in, in blanks.
const indent = 2

// Format returns a recipe in its form. The error says why it has none: it is no YAML, more than one document, or has a tab in front.
func Format(text []byte) ([]byte, error) {
	text = bytes.ReplaceAll(text, []byte("\r\n"), []byte("\n"))
	if bytes.ContainsAny(text, "\r\u0085\u2028\u2029") {
		return nil, fmt.Errorf("%w: it has line ends of several kinds", ErrUnsafe)
	}
	// One pass is enough for what people write.
	for range 4 {
		out, err := once(text)
		if err != nil || bytes.Equal(out, text) {
			return out, err
		}
		text = out
	}
	return nil, ErrUnsafe
}

// once moves blanks, once.
func once(text []byte) ([]byte, error) {
	before, err := parse(text)
	if err != nil {
		return nil, err
	}
	if before == nil {
		return text, nil
	}
	f := &formatter{lines: strings.Split(strings.TrimRight(string(text), "\n"), "\n"), starts: map[int]int{}}
	f.walk(before, 0)
	f.begun = slices.Sorted(maps.Keys(f.starts))
	// Where too many empty lines are part of a text, they all stay.
	for _, tighten := range []bool{true, false} {
		out := f.written(tighten)
		after, err := parse(out)
		if err == nil && after != nil && same(before, after, 0) {
			return out, nil
		}
	}
	return nil, ErrUnsafe
}

var unknownAnchor = regexp.MustCompile(`unknown anchor '([^']+)' referenced`)

// mostAnchors bounds how many anchors of other files a recipe may use.
const mostAnchors = 1000

// parse reads the one document of a text; nil where there is none. Anchors that it does not have are those of what it includes.
func parse(text []byte) (*yaml.Node, error) {
	root, err := parseOne(text)
	var anchors []string
	for range mostAnchors {
		var m []string
		if err != nil {
			m = unknownAnchor.FindStringSubmatch(err.Error())
		}
		if m == nil {
			break
		}
		anchors = append(anchors, "&"+m[1]+" 0")
		root, err = parseOne(append([]byte("anchors of others: ["+strings.Join(anchors, ", ")+"]\n"), text...))
	}
	if err != nil || len(anchors) == 0 {
		return root, err
	}
	root.Content = root.Content[2:]
	moveUp(root)
	return root, nil
}

// moveUp has nodes count from the line after the first.
func moveUp(n *yaml.Node) {
	n.Line--
	for _, child := range n.Content {
		moveUp(child)
	}
}

// parseOne is parse of a text that has all of its anchors.
func parseOne(text []byte) (*yaml.Node, error) {
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var document yaml.Node
	if err := decoder.Decode(&document); errors.Is(err, io.EOF) {
		return nil, nil
	} else if err != nil {
		return nil, fmt.Errorf("this is not YAML: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if err := decoder.Decode(new(yaml.Node)); !errors.Is(err, io.EOF) {
		return nil, errors.New("it has more than one YAML document")
	}
	return document.Content[0], nil
}

// maxDepth bounds how deep values may stand in each other.
const maxDepth = 1000

// same reports whether two values are the same in all that counts.
func same(a, b *yaml.Node, depth int) bool {
	if depth > maxDepth || a.Kind != b.Kind || a.Tag != b.Tag || a.Value != b.Value || a.Anchor != b.Anchor || a.Style != b.Style || len(a.Content) != len(b.Content) {
		return false
	}
	for i := range a.Content {
		if !same(a.Content[i], b.Content[i], depth+1) {
			return false
		}
	}
	return true
}

// formatter knows the lines of a recipe, and where those that begin something are to begin.
type formatter struct {
	lines  []string
	starts map[int]int // lines, from 0, → blanks in front
	begun  []int       // those lines, in their order
}

// blanks counts those in front of a line.
func blanks(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

// begin has a line begin at a column, where the thing at a place of it is the first there.
func (f *formatter) begin(line, column, at int) {
	if line >= 1 && line <= len(f.lines) && blanks(f.lines[line-1]) == column-1 {
		if _, known := f.starts[line-1]; !known {
			f.starts[line-1] = at
		}
	}
}

// walk finds where the lines of a value in block style are to begin. at is the column, from 0, of its keys or dashes.
func (f *formatter) walk(n *yaml.Node, at int) {
	if n.Style&yaml.FlowStyle != 0 {
		return
	}
	switch n.Kind {
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, value := n.Content[i], n.Content[i+1]
			f.begin(key.Line, f.column(key), at)
			if value.Line > key.Line && value.Kind != yaml.AliasNode {
				f.begin(value.Line, value.Column, at+indent) // what stands alone on the next line
			}
			f.walk(value, at+indent)
		}
	case yaml.SequenceNode:
		for _, item := range n.Content {
			f.dash(n, item, at)
			if item.Line > 0 {
				f.begin(item.Line, f.column(item), at+indent)
			}
			f.walk(item, at+indent)
		}
	}
}

// column is where a value is written: before its anchor, or its tag.
func (f *formatter) column(n *yaml.Node) int {
	if n.Anchor == "" {
		return n.Column
	}
	line := f.lines[n.Line-1]
	if at := strings.LastIndex(line[:min(len(line), n.Column-1)], "&"+n.Anchor); at >= 0 {
		return at + 1
	}
	return n.Column
}

// dash has the line of an item's dash begin at a column: the line of the item, or the last one before it that begins so.
func (f *formatter) dash(list, item *yaml.Node, at int) {
	for line := item.Line; line >= list.Line && line >= 1; line-- {
		text := f.lines[line-1]
		if blanks(text) == list.Column-1 && strings.HasPrefix(text[list.Column-1:], "-") {
			f.begin(line, list.Column, at)
			return
		}
	}
}

var (
	afterDash = regexp.MustCompile(`^((?:- )*-) +([^ #])`)
	afterKey  = regexp.MustCompile(`^((?:- )*(?:[A-Za-z0-9_.#/-]+|"[^"\\]*"|'[^']*'):) {2,}([^ #])`)
)

// written returns the text in its form. With tighten several empty lines become one.
func (f *formatter) written(tighten bool) []byte {
	var out []string
	moved, inText := 0, -1 // how far the last thing was moved; blanks in front of the line that a text of several lines hangs below, -1: none
	for i, line := range f.lines {
		own := blanks(line)
		at, begins := f.starts[i]
		switch {
		case strings.TrimSpace(line) == "":
			if inText >= 0 && f.goesOn(i, inText) {
				out = append(out, strings.TrimRight(line, " \t")) // a part of the text, whose last empty lines count
				continue
			}
			if last := len(out) - 1; !tighten || last >= 0 && out[last] != "" {
				out = append(out, "")
			}
			continue
		case begins:
			inText = -1
			if block.MatchString(line) {
				inText = own
			}
			moved = at - own
			line = strings.TrimRight(line[own:], " \t")
			line = afterKey.ReplaceAllString(afterDash.ReplaceAllString(line, "$1 $2"), "$1 $2")
			out = append(out, strings.Repeat(" ", at)+line)
			continue
		case inText >= 0 && own > inText:
			out = append(out, shifted(line, moved)) // whose blanks at the end count
			continue
		case strings.HasPrefix(line[own:], "#"):
			inText = -1
			out = append(out, strings.Repeat(" ", f.commentAt(i, own, moved))+strings.TrimRight(line[own:], " \t"))
			continue
		}
		out = append(out, shifted(strings.TrimRight(line, " \t"), moved))
	}
	for len(out) > 0 && out[len(out)-1] == "" && tighten {
		out = out[:len(out)-1]
	}
	return []byte(strings.Join(out, "\n") + "\n")
}

// block is a line that a text of several lines hangs below.
var block = regexp.MustCompile(`(?:^|[ :-])(?:[&!][^ ]+ )*[|>][+-]?[0-9]?[+-]?(?: +#.*)?[ \t]*$`)

// goesOn reports whether the text below a line goes on behind an empty line.
func (f *formatter) goesOn(i, below int) bool {
	for _, line := range f.lines[i:] {
		if strings.TrimSpace(line) != "" {
			return blanks(line) > below
		}
	}
	return false
}

// shifted moves a line by some blanks, as far as there are any.
func shifted(line string, by int) string {
	own := blanks(line)
	return strings.Repeat(" ", max(0, own+by)) + line[own:]
}

// commentAt is where a comment begins: with the next line that begins at the same column, else with the one before, else moved along.
func (f *formatter) commentAt(i, own, moved int) int {
	next, _ := slices.BinarySearch(f.begun, i)
	for n := next; n < len(f.begun); n++ {
		if at, same, below := f.beside(n, own); same {
			return at
		} else if below {
			break
		}
	}
	for n := next - 1; n >= 0; n-- {
		if at, same, below := f.beside(n, own); same {
			return at
		} else if below {
			break
		}
	}
	return max(0, own+moved)
}

// beside tells where a line begins that begins something, and whether it began at a column, or before that.
func (f *formatter) beside(n, column int) (at int, same, below bool) {
	line := f.begun[n]
	began := blanks(f.lines[line])
	return f.starts[line], began == column, began < column
}
