package trace

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Asked is what was learnt about a path; several may be joined.
type Asked uint8

// The questions, by what their answers hold.
const (
	Kind     Asked = 1 << iota // what kind of thing is there, if any; of a link where it leads
	Meta                       // mode, owner, attributes; of a file size, time and other names
	Content                    // what a file holds
	Names                      // the names and kinds of what a folder holds
	Whole                      // everything below a folder, with contents
	Sticky                     // whose the path and its folder are, where the folder is sticky: the kernel guards what others may do there
	letters  = "kmcnws"
	noAnswer = "-"
)

func (a Asked) String() string {
	var s []byte
	for i := range letters {
		if a&(1<<i) != 0 {
			s = append(s, letters[i])
		}
	}
	return string(s)
}

func askedOf(word string) (Asked, bool) {
	var a Asked
	for i := range len(word) {
		at := strings.IndexByte(letters, word[i])
		if at < 0 {
			return 0, false
		}
		a |= 1 << at
	}
	return a, a != 0
}

// Entry is what a command learnt about one path of its view (without leading slash, every link resolved).
type Entry struct {
	Path   string
	Asked  Asked
	Answer string
}

// Trace is all that a command learnt of its view. Where not everything could be observed, Why says so, and View is the
// hash of the whole view, on which then everything depends.
type Trace struct {
	Entries []Entry // sorted by path
	Why     string
	View    digest.Key
}

// head is the first line of an encoded trace; its number changes with what answers hold.
const head = "imbricat trace 2"

// Encode writes a trace as text: a line for each path with what was asked, the quoted path, and the answer.
func (t *Trace) Encode() []byte {
	out := []byte(head + "\n")
	if t.Why != "" {
		out = fmt.Appendf(out, "whole %s %q\n", t.View, t.Why)
	}
	for i := range t.Entries {
		e := &t.Entries[i]
		out = append(append(out, e.Asked.String()...), ' ')
		out = append(appendQuoted(out, e.Path), ' ')
		out = append(append(out, e.Answer...), '\n')
	}
	return out
}

// ID names a trace by what it holds.
func ID(encoded []byte) digest.Key { return digest.Key(digest.ContentBytes(encoded)) }

// Decode reads what Encode wrote.
func Decode(text string) (*Trace, error) {
	first, rest, _ := strings.Cut(text, "\n")
	if first != head {
		return nil, fmt.Errorf("%q does not begin a trace", first[:min(len(first), 40)])
	}
	t := &Trace{Entries: make([]Entry, 0, strings.Count(rest, "\n"))}
	for line := range strings.Lines(rest) {
		line = strings.TrimSuffix(line, "\n")
		word, more, _ := strings.Cut(line, " ")
		if word == "whole" {
			view, why, _ := strings.Cut(more, " ")
			text, err := strconv.Unquote(why)
			if err != nil || text == "" {
				return nil, fmt.Errorf("%q is not a line of a trace", line)
			}
			t.View, t.Why = digest.Key(view), text
			continue
		}
		asked, ok := askedOf(word)
		path, answer, found := cutQuoted(more)
		if !ok || !found || answer == "" {
			return nil, fmt.Errorf("%q is not a line of a trace", line)
		}
		t.Entries = append(t.Entries, Entry{path, asked, answer})
	}
	return t, nil
}

