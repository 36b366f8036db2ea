package report

import (
	"fmt"
	"strings"

	"imbricat/internal/ground/digest"
)

// Verification is what images were found to be.
type Verification struct {
	Subjects []Verified `json:"verified"`
}

// Verified is an image that was held against what is said of it. Sizes are in bytes.
type Verified struct {
	Subject   string                   `json:"subject"` // a reference, or a receipt
	Digest    digest.Digest            `json:"digest,omitempty"`
	Platforms map[string]digest.Digest `json:"platforms,omitempty"`
	Documents int                      `json:"documents"` // that were read
	Blobs     int                      `json:"blobs"`
	Bytes     int64                    `json:"bytes"`
	Read      bool                     `json:"read"`     // blobs were read whole, and not only asked for
	Findings  []string                 `json:"findings"` // what is missing or differs
}

// Findings counts what is wrong.
func (v *Verification) Findings() (n int) {
	for _, one := range v.Subjects {
		n += len(one.Findings)
	}
	return n
}

// VerificationText returns a line for each image, and one for each thing that is wrong below it.
func VerificationText(p Paint, v *Verification) string {
	w := &strings.Builder{}
	for _, one := range v.Subjects {
		how := "there"
		if one.Read {
			how = "read"
		}
		head, tail := p.Muted("○ holds   "), fmt.Sprintf("  %s, %s %s: %s", Count(one.Documents, "document"), Count(one.Blobs, "blob"), how, Size(one.Bytes))
		if len(one.Findings) > 0 {
			head, tail = p.Wrong("✗ differs "), ""
		}
		fmt.Fprintf(w, "%s%s%s\n", head, one.Subject, p.Muted(tail))
		for _, text := range one.Findings {
			fmt.Fprintf(w, "            %s\n", text)
		}
	}
	return w.String()
}
