// Package retention decides which tags of a repository are kept and which go, by a rule.
//
// It is pure: tags with their digests and times go in, and a verdict with a reason for each comes out. It deletes
// nothing and knows no registry.
package retention

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"

	"imbricat/internal/ground/digest"
)

// Rule says what is kept. An image is kept where any part of the rule keeps it, with all of its tags.
type Rule struct {
	Keep    []string      // patterns of tags whose images stay: * any digits and letters, ? one, [0-9] one of some
	Newest  int           // so many images of the others, the youngest first
	Younger time.Duration // what is younger than this
	Drop    []string      // patterns of tags that go also where their image stays
	Of      []Group       // images that are counted by themselves; the first that matches one of their tags counts
	ByPush  bool          // only the time of the push counts: an image whose push nobody knows the time of is never too old
	Moving  []string      // tags that are never taken: they stand on whatever is newest
	// InUse are images that are never taken, with all of their tags, and who says so.
	InUse map[digest.Digest]string
}

// Tag is a tag of a repository.
type Tag struct {
	Name   string
	Digest digest.Digest
	Time   time.Time // when it was pushed, or else made; zero where nobody knows
}

// Verdict is what becomes of a tag, with the reason.
type Verdict struct {
	Tag
	Keep   bool
	Reason string
}

// ParseAge reads an age as people write it: a number of days, weeks or hours such as 30d, 2w, 12h, or what Go reads.
func ParseAge(text string) (time.Duration, error) {
	unit := map[string]time.Duration{"d": 24 * time.Hour, "w": 7 * 24 * time.Hour}
	if text != "" {
		if u, is := unit[text[len(text)-1:]]; is {
			n, err := strconv.Atoi(text[:len(text)-1])
			if err == nil && n >= 0 && n < 100_000 {
				return time.Duration(n) * u, nil
			}
		}
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("%q is not an age: write a number with h, d or w, such as 30d", text)
	}
	return d, nil
}

// ErrEmpty is a rule that would delete everything.
var ErrEmpty = errors.New("the rule keeps nothing: give patterns, a number or an age")

// Check reports whether a rule can be used.
func (r Rule) Check() error {
	for _, pattern := range slices.Concat(r.Keep, r.Drop) {
		if _, err := path.Match(pattern, "x"); err != nil {
			return fmt.Errorf("the pattern %q is malformed", pattern)
		}
	}
	some := len(r.Keep) > 0 || r.Newest > 0 || r.Younger > 0
	below := r.Newest < 0 || r.Younger < 0
	for i := range r.Of {
		g := &r.Of[i]
		if err := g.compile(); err != nil {
			return err
		}
		some, below = some || g.Newest > 0 || g.Younger > 0, below || g.Newest < 0 || g.Younger < 0
	}
	switch {
	case below:
		return errors.New("a number or an age below nothing")
	case !some:
		return ErrEmpty
	}
	return nil
}

// Match reports whether a tag matches one of some patterns.
func Match(patterns []string, tag string) bool {
	tag, _ = plain(tag)
	return slices.ContainsFunc(patterns, func(pattern string) bool { matched, err := path.Match(pattern, tag); return err == nil && matched })
}

// held is an image with its tags, by their places in a list.
type held struct {
	tags []int
	time time.Time // of its youngest tag; zero where nobody knows
	why  string    // it is kept; empty: it is not
	used bool      // somebody says that it is in use
}

// grouped are the images that parts of a rule count by themselves.
type grouped struct {
	rule  Rule
	of    map[string][]*held
	order []string
	group map[string]*Group
}

