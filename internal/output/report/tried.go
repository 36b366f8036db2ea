package report

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Tried is something that was started in the background.
type Tried struct {
	Name     string    `json:"name"`
	Image    string    `json:"image"`
	Platform string    `json:"platform"`
	State    string    `json:"state"` // running, ended, failed, or killed
	Process  int       `json:"process"`
	Started  time.Time `json:"started"`
	Status   *int      `json:"status,omitempty"` // exit code, once it ended
}

// TriedText returns a row for each.
func TriedText(p Paint, list []Tried, now time.Time) string {
	w := &strings.Builder{}
	var rows [][]string
	for _, t := range list {
		state := t.State
		switch {
		case t.State == "running":
			state = p.Accent(fmt.Sprintf("● running as %d", t.Process))
		case t.Status != nil:
			state = p.Muted(fmt.Sprintf("○ ended with %d", *t.Status))
		default:
			state = p.Wrong("✗ " + state)
		}
		rows = append(rows, []string{p.Bold(t.Name), t.Image, t.Platform, state, humanize.RelTime(t.Started, now, "ago", "from now")})
	}
	if len(rows) == 0 {
		fmt.Fprintln(w, "nothing runs in the background")
		return w.String()
	}
	Table(w, p, []string{"name", "image", "platform", "state", "started"}, rows)
	return w.String()
}
