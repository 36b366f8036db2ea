package report

import (
	"fmt"

	"imbricat/internal/output/receipt"
)

// Taken is what take wrote into a folder.
type Taken struct {
	Name      string            `json:"name"` // of a stage or an image
	Platform  string            `json:"platform"`
	Folder    string            `json:"folder"`
	Files     int               `json:"files"` // and links
	Bytes     int64             `json:"bytes"`
	Written   int               `json:"written"`
	Unchanged int               `json:"unchanged"` // were there already
	Warnings  []receipt.Warning `json:"warnings"`
	Number    int64             `json:"build"` // in the logbook
}

// TakenText tells what take wrote.
func TakenText(p Paint, t Taken) string {
	return fmt.Sprintf("%s %s → %s  %s, %s: %d written, %d unchanged\n", p.Bold(t.Name), t.Platform, t.Folder, Count(t.Files, "file"), Size(t.Bytes), t.Written, t.Unchanged)
}
