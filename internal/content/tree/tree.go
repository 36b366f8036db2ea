// Package tree holds a file tree as data: its entries, the view that several layers give together, and the walk over
// a project folder.
//
// It knows no archive format and no image; it never writes a file.
package tree

import (
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/ground/digest"
)

// Kind is what an entry is.
type Kind uint8

// The kinds of entry.
const (
	File Kind = iota + 1
	Folder
	Symlink
	Hardlink // Target is a path in the same layer or below it
	CharDevice
	BlockDevice
	Fifo
	Whiteout // what lower layers have at this path is deleted
	Opaque   // what lower layers have in the folder at this path is hidden
)

var kindNames = map[Kind]string{File: "file", Folder: "folder", Symlink: "link", Hardlink: "hard link",
	CharDevice: "character device", BlockDevice: "block device", Fifo: "pipe", Whiteout: "deletion", Opaque: "opaque folder"}

// Dated reports whether entries of the kind have a time that tools compare.
func (k Kind) Dated() bool { return k != Folder && k != Whiteout && k != Opaque }

func (k Kind) String() string { return kindNames[k] }

// Entry is one path of a tree.
type Entry struct {
	Path    string // slashes, no leading one; "" is the root
	Kind    Kind
	Mode    uint32 // permission bits with set-uid, set-gid and sticky
	UID     int
	GID     int
	Size    int64          // bytes; files only
	Content digest.Content // files only
	Target  string         // links
	Major   int64          // devices
	Minor   int64
	Time    int64 // of the last change, in seconds since 1970; 0 is the one time that all files have
	Xattrs  map[string]string
}

// AppendLine adds everything of an entry that decides the bytes of its layer, for keys that can be explained and for
// indexes that are kept:
//
//	KIND MODE UID:GID SIZE CONTENT "PATH" -> "TARGET" MAJOR,MINOR TIME "NAME"="VALUE"…
func (e *Entry) AppendLine(line []byte) []byte {
	line = append(append(line, kindWords[e.Kind]...), ' ')
	line = append(strconv.AppendUint(line, uint64(e.Mode), 8), ' ')
	line = append(strconv.AppendInt(line, int64(e.UID), 10), ':')
	line = append(strconv.AppendInt(line, int64(e.GID), 10), ' ')
	line = append(strconv.AppendInt(line, e.Size, 10), ' ')
	line = append(append(line, e.Content...), ' ')
	line = append(appendQuoted(line, e.Path), " -> "...)
	line = append(appendQuoted(line, e.Target), ' ')
	line = append(strconv.AppendInt(line, e.Major, 10), ',')
	line = append(strconv.AppendInt(line, e.Minor, 10), ' ')
	line = strconv.AppendInt(line, e.Time, 10)
	if len(e.Xattrs) > 0 {
		for _, name := range slices.Sorted(maps.Keys(e.Xattrs)) {
			line = append(strconv.AppendQuote(append(line, ' '), name), '=')
			line = strconv.AppendQuote(line, e.Xattrs[name])
		}
	}
	return append(line, '\n')
}

// appendQuoted is strconv.AppendQuote, which looks at every rune; few paths need that.
func appendQuoted(line []byte, text string) []byte {
	for i := range len(text) {
		if c := text[i]; c < ' ' || c >= 0x7f || c == '"' || c == '\\' {
			return strconv.AppendQuote(line, text)
		}
	}
	return append(append(append(line, '"'), text...), '"')
}

// Equal reports whether two entries have the same line.
func (e *Entry) Equal(o *Entry) bool {
	return e.Kind == o.Kind && e.Mode == o.Mode && e.UID == o.UID && e.GID == o.GID && e.Size == o.Size && e.Content == o.Content && e.Path == o.Path &&
		e.Target == o.Target && e.Major == o.Major && e.Minor == o.Minor && e.Time == o.Time && maps.Equal(e.Xattrs, o.Xattrs)
}

// kindWords are the kinds as lines name them, without blanks.
var kindWords = [...]string{File: "file", Folder: "folder", Symlink: "link", Hardlink: "hardlink", CharDevice: "char",
	BlockDevice: "block", Fifo: "pipe", Whiteout: "deletion", Opaque: "opaque"}

