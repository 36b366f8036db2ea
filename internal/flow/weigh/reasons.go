package weigh

import (
	"slices"
	"strings"

	"imbricat/internal/content/differ"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/logbook"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
)

// Reasons tells why the step of a label ran, for a platform, and whether that is known.
type Reasons func(platform, label string) (differ.Run, bool)

// Explain adds to the layers that only the second image has why their steps ran. A layer may be of several steps. Where nothing is known, what was
// told before stays.
func Explain(c *report.Compared, why Reasons) {
	for i := range c.Layers {
		one := &c.Layers[i]
		if one.In != "second" || one.Step == "" {
			continue
		}
		labels := []string{one.Step}
		if _, known := why(c.Platform, one.Step); !known {
			labels = strings.Split(one.Step, "; ") // as layers of several steps are called
		}
		var ran []differ.Run
		for _, label := range labels {
			if run, known := why(c.Platform, label); known && !slices.Contains(ran, run) {
				ran = append(ran, run)
			}
		}
		if len(ran) > 0 {
			one.Ran = ran
		}
	}
}

// ByReceipt takes reasons from the receipt of the build that made the second image.
func ByReceipt(r *receipt.Receipt) Reasons {
	return func(platform, label string) (differ.Run, bool) {
		for _, s := range r.Steps {
			if s.Platform == platform && s.Step == label && s.Outcome == event.Ran.String() {
				return differ.Run{Why: s.Reason}, true
			}
		}
		return differ.Run{}, false
	}
}

// ByLogbook takes reasons from the builds of a logbook: from the latest that made an image of this digest, or, of what that reused, from the one
// that it reused. A logbook that cannot be read knows nothing.
func ByLogbook(book *logbook.Book, image string) Reasons {
	number, steps, err := book.Made(image)
	if err != nil {
		steps = nil
	}
	return func(platform, label string) (differ.Run, bool) {
		for _, s := range steps {
			if s.Platform != platform || s.Label != label {
				continue
			}
			if s.Outcome == event.Ran.String() {
				return differ.Run{Build: number, Why: s.Reason}, true
			}
			if number, ran, err := book.Ran(s); err == nil && number > 0 {
				return differ.Run{Build: number, Why: ran.Reason}, true
			}
		}
		return differ.Run{}, false
	}
}
