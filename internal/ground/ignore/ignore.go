// Package ignore decides which paths of a source tree are left out, with the documented semantics of gitignore.
//
// It is pure: it is given patterns and paths, and never reads a file. The caller walks from the top and does not enter
// a folder that is left out; that is why a pattern cannot bring back what lies below such a folder.
package ignore

import (
	"regexp"
	"strings"
)

// Matcher is an ordered list of rules; the last one that matches decides. The zero value leaves nothing out.
type Matcher struct{ rules []rule }

type rule struct {
	base       string // folder that the pattern is relative to, "" or ending in "/"
	negated    bool
	foldersToo bool           // false: matches folders only
	anywhere   bool           // the pattern has no slash and is held against the last element
	form       *regexp.Regexp // nil: literal
	literal    string         // most patterns are plain names
}

// New makes a matcher of patterns that are relative to the root.
func New(patterns ...string) Matcher { return Matcher{}.With("", patterns...) }

// With returns a matcher that holds the given patterns, relative to the folder base ("" for the root), after those of m.
func (m Matcher) With(base string, patterns ...string) Matcher {
	if base != "" && base != "." {
		base = strings.TrimSuffix(base, "/") + "/"
	} else {
		base = ""
	}
	rules := append([]rule(nil), m.rules...)
	for _, pattern := range patterns {
		if r, ok := parse(pattern); ok {
			r.base = base
			rules = append(rules, r)
		}
	}
	return Matcher{rules}
}

// Append returns a matcher that holds the rules of other after those of m.
func (m Matcher) Append(other Matcher) Matcher {
	return Matcher{append(append([]rule(nil), m.rules...), other.rules...)}
}

// Lines splits the text of an ignore file into patterns.
func Lines(text string) []string {
	text = strings.TrimPrefix(text, "\ufeff")
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = strings.TrimSuffix(line, "\r")
	}
	return lines
}

// Match reports whether the path (slashes, relative to the root) is left out by a rule that names it. Folders above it
// are not considered.
func (m Matcher) Match(path string, folder bool) bool {
	for i := len(m.rules) - 1; i >= 0; i-- {
		if m.rules[i].matches(path, folder) {
			return !m.rules[i].negated
		}
	}
	return false
}

// MatchAll is Match that also considers the folders above the path.
func (m Matcher) MatchAll(path string, folder bool) bool {
	for i, c := range path {
		if c == '/' && m.Match(path[:i], true) {
			return true
		}
	}
	return m.Match(path, folder)
}

func (r rule) matches(path string, folder bool) bool {
	if !folder && !r.foldersToo {
		return false
	}
	rest, inside := strings.CutPrefix(path, r.base)
	if !inside {
		return false
	}
	if r.anywhere {
		rest = rest[strings.LastIndexByte(rest, '/')+1:]
	}
	if r.form == nil {
		return rest == r.literal
	}
	return r.form.MatchString(rest)
}

