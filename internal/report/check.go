package report

import (
	"fmt"
	"io"

	"imbricat/internal/store"
)

// WriteCheck writes what a check of the store found.
func WriteCheck(w io.Writer, p Paint, r *store.Report) error {
	for _, f := range r.Findings {
		fmt.Fprintf(w, "%s %s: %s\n", p.Wrong("✗"), f.Path, f.What)
	}
	end := p.Accent("nothing wrong")
	if len(r.Findings) > 0 {
		end = p.Wrong(Count(len(r.Findings), "finding"))
	}
	_, err := fmt.Fprintf(w, "read %s (%s), %s and %s: %s\n",
		Count(r.Blobs, "blob"), Size(r.Bytes), Count(r.Images, "image"), Count(r.Records, "record"), end)
	return err
}
