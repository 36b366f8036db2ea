// Package printable makes texts from outside fit to be printed: labels, tags, errors of registries, names of steps, what
// commands print. None of them may move a terminal's cursor, change its title, or turn the order of letters around.
//
// It is pure: it decides nothing about where a text goes.
package printable

import (
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// reorders reports whether a character changes the direction of the letters around it, or stands for the end of a line.
func reorders(r rune) bool {
	switch {
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	}
	return r == 0x2028 || r == 0x2029
}

// control reports whether a character is one that terminals act on: C0 but for the end of a line and the tab, and C1.
func control(r rune) bool { return r < ' ' && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 }

// plain reports whether nothing in a text needs to be looked at.
func plain(s string) bool {
	for i := range len(s) {
		if c := s[i]; c >= 0x7f || c < ' ' && c != '\n' && c != '\t' {
			return false
		}
	}
	return true
}

// Text shows what a terminal would act on as an escape that people can read, such as \x1b or \u202e. Ends of lines and tabs stay.
func Text(s string) string {
	if plain(s) {
		return s
	}
	return escape(s, false)
}

func escape(s string, colours bool) string {
	var out strings.Builder
	for i := 0; i < len(s); {
		if n := colourAt(s[i:]); n > 0 && colours {
			out.WriteString(s[i : i+n])
			i += n
			continue
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size <= 1:
			fmt.Fprintf(&out, `\x%02x`, s[i])
		case control(r) && r < 0x80:
			fmt.Fprintf(&out, `\x%02x`, r)
		case control(r), reorders(r):
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteString(s[i : i+size])
		}
		i += max(size, 1)
	}
	return out.String()
}

// colourAt returns the length of a sequence that sets colours at the start of a text; 0 where there is none.
func colourAt(s string) int {
	if !strings.HasPrefix(s, "\x1b[") {
		return 0
	}
	for i := 2; i < len(s) && i < 40; i++ {
		switch c := s[i]; {
		case c == 'm':
			return i + 1
		case c >= '0' && c <= '9', c == ';', c == ':':
		default:
			return 0
		}
	}
	return 0
}

// reset ends all colours.
const reset = "\x1b[0m"

// Output takes what a command prints to a terminal's screen: its words, ends of lines, tabs, returns to the start of a line,
// and colours where these are wanted; a text that sets some ends without. Sequences that do anything else are left out.
func Output(s string, colours bool) string {
	if plain(s) {
		return s
	}
	var out strings.Builder
	coloured := false
	for i := 0; i < len(s); {
		if n := colourAt(s[i:]); n > 0 {
			if sequence := s[i : i+n]; colours {
				out.WriteString(sequence)
				coloured = sequence != reset && sequence != "\x1b[m"
			}
			i += n
			continue
		}
		if n := sequenceAt(s[i:]); n > 0 {
			i += n
			continue
		}
		r, size := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && size <= 1:
			out.WriteRune(utf8.RuneError)
		case r == '\r':
			out.WriteByte('\r')
		case !control(r) && !reorders(r):
			out.WriteString(s[i : i+size])
		}
		i += max(size, 1)
	}
	if coloured {
		return out.String() + reset
	}
	return out.String()
}

// sequenceAt returns the length of a control sequence (ECMA-48) at the start of a text, as far as the text has it; 0 where
// there is none.
func sequenceAt(s string) int {
	r, size := utf8.DecodeRuneInString(s)
	kind, at := byte(0), 0
	switch {
	case r == 0x1b && len(s) > 1:
		kind, at = s[1], 2
	case r == 0x1b:
		return 1
	case r >= 0x80 && r < 0xa0:
		kind, at = byte(r-0x40), size // an eight-bit form of ESC and a letter
	default:
		return 0
	}
	switch kind {
	case '[': // parameters and a letter
		for i := at; i < len(s); i++ {
			if s[i] >= 0x40 && s[i] <= 0x7e {
				return i + 1
			}
			if s[i] < ' ' || s[i] > 0x7e {
				return i
			}
		}
		return len(s)
	case ']', 'P', 'X', '^', '_': // a text with an end of its own
		for i := at; i < len(s); i++ {
			switch {
			case s[i] == 7:
				return i + 1
			case s[i] == 0x1b && i+1 < len(s) && s[i+1] == '\\':
				return i + 2
			case strings.HasPrefix(s[i:], "\u009c"):
				return i + len("\u009c")
			case s[i] == '\n':
				return i // what has no end does not swallow the next line
			}
		}
		return len(s)
	case '\n', '\t', '\r':
		return at - 1
	}
	return at
}

// Writer is w, to which nothing passes that a terminal acts on but ends of lines, tabs, and colours where these are wanted.
// A character must be written whole.
func Writer(w io.Writer, colours bool) io.Writer { return &writer{w, colours} }

type writer struct {
	w       io.Writer
	colours bool
}

// Write implements io.Writer.
func (f *writer) Write(p []byte) (int, error) {
	if text := string(p); !plain(text) {
		if _, err := io.WriteString(f.w, escape(text, f.colours)); err != nil {
			return 0, err
		}
		return len(p), nil
	}
	return f.w.Write(p)
}

// Unwrap returns what a writer of this package writes to, and any other as it is.
func Unwrap(w io.Writer) io.Writer {
	if f, is := w.(*writer); is {
		return f.w
	}
	return w
}
