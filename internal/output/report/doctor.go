package report

import (
	"fmt"
	"strings"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/receipt"
)

// Level tells how a check of the machine went.
type Level string

// The levels of a check.
const (
	Good Level = "good"
	Note Level = "note" // something is missing that builds do without
	Bad  Level = "bad"
)

// Doctor is what a machine can do.
type Doctor struct {
	Version  string  `json:"version"`
	Go       string  `json:"go"`
	Platform string  `json:"platform"`
	Cores    int     `json:"cores"`
	Checks   []Check `json:"checks"`
}

// Check is one thing that was tried.
type Check struct {
	Name  string `json:"name"`
	Level Level  `json:"level"`
	What  string `json:"what"`
	Mend  string `json:"mend,omitempty"`
}

// DoctorText returns one line for each check, and how to mend what is wrong.
func DoctorText(p Paint, d *Doctor) string {
	w := &strings.Builder{}
	fmt.Fprintf(w, "imbricat %s (%s), %s, %s\n", d.Version, d.Go, d.Platform, Count(d.Cores, "core"))
	for _, c := range d.Checks {
		mark := p.Accent("● good")
		switch c.Level {
		case Note:
			mark = p.Muted("○ note")
		case Bad:
			mark = p.Wrong("✗ bad ")
		}
		fmt.Fprintf(w, "%s  %-20s %s\n", mark, c.Name, c.What)
		if c.Mend != "" {
			fmt.Fprintf(w, "%30s%s\n", "", p.Muted("→ "+c.Mend))
		}
	}
	return w.String()
}

// Support is what somebody who helps wants to know. It holds no secret.
type Support struct {
	Made        time.Time         `json:"made"`
	Program     string            `json:"program"`
	Machine     *receipt.Machine  `json:"machine"`
	Doctor      *Doctor           `json:"doctor"`
	Environment map[string]string `json:"environment"`
	Settings    any               `json:"settings,omitempty"`
	Recipe      *SupportRecipe    `json:"recipe,omitempty"`
	Store       *store.Usage      `json:"store,omitempty"`
	Builds      []PastBuild       `json:"builds"` // the last ones, of every project
}

// SupportRecipe names a recipe without telling what it says.
type SupportRecipe struct {
	Files    []string      `json:"files"`
	Digest   digest.Digest `json:"digest"`
	Mistakes string        `json:"mistakes,omitempty"`
}
