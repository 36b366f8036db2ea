package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
)

// Tried is something that was started in the background.
type Tried struct {
	Name     string       `json:"name"`
	Image    string       `json:"image"`
	Platform string       `json:"platform"`
	State    string       `json:"state"` // starting, running, ended, failed, or killed
	Process  int          `json:"process"`
	Started  time.Time    `json:"started"`
	Status   *int         `json:"status,omitempty"`  // exit code, once it ended
	Network  string       `json:"network,omitempty"` // that it shares with others
	Relays   []TriedRelay `json:"relays,omitempty"`
}

// TriedRelay is a port of this machine that leads to one of the command.
type TriedRelay struct {
	At   string `json:"at"`
	Port int    `json:"port"`
}

// TriedText returns a row for each.
func TriedText(p Paint, list []Tried, now time.Time) string {
	w := &strings.Builder{}
	var rows [][]string
	together := false
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
		var ways []string
		for _, r := range t.Relays {
			ways = append(ways, fmt.Sprintf("%s leads to %d", r.At, r.Port))
		}
		together = together || t.Network != ""
		rows = append(rows, []string{p.Bold(t.Name), t.Image, t.Platform, state, t.Network, strings.Join(ways, "\n"), humanize.RelTime(t.Started, now, "ago", "from now")})
	}
	if len(rows) == 0 {
		fmt.Fprintln(w, "nothing runs in the background")
		return w.String()
	}
	head := []string{"name", "image", "platform", "state", "together", "relays", "started"}
	if !together {
		for i, row := range rows {
			rows[i] = slices.Delete(row, 4, 6)
		}
		head = slices.Delete(head, 4, 6)
	}
	Table(w, p, head, rows)
	return w.String()
}
