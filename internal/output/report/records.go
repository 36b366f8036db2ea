package report

import (
	"fmt"
	"strings"

	"imbricat/internal/content/store"
)

// What became of a record whose command was run again.
const (
	RecordSame     = "same"     // it left the same
	RecordWrong    = "wrong"    // it leaves something else now, each time the same: the record must not be reused
	RecordUnstable = "unstable" // it leaves something else each time
	RecordFailed   = "failed"   // it does not end well any more
)

// StoreProof is what was found of a store: by reading it, and by running commands again.
type StoreProof struct {
	Store   *store.Report  `json:"store"`
	Of      int            `json:"of"` // records that the recipe's steps reuse
	Records []ProvenRecord `json:"records"`
}

// ProvenRecord is a record whose command was run again on the view that the step has now.
type ProvenRecord struct {
	Place    string   `json:"place"`
	Step     string   `json:"step"`
	Platform string   `json:"platform"`
	Reused   int      `json:"reused"` // how often, by the logbook
	Outcome  string   `json:"outcome"`
	Files    []string `json:"files,omitempty"` // that differ, at most 20
	What     string   `json:"what,omitempty"`  // of a failure
}

// Wrong counts the records that must not be reused.
func (p *StoreProof) Wrong() (n int) {
	for _, r := range p.Records {
		if r.Outcome == RecordWrong || r.Outcome == RecordFailed {
			n++
		}
	}
	return n
}

// StoreProofText tells what was found.
func StoreProofText(p Paint, d *StoreProof) string {
	w := &strings.Builder{}
	w.WriteString(CheckText(p, d.Store))
	fmt.Fprintf(w, "%d of %s that the recipe's steps reuse were run again\n", len(d.Records), Count(d.Of, "record"))
	for _, r := range d.Records {
		head, tail := p.Muted("○ same     "), ""
		switch r.Outcome {
		case RecordWrong:
			head, tail = p.Wrong("✗ wrong    "), "  leaves something else now, each time the same: "+strings.Join(r.Files, ", ")
		case RecordUnstable:
			head, tail = p.Accent("● unstable "), "  leaves something else each time: "+strings.Join(r.Files, ", ")+" (`imbricat verify` tells why)"
		case RecordFailed:
			head, tail = p.Wrong("✗ failed   "), "  "+r.What
		}
		fmt.Fprintf(w, "%s%s %s  %s  %s%s\n", head, p.Bold(r.Place), r.Platform, r.Step, p.Muted("reused "+Count(r.Reused, "time")), tail)
	}
	return w.String()
}