// take takes an image that is of a group, and reports whether it is.
func (g *grouped) take(h *held, tags []Tag, now time.Time) bool {
	for i := range g.rule.Of {
		one := &g.rule.Of[i]
		key := ""
		h.find(tags, func(t Tag) bool { key = one.of(t.Name); return key != "" })
		if key == "" {
			continue
		}
		if one.Younger > 0 && now.Sub(h.time) < one.Younger {
			h.why = "it is young for " + one.called(key)
		}
		if name := h.find(tags, func(t Tag) bool { return slices.Contains(g.rule.Moving, t.Name) }); name != "" && h.why == "" {
			h.why = name + " is a moving tag"
		}
		if g.group == nil {
			g.group = map[string]*Group{}
		}
		if g.group[key] == nil {
			g.group[key], g.order = one, append(g.order, key)
		}
		g.of[key] = append(g.of[key], h)
		return true
	}
	return false
}

// count keeps the newest of each group.
func (g *grouped) count(tags []Tag) {
	for _, key := range g.order {
		list, one := g.of[key], g.group[key]
		slices.SortStableFunc(list, func(a, b *held) int {
			if c := b.time.Compare(a.time); c != 0 {
				return c
			}
			return Compare(tags[a.tags[0]].Name, tags[b.tags[0]].Name)
		})
		for n, h := range list {
			if n < one.Newest && h.why == "" {
				h.why = "it is among the newest of " + one.called(key)
			}
		}
	}
}

// Decide judges tags at a time, in the order that they are given. Images are counted, not their tags; one whose time nobody
// knows is never too old. Where nobody knows the time of any image, and all that no pattern keeps have a version among their tags, the
// newest are those of the highest versions.
func Decide(tags []Tag, r Rule, now time.Time) []Verdict {
	images := imagesOf(tags)
	byVersion := r.Newest > 0
	for _, h := range images {
		kept := h.find(tags, func(t Tag) bool { return Match(r.Keep, t.Name) }) != ""
		byVersion = byVersion && h.time.IsZero() && (kept || h.version(tags) != "")
	}
	var others []*held
	groups := &grouped{rule: r, of: map[string][]*held{}}
	for _, h := range images {
		switch name := h.find(tags, func(t Tag) bool { return Match(r.Keep, t.Name) }); {
		case r.InUse[tags[h.tags[0]].Digest] != "":
			h.why, h.used = "it is in use, says "+r.InUse[tags[h.tags[0]].Digest], true
		case name != "":
			h.why = name + " matches a pattern"
		case h.time.IsZero() && !byVersion:
			h.why = "its age is unknown"
		case r.Younger > 0 && now.Sub(h.time) < r.Younger:
			h.why = "it is young"
		case groups.take(h, tags, now):
		default:
			others = append(others, h)
			if name := h.find(tags, func(t Tag) bool { return slices.Contains(r.Moving, t.Name) }); name != "" {
				h.why = name + " is a moving tag"
			}
		}
	}
	slices.SortStableFunc(others, func(a, b *held) int {
		if c := b.time.Compare(a.time); c != 0 {
			return c
		}
		if byVersion {
			return Compare(a.version(tags), b.version(tags))
		}
		return Compare(tags[a.tags[0]].Name, tags[b.tags[0]].Name) // registries tell times in seconds
	})
	for n, h := range others {
		if n < r.Newest {
			if h.why = "it is among the newest"; byVersion {
				h.why = "it is among the highest versions, and no image tells its time"
			}
		}
	}
	groups.count(tags)
	list := make([]Verdict, len(tags))
	for _, h := range images {
		for _, i := range h.tags {
			list[i] = Verdict{Tag: tags[i], Keep: h.why != "", Reason: h.why}
			switch name := tags[i].Name; {
			case h.why == "":
				list[i].Reason = "nothing keeps it"
			case h.used: // whoever uses it may know it by any of them
			case Match(r.Drop, name) && !Match(r.Keep, name) && !slices.Contains(r.Moving, name):
				list[i].Keep, list[i].Reason = false, "it is to be dropped, and its image stays"
			}
		}
	}
	return list
}