// cutQuoted parts a quoted text from what follows it after a blank. Most texts have nothing to undo.
func cutQuoted(s string) (text, rest string, ok bool) {
	if end := strings.IndexByte(s[min(1, len(s)):], '"'); end >= 0 && s[0] == '"' && !strings.Contains(s[1:1+end], `\`) {
		return s[1 : 1+end], strings.TrimPrefix(s[end+2:], " "), true
	}
	prefix, err := strconv.QuotedPrefix(s)
	if err != nil {
		return "", "", false
	}
	text, err = strconv.Unquote(prefix)
	return text, strings.TrimPrefix(s[len(prefix):], " "), err == nil
}

// appendQuoted is strconv.AppendQuote, faster for texts that have nothing to escape, as nearly all paths.
func appendQuoted(to []byte, s string) []byte {
	for i := range len(s) {
		if c := s[i]; c < ' ' || c > '~' || c == '"' || c == '\\' {
			return strconv.AppendQuote(to, s)
		}
	}
	return append(append(append(to, '"'), s...), '"')
}

var kindLetters = [...]byte{tree.File: 'f', tree.Folder: 'd', tree.Symlink: 'l', tree.Hardlink: 'f', tree.CharDevice: 'c',
	tree.BlockDevice: 'b', tree.Fifo: 'p', tree.Whiteout: '-', tree.Opaque: 'd'}

// appendAnswer adds what a view tells of a path; node is nil where nothing is there.
func appendAnswer(to []byte, v *tree.View, path string, n *tree.Node, asked Asked) []byte {
	if n == nil {
		return append(to, noAnswer...)
	}
	to = append(to, kindLetters[n.Kind])
	if n.Kind == tree.Symlink {
		to = appendQuoted(append(to, ' '), n.Target)
	}
	if asked&(Meta|Whole) != 0 {
		to = appendLinks(appendMeta(to, n), v, n)
	}
	if asked&Sticky != 0 && path != "" {
		if above, exists := v.Lookup(tree.Parent(path)); exists && above.Mode&0o1000 != 0 {
			to = fmt.Appendf(to, " %o %d/%d", above.Mode, above.UID, n.UID)
		}
	}
	if asked&Content != 0 && n.Kind == tree.File {
		to = append(append(to, ' '), n.Content...)
	}
	if asked&Names != 0 && n.Kind == tree.Folder {
		to = append(to, " {"...)
		for _, child := range n.Children() {
			to = append(appendQuoted(to, child.Path[strings.LastIndexByte(child.Path, '/')+1:]), kindLetters[child.Kind], ' ')
		}
		to = append(to, '}')
	}
	if asked&Whole != 0 && n.Kind == tree.Folder {
		to = append(append(to, " ="...), hashBelow(v, n)...)
	}
	return to
}

// appendMeta adds what stat tells. Times and numbers of links of folders are the file system's own affair.
func appendMeta(to []byte, n *tree.Node) []byte {
	if n.Kind != tree.Symlink {
		to = strconv.AppendUint(append(to, ' '), uint64(n.Mode), 8)
	}
	to = strconv.AppendInt(append(to, ' '), int64(n.UID), 10)
	to = strconv.AppendInt(append(to, ':'), int64(n.GID), 10)
	if n.Kind != tree.Folder {
		to = strconv.AppendInt(append(to, ' '), n.Size, 10)
		to = strconv.AppendInt(append(to, ' '), n.Time, 10)
		if n.Major != 0 || n.Minor != 0 {
			to = fmt.Appendf(to, " %d,%d", n.Major, n.Minor)
		}
	}
	if len(n.Xattrs) > 0 {
		names := make([]string, 0, len(n.Xattrs))
		for name := range n.Xattrs {
			names = append(names, name)
		}
		slices.Sort(names)
		for _, name := range names {
			to = strconv.AppendQuote(append(strconv.AppendQuote(append(to, ' '), name), '='), n.Xattrs[name])
		}
	}
	return to
}

// appendLinks adds which names a file has where these are several: how many in its layer, which is what an overlay counts,
// and which the view shows.
func appendLinks(to []byte, v *tree.View, n *tree.Node) []byte {
	if !n.Linked {
		return to
	}
	names := v.Names(n)
	if n.Together < 2 && len(names) < 2 {
		return to
	}
	shown := digest.ContentBytes([]byte(strings.Join(names, "\x00")))
	return fmt.Appendf(to, " +%d/%d/%.16s", n.Together, len(names), hexOf(string(shown)))
}

func hexOf(id string) string { return id[strings.IndexByte(id, ':')+1:] }

// hashBelow names everything that lies in a folder.
func hashBelow(v *tree.View, n *tree.Node) digest.Key {
	sum := digest.NewContent()
	var line []byte
	var each func(n *tree.Node)
	each = func(n *tree.Node) {
		for _, child := range n.Children() {
			line = append(appendLinks(child.AppendLine(line[:0]), v, child), '\n')
			sum.Write(line)
			each(child)
		}
	}
	each(n)
	return digest.Key(digest.ContentOf(sum))
}

// ViewKey names everything that a view shows.
func ViewKey(v *tree.View) digest.Key {
	sum := digest.NewContent()
	root, _ := v.Lookup("")
	sum.Write(root.AppendLine(nil))
	fmt.Fprintln(sum, hashBelow(v, root))
	return digest.Key(digest.ContentOf(sum))
}

// Differences compares what was learnt with what a view tells, up to some number of differences; most is 0 for all.
// Without any the command would do in this view just what it did.
func (t *Trace) Differences(v *tree.View, most int) []Difference {
	var all []Difference
	if t.Why != "" {
		if ViewKey(v) != t.View {
			all = append(all, Difference{Why: t.Why})
		}
		return all
	}
	var answer []byte
	for i := range t.Entries {
		e := &t.Entries[i]
		n, _ := v.Lookup(e.Path)
		if answer = appendAnswer(answer[:0], v, e.Path, n, e.Asked); string(answer) != e.Answer {
			if all = append(all, Difference{Path: e.Path, Asked: e.Asked, Was: e.Answer, Now: string(answer)}); len(all) == most {
				break
			}
		}
	}
	return all
}

// Size returns the size in bytes that a file had, where that was learnt.
func (e *Entry) Size() (int64, bool) {
	fields := strings.SplitN(e.Answer, " ", 5)
	if len(fields) < 5 && e.Asked&Meta == 0 || len(fields) < 4 || fields[0] != "f" {
		return 0, false
	}
	n, err := strconv.ParseInt(fields[3], 10, 64)
	return n, err == nil
}
