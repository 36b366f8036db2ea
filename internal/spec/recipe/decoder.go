package recipe

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"
)

// Bounds on a recipe, so that a hostile one is refused instead of eating memory.
const (
	maxText  = 4 << 20 // bytes
	maxNodes = 200_000 // values, counting what anchors repeat
)

// decoder walks YAML nodes and collects every problem instead of stopping at the first.
type decoder struct {
	file     *File
	in       *text // of the file, that is read
	problems []Problem
	compiler *compiler
	units    []string             // names of its stages and images
	beside   map[*Expression]bool // those that make no part of what a unit holds
	// secretNames are those of its secrets.
	secretNames []string
	several     map[string][]string // the images that one entry stands for
	combined    int                 // how many images come of lists
	defaults    *yaml.Node
	nodes       int
	tooMany     bool
}

// field is one key that a mapping may have.
type field struct {
	key   string
	was   string // what the key was called in older recipes
	need  bool
	under string // the key stands under that one
	read  func(n *yaml.Node)
}

func (d *decoder) report(pos Pos, format string, args ...any) {
	d.problems = append(d.problems, Problem{Pos: pos, Message: fmt.Sprintf(format, args...)})
}

func at(n *yaml.Node) Pos { return Pos{n.Line, n.Column} }

// decode reads the one document of the text.
func (d *decoder) decode(text []byte) *yaml.Node {
	if len(text) > maxText {
		d.report(d.all(), "the recipe has %d bytes, more than %d", len(text), maxText)
		return nil
	}
	if !utf8.Valid(text) {
		d.report(d.all(), "the recipe is not UTF-8 text")
		return nil
	}
	stream := yaml.NewDecoder(bytes.NewReader(text))
	var document yaml.Node
	if err := stream.Decode(&document); err != nil {
		if err == io.EOF {
			d.report(Pos{d.in.begins + 1, 1}, "the recipe is empty; start with \"imbricat: %d\"", Version)
			return nil
		}
		d.syntax(err)
		return nil
	}
	if err := stream.Decode(new(yaml.Node)); err != io.EOF {
		d.report(d.all(), "the recipe has more than one YAML document")
		return nil
	}
	moveDown(document.Content[0], d.in.begins)
	return document.Content[0]
}

// all is the place of what is wrong with a whole text.
func (d *decoder) all() Pos { return Pos{Line: d.in.begins + 1} }

// moveDown has nodes count the lines of the texts before theirs.
func moveDown(n *yaml.Node, lines int) {
	n.Line += lines
	for _, child := range n.Content {
		moveDown(child, lines)
	}
}

// syntax turns "yaml: line 3: did not find …" into a problem at that line.
func (d *decoder) syntax(err error) {
	message := strings.TrimPrefix(err.Error(), "yaml: ")
	var line int
	var anchor string
	if _, scan := fmt.Sscanf(message, "line %d:", &line); scan == nil {
		_, message, _ = strings.Cut(message, ": ")
	} else if _, scan := fmt.Sscanf(message, "unknown anchor %s referenced", &anchor); scan == nil { // which does not tell where
		line = 1 + slices.IndexFunc(d.in.lines, func(text string) bool { return strings.Contains(text, "*"+strings.Trim(anchor, "'")) })
	}
	d.report(Pos{d.in.begins + max(line, 1), 1}, "this is not YAML: %s", message)
}

// deref follows an alias to what it stands for and counts it against the bound.
func (d *decoder) deref(n *yaml.Node) *yaml.Node {
	d.nodes++
	if d.nodes > maxNodes && !d.tooMany {
		d.tooMany = true
		d.report(at(n), "the recipe has more than %d values, counting what anchors repeat", maxNodes)
	}
	for n.Kind == yaml.AliasNode {
		n = n.Alias
	}
	return n
}

func kindName(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	}
	switch n.Tag {
	case "!!null":
		return "nothing"
	case "!!int", "!!float":
		return "a number"
	case "!!bool":
		return "true or false"
	}
	return "text"
}

