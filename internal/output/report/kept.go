package report

import (
	"fmt"
	"strings"
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

// KeptText returns a row for each.
func KeptText(p Paint, list []KeptDirectory, now time.Time) string {
	w := &strings.Builder{}
	if len(list) == 0 {
		fmt.Fprintln(w, "no directory is kept")
		return w.String()
	}
	var rows [][]string
	for _, k := range list {
		rows = append(rows, []string{p.Bold(k.Name), Count(k.Files, "file"), Size(k.Bytes), humanize.RelTime(k.Used, now, "ago", "from now"), p.Muted(k.By)})
	}
	Table(w, p, []string{"name", "files", "size", "used", "by"}, rows)
	return w.String()
}
