package report

import (
	"fmt"
	"strings"
)

// Affected is what a change between two commits may touch.
type Affected struct {
	Since    string         `json:"since"` // a commit; empty where none is known
	Until    string         `json:"until"` // a commit; empty: the work tree
	Affected []AffectedUnit `json:"affected"`
	Rest     []string       `json:"unaffected"` // images
	Notes    []string       `json:"notes"`      // why the answer may be wider than it need be
}

// AffectedUnit is a stage or an image with the ways by which it is affected.
type AffectedUnit struct {
	Name   string     `json:"name"`
	Kind   string     `json:"kind"`   // image or stage
	Chains [][]string `json:"chains"` // each from its cause on
}

// AffectedText lists what is affected, each with the ways by which it is.
func AffectedText(p Paint, a *Affected) string {
	var out strings.Builder
	images := 0
	for _, u := range a.Affected {
		if u.Kind == "image" {
			images++
		}
		fmt.Fprintf(&out, "%s  %s\n", p.Bold(u.Name), p.Muted(u.Kind))
		for _, c := range u.Chains {
			fmt.Fprintf(&out, "  %s\n", strings.Join(c, p.Muted(" → ")))
		}
	}
	if len(a.Affected) > 0 {
		out.WriteByte('\n')
	}
	all := images + len(a.Rest)
	switch images {
	case 0:
		fmt.Fprintf(&out, "no image of %d is affected\n", all)
	case 1:
		fmt.Fprintf(&out, "1 image of %d is affected\n", all)
	default:
		fmt.Fprintf(&out, "%d images of %d are affected\n", images, all)
	}
	return out.String()
}