func (d *decoder) wrongType(n *yaml.Node, what, want string) {
	if kind := kindName(n); n.Kind == yaml.ScalarNode && want == "text" && n.Value != "" {
		d.report(at(n), "%s must be text, and %s is %s: put it in quotes, %s", what, n.Value, kind, strconv.Quote(n.Value))
		return
	}
	d.report(at(n), "%s must be %s, not %s", what, want, kindName(n))
}

type pair struct {
	key   *yaml.Node
	value *yaml.Node
}

// pairs lists a mapping's keys, with those that "<<" merges in behind; duplicates are reported.
func (d *decoder) pairs(n *yaml.Node, what string) ([]pair, bool) {
	n = d.deref(n)
	if n.Kind != yaml.MappingNode {
		d.wrongType(n, what, "a mapping")
		return nil, false
	}
	var own, merged []pair
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.Content) && !d.tooMany; i += 2 {
		key, value := n.Content[i], n.Content[i+1]
		switch {
		case key.Tag == "!!merge":
			merged = append(merged, d.merged(value, what)...)
		case key.Kind != yaml.ScalarNode:
			d.report(at(key), "a key of %s must be text", what)
		case seen[key.Value]:
			d.report(at(key), "%q stands twice in %s", key.Value, what)
		default:
			seen[key.Value] = true
			own = append(own, pair{key, value})
		}
	}
	for _, p := range merged {
		if !seen[p.key.Value] {
			seen[p.key.Value] = true
			own = append(own, p)
		}
	}
	return own, true
}

func (d *decoder) merged(value *yaml.Node, what string) []pair {
	value = d.deref(value)
	if value.Kind != yaml.SequenceNode {
		list, _ := d.pairs(value, what)
		return list
	}
	var all []pair
	for _, one := range value.Content {
		list, _ := d.pairs(one, what)
		all = append(all, list...)
	}
	return all
}

// object reads a mapping with known keys.
func (d *decoder) object(n *yaml.Node, what string, fields ...field) {
	list, ok := d.pairs(n, what)
	if !ok {
		return
	}
	present := map[string]bool{}
	for _, p := range list {
		f, known := find(fields, p.key.Value)
		if own := d.ownWord(fields, p.key.Value); !known && own != "" {
			d.report(at(p.key), "%q is called %q in %s", p.key.Value, own, what)
			f, known = find(fields, own)
		}
		if !known {
			d.report(at(p.key), "unknown key %q in %s%s", p.key.Value, what, suggest(p.key.Value, keysOf(fields)))
			// The key that was meant is not missing as well.
			present[Nearest(p.key.Value, keysOf(fields))] = true
			continue
		}
		if f.under != "" {
			d.report(at(p.key), "%s has no %q of its own: write it under %s", what, f.key, f.under)
			continue
		}
		present[f.key] = true
		f.read(p.value)
	}
	for _, f := range fields {
		if f.need && !present[f.key] {
			d.report(at(d.deref(n)), "%s needs the key %q", what, f.key)
		}
	}
}

// broughtWords are words that people bring from elsewhere for keys.
var broughtWords = map[string][]string{
	"environment": {"env"}, "envs": {"env"}, "variables": {"env"}, "dest": {"to", "at"}, "destination": {"to", "at"}, "dst": {"to", "at"}, "src": {"from"}, "source": {"from"},
	"url": {"from"}, "workdir": {"working-dir"}, "working-directory": {"working-dir"}, "working_dir": {"working-dir"}, "cwd": {"working-dir"}, "dir": {"working-dir"}, "cmd": {"command"},
	"args": {"arguments"}, "exclude": {"leave-out"}, "excludes": {"leave-out"}, "ignore": {"leave-out"}, "except": {"leave-out"}, "chmod": {"mode"}, "permissions": {"mode"},
	"chown": {"owner"}, "expose": {"ports"}, "port": {"ports"}, "volume": {"volumes"}, "label": {"labels"}, "tag": {"tags"}, "platform": {"platforms", "only"},
	"contents": {"text"}, "content": {"text"}, "timeout": {"within"}, "checksum": {"sha256"}, "if": {"when"}, "parent": {"base"}, "from": {"base"}, "extends": {"base"}, "mounts": {"kept"}, "caches": {"kept"},
	"script": {"run"}, "stopsignal": {"stop-signal"}, "comment": {"annotations"}, "path": {"paths", "at", "to"}, "cache": {"kept"}, "mount": {"kept"}, "tags": {"publish"}, "destinations": {"publish"}, "push": {"publish"},
	"name": {"user"}, "uid": {"number"}, "id": {"number"}, "folders": {"folder"}, "directory": {"folder"}, "healthcheck": {"checks"}, "tests": {"checks"}, "shell": {"lines-by"},
}

