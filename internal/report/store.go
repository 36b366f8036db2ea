package report

import (
	"fmt"
	"io"
	"maps"
	"slices"

	"imbricat/internal/digest"
	"imbricat/internal/lock"
	"imbricat/internal/store"
)

// WriteCheck writes what a check of the store found.
func WriteCheck(w io.Writer, p Paint, r *store.Report) error {
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
	_, err := fmt.Fprintf(w, "read %s (%s), %s and %s: %s\n",
		Count(r.Blobs, "blob"), Size(r.Bytes), Count(r.Images, "image"), Count(r.Records, "record"), end)
	return err
}

// Name is an image of the store by its name; the name is empty of an image that is known by its digest alone.
type Name struct {
	Name   string        `json:"name"`
	Digest digest.Digest `json:"digest"`
}

// Names are images whose names were given or taken.
type Names struct {
	Names []Name `json:"images"`
}

// WriteNames writes a line for each image.
func WriteNames(w io.Writer, p Paint, act string, d *Names) error {
	for _, n := range d.Names {
		name := p.Bold(n.Name)
		if n.Name == "" {
			name = p.Muted("(no name)")
		}
		if _, err := fmt.Fprintf(w, "%s %s  %s\n", act, name, p.Muted(string(n.Digest))); err != nil {
			return err
		}
	}
	return nil
}

// WriteUsage writes what a store holds.
func WriteUsage(w io.Writer, p Paint, dir string, u store.Usage) error {
	if _, err := fmt.Fprintln(w, p.Bold(dir)); err != nil {
		return err
	}
	return Table(w, p, []string{"holds", "size"}, [][]string{
		{"images that are listed", Size(u.Images)},
		{"layers of finished steps", Size(u.Layers)},
		{"bases, fetched files, images without a name", Size(u.Other)},
		{"records and indexes", Size(u.Saved)},
		{"trees unpacked for commands", Size(u.Unpacked)},
		{"kept directories", Size(u.Kept)},
		{"unfinished", Size(u.Unsorted)},
		{p.Bold("in all"), p.Bold(Size(u.Total))},
	})
}

// WriteTrimmed writes what trimming removed.
func WriteTrimmed(w io.Writer, p Paint, t *store.Trimmed, dry bool) error {
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
	_, err := fmt.Fprintln(w, line)
	return err
}

// Lock is the outcome of lock.
type Lock struct {
	File        string                   `json:"file"`
	Bases       map[string]digest.Digest `json:"bases"`
	Differences []lock.Difference        `json:"differences"` // what changed, or would
	Stale       bool                     `json:"stale"`
	Written     bool                     `json:"written"`
}

// WriteLock writes what the bases stand for.
func WriteLock(w io.Writer, p Paint, l *Lock) error {
	changed := map[string]lock.Difference{}
	for _, d := range l.Differences {
		changed[d.Reference] = d
	}
	for _, reference := range slices.Sorted(maps.Keys(l.Bases)) {
		mark, was := p.Muted("○ unchanged"), ""
		if d, is := changed[reference]; is {
			mark = p.Accent("● new      ")
			if d.Locked != "" {
				mark, was = p.Accent("● moved    "), p.Muted("  was "+digest.Short(d.Locked))
			}
		}
		fmt.Fprintf(w, "%s  %s  %s%s\n", mark, reference, l.Bases[reference], was)
	}
	for _, d := range l.Differences {
		if d.Now == "" {
			fmt.Fprintf(w, "%s  %s\n", p.Accent("● gone     "), d.Reference)
		}
	}
	switch {
	case l.Written:
		_, err := fmt.Fprintf(w, "wrote %s: %s\n", l.File, Count(len(l.Bases), "base"))
		return err
	case !l.Stale && len(l.Bases) == 0:
		_, err := fmt.Fprintln(w, "the recipe names no base by a tag: there is nothing to lock")
		return err
	case !l.Stale:
		_, err := fmt.Fprintf(w, "%s is up to date: %s\n", l.File, Count(len(l.Bases), "base"))
		return err
	}
	return nil
}