// ParseLine reads what AppendLine wrote, without the line's end.
func ParseLine(line string) (Entry, error) {
	l := &lineReader{rest: line}
	var e Entry
	e.Kind = Kind(max(0, slices.Index(kindWords[:], l.word(' '))))
	e.Mode = uint32(l.number(' ', 8))
	e.UID, e.GID = int(l.number(':', 10)), int(l.number(' ', 10))
	e.Size, e.Content = l.number(' ', 10), digest.Content(l.word(' '))
	e.Path = l.quoted()
	l.skip(" -> ")
	e.Target = l.quoted()
	l.skip(" ")
	e.Major, e.Minor = l.number(',', 10), l.number(' ', 10)
	e.Time = l.number(' ', 10)
	for l.rest != "" && !l.wrong {
		name := l.quoted()
		l.skip("=")
		if e.Xattrs == nil {
			e.Xattrs = map[string]string{}
		}
		e.Xattrs[name] = l.quoted()
		l.rest = strings.TrimPrefix(l.rest, " ")
	}
	if l.wrong || e.Kind == 0 || e.Size < 0 || e.Content != "" && !e.Content.Valid() {
		return e, fmt.Errorf("%q is not a line of an index", line)
	}
	return e, nil
}

// lineReader cuts a line into its fields.
type lineReader struct {
	rest  string
	wrong bool
}

// word returns what stands before the separator, or all where the line ends without it.
func (l *lineReader) word(separator byte) string {
	word, rest, _ := strings.Cut(l.rest, string(separator))
	l.rest = rest
	return word
}

func (l *lineReader) number(separator byte, base int) int64 {
	n, err := strconv.ParseInt(l.word(separator), base, 64)
	l.wrong = l.wrong || err != nil
	return n
}

func (l *lineReader) quoted() string {
	// Most texts have nothing to undo.
	if end := strings.IndexByte(l.rest[min(1, len(l.rest)):], '"'); end >= 0 && l.rest[0] == '"' && !strings.Contains(l.rest[1:1+end], `\`) {
		text := l.rest[1 : 1+end]
		l.rest = l.rest[end+2:]
		return text
	}
	prefix, err := strconv.QuotedPrefix(l.rest)
	if err != nil {
		l.wrong = true
		return ""
	}
	l.rest = l.rest[len(prefix):]
	text, err := strconv.Unquote(prefix)
	l.wrong = l.wrong || err != nil
	return text
}

func (l *lineReader) skip(text string) {
	rest, found := strings.CutPrefix(l.rest, text)
	l.rest, l.wrong = rest, l.wrong || !found
}

// EncodeEntries writes entries as the lines of an index.
func EncodeEntries(entries []Entry) []byte {
	out := make([]byte, 0, 160*len(entries))
	for i := range entries {
		out = entries[i].AppendLine(out)
	}
	return out
}

// DecodeEntries reads what EncodeEntries wrote.
func DecodeEntries(text string) ([]Entry, error) {
	entries := make([]Entry, 0, strings.Count(text, "\n"))
	for line := range strings.Lines(text) {
		e, err := ParseLine(strings.TrimSuffix(line, "\n"))
		if err != nil {
			return nil, err
		}
		entries = append(entries, e)
	}
	return entries, nil
}

// Contents gives the bytes of a tree's files. Open is called with the path under which the tree has the file.
type Contents interface {
	Open(path string) (io.ReadCloser, error)
}

// CleanPath checks a path that came from outside (an archive's entry) and gives it without leading and trailing
// slashes. Paths with ".." and NUL are refused; they have no use but to climb out.
func CleanPath(name string) (string, error) {
	if len(name) > 4096 {
		return "", fmt.Errorf("a path of %d bytes is longer than any system takes", len(name))
	}
	if strings.ContainsRune(name, 0) {
		return "", fmt.Errorf("the path %q has a NUL byte", name)
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." {
			return "", fmt.Errorf("the path %q leads out of its root", name)
		}
	}
	return strings.TrimPrefix(path.Clean("/"+name), "/"), nil
}

// Parent is the path of the folder that holds path; the parent of the root is the root.
func Parent(p string) string {
	if i := strings.LastIndexByte(p, '/'); i >= 0 {
		return p[:i]
	}
	return ""
}

// Join puts a name below a folder.
func Join(folder, name string) string {
	switch {
	case folder == "":
		return name
	case name == "":
		return folder
	}
	return folder + "/" + name
}