// ownWord returns the key that an older name of it, or a word from elsewhere, stands for; empty where none of the fields does.
func (d *decoder) ownWord(fields []field, word string) string {
	for _, f := range fields {
		if f.was == word && word != "" {
			return f.key
		}
	}
	for _, own := range broughtWords[strings.ToLower(word)] {
		if _, known := find(fields, own); known {
			return own
		}
	}
	return ""
}

func find(fields []field, key string) (field, bool) {
	for _, f := range fields {
		if f.key == key {
			return f, true
		}
	}
	return field{}, false
}

func keysOf(fields []field) (keys []string) {
	for _, f := range fields {
		if f.under == "" {
			keys = append(keys, f.key)
		}
	}
	return keys
}

// below are keys that stand under another one, for those who write them a level too high.
func below(key string, fields []field) (all []field) {
	for _, f := range fields {
		all = append(all, field{key: f.key, under: key})
	}
	return all
}

// each calls read for every item of a list; a lone item may stand for a list of one where lone says so.
func (d *decoder) each(n *yaml.Node, what string, lone bool, read func(n *yaml.Node)) {
	target := d.deref(n)
	switch {
	case target.Kind == yaml.SequenceNode:
		for _, item := range target.Content {
			if d.tooMany {
				return
			}
			read(item)
		}
	case lone && (target.Kind == yaml.MappingNode || target.Kind == yaml.ScalarNode && target.Tag != "!!null"):
		read(n)
	default:
		d.wrongType(target, what, "a list")
	}
}

// flat calls read for every item of a list, and of the lists in it: an anchor may mark several items. A lone item may stand for a list.
func (d *decoder) flat(n *yaml.Node, what string, read func(n *yaml.Node)) {
	d.each(n, what, true, func(item *yaml.Node) {
		switch {
		case d.deref(item).Kind != yaml.SequenceNode:
			read(item)
		case !d.tooMany:
			d.flat(item, what, read)
		}
	})
}

// named reads a mapping whose keys are names of the person's choice.
func (d *decoder) named(n *yaml.Node, what string, read func(key, value *yaml.Node)) {
	list, _ := d.pairs(n, what)
	for _, p := range list {
		read(p.key, p.value)
	}
}

// word reads text without expressions.
func (d *decoder) word(n *yaml.Node, what string) string {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag != "!!str" {
		d.wrongType(n, what, "text")
		return ""
	}
	return n.Value
}

func (d *decoder) boolean(n *yaml.Node, what string) bool {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag != "!!bool" {
		d.wrongType(n, what, "true or false")
		return false
	}
	return strings.EqualFold(n.Value, "true")
}

func (d *decoder) oneOf(n *yaml.Node, what string, words ...string) string {
	before := len(d.problems)
	text := d.word(n, what)
	for _, word := range words {
		if text == word {
			return text
		}
	}
	if len(d.problems) == before {
		d.report(at(d.deref(n)), "%s cannot be %q%s", what, text, suggest(text, words))
	}
	return ""
}

// text reads text that may hold expressions.
func (d *decoder) text(n *yaml.Node, what string) Template {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag != "!!str" {
		d.wrongType(n, what, "text")
		return Template{Pos: at(n)}
	}
	return d.template(n)
}

// source reads a path of the project folder, or an address.
func (d *decoder) source(n *yaml.Node, what string) Template {
	t := d.text(n, what)
	text, constant := t.Constant()
	switch {
	case !constant || !t.Given:
	case text == "":
		d.report(t.Pos, "from is empty; write . for the whole folder")
	case strings.HasPrefix(text, "/"):
		d.report(t.Pos, "from is relative to the project folder: %q is absolute", text)
	}
	return t
}

