package report

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
)

// Rows writes a table, or one line where it would be empty.
func Rows(w io.Writer, p Paint, empty string, head []string, rows [][]string) error {
	if len(rows) == 0 {
		_, err := fmt.Fprintln(w, empty)
		return err
	}
	for _, row := range rows {
		row[0] = p.Bold(row[0])
	}
	return Table(w, p, head, rows)
}

// WriteRepository writes what to do with a new repository of the stand-in, ready to be pasted.
func WriteRepository(w io.Writer, p Paint, address, name string, created bool) error {
	first := "made the repository " + p.Bold(name)
	if !created {
		first = "the repository " + p.Bold(name) + " exists already"
	}
	_, err := fmt.Fprintf(w, `%s

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
	return err
}

// Tags is the list of a repository's tags.
type Tags struct {
	Repository string `json:"repository"`
	Tags       []Tag  `json:"tags"`
}

// Tag is a tag with what it stands for. Bytes counts the blobs of all platforms, each once.
type Tag struct {
	Tag       string        `json:"tag"`
	Digest    digest.Digest `json:"digest"`
	Platforms []string      `json:"platforms"`
	Created   time.Time     `json:"created,omitzero"` // of the image; absent where it does not say
	Pushed    time.Time     `json:"pushed,omitzero"`  // absent where the registry does not tell
	Bytes     int64         `json:"bytes"`
}

// WriteTags writes one row for each tag.
func WriteTags(w io.Writer, p Paint, d *Tags, now time.Time) error {
	var rows [][]string
	for _, t := range d.Tags {
		rows = append(rows, []string{t.Tag, strings.Join(t.Platforms, ", "), Ago(t.Created, now), Ago(t.Pushed, now), Size(t.Bytes), string(t.Digest)})
	}
	return Rows(w, p, d.Repository+" has no tags", []string{"tag", "platforms", "created", "pushed", "size", "digest"}, rows)
}

// Verdict is a tag that a rule keeps, or not, and why.
type Verdict struct {
	Tag    string        `json:"tag"`
	Digest digest.Digest `json:"digest"`
	Reason string        `json:"reason"`
}

// WriteVerdicts writes what stays and what goes.
func WriteVerdicts(w io.Writer, p Paint, kept, gone []Verdict, digests int, dry bool) error {
	var rows [][]string
	for _, v := range kept {
		rows = append(rows, []string{v.Tag, "stays", digest.Short(v.Digest), v.Reason})
	}
	went := "deleted"
	if dry {
		went = "would go"
	}
	for _, v := range gone {
		rows = append(rows, []string{v.Tag, went, digest.Short(v.Digest), v.Reason})
	}
	if err := Rows(w, p, "there are no tags", []string{"tag", "", "digest", "because"}, rows); err != nil {
		return err
	}
	if err := writeLeft(w, p, kept, gone); err != nil {
		return err
	}
	verb := "deleted"
	if dry {
		verb = "would delete"
	}
	_, err := fmt.Fprintf(w, "%s %s and %s\n", verb, Count(len(gone), "tag"), Count(digests, "digest"))
	return err
}

// writeLeft writes what is left of each image that loses a tag.
func writeLeft(w io.Writer, p Paint, kept, gone []Verdict) error {
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
		if _, err := fmt.Fprintf(w, "%s %s\n", what, p.Muted(digest.Short(d))); err != nil {
			return err
		}
	}
	return nil
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

// WriteFates writes one row for each tag.
func WriteFates(w io.Writer, p Paint, d *Fates) error {
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
			state = "moved to " + string(f.Now)
		}
		rows = append(rows, []string{f.Repository + ":" + f.Tag, state, string(f.Digest)})
	}
	return Rows(w, p, "the run was to write no tag", []string{"tag", "now", "image"}, rows)
}
