package report

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"imbricat/internal/ground/digest"
)

// Workbench is an image that is built by hand.
type Workbench struct {
	Name     string        `json:"name"`
	Base     string        `json:"base"`
	Platform string        `json:"platform"`
	Opened   time.Time     `json:"opened"`
	Acts     []Act         `json:"acts"`
	Image    digest.Digest `json:"image,omitempty"` // of the index; empty where it is built when it is needed
	Failure  *Failure      `json:"failure,omitempty"`
}

// Failure is the step whose failure a workbench was opened at.
type Failure struct {
	Recipe string `json:"recipe"`
	Place  string `json:"place"`
	Step   string `json:"step"`
	What   string `json:"what"`
}

// Act is one thing that was done at a workbench.
type Act struct {
	Number int       `json:"number"`
	Act    string    `json:"act"`
	Made   time.Time `json:"made"`
}

// Acted tells what an act did.
type Acted struct {
	Workbench string        `json:"workbench"`
	Number    int           `json:"number,omitempty"` // 0: it changed nothing, and is no act
	Act       string        `json:"act"`
	Files     int           `json:"files"`
	Bytes     int64         `json:"bytes"`
	Image     digest.Digest `json:"image"`
}

// WorkbenchesText returns a row for each.
func WorkbenchesText(p Paint, list []Workbench, now time.Time) string {
	w := &strings.Builder{}
	if len(list) == 0 {
		fmt.Fprintln(w, "no workbench is open")
		return w.String()
	}
	var rows [][]string
	for _, b := range list {
		last := b.Opened
		if len(b.Acts) > 0 {
			last = b.Acts[len(b.Acts)-1].Made
		}
		rows = append(rows, []string{p.Bold(b.Name), p.base(&b), b.Platform, Count(len(b.Acts), "act"), humanize.RelTime(last, now, "ago", "from now")})
	}
	Table(w, p, []string{"name", "base", "platform", "acts", "last"}, rows)
	return w.String()
}

// base tells what a workbench was opened on.
func (p Paint) base(b *Workbench) string {
	if d, err := digest.Parse(b.Base); err == nil {
		return p.Digest(d)
	}
	return b.Base
}

// WorkbenchText tells the acts of one.
func WorkbenchText(p Paint, b *Workbench, now time.Time) string {
	w := &strings.Builder{}
	fmt.Fprintf(w, "%s  %s\n", p.Bold(b.Name), p.Muted("on "+p.base(b)+" for "+b.Platform+", opened "+humanize.RelTime(b.Opened, now, "ago", "from now")))
	if f := b.Failure; f != nil {
		fmt.Fprintf(w, "at the failure of %s of %s: %s %s\n", f.Place, f.Recipe, f.Step, p.Wrong(f.What))
	}
	if len(b.Acts) == 0 {
		fmt.Fprintln(w, "nothing was done yet")
		return w.String()
	}
	var rows [][]string
	for _, a := range b.Acts {
		rows = append(rows, []string{fmt.Sprint(a.Number), a.Act, humanize.RelTime(a.Made, now, "ago", "from now")})
	}
	Table(w, p, []string{"", "act", "done"}, rows)
	if b.Image != "" {
		fmt.Fprintf(w, "%s\n", p.Muted(p.Digest(b.Image)))
	}
	return w.String()
}

// ActedText tells what an act did, in a line.
func ActedText(p Paint, a *Acted) string {
	if a.Number == 0 {
		return fmt.Sprintf("%s: %s changed nothing, and is no act\n", p.Bold(a.Workbench), a.Act)
	}
	what := ""
	if a.Files > 0 || a.Bytes > 0 {
		what = fmt.Sprintf(": %s, %s", Count(a.Files, "file"), Size(a.Bytes))
	}
	return fmt.Sprintf("%s %d  %s%s\n", p.Bold(a.Workbench), a.Number, a.Act, what)
}

// WorkbenchChange is a path that differs from what a workbench was opened on.
type WorkbenchChange struct {
	Path   string `json:"path"`
	Change string `json:"change"` // new, changed, gone
	Kind   string `json:"kind"`
	Mode   string `json:"mode"`
	Owner  string `json:"owner"`
	Bytes  int64  `json:"bytes"`
}

// WorkbenchChangesText returns a row for each.
func WorkbenchChangesText(p Paint, list []WorkbenchChange) string {
	w := &strings.Builder{}
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing differs from the base")
		return w.String()
	}
	var rows [][]string
	for _, c := range list {
		change, size := c.Change, ""
		switch c.Change {
		case "new":
			change = p.Accent("+ " + change)
		case "gone":
			change = p.Wrong("- " + change)
		default:
			change = "~ " + change
		}
		if c.Kind == "file" {
			size = Size(c.Bytes)
		}
		rows = append(rows, []string{change, c.Path, c.Kind, c.Mode, c.Owner, size})
	}
	Table(w, p, []string{"", "path", "kind", "mode", "owner", "size"}, rows)
	return w.String()
}
