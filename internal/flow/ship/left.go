package ship

import (
	"slices"
	"strings"

	"imbricat/internal/engine/check"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// leftBehind is what went wrong with some images while the others went on.
type leftBehind struct {
	part string // the first at which something did
	err  error
}

func (l *leftBehind) note(part string, err error) {
	if l.err == nil {
		l.part, l.err = part, err
		return
	}
	l.err = &several{l.err, err}
}

// several is what went wrong at one part, and then at others. Its kind is that of the first, where the run would have ended.
type several struct{ first, then error }

// Error implements error.
func (e *several) Error() string { return e.first.Error() + "\n" + e.then.Error() }

// Unwrap has the first looked into alone.
func (e *several) Unwrap() []error {
	if many, is := e.first.(interface{ Unwrap() []error }); is {
		return many.Unwrap()
	}
	return []error{e.first}
}

// end tells at the end of a run what went wrong on the way, as if the run had stopped there.
func (l *leftBehind) end(k *receipts.Recorder) error {
	if l.err != nil {
		k.Part = l.part
	}
	return l.err
}

// leave goes on without some images, with why they are left.
func (r *Run) leave(part string, why map[string]string) {
	own, planned, rest := *r.w, *r.w.Planned, *r.w.Plan
	rest.Images = nil
	for _, i := range r.w.Plan.Images {
		if message, is := why[i.Name]; is {
			r.k.Receipt.Left = append(r.k.Receipt.Left, receipt.Left{Image: i.Name, Part: part, Message: message})
		} else {
			rest.Images = append(rest.Images, i)
		}
	}
	planned.Plan = &rest
	own.Planned = &planned
	r.w = &own
}

// leaveUnbuilt leaves the images that a build did not make.
func (r *Run) leaveUnbuilt(document *report.Build) {
	why := map[string]string{}
	for _, i := range r.w.Plan.Images {
		if !slices.ContainsFunc(document.Images, func(b report.BuiltImage) bool { return b.Name == i.Name }) {
			why[i.Name] = failedBelow(i, document)
		}
	}
	r.leave("build", why)
}

// failedBelow tells which step kept an image from being built.
func failedBelow(i *plan.Image, document *report.Build) string {
	needed := map[string]bool{}
	var add func(u *plan.Unit)
	add = func(u *plan.Unit) {
		if id := u.ID.Name + " " + u.ID.Platform.String(); !needed[id] {
			needed[id] = true
			for _, other := range u.Needs() {
				add(other)
			}
		}
	}
	for _, u := range i.Units {
		add(u)
	}
	for _, s := range document.Steps {
		if s.Outcome == event.Failed.String() && needed[s.Unit+" "+s.Platform] {
			reason, _, _ := strings.Cut(s.Reason, "\n")
			return reason // which begins with the step
		}
	}
	return "it was not finished"
}

// leaveUnchecked leaves the images of which a check does not hold.
func (r *Run) leaveUnchecked() {
	why := map[string]string{}
	for _, c := range r.k.Receipt.Checks {
		if _, told := why[c.Image]; c.Outcome != check.Holds && !told {
			detail, _, _ := strings.Cut(c.Detail, "\n")
			why[c.Image] = c.Check + ": " + detail
		}
	}
	r.leave("checks", why)
}
