package causes

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// text compares texts line by line, and tells what differs in the first lines that do.
func (l *look) text(prefix string, was, now []byte) {
	a, b := lines(was), lines(now)
	if len(a) == len(b) && !slices.Equal(a, b) {
		x, y := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
		if slices.Equal(x, y) {
			at := 0
			for a[at] == b[at] {
				at++
			}
			l.add(prefix, fmt.Sprintf("the order of its lines, from line %d on", at+1), a[at], b[at], Listing, Text)
			return
		}
	}
	told := map[Cause]bool{}
	for i := range min(len(a), len(b)) {
		if a[i] == b[i] {
			continue
		}
		x, y, cause := l.words(a[i], b[i])
		if !told[cause] {
			told[cause] = true
			l.add(prefix, fmt.Sprintf("line %d", i+1), x, y, cause, Text)
		}
	}
	if len(l.found) == 0 && len(a) != len(b) {
		l.add(prefix, "the number of its lines", fmt.Sprint(len(a)), fmt.Sprint(len(b)), Other, Text)
	}
}

func lines(content []byte) []string { return strings.Split(string(content), "\n") }

// around is how many letters before and after what differs are looked at.
const around = 40

// words finds what differs in two lines, and what it looks like.
func (l *look) words(was, now string) (x, y string, cause Cause) {
	from := 0
	for from < len(was) && from < len(now) && was[from] == now[from] {
		from++
	}
	a, b := len(was), len(now)
	for a > from && b > from && was[a-1] == now[b-1] {
		a, b = a-1, b-1
	}
	cut := func(s string, end int) string { return s[max(0, from-around):min(len(s), end+around)] }
	x, y = cut(was, a), cut(now, b)
	if cause = l.looksLike(x, y); cause == Other {
		if longer := l.looksLike(was, now); longer != Other {
			cause = longer
		}
	}
	return x, y, cause
}

// What words look like. Each needs to be on both sides, and to differ.
var (
	date    = regexp.MustCompile(`(?i)\b(\d{4}[-/.:]\d{2}[-/.:]\d{2}|\d{8}T?\d{4,6}|(mon|tue|wed|thu|fri|sat|sun)\w*,? +\w+ +\d+|(jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)\w* +\d{1,2},? +(\d{2}:\d{2}|\d{4})|\d{2}:\d{2}:\d{2})`)
	digits  = regexp.MustCompile(`\d+(\.\d+)?`)
	uuid    = regexp.MustCompile(`(?i)\b[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\b`)
	address = regexp.MustCompile(`(?i)\b0x0*([57][0-9a-f]{10,11}|[0-9a-f]{8,12})\b`)
	token   = regexp.MustCompile(`\b(0x)?([0-9a-fA-F]{12,}|[A-Za-z0-9_+/=-]{16,})`)
	chance  = regexp.MustCompile(`(tmp|temp|XXX|build|work)[-._/]?[A-Za-z0-9_-]{4,}|/tmp/[\w.-]+`)
)

func (l *look) looksLike(was, now string) Cause {
	differ := func(re *regexp.Regexp) bool {
		a, b := re.FindAllString(was, -1), re.FindAllString(now, -1)
		return len(a) > 0 && len(b) > 0 && !slices.Equal(a, b)
	}
	for i, text := range []string{was, now} {
		for _, name := range l.clues.Names[i] {
			if name != "" && strings.Contains(text, name) && !strings.Contains([]string{now, was}[i], name) {
				return Machine
			}
		}
	}
	switch {
	case differ(date), l.seconds(was, now):
		return Clock
	case differ(uuid):
		return Random
	case differ(address):
		return Addresses
	case differ(chance), differ(token):
		return Random
	case sameWords(was, now):
		return Listing
	}
	return Other
}

// seconds reports whether numbers differ that are moments of the clocks: in seconds, milliseconds, microseconds or nanoseconds, or days.
func (l *look) seconds(was, now string) bool {
	within := func(text string, s Span) bool {
		if s.From.IsZero() {
			return false
		}
		for _, word := range digits.FindAllString(text, -1) {
			n, err := strconv.ParseFloat(word, 64)
			if err != nil {
				continue
			}
			for _, unit := range []float64{1, 1e3, 1e6, 1e9, 1.0 / 86400} {
				at := n / unit
				if at >= float64(s.From.Unix())-1 && at <= float64(s.Until.Unix())+1 || unit < 1 && int64(n) == s.From.Unix()/86400 {
					return true
				}
			}
		}
		return false
	}
	a, b := digits.FindAllString(was, -1), digits.FindAllString(now, -1)
	return !slices.Equal(a, b) && within(was, l.clues.Clocks[0]) && within(now, l.clues.Clocks[1])
}