// imagesOf groups tags by what they stand on, in their order.
func imagesOf(tags []Tag) (list []*held) {
	by := map[digest.Digest]*held{}
	for i, t := range tags {
		h := by[t.Digest]
		if h == nil {
			h = &held{}
			by[t.Digest], list = h, append(list, h)
		}
		h.tags = append(h.tags, i)
		if t.Time.After(h.time) {
			h.time = t.Time
		}
	}
	return list
}

// version returns the highest version among an image's tags; "" where there is none.
func (h *held) version(tags []Tag) (highest string) {
	for _, i := range h.tags {
		if _, is := version(tags[i].Name); is && (highest == "" || Compare(tags[i].Name, highest) < 0) {
			highest = tags[i].Name
		}
	}
	return highest
}

// find returns the first of an image's tags for which is answers true.
func (h *held) find(tags []Tag, is func(Tag) bool) string {
	for _, i := range h.tags {
		if is(tags[i]) {
			return tags[i].Name
		}
	}
	return ""
}

// Doomed lists the digests that go with the tags that are not kept: what they stand on and all that lies below it, but
// nothing that a kept tag still reaches. below gives what an index lists. Whatever contains others comes before them.
func Doomed(verdicts []Verdict, below func(digest.Digest) []digest.Digest) []digest.Digest {
	kept, seen := map[digest.Digest]bool{}, map[digest.Digest]bool{}
	var order []digest.Digest // what contains others after them
	var reach func(d digest.Digest, into map[digest.Digest]bool)
	reach = func(d digest.Digest, into map[digest.Digest]bool) {
		if into[d] {
			return
		}
		into[d] = true
		for _, child := range below(d) {
			reach(child, into)
		}
		order = append(order, d)
	}
	for _, v := range verdicts {
		if v.Keep {
			reach(v.Digest, kept)
		}
	}
	order = nil
	for _, v := range verdicts {
		if !v.Keep {
			reach(v.Digest, seen)
		}
	}
	slices.Reverse(order)
	return slices.DeleteFunc(order, func(d digest.Digest) bool { return kept[d] })
}

// Compare orders tags for people: versions as versions, the newest first, then other names by their letters.
func Compare(a, b string) int {
	va, isA := version(a)
	vb, isB := version(b)
	switch {
	case isA && isB:
		if c := vb.Compare(va); c != 0 {
			return c
		}
		// 1.4.0 comes before the moving tags 1.4 and 1.
		if c := strings.Count(b, ".") - strings.Count(a, "."); c != 0 {
			return c
		}
	case isA:
		return -1
	case isB:
		return 1
	}
	return strings.Compare(a, b)
}

// version reads a tag as a version. A long number without a dot is none: commits' names are often such.
func version(tag string) (*semver.Version, bool) {
	if !strings.Contains(tag, ".") && len(tag) > 5 {
		return nil, false
	}
	v, err := semver.NewVersion(tag)
	return v, err == nil
}

// exact is a whole version, with the "v" that some write before it.
var exact = regexp.MustCompile(`^(v?)(0|[1-9][0-9]*)\.(0|[1-9][0-9]*)\.(0|[1-9][0-9]*)$`)

// Prefixes returns the moving prefixes of a version by the rules of semantic versions: 1.4 and 1 for 1.4.0. What is no whole
// version, and what comes before a release (1.4.0-rc1), has none.
func Prefixes(tag string) []string {
	m := exact.FindStringSubmatch(tag)
	if m == nil {
		return nil
	}
	return []string{m[1] + m[2] + "." + m[3], m[1] + m[2]}
}

// Above returns the highest of some tags that is a release below the same prefix as a version and above that version; ""
// where there is none.
func Above(prefix, version string, tags []string) string {
	highest := version
	for _, tag := range tags {
		if slices.Contains(Prefixes(tag), prefix) && Compare(tag, highest) < 0 {
			highest = tag
		}
	}
	if highest == version {
		return ""
	}
	return highest
}
