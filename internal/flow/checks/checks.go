// Package checks decides what a recipe checks of its images: what can be told from content and settings by package check, and what
// takes running the image, or asking what its base stands for. What a check cannot find out is its verdict, and no error.
package checks

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/content/image"
	"imbricat/internal/content/trace"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/check"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow/try"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Made is what was built: the images by their names, and what became of the stages that only checks need.
type Made struct {
	Image  func(name string) (digest.Descriptor, error)
	Stages map[*plan.Unit]error // nil: it is built
}

// All decides the checks of all images one after the other: those that run something share the machine's ports. What
// a check cannot find out is its verdict, and no error.
// what held before is not held again for the same image, unless that is asked for.
func All(ctx context.Context, w *workspace.Workspace, made Made, fresh bool, sink event.Sink) (list []receipt.Check, err error) {
	list = []receipt.Check{}
	known := remember(w.Store, fresh)
	defer func() { _ = known.keep() }() // it only saves work
	for _, i := range w.Plan.Images {
		for _, u := range i.Units {
			c := &checker{Workspace: w, made: made, unit: u, known: known, held: heldFor(i, u)}
			if len(c.held) == 0 {
				continue
			}
			own, err := c.all(ctx, sink)
			if list = append(list, own...); err != nil {
				return list, fmt.Errorf("checking %s: %w", u.ID, err)
			}
		}
	}
	return list, nil
}

// heldFor returns the checks of an image, and those of the destinations of which it is to get a tag.
func heldFor(i *plan.Image, u *plan.Unit) []plan.Check {
	return slices.DeleteFunc(slices.Clone(u.Checks), func(c plan.Check) bool {
		return c.Destination != "" && !slices.ContainsFunc(i.Destinations, func(d plan.Destination) bool { return d.Name == c.Destination && len(d.Tags) > 0 })
	})
}

// checker decides the checks of an image for one platform.
type checker struct {
	*workspace.Workspace
	made    Made
	unit    *plan.Unit
	found   *baseimage.Found
	subject *check.Subject
	learnt  func(*trace.Trace) // of what is tried; nil: nobody asks
	known   *memory
	held    []plan.Check // those that are to be held now
}

// Tried is what a check that runs the image came to, and what its command learnt of the image; nil: it could not be run.
type Tried struct {
	check.Verdict
	Learnt *trace.Trace
}

// Try runs the checks of an image that run it, one after the other, and observes them. The others are left alone.
func Try(ctx context.Context, w *workspace.Workspace, u *plan.Unit, image digest.Descriptor) (list []Tried, err error) {
	c := &checker{Workspace: w, made: Made{Image: func(string) (digest.Descriptor, error) { return image, nil }}, unit: u}
	if err := c.find(ctx); err != nil {
		return nil, err
	}
	for _, one := range u.Checks {
		do, is := one.Do.(*recipe.TryCheck)
		if !is {
			continue
		}
		tried := Tried{}
		c.learnt = func(t *trace.Trace) { tried.Learnt = t }
		tried.Verdict = c.try(ctx, do, one)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		tried.What, tried.Detail = w.Redactor.Text(tried.What), w.Redactor.Text(tried.Detail)
		list = append(list, tried)
	}
	return list, nil
}

func (c *checker) options(ctx context.Context) try.Options {
	return try.Options{Store: c.Store, Local: c.Executor(ctx, event.Discard)}
}

// all decides every check. Each that takes its time has an event of its own, the others have one together; what does not
// hold is told at the end.
func (c *checker) all(ctx context.Context, sink event.Sink) (list []receipt.Check, err error) {
	if err := c.find(ctx); err != nil {
		return nil, err
	}
	began, others := time.Now(), others{}
	for n, one := range c.held {
		started := time.Now()
		key := keyOf(c.Agent, c.Chroot, c.found.Descriptor.Digest, one)
		held, found := c.known.find(key)
		did := receipt.Check{Image: c.unit.ID.Name, Platform: c.unit.ID.Platform.String()}
		did.Position = receipt.PositionAt(c.Plan.File.Place(one.Pos))
		if found {
			did.Check, did.Detail, did.Outcome, did.Found = c.Redactor.Text(held.What), c.Redactor.Text(held.Detail), check.Holds, &held.At
		} else {
			v, err := c.decide(ctx, one)
			if err != nil {
				return list, err
			}
			did.Check, did.Detail, did.Outcome = c.Redactor.Text(v.What), c.Redactor.Text(v.Detail), v.Outcome
			c.known.note(key, did)
		}
		took := time.Since(started)
		did.Seconds = took.Seconds()
		if list = append(list, did); check.Known(one.Do) {
			others.add(did)
			continue
		}
		reason := did.Outcome
		if found {
			reason = "held " + report.Span(time.Since(held.At)) + " ago for the same digest"
		}
		sink.Send(event.Finished{Task: taskOf(c.unit, n, did.Check), Outcome: outcomeOf(did), Reason: event.Text(reason), Detail: did.Detail, Took: took})
		began = began.Add(took) // the time of the others alone counts below
	}
	others.tell(c.unit, sink, time.Since(began))
	return list, nil
}

