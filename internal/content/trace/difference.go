package trace

import (
	"strings"

	"imbricat/internal/ground/event"
)

// Difference is a path about which a view tells something else than what a command learnt.
type Difference struct {
	Path     string
	Asked    Asked
	Was, Now string // answers
	Why      string // where everything counts since not all was observed
}

// Change tells a difference as data for people.
func (d Difference) Change() event.Change {
	c := event.Change{Path: d.Path}
	if d.Why != "" {
		c.Kind, c.Now = event.Everything, d.Why
		return c
	}
	wasKind, nowKind := d.Was[0], d.Now[0]
	switch {
	case d.Was == noAnswer:
		c.Kind = event.Appeared
		return c
	case d.Now == noAnswer:
		c.Kind = event.Vanished
		return c
	case wasKind != nowKind:
		c.Kind, c.Was, c.Now = event.OtherKind, kindWords[wasKind], kindWords[nowKind]
		return c
	case d.Asked&Names != 0:
		c.Gained, c.Lost = without(namesIn(d.Now), namesIn(d.Was)), without(namesIn(d.Was), namesIn(d.Now))
		if len(c.Gained)+len(c.Lost) > 0 {
			c.Kind = event.Listing
			return c
		}
	case nowKind == 'l':
		c.Kind = event.LeadsAway
		return c
	}
	if d.Asked&Whole == 0 && d.Asked&Content == 0 || d.Asked&Content != 0 && lastWord(d.Was) == lastWord(d.Now) {
		if c.Kind = event.MetaChanged; nowKind == 'f' && sizeIn(d.Was) != sizeIn(d.Now) {
			c.Kind = event.SizeChanged
		}
	}
	return c
}

var kindWords = map[byte]string{'f': "file", 'd': "folder", 'l': "link", 'c': "device", 'b': "device", 'p': "pipe"}

func lastWord(s string) string { return s[strings.LastIndexByte(s, ' ')+1:] }

func sizeIn(answer string) int64 {
	size, _ := (&Entry{Asked: Meta, Answer: answer}).Size()
	return size
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
	last := map[string]*Entry{}
	for i, t := range traces {
		for n := range t.Entries {
			e := &t.Entries[n]
			if was, known := last[e.Path]; i > 0 && known && !agree(was, e) {
				counts[e.Path]++
			}
			last[e.Path] = e
		}
	}
	return counts
}

// agree reports whether what two runs learnt about a path is the same, as far as both asked.
func agree(a, b *Entry) bool {
	switch {
	case a.Asked == b.Asked || a.Answer == noAnswer || b.Answer == noAnswer:
		return a.Answer == b.Answer
	case a.Asked&b.Asked&Content != 0:
		return lastWord(a.Answer) == lastWord(b.Answer)
	}
	return a.Answer[0] == b.Answer[0]
}