// target reads a path in the image.
func (d *decoder) target(n *yaml.Node, what string) Template {
	t := d.text(n, what)
	if text, constant := t.Constant(); constant && t.Given && !strings.HasPrefix(text, "/") {
		d.report(t.Pos, "a path in the image is absolute: write %q", "/"+text)
	}
	return t
}

func (d *decoder) targets(n *yaml.Node, what string) []Template { return d.entries(n, what, d.target) }

// entries reads a list whose entries may have a condition: {value: …, when: …}.
func (d *decoder) entries(n *yaml.Node, what string, read func(n *yaml.Node, what string) Template) []Template {
	list := []Template{}
	d.each(n, what, true, func(item *yaml.Node) { list = append(list, d.entry(item, "an entry of "+what, read)) })
	return list
}

func (d *decoder) entry(item *yaml.Node, what string, read func(n *yaml.Node, what string) Template) (t Template) {
	if d.deref(item).Kind != yaml.MappingNode {
		return read(item, what)
	}
	var when *Expression
	d.object(item, what,
		field{key: "value", need: true, read: func(n *yaml.Node) { t = read(n, what) }},
		field{key: "when", need: true, read: func(n *yaml.Node) { when = d.when(n) }})
	t.When = when
	return t
}

// scalar is text that also takes a number or a truth value as it is written.
func (d *decoder) scalar(n *yaml.Node, what string) Template {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag == "!!null" {
		d.wrongType(n, what, "text or a number")
		return Template{Pos: at(n)}
	}
	return d.template(n)
}

func (d *decoder) template(n *yaml.Node) Template {
	if strings.ContainsRune(n.Value, 0) {
		d.report(at(n), "the text has a NUL character")
	}
	return d.compiler.template(at(n), n.Value, func(offset int) Pos { return d.locate(n, offset) })
}

// locate finds where a byte of a scalar stands in the text, by looking for what follows it.
func (d *decoder) locate(n *yaml.Node, offset int) Pos {
	needle, _, _ := strings.Cut(n.Value[offset:], "\n")
	if len(needle) > 40 {
		needle = needle[:40]
	}
	for number := n.Line; number <= n.Line+200; number++ {
		line, is := d.in.line(number)
		if !is {
			break
		}
		from := 0
		if number == n.Line {
			from = min(len(line), n.Column-1)
		}
		if found := strings.Index(line[from:], needle); found >= 0 {
			return Pos{number, 1 + utf8.RuneCountInString(line[:from+found])}
		}
	}
	return at(n)
}

func (d *decoder) texts(n *yaml.Node, what string) []Template { return d.entries(n, what, d.text) }

func (d *decoder) words(n *yaml.Node, what string) []string {
	var list []string
	d.each(n, what, true, func(item *yaml.Node) { list = append(list, d.word(item, "an entry of "+what)) })
	return list
}

func (d *decoder) textPairs(n *yaml.Node, what string) []Pair {
	return d.pairsOf(n, what, func(value *yaml.Node, what string) Template { return d.scalar(value, what) })
}

// droppable are pairs whose values may be nothing too, which stands for the empty text.
func (d *decoder) droppable(n *yaml.Node, what string) []Pair {
	return d.pairsOf(n, what, func(value *yaml.Node, what string) Template {
		if target := d.deref(value); target.Kind == yaml.ScalarNode && target.Tag == "!!null" {
			return Template{Pos: at(target), Given: true}
		}
		return d.scalar(value, what)
	})
}

func (d *decoder) pairsOf(n *yaml.Node, what string, read func(value *yaml.Node, what string) Template) []Pair {
	var list []Pair
	d.named(n, what, func(key, value *yaml.Node) {
		if key.Value == "" {
			d.report(at(key), "a key of %s is empty", what)
		}
		list = append(list, Pair{Key: key.Value, Value: read(value, what+"."+key.Value)})
	})
	return list
}