// others are the checks that have no event of their own.
type others struct {
	all, hold, known int
}

func (o *others) add(c receipt.Check) {
	o.all++
	if c.Outcome == check.Holds {
		o.hold++
	}
	if c.Found != nil {
		o.known++
	}
}

func (o *others) tell(u *plan.Unit, sink event.Sink, took time.Duration) {
	if o.all == 0 {
		return
	}
	e := event.Finished{Task: taskOf(u, len(u.Checks), "content and settings"), Outcome: event.Ran, Detail: fmt.Sprintf("%d of %d hold", o.hold, o.all), Took: took}
	switch {
	case o.hold < o.all:
		e.Outcome = event.Failed
	case o.known == o.all:
		e.Outcome, e.Reason = event.Reused, event.Text("they held before for the same digest")
	}
	sink.Send(e)
}

// outcomeOf is how a check is shown.
func outcomeOf(c receipt.Check) event.Outcome {
	switch {
	case c.Outcome != check.Holds:
		return event.Failed
	case c.Found != nil:
		return event.Reused
	}
	return event.Ran
}

// taskOf is a check as a task of its image.
func taskOf(u *plan.Unit, number int, what string) event.Task {
	// Its name is sorted behind those of the steps.
	return event.Task{ID: fmt.Sprintf("%s~%03d", u.ID, number), Unit: u.ID.Name, Platform: u.ID.Platform.String(), Label: "check " + what}
}

// find finds the image in the store.
func (c *checker) find(ctx context.Context) error {
	desc, err := c.made.Image(c.unit.ID.Name)
	if err != nil {
		return err
	}
	b, err := c.Bases(nil, event.Discard)
	if err != nil {
		return err
	}
	c.found, err = b.Resolve(ctx, reference.Reference{Kind: reference.Store, Digest: desc.Digest}, c.unit.ID.Platform)
	return err
}

// examine finds what the image holds, once.
func (c *checker) examine(ctx context.Context) (err error) {
	if c.subject != nil {
		return nil
	}
	secrets := false
	for _, one := range c.held {
		_, is := one.Do.(*recipe.SecretsCheck)
		secrets = secrets || is
	}
	c.subject, err = try.Examine(ctx, c.options(ctx), c.found, secrets)
	return err
}

func (c *checker) decide(ctx context.Context, one plan.Check) (v check.Verdict, err error) {
	switch do := one.Do.(type) {
	case *recipe.TryCheck:
		v = c.try(ctx, do, one)
	case *recipe.BaseCheck:
		v = c.base(ctx, do)
	case *recipe.StageCheck:
		v = c.stage(do, one.Stage)
	default:
		if err := c.examine(ctx); err != nil {
			return v, err
		}
		v = check.Judge(one.Do, c.subject)
	}
	return v, ctx.Err()
}

// lastWords bounds what a verdict repeats of a command's output, in bytes.
const lastWords = 2000

// try runs the image, with a network of its own unless the recipe says otherwise. What it prints is only told where the check
// does not hold.
func (c *checker) try(ctx context.Context, do *recipe.TryCheck, one plan.Check) check.Verdict {
	what := slices.Concat([]string{"try"}, one.Command, one.Arguments)
	t := try.Command{Command: one.Command, Arguments: one.Arguments, Env: one.Env, Network: do.Network, ReadOnly: do.ReadOnly, Learnt: c.learnt}
	if do.Port > 0 {
		what = append(what, "port "+strconv.Itoa(do.Port))
		t.Ask = &sandbox.Ask{Port: do.Port, Get: one.Get, Status: do.Status, Within: do.Within}
	}
	if one.Get != "" {
		what = append(what, one.Get)
	}
	if do.ReadOnly {
		what = append(what, "read-only")
	}
	v := check.Verdict{What: strings.Join(what, " ") + " within " + do.Within.String(), Outcome: check.Fails}
	words, err := listen()
	if err != nil {
		v.Outcome, v.Detail = check.Unable, err.Error()
		return v
	}
	t.Stdout, t.Stderr = words.in, words.in
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	if t.Ask == nil {
		t.Began = func() { time.AfterFunc(do.Within, cancel) }
	}
	status, err := try.Image(inner, c.options(ctx), c.found, c.unit.ID.Platform, t)
	said := words.last()
	var unable *sandbox.UnableError
	switch {
	case errors.As(err, &unable):
		v.Outcome, v.Detail = check.Unable, err.Error()
	case inner.Err() != nil:
		v.Detail = fmt.Sprintf("it did not end within %s", do.Within) + said
	case err != nil:
		v.Detail = err.Error() + said
	case t.Ask != nil && status.Unanswered != "":
		v.Detail = status.Unanswered + said
	case t.Ask != nil && !status.Answered:
		v.Detail = fmt.Sprintf("it ended with status %d before it answered", status.Code) + said
	case t.Ask == nil && status.Code != do.Status:
		v.Detail = fmt.Sprintf("it ended with status %d, not %d", status.Code, do.Status) + said
	default:
		v.Outcome, v.Detail = check.Holds, "ok"
	}
	return v
}

