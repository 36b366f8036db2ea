package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
	"imbricat/internal/output/inspect"
)

// RowsText returns a table, or one line where it would be empty.
func RowsText(p Paint, empty string, head []string, rows [][]string) string {
	w := &strings.Builder{}
	if len(rows) == 0 {
		fmt.Fprintln(w, empty)
		return w.String()
	}
	for _, row := range rows {
		row[0] = p.Bold(row[0])
	}
	Table(w, p, head, rows)
	return w.String()
}

// RepositoryText tells what to do with a new repository of the stand-in, ready to be pasted.
func RepositoryText(p Paint, address, name string, created bool) string {
	w := &strings.Builder{}
	first := "made the repository " + p.Bold(name)
	if !created {
		first = "the repository " + p.Bold(name) + " exists already"
	}
	fmt.Fprintf(w, `%s

log in, where a login is needed:
  imbricat login %[2]s --user NAME < secret.txt

in the recipe, under the image:
  publish: {main: {to: %[2]s/%[3]s, tags: ["1.0.0"]}}

build and push:
  imbricat build
  imbricat push

any other image:
  imbricat copy IMAGE %[2]s/%[3]s:1.0.0
`, first, address, name)
	return w.String()
}

// Tags is the list of a repository's tags.
type Tags struct {
	Repository string `json:"repository"`
	Tags       []Tag  `json:"tags"`
}

// Tag is a tag with what it stands for. Packed counts the layers of all platforms as they are stored, each once, in bytes.
type Tag struct {
	Tag       string        `json:"tag"`
	Digest    digest.Digest `json:"digest"`
	Platforms []string      `json:"platforms"`
	Created   time.Time     `json:"created,omitzero"` // of the image; absent where it does not say
	Pushed    time.Time     `json:"pushed,omitzero"`  // absent where the registry does not tell
	Packed    int64         `json:"packed"`
	Alone     int64         `json:"alone"`            // bytes of layers that no other image of the repository's tags has
	Shared    []string      `json:"shared,omitempty"` // tags of other images that have layers of it, at most 20
	// Referrers are what is attached to it; nil where that was not asked for.
	Referrers *[]inspect.Referrer `json:"referrers,omitempty"`
}

// TagsText returns one row for each tag.
func TagsText(p Paint, d *Tags, now time.Time) string {
	var rows [][]string
	attached := false
	for _, t := range d.Tags {
		pushed := Ago(t.Pushed, now)
		if t.Pushed.IsZero() {
			pushed = "not told"
		}
		row := []string{t.Tag, strings.Join(t.Platforms, ", "), Ago(t.Created, now), pushed, Size(t.Packed), Size(t.Alone)}
		if t.Referrers != nil {
			attached = true
			row = append(row, attachedText(*t.Referrers))
		}
		rows = append(rows, append(row, p.Digest(t.Digest)))
	}
	head := []string{"tag", "platforms", "created", "pushed", "packed", "alone"}
	if attached {
		head = append(head, "attached")
	}
	return RowsText(p, d.Repository+" has no tags", append(head, "digest"), rows)
}

// attachedText counts what is attached to an image, by the last word of its kind.
func attachedText(list []inspect.Referrer) string {
	count := map[string]int{}
	for _, r := range list {
		kind := r.Type[strings.LastIndexByte(r.Type, '/')+1:]
		kind, _, _ = strings.Cut(kind, "+")
		count[strings.TrimPrefix(kind, "vnd.")]++
	}
	var words []string
	for _, kind := range slices.Sorted(maps.Keys(count)) {
		word := kind
		if n := count[kind]; n > 1 {
			word = fmt.Sprintf("%d %s", n, kind)
		}
		words = append(words, word)
	}
	return strings.Join(words, ", ")
}

// Verdict is a tag that a rule keeps, or not, and why.
type Verdict struct {
	Tag    string        `json:"tag"`
	Digest digest.Digest `json:"digest"`
	Reason string        `json:"reason"`
}

// VerdictsText tells what stays and what goes.
func VerdictsText(p Paint, kept, gone []Verdict, digests int, dry bool) string {
	w := &strings.Builder{}
	var rows [][]string
	for _, v := range kept {
		rows = append(rows, []string{v.Tag, "stays", p.Digest(v.Digest), v.Reason})
	}
	went := "deleted"
	if dry {
		went = "would go"
	}
	for _, v := range gone {
		rows = append(rows, []string{v.Tag, went, p.Digest(v.Digest), v.Reason})
	}
	w.WriteString(RowsText(p, "there are no tags", []string{"tag", "", "digest", "because"}, rows))
	writeLeft(w, p, kept, gone)
	verb := "deleted"
	if dry {
		verb = "would delete"
	}
	fmt.Fprintf(w, "%s %s and %s\n", verb, Count(len(gone), "tag"), Count(digests, "digest"))
	return w.String()
}

