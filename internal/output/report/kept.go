package report

import (
	"fmt"
	"io"
	"time"

	"github.com/dustin/go-humanize"
)

// KeptDirectory is a directory that outlives run steps.
type KeptDirectory struct {
	Name  string    `json:"name"`
	Files int       `json:"files"`
	Bytes int64     `json:"bytes"`
	Used  time.Time `json:"used"`
	By    string    `json:"by,omitempty"` // the step that had it last
}

// WriteKept writes a row for each.
func WriteKept(w io.Writer, p Paint, list []KeptDirectory, now time.Time) error {
	if len(list) == 0 {
		_, err := fmt.Fprintln(w, "no directory is kept")
		return err
	}
	var rows [][]string
	for _, k := range list {
		rows = append(rows, []string{p.Bold(k.Name), Count(k.Files, "file"), Size(k.Bytes), humanize.RelTime(k.Used, now, "ago", "from now"), p.Muted(k.By)})
	}
	return Table(w, p, []string{"name", "files", "size", "used", "by"}, rows)
}