// words keeps the end of what a command prints, however much that is.
type words struct {
	in   *os.File // for the command
	text []byte
	done chan struct{}
}

func listen() (*words, error) {
	out, in, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	w := &words{in: in, done: make(chan struct{})}
	go func() {
		defer close(w.done)
		defer out.Close()
		_, _ = io.Copy(w, out) // it ends with the last process that may print
	}()
	return w, nil
}

// Write implements io.Writer.
func (w *words) Write(p []byte) (int, error) {
	w.text = append(w.text, p...)
	w.text = append(w.text[:0], w.text[max(0, len(w.text)-lastWords):]...)
	return len(p), nil
}

// last tells the end of what was printed, when the command is over.
func (w *words) last() string {
	w.in.Close()
	select {
	case <-w.done:
	case <-time.After(time.Second): // something that it left behind goes on printing
		return ""
	}
	return w.told()
}

// told tells what was kept of what was printed.
func (w *words) told() string {
	if len(w.text) == 0 {
		return "; it printed nothing"
	}
	return "; it printed:\n" + strings.TrimRight(strings.ToValidUTF8(string(w.text), "?"), "\n")
}

// stage tells whether a stage could be built, which was tried with the image.
func (c *checker) stage(do *recipe.StageCheck, u *plan.Unit) check.Verdict {
	v := check.Verdict{What: "stage " + do.Name, Outcome: check.Holds, Detail: "it is built"}
	err := c.made.Stages[u]
	if err == nil {
		return v
	}
	v.Outcome, v.Detail = check.Fails, err.Error()
	var failed *command.FailedError
	if errors.As(err, &failed) {
		text := failed.Output[max(0, len(failed.Output)-lastWords):]
		v.Detail += (&words{text: text}).told()
	}
	return v
}

// base looks at the image that the unit's files start from, through the recipe's own images and stages.
func (c *checker) base(ctx context.Context, do *recipe.BaseCheck) check.Verdict {
	var what []string
	if do.Younger > 0 {
		what = append(what, "younger than "+report.Span(do.Younger))
	}
	if do.Current {
		what = append(what, "what its tag stands for now")
	}
	v := check.Verdict{What: "base " + strings.Join(what, ", "), Outcome: check.Fails}
	u := c.unit
	for u.Base.Unit != nil {
		u = u.Base.Unit
	}
	if u.Base.Kind != recipe.ReferenceBase {
		v.Outcome, v.Detail = check.Holds, "there is none"
		return v
	}
	age, now, err := c.baseState(ctx, u, do.Current)
	ref := u.Base.Reference.String()
	switch {
	case err != nil:
		v.Outcome, v.Detail = check.Unable, err.Error()
	case do.Younger > 0 && age < 0:
		v.Detail = ref + " does not say when it was made"
	case do.Younger > 0 && age > do.Younger:
		v.Detail = fmt.Sprintf("%s was made %s ago", ref, report.Span(age))
	case now != "":
		v.Detail = fmt.Sprintf("%s stands for %s now; `imbricat lock` takes that", ref, now)
	default:
		v.Outcome, v.Detail = check.Holds, ref
		if age >= 0 {
			v.Detail += " was made " + report.Span(age) + " ago"
		}
	}
	return v
}

// baseState tells how old a base is (below 0: nobody knows), and what its tag stands for now where that is something else
// than what was built from.
func (c *checker) baseState(ctx context.Context, u *plan.Unit, current bool) (age time.Duration, now string, err error) {
	held, err := c.Lock()
	if err != nil {
		return 0, "", err
	}
	b, err := c.Bases(held, event.Discard)
	if err != nil {
		return 0, "", err
	}
	found, err := b.Resolve(ctx, u.Base.Reference, u.Machine)
	if err != nil {
		return 0, "", err
	}
	age = -1
	if manifest, err := image.ReadManifest(ctx, c.Store, found.Descriptor); err == nil {
		if config, err := image.ReadConfig(ctx, c.Store, manifest); err == nil && config.Created != nil && !image.KnownTime(*config.Created).IsZero() {
			age = max(0, time.Since(*config.Created))
		}
	}
	if !current || u.Base.Reference.Kind != reference.Registry || u.Base.Reference.Digest != "" {
		return age, "", nil
	}
	place, err := b.Places.Source(u.Base.Reference)
	if err != nil {
		return 0, "", err
	}
	root, err := place.Root(ctx)
	if err == nil && root.Digest != found.Root.Digest {
		now = string(root.Digest)
	}
	return age, now, err
}
