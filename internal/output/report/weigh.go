package report

import (
	"fmt"
	"strings"
)

// Replay is what the versions of a history would have cost with the layers of today. Sizes are in bytes, before compression.
type Replay struct {
	Image    string          `json:"image"`
	Platform string          `json:"platform"`
	From     string          `json:"from"`
	To       string          `json:"to"`
	Names    []string        `json:"strategies"`
	Versions []ReplayVersion `json:"versions"`
	Totals   []ReplayBytes   `json:"totals"` // by strategy
	Changed  int64           `json:"changed"`
}

// ReplayVersion is what one version costs, by strategy.
type ReplayVersion struct {
	Name    string        `json:"version"`
	Changed int64         `json:"changed"` // of files that differ from the version before
	Bytes   []ReplayBytes `json:"bytes"`
}

// ReplayBytes is what a version, or all, pushes, and what a node unpacks of it that has the version before.
type ReplayBytes struct {
	Layers   int   `json:"layers"`
	Pushed   int64 `json:"pushed"`
	Unpacked int64 `json:"unpacked"`
}

// ReplaysText returns a line for each version with a bar for what today's layers push of it, and what a single layer would beyond that.
func ReplaysText(p Paint, list []Replay) string {
	w := &strings.Builder{}
	for n, r := range list {
		if n > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s %s  %s from %s to %s\n", p.Bold(r.Image), r.Platform, Count(len(r.Versions), "version"), shorten(r.From, 20), shorten(r.To, 20))
		if len(r.Versions) == 0 {
			fmt.Fprintln(w, p.Muted("  nothing in this range touched what the image holds"))
			continue
		}
		most := int64(1)
		for _, v := range r.Versions {
			for _, b := range v.Bytes {
				most = max(most, b.Pushed)
			}
		}
		head := fmt.Sprintf("  %-12s %9s", "version", "changed")
		for _, name := range r.Names {
			head += fmt.Sprintf("  %20s", name)
		}
		fmt.Fprintln(w, p.Muted(head+"  pushed / unpacked"))
		for _, v := range r.Versions {
			line := fmt.Sprintf("  %-12s %9s", shorten(v.Name, 12), Size(v.Changed))
			for _, b := range v.Bytes {
				line += fmt.Sprintf("  %9s / %8s", Size(b.Pushed), Size(b.Unpacked))
			}
			own, whole := bar(v.Bytes[0].Pushed, most), bar(v.Bytes[len(v.Bytes)-1].Pushed, most)
			fmt.Fprintln(w, line+"  "+p.Accent(strings.Repeat("█", own))+p.Muted(strings.Repeat("░", max(0, whole-own))))
		}
		line := fmt.Sprintf("  %-12s %9s", "together", Size(r.Changed))
		for _, b := range r.Totals {
			line += fmt.Sprintf("  %9s / %8s", Size(b.Pushed), Size(b.Unpacked))
		}
		fmt.Fprintln(w, p.Bold(line))
	}
	return w.String()
}

// bar is how long a bar is, of at most 16 signs.
func bar(bytes, most int64) int { return int((bytes*16 + most - 1) / most) }
