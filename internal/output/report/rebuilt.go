package report

import (
	"fmt"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
)

// How far what was published and what was built again are equal.
const (
	EqualDigest = "digest" // byte for byte
	EqualLayers = "layers" // the layers hold the same, and the settings are the same; they are packed otherwise, or something else is said of them
	EqualFiles  = "files"  // the files and settings are the same, in other layers
)

// Rebuilt is what became of building again what was published.
type Rebuilt struct {
	Reference string        `json:"reference"`
	Image     string        `json:"image"` // of the recipe
	Digest    digest.Digest `json:"digest"`
	Again     digest.Digest `json:"again,omitempty"`
	Equal     string        `json:"equal"`            // digest, layers, files; empty: they differ
	Failed    string        `json:"failed,omitempty"` // a step that did not end well
	Needs     []Need        `json:"needs"`
	Varied    []Condition   `json:"varied"`
	Compared  []*Compared   `json:"compared"` // for platforms that differ
	Seconds   float64       `json:"seconds"`
}

// Need is something that building again takes.
type Need struct {
	Name string `json:"name"` // commit, changes, recipe, lock, base, predecessor, platform
	What string `json:"what"`
	Had  bool   `json:"had"`
}

// RebuiltText tells how far images are what was published, and what that took. top bounds each list; 0: all.
func RebuiltText(p Paint, all []*Rebuilt, top int) string {
	w := &strings.Builder{}
	for _, r := range all {
		head := p.Wrong("✗ differs ")
		tail := ""
		switch r.Equal {
		case EqualDigest:
			head, tail = p.Muted("○ equal   "), "byte for byte, "+p.Digest(r.Digest)
		case EqualLayers:
			head, tail = p.Muted("○ equal   "), "layer by layer; packed otherwise, or said otherwise of: "+p.Digest(r.Digest)+", again "+p.Digest(r.Again)
		case EqualFiles:
			head, tail = p.Muted("○ equal   "), "file by file, in other layers: "+p.Digest(r.Digest)+", again "+p.Digest(r.Again)
		default:
			if tail = p.Digest(r.Digest) + ", again " + p.Digest(r.Again); r.Failed != "" {
				tail = r.Failed
			}
		}
		fmt.Fprintf(w, "%s%s  %s, in %s\n", head, p.Bold(r.Reference), tail, Took(time.Duration(r.Seconds*float64(time.Second))))
		for _, n := range r.Needs {
			sign := p.Muted("had    ")
			if !n.Had {
				sign = p.Wrong("lacked ")
			}
			fmt.Fprintf(w, "  %s%-12s %s\n", sign, n.Name, n.What)
		}
		for _, one := range r.Compared {
			fmt.Fprintf(w, "\n%s", ComparedText(p, one, top))
		}
	}
	return w.String()
}