func parse(line string) (rule, bool) {
	pattern := trimSpaces(line)
	if pattern == "" || pattern[0] == '#' {
		return rule{}, false
	}
	r := rule{foldersToo: true}
	if pattern[0] == '!' {
		r.negated, pattern = true, pattern[1:]
	}
	if strings.HasSuffix(pattern, "/") {
		r.foldersToo, pattern = false, strings.TrimSuffix(pattern, "/")
	}
	r.anywhere = !strings.Contains(pattern, "/")
	pattern = strings.TrimPrefix(pattern, "/")
	if pattern == "" {
		return rule{}, false
	}
	if !strings.ContainsAny(pattern, `*?[\`) {
		r.literal = pattern
		return r, true
	}
	text, ok := translate(pattern)
	if !ok {
		return rule{}, false
	}
	form, err := regexp.Compile(text)
	if err != nil {
		return rule{}, false
	}
	r.form = form
	return r, true
}

// trimSpaces drops blanks at the end unless a backslash keeps them.
func trimSpaces(line string) string {
	end := 0
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '\\' && i+1 < len(line):
			i++
			end = i + 1
		case line[i] != ' ':
			end = i + 1
		}
	}
	return line[:end]
}

// translate turns a pattern into a regular expression. It answers false for patterns that can match nothing.
func translate(pattern string) (string, bool) {
	var out strings.Builder
	out.WriteString(`(?s)^`)
	for i := 0; i < len(pattern); {
		rest := pattern[i:]
		stars := len(rest) - len(strings.TrimLeft(rest, "*"))
		// Two stars or more span folders when they fill a whole element of the path.
		spans := stars > 1 && (i == 0 || pattern[i-1] == '/')
		switch {
		case spans && stars < len(rest) && rest[stars] == '/':
			out.WriteString(`(?:.*/)?`)
			i += stars + 1
		case spans && stars == len(rest):
			out.WriteString(`.*`)
			i += stars
		case stars > 0:
			out.WriteString(`[^/]*`)
			i += stars
		case rest[0] == '?':
			out.WriteString(`[^/]`)
			i++
		case rest[0] == '[':
			class, length, ok := bracket(rest)
			if !ok {
				return "", false
			}
			out.WriteString(class)
			i += length
		case rest[0] == '\\':
			if len(rest) == 1 {
				return "", false
			}
			out.WriteString(regexp.QuoteMeta(rest[1:2]))
			i += 2
		default:
			// Bytes of one character stay together, so that QuoteMeta sees valid text.
			length := 1
			for length < len(rest) && rest[length]&0xC0 == 0x80 {
				length++
			}
			out.WriteString(regexp.QuoteMeta(rest[:length]))
			i += length
		}
	}
	out.WriteString(`$`)
	return out.String(), true
}

// bracket translates a character class at the start of text and tells its length in the pattern.
func bracket(text string) (string, int, bool) {
	i := 1
	negated := false
	if i < len(text) && (text[i] == '!' || text[i] == '^') {
		negated = true
		i++
	}
	var set strings.Builder
	for first := true; ; first = false {
		if i >= len(text) {
			return "", 0, false
		}
		if text[i] == ']' && !first {
			break
		}
		if named := namedClass.FindString(text[i:]); named != "" {
			set.WriteString(named)
			i += len(named)
			continue
		}
		low, next, ok := member(text, i)
		if !ok {
			return "", 0, false
		}
		i = next
		if i+1 < len(text) && text[i] == '-' && text[i+1] != ']' {
			high, next, ok := member(text, i+1)
			if !ok {
				return "", 0, false
			}
			i = next
			// A range that runs backwards matches nothing, as in the C library.
			if low <= high {
				writeRange(&set, low, high)
			}
			continue
		}
		writeRange(&set, low, low)
	}
	return class(set.String(), negated), i + 1, true
}

// class keeps the slash out of every set: patterns never match across folders by a class.
func class(set string, negated bool) string {
	switch {
	case negated && set == "":
		return `[^/]`
	case negated:
		return `[^/` + set + `]`
	case set == "":
		return `[^\x00-\x{10FFFF}]`
	}
	return `[` + set + `]`
}

var namedClass = regexp.MustCompile(`^\[:(alnum|alpha|blank|cntrl|digit|graph|lower|print|punct|space|upper|xdigit):\]`)

func member(text string, i int) (rune, int, bool) {
	if text[i] == '\\' {
		i++
		if i >= len(text) {
			return 0, 0, false
		}
	}
	for _, c := range text[i:] {
		return c, i + len(string(c)), true
	}
	return 0, 0, false
}

// writeRange adds low to high without the slash.
func writeRange(set *strings.Builder, low, high rune) {
	emit := func(from, to rune) {
		if from <= to {
			set.WriteString(quoteRune(from) + "-" + quoteRune(to))
		}
	}
	if low <= '/' && '/' <= high {
		emit(low, '/'-1)
		emit('/'+1, high)
		return
	}
	emit(low, high)
}

func quoteRune(c rune) string {
	if strings.ContainsRune(`\]-^[`, c) {
		return `\` + string(c)
	}
	return string(c)
}
