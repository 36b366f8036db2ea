package report

import (
	"fmt"
	"io"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/receipt"
)

// WriteChecks writes a line for each check, those that do not hold last, where they are seen.
func WriteChecks(w io.Writer, p Paint, list []receipt.Check) {
	for _, holds := range []bool{true, false} {
		for _, c := range list {
			if (c.Outcome == "holds") != holds {
				continue
			}
			head := p.Muted("○ holds   ")
			switch c.Outcome {
			case "fails":
				head = p.Wrong("✗ fails   ")
			case "unable":
				head = p.Bold("? unable  ")
			}
			detail, more, _ := strings.Cut(c.Detail, "\n")
			fmt.Fprintf(w, "%s%s %s: %s  %s\n", head, c.Image, c.Platform, c.Check, p.Muted(detail))
			for line := range strings.Lines(more) {
				fmt.Fprintln(w, "    "+p.Muted("│ ")+strings.TrimRight(line, "\n"))
			}
		}
	}
}

// WriteReceipt tells what a run did; the last line of each image that went somewhere is its reference by digest.
func WriteReceipt(w io.Writer, p Paint, r *receipt.Receipt) error {
	switch {
	case r.Outcome == receipt.Nothing:
		_, err := fmt.Fprintln(w, "nothing to "+r.Command+": "+r.Why)
		return err
	case r.Stopped != nil:
		fmt.Fprintf(w, "%s %s stopped at its part %s, exit code %d\n", p.Wrong("✗"), r.Command, p.Bold(r.Stopped.Part), r.Stopped.Exit)
		fmt.Fprintf(w, "  %s\n", r.Stopped.Message)
	}
	if len(r.Checks) > 0 {
		WriteChecks(w, p, r.Checks)
	}
	for _, i := range r.Images {
		for _, d := range i.Destinations {
			one := &Push{Pushed: []Pushed{{Image: i.Name, Repository: d.Repository, Tags: d.Tags, Digest: i.Digest, Sent: d.Sent, SentBytes: d.SentBytes,
				Mounted: d.Mounted, MountedBytes: d.MountedBytes, Skipped: d.Skipped, SkippedBytes: d.SkippedBytes}}}
			one.Pushed[0].Platforms = digestsOf(i)
			if err := WritePush(w, p, one); err != nil {
				return err
			}
			for _, h := range d.Held {
				fmt.Fprintf(w, "  %s\n", p.Muted("held back: "+h.Tag+", "+h.Why))
			}
			if missing := Missing(d); r.Outcome != receipt.Done && len(missing) > 0 {
				fmt.Fprintf(w, "  %s\n", p.Wrong("not written: "+strings.Join(missing, ", ")))
			}
		}
	}
	var err error
	for _, i := range r.Images {
		last := fmt.Sprintf("built %s %s", p.Bold(i.Name), i.Digest)
		for _, d := range i.Destinations {
			if d.Reference != "" {
				last = fmt.Sprintf("%s %s %s", map[string]string{"ship": "shipped", "push": "pushed", "join": "joined"}[r.Command], p.Bold(i.Name), d.Reference)
				_, err = fmt.Fprintln(w, last)
			}
		}
		if len(i.Destinations) == 0 {
			_, err = fmt.Fprintln(w, last)
		}
	}
	return err
}

// Missing are the tags of a destination that were wanted and are not there.
func Missing(d receipt.Destination) (list []string) {
	there := map[string]bool{}
	for _, tag := range d.Tags {
		there[tag] = true
	}
	for _, tag := range d.Wanted {
		if !there[tag] {
			list = append(list, tag)
		}
	}
	return list
}

func digestsOf(i receipt.Image) map[string]digest.Digest {
	all := map[string]digest.Digest{}
	for _, p := range i.Platforms {
		all[p.Platform] = p.Digest
	}
	return all
}
