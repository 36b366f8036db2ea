package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/lock"
)

// CheckText tells what a check of the store found.
func CheckText(p Paint, r *store.Report) string {
	w := &strings.Builder{}
	left := 0
	for _, f := range r.Findings {
		mark, done := p.Wrong("✗"), ""
		if f.Done != "" {
			mark, done = p.Accent("●"), p.Muted(" ("+f.Done+")")
		} else {
			left++
		}
		fmt.Fprintf(w, "%s %s: %s%s\n", mark, f.Path, f.What, done)
	}
	end := p.Accent("nothing wrong")
	switch {
	case left > 0:
		end = p.Wrong(Count(left, "finding"))
	case len(r.Findings) > 0:
		end = p.Accent(Count(len(r.Findings), "finding") + ", all repaired")
	}
	fmt.Fprintf(w, "read %s (%s), %s and %s: %s\n",
		Count(r.Blobs, "blob"), Size(r.Bytes), Count(r.Images, "image"), Count(r.Records, "record"), end)
	return w.String()
}

// Name is an image of the store by its name; the name is empty of an image that is known by its digest alone.
type Name struct {
	Name    string        `json:"name"`
	Project string        `json:"project,omitempty"` // whose it is: the path of a recipe
	Digest  digest.Digest `json:"digest"`
}

// Names are images whose names were given or taken.
type Names struct {
	Names []Name `json:"images"`
}

// NamesText returns a line for each image.
func NamesText(p Paint, act string, d *Names) string {
	w := &strings.Builder{}
	for _, n := range d.Names {
		name := p.Bold(n.Name)
		if n.Name == "" {
			name = p.Muted("(no name)")
		}
		fmt.Fprintf(w, "%s %s  %s\n", act, name, p.Muted(string(n.Digest)))
	}
	return w.String()
}

// UsageText tells what a store holds, and what share of the room that is.
func UsageText(p Paint, dir string, u store.Usage) string {
	w := &strings.Builder{}
	fmt.Fprintln(w, p.Bold(dir))
	var rows [][]string
	for _, r := range []struct {
		holds        string
		bytes, files int64
	}{
		{"images that are listed", u.Images, u.Files.Images},
		{"layers of finished steps", u.Layers, u.Files.Layers},
		{"bases, fetched files, images without a name", u.Other, u.Files.Other},
		{"records and indexes", u.Saved, u.Files.Saved},
		{"trees unpacked for commands", u.Unpacked, u.Files.Unpacked},
		{"kept directories", u.Kept, u.Files.Kept},
		{"workbenches", u.Benches, u.Files.Benches},
		{"unfinished", u.Unsorted, u.Files.Unsorted},
	} {
		rows = append(rows, []string{r.holds, humanize.Comma(r.files), Size(r.bytes), fmt.Sprintf("%d %%", percent(r.bytes, u.Total))})
	}
	rows = append(rows, []string{p.Bold("in all"), p.Bold(humanize.Comma(u.Files.Total)), p.Bold(Size(u.Total)), ""})
	Table(w, p, []string{"holds", "files", "size", "share"}, rows)
	return w.String()
}

// percent is a share of a whole, rounded.
func percent(part, whole int64) int64 {
	if whole == 0 {
		return 0
	}
	return (part*100 + whole/2) / whole
}

// BoundedText tells what was removed so that a store keeps within its bound, and what could not be.
func BoundedText(p Paint, b *store.Bounded, most int64) string {
	w := &strings.Builder{}
	if b.Bytes > 0 {
		what := Count(b.Files, "file")
		if b.Trees > 0 {
			what = Count(b.Trees, "unpacked tree") + ", " + what
		}
		fmt.Fprintln(w, p.Muted(fmt.Sprintf("removed %s, %s, that can be made again: the store had more than %s (store: at-most)", what, Size(b.Bytes), Size(most))))
	}
	if b.Over > 0 {
		why := "there was no time to remove more; the next command goes on, and `imbricat store trim --keep SIZE` takes as long as it needs"
		if b.Held {
			why = "all of it is in use or unfinished; `imbricat store size` tells what it is"
		}
		fmt.Fprintf(w, "warning: the store has %s more than %s (store: at-most) of what can be made again: %s\n", Size(b.Over), Size(most), why)
	}
	return w.String()
}

// TrimmedText tells what trimming removed.
func TrimmedText(p Paint, t *store.Trimmed, dry bool) string {
	w := &strings.Builder{}
	act := "removed"
	if dry {
		act = "would remove"
	}
	line := fmt.Sprintf("%s %s, %s; the store has %s", act, Count(t.Files, "file"), Size(t.Bytes), p.Bold(Size(t.Left.Total)))
	if dry {
		line += " then"
	}
	if t.Kept > 0 {
		line += p.Muted(fmt.Sprintf("; %s in use, kept", Count(t.Kept, "file")))
	}
	fmt.Fprintln(w, line)
	return w.String()
}

// ForgottenText tells what was dropped with a place, and what is to be built again.
func ForgottenText(p Paint, f *store.Forgotten) string {
	w := &strings.Builder{}
	if f.Records+f.Runs+f.Indexes+len(f.Images) == 0 {
		fmt.Fprintf(w, "nothing in the store came from %s\n", f.Place)
		return w.String()
	}
	fmt.Fprintf(w, "forgot %s: %s, %s of commands, %s of bases\n", p.Bold(f.Place), Count(f.Records, "layer"), Count(f.Runs, "result"), Count(f.Indexes, "layer"))
	if len(f.Kept) > 0 {
		fmt.Fprintf(w, "removed kept directories that such commands filled: %s\n", strings.Join(f.Kept, ", "))
	}
	for _, name := range f.Images {
		fmt.Fprintf(w, "%s %s holds a layer from there: build it again\n", p.Wrong("!"), name)
	}
	return w.String()
}

