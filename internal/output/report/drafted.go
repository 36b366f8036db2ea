package report

import (
	"fmt"
	"strings"
)

// Drafted is a recipe that was drafted.
type Drafted struct {
	File     string       `json:"file"`
	Findings []Found      `json:"findings"`
	Bases    []WantedBase `json:"bases"`
}

// Found is what was recognised in a folder of the project, and what tells it.
type Found struct {
	Folder string   `json:"folder"`
	What   string   `json:"what"`
	Why    []string `json:"why"`
}

// WantedBase is a base that the recipe names by a fact; without a reference it is to be filled in.
type WantedBase struct {
	Name      string `json:"name"`
	Fact      string `json:"fact"`
	What      string `json:"what"`
	Reference string `json:"reference,omitempty"`
}

// DraftedText tells what was found, and what is to be done next.
func DraftedText(p Paint, d *Drafted) string {
	w := &strings.Builder{}
	for _, f := range d.Findings {
		where := ""
		if f.Folder != "." {
			where = " in " + f.Folder + "/"
		}
		fmt.Fprintf(w, "found %s%s\n", p.Bold(f.What), where)
		for _, why := range f.Why {
			fmt.Fprintf(w, "  %s\n", p.Muted(why))
		}
	}
	fmt.Fprintf(w, "wrote %s\n", p.Accent(d.File))
	var wanted []WantedBase
	for _, b := range d.Bases {
		if b.Reference == "" {
			wanted = append(wanted, b)
		}
	}
	if len(wanted) == 0 {
		fmt.Fprintln(w, "next: `imbricat plan` tells what a build would do, `imbricat build` builds")
		return w.String()
	}
	fmt.Fprintln(w, "next: write in its facts which images of your registry it starts from:")
	widest := 0
	for _, b := range wanted {
		widest = max(widest, len(b.Fact))
	}
	for _, b := range wanted {
		fmt.Fprintf(w, "  %s%s  %s\n", p.Bold(b.Fact), strings.Repeat(" ", widest-len(b.Fact)), b.What)
	}
	return w.String()
}
