package trace

import (
	"fmt"
	"strings"
)

// Difference is a path about which a view tells something else than what a command learnt.
type Difference struct {
	Path     string
	Asked    Asked
	Was, Now string // answers
	Why      string // where everything counts since not all was observed
}

// String puts a difference into words: what changed, appeared, vanished, and what else can be.
func (d Difference) String() string {
	if d.Why != "" {
		return "something below changed, and all of it counts: " + d.Why
	}
	path := "/" + d.Path
	wasKind, nowKind := d.Was[0], d.Now[0]
	switch {
	case d.Was == noAnswer:
		return path + " appeared"
	case d.Now == noAnswer:
		return path + " vanished"
	case wasKind != nowKind:
		return fmt.Sprintf("%s is a %s now and was a %s", path, kindWords[nowKind], kindWords[wasKind])
	case d.Asked&Names != 0:
		if text := listing(path, d.Was, d.Now); text != "" {
			return text
		}
	case nowKind == 'l':
		return path + " leads elsewhere"
	}
	if d.Asked&Whole == 0 && d.Asked&Content == 0 || d.Asked&Content != 0 && lastWord(d.Was) == lastWord(d.Now) {
		if nowKind == 'f' && sizeIn(d.Was) != sizeIn(d.Now) {
			return path + " changed (its size alone was looked at)"
		}
		return "mode, owner or time of " + path + " changed"
	}
	return path + " changed"
}

var kindWords = map[byte]string{'f': "file", 'd': "folder", 'l': "link", 'c': "device", 'b': "device", 'p': "pipe"}

func lastWord(s string) string { return s[strings.LastIndexByte(s, ' ')+1:] }

func sizeIn(answer string) int64 {
	size, _ := (&Entry{Asked: Meta, Answer: answer}).Size()
	return size
}

// listing says which names came and went; empty where none did.
func listing(path, was, now string) string {
	gained, lost := without(namesIn(now), namesIn(was)), without(namesIn(was), namesIn(now))
	part := func(verb string, names []string) string {
		text := verb + " " + names[0]
		if len(names) > 1 {
			text += fmt.Sprintf(" and %d more", len(names)-1)
		}
		return text
	}
	var parts []string
	if len(gained) > 0 {
		parts = append(parts, part("gained", gained))
	}
	if len(lost) > 0 {
		parts = append(parts, part("lost", lost))
	}
	if len(parts) == 0 {
		return ""
	}
	return "the listing of " + path + " " + strings.Join(parts, " and ")
}

func namesIn(answer string) (names []string) {
	_, list, _ := strings.Cut(answer, " {")
	for list != "" && list[0] == '"' {
		name, rest, ok := cutQuoted(list)
		if !ok {
			return names
		}
		kind, after, _ := strings.Cut(rest, " ")
		if kind == "d" {
			name += "/"
		}
		names, list = append(names, name), after
	}
	return names
}

func without(all, those []string) (rest []string) {
	known := map[string]bool{}
	for _, name := range those {
		known[name] = true
	}
	for _, name := range all {
		if !known[name] {
			rest = append(rest, name)
		}
	}
	return rest
}

// Words names what was learnt about a path.
func (e *Entry) Words() []string {
	if e.Answer == noAnswer {
		return []string{"absence"}
	}
	var words []string
	for _, one := range []struct {
		asked Asked
		word  string
	}{{Content, "contents"}, {Meta, "metadata"}, {Names, "listing"}, {Whole, "everything below"}} {
		if e.Asked&one.asked != 0 {
			words = append(words, one.word)
		}
	}
	if len(words) == 0 {
		words = append(words, kindWords[e.Answer[0]])
	}
	return words
}

// Changes counts for each path how many of the traces, in order of time, learnt something else there than the one before.
func Changes(traces []*Trace) map[string]int {
	counts := map[string]int{}
	last := map[string]string{}
	for i, t := range traces {
		for _, e := range t.Entries {
			if was, known := last[e.Path]; i > 0 && known && was != e.Answer {
				counts[e.Path]++
			}
			last[e.Path] = e.Answer
		}
	}
	return counts
}