// writeLeft writes what is left of each image that loses a tag.
func writeLeft(w *strings.Builder, p Paint, kept, gone []Verdict) {
	var order []digest.Digest
	left := map[digest.Digest][]string{}
	for _, v := range gone {
		if !slices.Contains(order, v.Digest) {
			order = append(order, v.Digest)
		}
	}
	for _, v := range kept {
		left[v.Digest] = append(left[v.Digest], v.Tag)
	}
	for _, d := range order {
		what := "nothing is left of"
		if len(left[d]) > 0 {
			what = strings.Join(left[d], ", ") + " is left of"
			if len(left[d]) > 1 {
				what = strings.Join(left[d], ", ") + " are left of"
			}
		}
		fmt.Fprintf(w, "%s %s\n", what, p.Muted(digest.Short(d)))
	}
}

// Fates is what became of the tags that a run wrote.
type Fates struct {
	Tags []Fate `json:"tags"`
}

// Fate is a tag that a run was to write.
type Fate struct {
	Repository string        `json:"repository"`
	Tag        string        `json:"tag"`
	Digest     digest.Digest `json:"digest"`        // of the run's image
	Now        digest.Digest `json:"now,omitempty"` // what the tag stands on; empty: it is not there
	Written    bool          `json:"written"`       // by the run
}

// FatesText returns one row for each tag.
func FatesText(p Paint, d *Fates) string {
	var rows [][]string
	for _, f := range d.Tags {
		state := "stands"
		switch {
		case f.Now == "" && f.Written:
			state = "is gone"
		case f.Now == f.Digest && !f.Written:
			state = "stands, though the run did not write it"
		case !f.Written:
			state = "was not written"
		case f.Now != f.Digest:
			state = "moved to " + p.Digest(f.Now)
		}
		rows = append(rows, []string{f.Repository + ":" + f.Tag, state, p.Digest(f.Digest)})
	}
	return RowsText(p, "the run was to write no tag", []string{"tag", "now", "image"}, rows)
}

// Outcomes of a tag that ship would write.
const (
	TagNew     = "new"     // it is not there yet
	TagMoves   = "moves"   // it stands on something else
	TagStands  = "stands"  // it is fixed, and what is built must be what it stands on
	TagHeld    = "held"    // it is not written now, and nothing fails
	TagRefused = "refused" // ship would fail
	TagNone    = "digest"  // the image goes there without a tag
)

// Asked is what ship would write, told without doing any of it.
type Asked struct {
	Tags     []AskedTag `json:"tags"`
	Nothing  string     `json:"nothing,omitempty"`  // why no tag would be written
	Problems []string   `json:"problems,omitempty"` // that have nothing to do with any tag
}

// AskedTag is what would become of a tag.
type AskedTag struct {
	Image       string        `json:"image"`
	Destination string        `json:"destination,omitempty"` // its name in the recipe
	Repository  string        `json:"repository"`
	Platform    string        `json:"platform,omitempty"` // whose image the tag is for; empty: the index
	Tag         string        `json:"tag,omitempty"`
	Outcome     string        `json:"outcome"`
	Now         digest.Digest `json:"now,omitempty"` // what it stands on
	Why         string        `json:"why,omitempty"`
}

// unwrittenTags returns the tags that are not written, those of an image with the same reason as one.
func unwrittenTags(tags []AskedTag) (list []AskedTag) {
	for _, t := range tags {
		if t.Outcome != TagRefused && t.Outcome != TagHeld {
			continue
		}
		last := len(list) - 1
		if last >= 0 && list[last].Image == t.Image && list[last].Outcome == t.Outcome && list[last].Why == t.Why {
			list[last].Tag += ", " + t.Tag
			continue
		}
		list = append(list, t)
	}
	return list
}

// AskedText returns a table of the tags, with those that would be refused told below it.
func AskedText(p Paint, a *Asked) string {
	w := &strings.Builder{}
	var rows [][]string
	for _, t := range a.Tags {
		outcome, tag, now := t.Outcome, t.Tag, ""
		switch t.Outcome {
		case TagRefused:
			outcome = p.Wrong("✗ refused")
		case TagHeld:
			outcome = p.Muted("○ held")
		case TagNone:
			outcome, tag = "by digest", "-"
		}
		if t.Now != "" {
			now = p.Digest(t.Now)
		}
		rows = append(rows, []string{p.Bold(strings.TrimSpace(t.Image + " " + t.Platform)), t.Repository, p.Accent(tag), outcome, now})
	}
	if len(rows) > 0 {
		Table(w, p, []string{"image", "repository", "tag", "would be", "stands on"}, rows)
	}
	for _, line := range unwrittenTags(a.Tags) {
		mark, why := "  ", p.Muted("held back: "+line.Why)
		if line.Outcome == TagRefused {
			mark, why = p.Wrong("✗ "), line.Why
		}
		fmt.Fprintf(w, "%s%s: %s\n", mark, p.Bold(line.Image+" "+line.Tag), why)
	}
	if a.Nothing != "" {
		fmt.Fprintln(w, "nothing to ship: "+a.Nothing)
	}
	return w.String() // the first of the problems is the error that the command ends with
}