// sameWords reports whether two lines hold the same words in another order.
func sameWords(was, now string) bool {
	split := func(r rune) bool { return strings.ContainsRune(" \t,;:|{}[]()'\"", r) }
	a, b := strings.FieldsFunc(was, split), strings.FieldsFunc(now, split)
	if len(a) < 2 || len(a) != len(b) || slices.Equal(a, b) {
		return false
	}
	slices.Sort(a)
	slices.Sort(b)
	return slices.Equal(a, b)
}

// strings compares the texts in two binary contents.
func (l *look) strings(prefix string, was, now []byte, form Form) {
	a, b := texts(was), texts(now)
	if len(a) != len(b) {
		return
	}
	told := map[Cause]bool{}
	for i := range a {
		if a[i] == b[i] {
			continue
		}
		x, y, cause := l.words(a[i], b[i])
		if cause != Other && !told[cause] {
			told[cause] = true
			l.add(prefix, "a text", x, y, cause, form)
		}
	}
}

// texts are the runs of printable letters in a content.
func texts(content []byte) (all []string) {
	from := -1
	for i := 0; i <= len(content); i++ {
		if i < len(content) && content[i] >= ' ' && content[i] < 0x7f {
			if from < 0 {
				from = i
			}
			continue
		}
		if from >= 0 && i-from >= 6 {
			all = append(all, string(content[from:i]))
		}
		from = -1
	}
	return all
}

func printable(content []byte) string { return strings.Join(texts(content), " ") }

// mostRanges bounds how many ranges of bytes are told.
const mostRanges = 3

// binary tells in which bytes two contents differ.
func (l *look) binary(prefix string, was, now []byte) {
	if len(was) != len(now) {
		l.strings(prefix, was, now, Bytes)
		l.add(prefix, "its size", fmt.Sprint(len(was)), fmt.Sprint(len(now)), Other, Bytes)
		return
	}
	told := 0
	for i := 0; i < len(was) && told < mostRanges; {
		if was[i] == now[i] {
			i++
			continue
		}
		end := i + 1
		for end < len(was) && (was[end] != now[end] || end+4 < len(was) && !bytes.Equal(was[end:end+4], now[end:end+4])) {
			end++
		}
		cause := l.number(was, now, i)
		x, y := fmt.Sprintf("%x", was[i:min(end, i+24)]), fmt.Sprintf("%x", now[i:min(end, i+24)])
		if cause == Other {
			if a, b := near(was, i, end), near(now, i, end); a != "" && b != "" {
				x, y, cause = l.words(a, b)
			}
		}
		l.add(prefix, rangeOf(i, end), x, y, cause, Bytes)
		told, i = told+1, end
	}
}

func rangeOf(from, end int) string {
	if end-from == 1 {
		return fmt.Sprintf("byte %d", from)
	}
	return fmt.Sprintf("bytes %d to %d", from, end-1)
}

// near is the text around some bytes; empty where they are none.
func near(content []byte, from, end int) string {
	letter := func(i int) bool { return content[i] >= ' ' && content[i] < 0x7f }
	for i := from; i < end; i++ {
		if !letter(i) {
			return ""
		}
	}
	for from > 0 && letter(from-1) {
		from--
	}
	for end < len(content) && letter(end) {
		end++
	}
	if end-from < 6 {
		return ""
	}
	return string(content[from:end])
}

// number tells whether the bytes about a place are a number that is a moment of the clocks.
func (l *look) number(was, now []byte, at int) Cause {
	for from := max(0, at-7); from <= at; from++ {
		for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
			if from+4 <= len(was) && from+4 > at && l.moments(int64(order.Uint32(was[from:])), int64(order.Uint32(now[from:])), time.Second) {
				return Clock
			}
			if from+8 > len(was) {
				continue
			}
			for _, unit := range []time.Duration{time.Second, time.Millisecond, time.Microsecond, time.Nanosecond} {
				if l.moments(int64(order.Uint64(was[from:])), int64(order.Uint64(now[from:])), unit) {
					return Clock
				}
			}
		}
	}
	return Other
}

// moments reports whether two numbers are moments of the two clocks.
func (l *look) moments(was, now int64, unit time.Duration) bool {
	within := func(n int64, s Span) bool {
		if s.From.IsZero() {
			return false
		}
		each := int64(time.Second / unit)
		return n/each >= s.From.Unix()-1 && n/each <= s.Until.Unix()+1
	}
	return was != now && within(was, l.clues.Clocks[0]) && within(now, l.clues.Clocks[1])
}
