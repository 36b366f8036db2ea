package report

import (
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/ground/digest"
	"imbricat/internal/output/receipt"
)

// ChecksText returns a line for each check, those that do not hold last, where they are seen. Without whole those that hold
// are only counted.
func ChecksText(p Paint, list []receipt.Check, whole bool) string {
	w := &strings.Builder{}
	hold := 0
	for _, c := range list {
		if c.Outcome == "holds" {
			hold++
		}
	}
	if !whole && hold > 0 {
		fmt.Fprintln(w, p.Muted("○ holds   "+Count(hold, "check")))
	}
	for _, holds := range []bool{true, false} {
		for _, c := range list {
			if (c.Outcome == "holds") != holds || holds && !whole {
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
	return w.String()
}

// ReceiptText tells what a run did; the last line of each image that went somewhere is its reference by digest. With whole
// every check has its line.
func ReceiptText(p Paint, r *receipt.Receipt, whole bool) string {
	w := &strings.Builder{}
	switch {
	case r.Outcome == receipt.Nothing:
		fmt.Fprintln(w, "nothing to "+r.Command+": "+r.Why)
		return w.String()
	case len(r.Left) > 0 && r.Stopped != nil:
		fmt.Fprintf(w, "%s %s left %s behind, exit code %d\n", p.Wrong("✗"), r.Command, Count(len(r.Left), "image"), r.Stopped.Exit)
	case r.Stopped != nil:
		fmt.Fprintf(w, "%s %s stopped at its part %s, exit code %d\n", p.Wrong("✗"), r.Command, p.Bold(r.Stopped.Part), r.Stopped.Exit)
		fmt.Fprintf(w, "  %s\n", r.Stopped.Message)
	}
	if whole {
		writeRun(w, p, r)
	} else if r.Ran+r.Reused > 0 {
		fmt.Fprintln(w, p.Accent("● built   ")+ran(r))
	}
	if len(r.Checks) > 0 {
		w.WriteString(ChecksText(p, r.Checks, whole))
	}
	if len(r.Images)+len(r.Left) > 1 && !whole {
		writeShipments(w, p, r)
	} else {
		writePushed(w, p, r)
	}
	for _, i := range r.Images {
		last := fmt.Sprintf("built %s %s", p.Bold(i.Name), i.Digest)
		for _, d := range i.Destinations {
			if d.Reference != "" {
				last = fmt.Sprintf("%s %s %s", done[r.Command], p.Bold(i.Name), d.Reference)
				fmt.Fprintln(w, last)
			}
		}
		if len(i.Destinations) == 0 && leftOf(r, i.Name) == nil {
			fmt.Fprintln(w, last)
		}
	}
	for _, one := range r.Left {
		fmt.Fprintf(w, "%s%s was not shipped: %s: %s\n", p.Wrong("✗ left    "), p.Bold(one.Image), one.Part, one.Message)
	}
	return w.String()
}

// leftOf tells that an image was left behind; nil: it was not.
func leftOf(r *receipt.Receipt, image string) *receipt.Left {
	for i := range r.Left {
		if r.Left[i].Image == image {
			return &r.Left[i]
		}
	}
	return nil
}

// done is what became of images, by the command.
var done = map[string]string{"ship": "shipped", "push": "pushed", "join": "joined", "promote": "promoted"}

// writeShipments tells of many images in one table, a row for each destination.
func writeShipments(w *strings.Builder, p Paint, r *receipt.Receipt) {
	var rows [][]string
	var below []string
	several := slices.ContainsFunc(r.Images, func(i receipt.Image) bool { return len(i.Destinations) > 1 })
	mounted := slices.ContainsFunc(r.Images, func(i receipt.Image) bool {
		return slices.ContainsFunc(i.Destinations, func(d receipt.Destination) bool { return d.Mounted > 0 })
	})
	row := func(image, outcome string, d receipt.Destination) {
		cells := []string{p.Bold(image), outcome}
		if several {
			cells = append(cells, d.Name)
		}
		cells = append(cells, p.Accent(strings.Join(d.Tags, ", ")), blobs(d.Sent, d.SentBytes))
		if mounted {
			cells = append(cells, blobs(d.Mounted, d.MountedBytes))
		}
		rows = append(rows, append(cells, blobs(d.Skipped, d.SkippedBytes)))
	}
	head := []string{"image", "outcome"}
	if several {
		head = append(head, "to")
	}
	head = append(head, "tags", "sent")
	if mounted {
		head = append(head, "mounted")
	}
	for _, i := range r.Images {
		if len(i.Destinations) == 0 && leftOf(r, i.Name) == nil {
			row(i.Name, "built", receipt.Destination{})
		}
		for _, d := range i.Destinations {
			outcome := done[r.Command]
			missing := Missing(d)
			if r.Outcome != receipt.Done && len(missing) > 0 {
				outcome = p.Wrong("✗ in part")
				below = append(below, fmt.Sprintf("  %s %s", p.Bold(i.Name), p.Wrong("not written: "+strings.Join(missing, ", "))))
			}
			for _, h := range d.Held {
				below = append(below, fmt.Sprintf("  %s %s", p.Bold(i.Name), p.Muted("held back: "+h.Tag+", "+h.Why)))
			}
			row(strings.TrimSpace(i.Name+" "+d.Platform), outcome, d)
		}
	}
	for _, one := range r.Left {
		row(one.Image, p.Wrong("✗ left at "+one.Part), receipt.Destination{})
	}
	Table(w, p, append(head, "there already"), rows)
	for _, line := range below {
		fmt.Fprintln(w, line)
	}
}

// blobs is a number of blobs with their size; nothing for none.
func blobs(n int, size int64) string {
	if n == 0 {
		return ""
	}
	return Count(n, "blob") + ", " + Size(size)
}

// writePushed tells of each image by itself.
func writePushed(w *strings.Builder, p Paint, r *receipt.Receipt) {
	for _, i := range r.Images {
		for _, d := range i.Destinations {
			one := &Push{Pushed: []Pushed{{Image: i.Name, Platform: d.Platform, Repository: d.Repository, Tags: d.Tags, Digest: i.At(d), Sent: d.Sent, SentBytes: d.SentBytes,
				Mounted: d.Mounted, MountedBytes: d.MountedBytes, Skipped: d.Skipped, SkippedBytes: d.SkippedBytes, Held: d.Held}}}
			if d.Platform == "" {
				one.Pushed[0].Platforms = DigestsOf(i)
			}
			w.WriteString(PushText(p, one))
			if missing := Missing(d); r.Outcome != receipt.Done && len(missing) > 0 {
				fmt.Fprintf(w, "  %s\n", p.Wrong("not written: "+strings.Join(missing, ", ")))
			}
		}
	}
}

// usedText tells how often a command failed before, what memory it took, and what it took last time.
func usedText(s receipt.Step) (text string) {
	if s.Memory > 0 {
		text += ", " + Size(s.Memory)
	}
	if b := s.Before; b != nil {
		text += "; last time " + Took(seconds(b.Seconds))
		if b.Memory > 0 {
			text += ", " + Size(b.Memory)
		}
	}
	if s.Failed > 0 {
		text += "; it failed " + Count(s.Failed, "time") + " before"
	}
	return text
}

// writeRun tells when a run was, from what, and what it did.
func writeRun(w *strings.Builder, p Paint, r *receipt.Receipt) {
	fmt.Fprintf(w, "%s %s  %s\n", p.Bold(r.Command), r.Outcome, p.Muted(r.Began.UTC().Format("2006-01-02 15:04:05 UTC")+", "+Took(seconds(r.Seconds))+", "+r.Program))
	if v := r.Revision; v != nil {
		from := v.Commit
		for _, one := range [][2]string{{"branch", v.Branch}, {"tag", v.Tag}} {
			if one[1] != "" {
				from += ", " + one[0] + " " + one[1]
			}
		}
		if v.Dirty != nil && *v.Dirty {
			from += ", with changes that are not committed"
		}
		fmt.Fprintf(w, "  %s %s\n", p.Muted("commit"), from)
	}
	if r.Run != "" {
		fmt.Fprintf(w, "  %s %s\n", p.Muted("run"), r.Run)
	}
	for _, name := range sortedKeys(r.Facts) {
		fmt.Fprintf(w, "  %s %s\n", p.Muted("fact "+name), r.Facts[name])
	}
	if r.Ran+r.Reused > 0 {
		fmt.Fprintf(w, "  %s %s\n", p.Muted("build"), ran(r))
	}
	for _, s := range r.Steps {
		if s.Outcome == "ran" || s.Outcome == "failed" {
			fmt.Fprintf(w, "    %s %s: %s %s\n", s.Place, s.Platform, s.Step, p.Muted("("+s.Reason+"; "+Took(seconds(s.Seconds))+usedText(s)+")"))
		}
	}
	for _, one := range r.Warnings {
		text, _, _ := strings.Cut(one.Text, "\n")
		fmt.Fprintf(w, "  %s %s %s\n", p.Bold("warning:"), text, p.Muted("["+one.Code+"]"))
	}
}

// ran counts the steps of a build by what became of them.
func ran(r *receipt.Receipt) string {
	text := fmt.Sprintf("%d of %s ran, %d reused", r.Ran, Count(r.Ran+r.Reused, "step"), r.Reused)
	if r.Spared >= 0.5 {
		text += ", " + Took(seconds(r.Spared)) + " spared"
	}
	return text
}

// Missing are the tags of a destination that were wanted, were not held back, and are not there.
func Missing(d receipt.Destination) (list []string) {
	there := map[string]bool{}
	for _, tag := range d.Tags {
		there[tag] = true
	}
	for _, h := range d.Held {
		there[h.Tag] = true
	}
	for _, tag := range d.Wanted {
		if !there[tag] {
			list = append(list, tag)
		}
	}
	return list
}

// DigestsOf returns the digests of an image by platform.
func DigestsOf(i receipt.Image) map[string]digest.Digest {
	all := map[string]digest.Digest{}
	for _, p := range i.Platforms {
		all[p.Platform] = p.Digest
	}
	return all
}
