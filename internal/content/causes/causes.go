// Package causes tells why two files differ that should be the same: in which bytes or fields of their format, and what of the machine, of
// the time or of chance usually gets there. It knows formats and habits of tools; it reads what it is given, runs nothing and prints nothing.
package causes

import (
	"bytes"
	"fmt"
	"strings"
	"time"
)

// Cause is what a result depends on though it should not.
type Cause string

// The causes.
const (
	Clock     Cause = "clock"     // the time of the day, or of files
	Listing   Cause = "listing"   // the order in which a file system lists names
	Random    Cause = "random"    // random numbers: ids, keys, names, hash seeds
	Addresses Cause = "addresses" // where programs and data lie in memory
	Parallel  Cause = "parallel"  // the order in which what runs at once comes to an end
	Processes Cause = "processes" // numbers of processes
	Machine   Cause = "machine"   // names of the kernel, the processor or the machine
	Place     Cause = "place"     // the file system that the work lies on: its kind, inodes, sizes of folders
	Log       Cause = "log"       // a record of what was done
	Cache     Cause = "cache"     // what only saves time
	Other     Cause = "other"     // nothing that is known
)

// Words tell a cause to people.
var Words = map[Cause]string{Clock: "the clock", Listing: "the order in which folders are listed", Random: "random numbers", Addresses: "addresses in memory",
	Parallel: "the order of what runs at once", Processes: "numbers of processes", Machine: "names of the machine", Place: "the file system that it runs on",
	Log: "a log of what was done", Cache: "a cache", Other: "something that is not known"}

// Difference is one place in which two files differ.
type Difference struct {
	Where string `json:"where"` // "gzip header, bytes 4 to 7: modification time"
	Was   string `json:"was"`   // shortened, for people
	Now   string `json:"now"`
	Cause Cause  `json:"cause"`
	Form  Form   `json:"form,omitempty"` // the format or the tool that puts it there
}

// Form is a format or a kind of file whose makers can be told to leave something out.
type Form string

// The forms.
const (
	Gzip     Form = "gzip"
	Tar      Form = "tar"
	Zip      Form = "zip"
	Archive  Form = "ar"
	ByteCode Form = "python byte-code"
	BuildID  Form = "build id"
	GoBuild  Form = "go build"
	ELF      Form = "elf"
	PDF      Form = "pdf"
	Text     Form = "text"
	Bytes    Form = "bytes"
)

// Clues are what is known of the two runs.
type Clues struct {
	// Clocks are what the wall clock showed while each ran.
	Clocks [2]Span
	// Names are those of the machine that each was shown.
	Names [2][]string
}

// Span is a time from one moment to another.
type Span struct{ From, Until time.Time }

// Most bounds how much of a file is looked into, in bytes.
const Most = 64 << 20

// mostTold bounds how many differences of one file are told, deepest how many archives in archives are looked into.
const (
	mostTold = 8
	deepest  = 3
)

// Between tells how two contents of a path differ; nothing where they are equal.
func Between(path string, was, now []byte, clues Clues) []Difference {
	l := &look{clues: clues}
	l.at(path, "", was, now, 0)
	return l.found
}

// look gathers differences of one file.
type look struct {
	clues Clues
	found []Difference
}

func (l *look) full() bool { return len(l.found) >= mostTold }

func (l *look) add(prefix, where, was, now string, cause Cause, form Form) {
	if l.full() {
		return
	}
	l.found = append(l.found, Difference{prefix + where, short(was), short(now), cause, form})
}

// at looks into contents by their format.
func (l *look) at(name, prefix string, was, now []byte, depth int) {
	if l.full() || bytes.Equal(was, now) {
		return
	}
	before := len(l.found)
	if depth <= deepest {
		for _, f := range formats() {
			if f.is(name, was) && f.is(name, now) {
				f.compare(l, prefix, was, now, depth)
				break
			}
		}
	}
	if len(l.found) > before {
		return
	}
	if isText(was) && isText(now) {
		l.text(prefix, was, now)
	} else {
		l.binary(prefix, was, now)
	}
}

// format is a kind of file that can be looked into.
type format struct {
	is      func(name string, content []byte) bool
	compare func(l *look, prefix string, was, now []byte, depth int)
}

func startsWith(magic string) func(string, []byte) bool {
	return func(_ string, content []byte) bool { return bytes.HasPrefix(content, []byte(magic)) }
}

func isText(content []byte) bool {
	head := content[:min(len(content), 8<<10)]
	if bytes.IndexByte(head, 0) >= 0 {
		return false
	}
	odd := 0
	for _, c := range head {
		if c < 7 || c > 13 && c < 27 {
			odd++
		}
	}
	return odd*50 <= len(head)
}

// short is a text in one line of bounded length.
func short(text string) string {
	text = strings.ToValidUTF8(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, text), "?")
	if letters := []rune(text); len(letters) > 80 {
		return string(letters[:79]) + "…"
	}
	return text
}

func moment(seconds int64) string {
	return fmt.Sprintf("%d (%s)", seconds, time.Unix(seconds, 0).UTC().Format(time.DateTime))
}
