package recipe

import (
	"bytes"
	"errors"
	"io/fs"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// mostIncluded bounds how many files one recipe includes.
const mostIncluded = 100

// includable are the keys that an included file may have. What they hold is the recipe's that includes it.
var includable = []string{"imbricat", "facts", "secrets", "stages", "defaults", "shared", "silence"}

// included is a file that a recipe includes.
type included struct {
	text  *text
	lines []string // as they stand before the recipe's
}

// decodeWith decodes a recipe with the files that it includes: their anchors can be used in it, and what they have under the same keys is
// added to its own. Every node keeps the place where it is written.
func (d *decoder) decodeWith(own []byte, find Find) *yaml.Node {
	list := d.keyAhead(own, "include")
	if list == nil || find == nil {
		root := d.decode(own)
		if list == nil && root != nil && valueOf(root, "include") != nil {
			d.report(at(valueOf(root, "include")), "a recipe that includes others is written in block style, with include at the start of a line")
		}
		return root
	}
	var parts []included
	quiet := &decoder{file: d.file, in: d.in} // the list is read again with the recipe
	before := len(d.problems)
	quiet.each(list, "include", true, func(item *yaml.Node) {
		pos, name := at(d.deref(item)), quiet.word(item, "include")
		if name == "" || !plainPath(name) || len(parts) == mostIncluded {
			return // it is reported with the recipe
		}
		found, err := find(name)
		if err == nil && len(found) == 0 {
			err = errors.New("there is no such file")
		}
		if err != nil {
			d.report(pos, "include: %s: %s", name, err)
			return
		}
		if part, good := d.part(found[0]); good {
			parts = append(parts, part)
		}
	})
	switch {
	case len(d.problems) > before:
		return nil
	case len(parts) == 0:
		return d.decode(own)
	}
	return d.together(own, parts)
}

// keyAhead looks ahead for the value of a key of a recipe that cannot be read without the anchors of what it includes. Nil where it is not
// there, or the recipe is written in another style.
func (d *decoder) keyAhead(own []byte, key string) *yaml.Node {
	lines := strings.Split(strings.ReplaceAll(string(own), "\r\n", "\n"), "\n")
	begins := slices.IndexFunc(lines, func(line string) bool { return strings.HasPrefix(line, key+":") })
	if begins < 0 {
		return nil
	}
	ends := begins + 1
	for ends < len(lines) && (lines[ends] == "" || strings.ContainsAny(lines[ends][:1], " \t-#")) {
		ends++
	}
	var document yaml.Node
	if yaml.Unmarshal([]byte(strings.Join(lines[begins:ends], "\n")), &document) != nil || len(document.Content) == 0 {
		return nil // the mistake is reported where the recipe is read
	}
	moveDown(document.Content[0], d.in.begins+begins)
	return valueOf(document.Content[0], key)
}

// together decodes a recipe behind what it includes.
func (d *decoder) together(own []byte, parts []included) *yaml.Node {
	if len(own) > maxText || !utf8.Valid(own) {
		return d.decode(own) // which reports that
	}
	var whole bytes.Buffer
	for _, p := range parts {
		if whole.WriteString(strings.Join(p.lines, "\n") + "\n"); whole.Len()+len(own) > maxText {
			d.report(d.all(), "the recipe and what it includes have more than %d bytes together", maxText)
			return nil
		}
	}
	lines, wrong := bare(strings.Split(strings.ReplaceAll(string(own), "\r\n", "\n"), "\n"))
	if wrong != "" {
		d.report(d.all(), "a recipe that includes others is one document in block style, without %q", wrong)
		return nil
	}
	whole.WriteString(strings.Join(lines, "\n"))
	var document yaml.Node
	if err := yaml.Unmarshal(whole.Bytes(), &document); err != nil || len(document.Content) == 0 {
		d.wrongTogether(err, parts, whole.String())
		return nil
	}
	relocate(document.Content[0], parts, d.in)
	return d.joinedKeys(document.Content[0])
}

// wrongTogether reports a mistake of YAML at its place.
func (d *decoder) wrongTogether(err error, parts []included, whole string) {
	mistake := &decoder{file: d.file, in: &text{lines: strings.Split(whole, "\n")}}
	mistake.syntax(err)
	n := &yaml.Node{Line: mistake.problems[0].Pos.Line}
	relocate(n, parts, d.in)
	d.report(Pos{n.Line, 1}, "%s", mistake.problems[0].Message)
}

// plainPath reports whether a name is one file below the project folder.
func plainPath(name string) bool {
	return fs.ValidPath(name) && name != "." && !strings.ContainsAny(name, `*?[]{}\`)
}

// part reads an included file, and reports what is wrong with it by itself.
func (d *decoder) part(s Source) (part included, good bool) {
	own := &decoder{file: d.file, in: d.file.add(s.Name, d.in.folder, s.Text)}
	defer func() { d.problems = append(d.problems, own.problems...) }()
	root := own.decode(s.Text)
	if root == nil {
		return part, false
	}
	lines, wrong := bare(own.in.lines)
	if root.Kind != yaml.MappingNode || root.Style&yaml.FlowStyle != 0 || wrong != "" {
		own.report(own.all(), "what is included is a mapping in block style, as one document, with %s", strings.Join(includable, ", "))
		return part, false
	}
	for i := 0; i < len(root.Content); i += 2 {
		if key := root.Content[i]; !slices.Contains(includable, key.Value) {
			own.report(at(key), "what is included cannot hold %q: only %s%s", key.Value, strings.Join(includable, ", "), suggest(key.Value, includable))
		}
	}
	if version := valueOf(root, "imbricat"); version != nil {
		own.version(version)
	}
	return included{own.in, lines}, len(own.problems) == 0
}

// bare returns lines without the marks of a document, as many as there were; wrong is what cannot stand before or behind other lines.
func bare(lines []string) (out []string, wrong string) {
	out = slices.Clone(lines)
	for i, line := range out {
		switch word := strings.TrimRight(line, " \t"); {
		case word == "---" || word == "...":
			out[i] = ""
		case strings.HasPrefix(line, "%") || strings.HasPrefix(line, "--- "):
			return nil, line
		}
	}
	return out, ""
}

// relocate has the nodes of texts that were read as one count lines as their own texts do.
func relocate(n *yaml.Node, parts []included, own *text) {
	line := n.Line
	for _, p := range parts {
		if line <= len(p.lines) {
			n.Line = p.text.begins + line
			break
		}
		if line -= len(p.lines); p.text == parts[len(parts)-1].text {
			n.Line = own.begins + line
		}
	}
	for _, child := range n.Content {
		relocate(child, parts, own)
	}
}

// joinedKeys joins the values of keys that stand several times, the included ones first. A fact or a default of the recipe itself stands in place
// of an included one; other names stand once.
func (d *decoder) joinedKeys(root *yaml.Node) *yaml.Node {
	out := *root
	out.Content = nil
	for i := 0; i+1 < len(root.Content); i += 2 {
		key, value := root.Content[i], root.Content[i+1]
		at := slices.IndexFunc(out.Content, func(n *yaml.Node) bool { return n.Value == key.Value })
		if at < 0 || at%2 != 0 || !slices.Contains(includable, key.Value) {
			out.Content = append(out.Content, key, value)
			continue
		}
		out.Content[at], out.Content[at+1] = key, d.joined(key.Value, out.Content[at+1], value)
	}
	return &out
}

// joined joins what an included file and the recipe have under one key.
func (d *decoder) joined(key string, before, own *yaml.Node) *yaml.Node {
	a, b := d.deref(before), d.deref(own)
	switch {
	case key == "imbricat" || key == "shared":
		return own
	case a.Kind == yaml.SequenceNode && b.Kind == yaml.SequenceNode:
		both := *b
		both.Content = slices.Concat(a.Content, b.Content)
		return &both
	case a.Kind != yaml.MappingNode || b.Kind != yaml.MappingNode:
		return own // a mistake is reported where it is read
	}
	both := *b
	both.Content = slices.Clone(a.Content)
	for i := 0; i+1 < len(b.Content); i += 2 {
		name := b.Content[i]
		same := -1
		for j := 0; j < len(both.Content); j += 2 {
			if both.Content[j].Value == name.Value {
				same = j
			}
		}
		switch {
		case same < 0:
			both.Content = append(both.Content, name, b.Content[i+1])
		case key == "facts" || key == "defaults":
			both.Content[same], both.Content[same+1] = name, b.Content[i+1]
		default:
			d.report(at(name), "%q is also in %s, which is included", name.Value, d.file.NameAt(at(both.Content[same])))
		}
	}
	return &both
}

// includes reads the names of included files, which ParseGraph has read by now.
func (d *decoder) includes(n *yaml.Node) {
	count := 0
	d.each(n, "include", true, func(item *yaml.Node) {
		before := len(d.problems)
		name := d.word(item, "an entry of include")
		if count++; count == mostIncluded+1 {
			d.report(at(d.deref(item)), "include names more than %d files", mostIncluded)
		}
		if len(d.problems) == before && !plainPath(name) {
			d.report(at(d.deref(item)), "include names files below the project folder, each by its path: %q is none", name)
		}
	})
}