// Lock is the outcome of lock.
type Lock struct {
	File        string                   `json:"file"`
	Bases       map[string]digest.Digest `json:"bases"`
	Differences []lock.Difference        `json:"differences"` // what changed, or would
	Images      []LockedImage            `json:"images"`      // that the lock divides into layers
	Stale       bool                     `json:"stale"`
	Written     bool                     `json:"written"`
}

// LockedImage is the division of an image. Sizes are in bytes, before compression.
type LockedImage struct {
	Image    string `json:"image"`
	Layers   int    `json:"layers"`
	Lines    int    `json:"lines"` // of the lock
	Changed  bool   `json:"changed"`
	History  string `json:"history"` // what tells how files change: registry, git, store, or empty
	Versions int    `json:"versions"`
	Shallow  bool   `json:"shallow"`
	Static   bool   `json:"static"` // a cut by folders did better on the newest versions than what their past tells
	// Before is what a version that changes the image is expected to push with the division that was there, packed, in bytes; After with
	// this one, and Moved is pushed once for it.
	Before int64  `json:"before"`
	After  int64  `json:"after"`
	Moved  int64  `json:"moved"`
	Note   string `json:"note,omitempty"`
}

// writeLocked writes what became of divisions.
func writeLocked(w *strings.Builder, p Paint, images []LockedImage) {
	for _, i := range images {
		mark := p.Muted("○ unchanged")
		if i.Changed {
			mark = p.Accent("● divided  ")
		}
		if i.Note != "" {
			if !i.Changed {
				mark = p.Muted("· undivided")
			}
			fmt.Fprintf(w, "%s  %s  %s\n", mark, p.Bold(i.Image), i.Note)
			continue
		}
		from := map[string]string{"registry": "published version", "git": "commit", "store": "earlier build"}[i.History]
		text := Count(i.Layers, "layer")
		if from != "" {
			text += ", from " + Count(i.Versions, from)
		}
		if i.Shallow {
			text += " (a shallow clone: older commits are not seen)"
		}
		fmt.Fprintf(w, "%s  %s  %s\n", mark, p.Bold(i.Image), text)
		saves := fmt.Sprintf("a version that changes the image is expected to push %s", Size(i.After))
		if i.Changed && i.Before != i.After {
			saves += fmt.Sprintf(" instead of %s, packed; moving to it pushes %s once", Size(i.Before), Size(i.Moved))
		}
		if i.Static {
			saves += "; cut by folders, which did better lately than what the past tells"
		}
		fmt.Fprintln(w, p.Muted("             "+saves))
	}
}

// LockText tells what the bases stand for, and what became of divisions.
func LockText(p Paint, l *Lock) string {
	w := &strings.Builder{}
	changed := map[string]lock.Difference{}
	for _, d := range l.Differences {
		changed[d.Reference] = d
	}
	for _, reference := range slices.Sorted(maps.Keys(l.Bases)) {
		mark, was := p.Muted("○ unchanged"), ""
		if d, is := changed[reference]; is {
			mark = p.Accent("● new      ")
			if d.Locked != "" {
				mark, was = p.Accent("● moved    "), p.Muted("  was "+p.Digest(d.Locked))
			}
		}
		fmt.Fprintf(w, "%s  %s  %s%s\n", mark, reference, p.Digest(l.Bases[reference]), was)
	}
	for _, d := range l.Differences {
		if d.Now == "" {
			fmt.Fprintf(w, "%s  %s\n", p.Accent("● gone     "), d.Reference)
		}
	}
	writeLocked(w, p, l.Images)
	what := Count(len(l.Bases), "base")
	if n := len(l.Images); n > 0 {
		what += ", " + Count(n, "division")
	}
	switch {
	case l.Written:
		fmt.Fprintf(w, "wrote %s: %s\n", l.File, what)
		return w.String()
	case !l.Stale && len(l.Bases)+len(l.Images) == 0:
		fmt.Fprintln(w, "the recipe names no base by a tag: there is nothing to lock")
		return w.String()
	case !l.Stale:
		fmt.Fprintf(w, "%s is up to date: %s\n", l.File, what)
		return w.String()
	}
	return w.String()
}

// SharedTrim tells what went of a shared cache, and what is left. Bytes are those of entries and layers, each once.
type SharedTrim struct {
	Place     string `json:"place"`
	Entries   int    `json:"entries"` // that went: each is what one build shared
	Layers    int    `json:"layers"`  // that nothing lists any more
	Bytes     int64  `json:"bytes"`
	Left      int    `json:"left"` // entries
	LeftBytes int64  `json:"leftBytes"`
	Deleted   int    `json:"deleted"`             // earlier lists, which would keep a registry from removing what they name
	Undeleted string `json:"undeleted,omitempty"` // why some of these are still there
}

// SharedTrimText tells what went of a shared cache, and what is left.
func SharedTrimText(p Paint, t *SharedTrim, dry bool) string {
	verb := "dropped"
	if dry {
		verb = "would drop"
	}
	text := fmt.Sprintf("%s %s and %s, %s\n", verb, entries(t.Entries), Count(t.Layers, "layer"), Size(t.Bytes))
	text += fmt.Sprintf("%s are left, %s\n", entries(t.Left), Size(t.LeftBytes))
	if t.Deleted > 0 {
		text += p.Muted(fmt.Sprintf("deleted %s; the content itself goes when the registry removes what nothing lists", Count(t.Deleted, "earlier list"))) + "\n"
	}
	return text
}

// entries counts those of a shared cache.
func entries(n int) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}