// TagHistory is what a tag stood on, the oldest first.
type TagHistory struct {
	Repository string     `json:"repository"`
	Tag        string     `json:"tag"`
	Logged     bool       `json:"logged"` // the registry keeps a log of its own
	History    []TagStood `json:"history"`
}

// TagStood is what a tag stood on from a time on.
type TagStood struct {
	Time     time.Time     `json:"time"`
	Digest   digest.Digest `json:"digest,omitempty"` // empty: it was deleted
	There    bool          `json:"there"`            // the image still is
	Version  string        `json:"version,omitempty"`
	Revision string        `json:"revision,omitempty"`
	Who      string        `json:"who,omitempty"`
	Why      string        `json:"why,omitempty"`
	From     string        `json:"from"`              // who tells: registry, receipt, written here, seen here, seen now
	Receipt  string        `json:"receipt,omitempty"` // of the run that wrote it
}

// TagHistoryText returns a row for each thing that a tag stood on, the newest first.
func TagHistoryText(p Paint, h *TagHistory, now time.Time) string {
	var rows [][]string
	for i := len(h.History) - 1; i >= 0; i-- {
		one := h.History[i]
		image, told := p.Muted("deleted"), one.From
		if one.Digest != "" {
			image = p.Digest(one.Digest)
			if !one.There {
				image += p.Muted(" (gone)")
			}
		}
		if one.Who != "" {
			told += ", " + one.Who
		}
		if one.Receipt != "" && one.From != "receipt" {
			told += ", receipt"
		}
		if one.Receipt != "" {
			told += " " + one.Receipt
		}
		rows = append(rows, []string{Ago(one.Time, now), image, one.Version, one.Revision[:min(len(one.Revision), 7)], told, one.Why})
	}
	text := RowsText(p, "", []string{"since", "digest", "version", "revision", "told by", "because"}, rows)
	if !h.Logged {
		text += p.Muted("the registry keeps no log of tags: this is what receipts and this machine know") + "\n"
	}
	return text
}

// TagBack is a tag that was moved back.
type TagBack struct {
	Repository string        `json:"repository"`
	Tag        string        `json:"tag"`
	From       digest.Digest `json:"from"`
	To         digest.Digest `json:"to"`
	Why        string        `json:"why"`
	DryRun     bool          `json:"dryRun"`
}

// TagBackText tells where a tag stands now.
func TagBackText(p Paint, b *TagBack) string {
	name := p.Bold(b.Repository + ":" + b.Tag)
	switch {
	case b.From == b.To:
		return fmt.Sprintf("%s stands on %s already\n", name, b.To)
	case b.DryRun:
		return fmt.Sprintf("%s would go back\n  from %s\n  to   %s\n", name, b.From, b.To)
	}
	return fmt.Sprintf("%s went back\n  from %s\n  to   %s\n", name, b.From, b.To)
}

// Foreseen is what a repository would hold if it was pushed to as until now, and a rule was applied each day.
type Foreseen struct {
	Repository string          `json:"repository"`
	Points     []ForeseenPoint `json:"points"`
}

// ForeseenPoint is what it would hold at a time. Bytes count what was new with each image.
type ForeseenPoint struct {
	Time     time.Time `json:"time"`
	Pushed   int       `json:"pushed"` // images until then, those that are there now included
	Images   int       `json:"images"`
	Tags     int       `json:"tags"`
	Bytes    int64     `json:"bytes"`
	AllBytes int64     `json:"allBytes"` // where nothing is deleted
}

// ForeseenText returns a row for each point.
func ForeseenText(p Paint, f *Foreseen, now time.Time) string {
	var rows [][]string
	for _, one := range f.Points {
		rows = append(rows, []string{fmt.Sprintf("in %d days", int(one.Time.Sub(now).Hours()+0.5)/24), fmt.Sprint(one.Pushed), fmt.Sprint(one.Images), fmt.Sprint(one.Tags), Size(one.Bytes), Size(one.AllBytes)})
	}
	return RowsText(p, "", []string{"", "pushed", "images kept", "tags kept", "they take", "without the rule"}, rows) +
		p.Muted("as if it was pushed to as until now, and the rule was applied each day; nothing was deleted") + "\n"
}
