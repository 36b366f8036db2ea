package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/redact"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Runs is a shared cache that may know runs of commands; what it finds lies in the store afterwards.
type Runs interface {
	Run(ctx context.Context, key digest.Key)
}

// Secrets gives the values of secrets.
type Secrets interface {
	Secret(ctx context.Context, name string, s plan.Secret) ([]byte, error)
}

// Warner tells doubts, each once, unless the recipe or the step silences them.
type Warner interface {
	Warn(s *plan.Step, code, text string)
}

// Runner recalls and runs the commands of one build. All fields must be set but those that say otherwise.
type Runner struct {
	Plan     *plan.Plan
	Store    *store.Store
	Library  *baseimage.Library
	Executor executor.Executor
	Secrets  Secrets
	Shared   Runs         // may be nil
	Past     explain.Past // may be nil
	Warner   Warner
	Sink     event.Sink
	Project  string                 // names the project folder
	Build    string                 // names the build
	Forget   func(trace.Entry) bool // of tests: what is left out of traces

	// SecretsThere finds secrets that are not to be had.
	secretsThere func() error
}

// NewRunner completes a runner.
func NewRunner(r Runner) *Runner {
	r.secretsThere = sync.OnceValue(r.missingSecrets)
	return &r
}

// missingSecrets finds, before the first command of a build is run, secrets of any of them that are not to be had: a build
// must not fail for the want of one when half of it is done. What is only recalled needs none.
func (r *Runner) missingSecrets() error {
	problems := &recipe.Errors{File: r.Plan.File}
	for _, u := range r.Plan.Units {
		for i := range u.Steps {
			do, is := u.Steps[i].Do.(plan.Run)
			if !is {
				continue
			}
			for _, use := range do.Secrets {
				r.missing(use.Name, problems)
			}
		}
	}
	if len(problems.Problems) > 0 {
		return problems
	}
	return nil
}

// missing tells what of a secret, or of those that it is made of, is not to be had.
func (r *Runner) missing(name string, problems *recipe.Errors) {
	s := r.Plan.Secrets[name]
	if _, set := os.LookupEnv(s.Env); s.Env != "" && !set {
		problems.Add(s.Pos, "the secret %q: the environment variable %s is not set", name, s.Env)
	}
	for _, other := range s.Needs {
		r.missing(other, problems)
	}
}

// FailedError is a command that did not end well. Output is all that it printed, but for what was too much.
type FailedError struct {
	Status  int // exit code; 0: it did not end by itself
	Unit    string
	Label   string
	Place   string // where the step stands, for trying it by hand: gauge:3
	Command string // as people would type it
	What    string // "ended with status 2"
	Output  []byte
	// Reached is what it reached of the hosts that it may, and what it did not.
	Reached []store.Reached
}

func (e *FailedError) Error() string {
	return fmt.Sprintf("%s, %s: the command %s", e.Unit, e.Label, e.What)
}

// Filler is a command that comes before another one, and what became of it.
type Filler struct {
	Command *Command
	Run     *step.Run
}

// Run runs a command when the kept directories that it has are as the commands before it leave them: those that were recalled
// run again where a directory is empty on this machine, or holds what another version of them left. Before are all commands
// that come before it, of the units below as well.
func (r *Runner) Run(ctx context.Context, c *Command, why event.Reason, before []Filler) (*Made, error) {
	if err := r.secretsThere(); err != nil {
		return nil, err
	}
	keep := c.Keep
	for _, f := range before {
		if !f.Run.Ran && slices.ContainsFunc(c.Keep, func(k plan.Keep) bool { return slices.Contains(f.Run.Record.Kept, k.Name) }) {
			keep = slices.Concat(keep, f.Command.Keep)
		}
	}
	lease, err := r.Executor.Reserve(ctx, &c.Command, keep, r.watch(c))
	if err != nil {
		return nil, err
	}
	defer lease.Release()
	refilled, err := r.refill(ctx, lease, c, before)
	if err != nil {
		return nil, err
	}
	watch := r.watch(c)
	watch.why = why
	attempt, failed, err := r.attempts(ctx, lease, c, watch)
	if err != nil {
		return nil, err
	}
	made, err := r.accept(ctx, c, attempt, why, watch)
	if err != nil {
		return nil, err
	}
	made.Refilled, made.Run.Failed = refilled, failed
	return made, lease.Filled(c.Keep, made.Run.Fill)
}

// retryWait is how long a command rests before it is tried again the first time. It doubles from there, up to a minute.
const retryWait = time.Second

// attempts runs a command until it ends well, as often as its step lets it, and tells how often it failed before.
func (r *Runner) attempts(ctx context.Context, lease executor.Lease, c *Command, watch *watch) (a executor.Attempt, failed int, err error) {
	for wait := retryWait; ; wait = min(2*wait, time.Minute) {
		a, err = r.attempt(ctx, lease, c, watch, false)
		var ended *FailedError
		if err == nil || failed == c.do.Retry || !errors.As(err, &ended) || ctx.Err() != nil {
			return a, failed, err
		}
		failed++
		watch.again(fmt.Sprintf("the command %s; it is tried again, %d of %d\n", ended.What, failed, c.do.Retry))
		select {
		case <-ctx.Done():
			return nil, failed, err
		case <-time.After(wait):
		}
	}
}

// attempt runs a command. What did not end well is a *FailedError.
func (r *Runner) attempt(ctx context.Context, lease executor.Lease, c *Command, watch *watch, refill bool) (executor.Attempt, error) {
	job := r.job(c, watch)
	job.Refill = refill
	made, err := lease.Run(ctx, job, watch)
	log := watch.end()
	var stopped *executor.StoppedError
	switch {
	case errors.As(err, &stopped):
		return nil, c.failed("was ended: "+stopped.What, log)
	case err != nil:
		return nil, err
	case made.Status().Signal != "":
		made.Discard()
		return nil, c.failed("was ended by the signal "+made.Status().Signal, log)
	case made.Status().Code != 0:
		made.Discard()
		failed := c.failed(fmt.Sprintf("ended with status %d", made.Status().Code), log)
		failed.Status, failed.Reached = made.Status().Code, watch.covered(made.Status().Reached)
		return nil, failed
	}
	return made, nil
}

func (r *Runner) job(c *Command, w *watch) executor.Job {
	return executor.Job{Command: &c.Command, View: c.View, Fill: r.fill(c, ""),
		Secret: func(ctx context.Context, name string) (executor.Secret, error) { return r.secret(ctx, name, w) }}
}

// Job returns what an executor runs of a command whose output nobody keeps.
func (r *Runner) Job(c *Command) executor.Job { return r.job(c, r.watch(c)) }

func (c *Command) failed(what string, log []byte) *FailedError {
	return &FailedError{Unit: c.Name.Unit.String(), Label: c.Task.Label, Place: c.Name.Place(), Command: c.shown(), What: what, Output: log}
}

// secret returns a secret's value, which is covered in what is printed from then on.
func (r *Runner) secret(ctx context.Context, name string, w *watch) (executor.Secret, error) {
	secret := r.Plan.Secrets[name]
	if secret.SSHAgent {
		socket := os.Getenv("SSH_AUTH_SOCK")
		if socket == "" {
			return executor.Secret{}, r.Plan.File.Problem(secret.Pos, "no ssh agent runs: SSH_AUTH_SOCK is not set")
		}
		return executor.Secret{Socket: socket}, nil
	}
	if secret.Text != nil {
		return r.made(ctx, secret, w)
	}
	value, err := r.Secrets.Secret(ctx, name, secret)
	if err != nil {
		return executor.Secret{}, r.Plan.File.Problem(secret.Pos, "the secret %q: %s", name, err)
	}
	w.secrets.Add(value)
	return executor.Secret{Value: value}, nil
}

// made returns a secret that is made of others. Line ends after their values are no part of the text.
func (r *Runner) made(ctx context.Context, secret plan.Secret, w *watch) (executor.Secret, error) {
	values := map[string]string{}
	for _, name := range secret.Needs {
		other, err := r.secret(ctx, name, w)
		if err != nil {
			return executor.Secret{}, err
		}
		if values[name] = strings.TrimRight(string(other.Value), "\r\n"); !utf8.ValidString(values[name]) {
			return executor.Secret{}, r.Plan.File.Problem(secret.Pos, "the secret %q is not UTF-8 text, and is to stand in one", name)
		}
	}
	text, err := secret.Text(values)
	if err != nil { // which may repeat a part of a value
		return executor.Secret{}, r.Plan.File.Problem(secret.Pos, "the text of this secret cannot be made of what the others hold")
	}
	w.secrets.Add([]byte(text))
	return executor.Secret{Value: []byte(text)}, nil
}

// accept keeps what a command left: its files, what it printed, what it learnt, and last the record.
func (r *Runner) accept(ctx context.Context, c *Command, a executor.Attempt, why event.Reason, w *watch) (*Made, error) {
	learnt, status, over := a.Trace(), a.Status(), a.Over()
	// The index comes first: a tree that lies unpacked without one could not be checked.
	if err := r.Store.PutTreeEntries(filetree.Summarize(a.Entries()).Key, tree.EncodeEntries(a.Entries())); err != nil {
		a.Discard()
		return nil, err
	}
	contents, err := a.Accept(ctx)
	if err != nil {
		return nil, err
	}
	t := filetree.Of(a.Entries(), contents)
	if r.Forget != nil {
		learnt.Entries = slices.DeleteFunc(learnt.Entries, r.Forget)
	}
	record := &store.Run{Key: c.Key, Tree: t.Key, Reads: len(learnt.Entries), Whole: learnt.Why, Files: t.Files, Bytes: t.Bytes, Over: over,
		Millis: status.Wall.Milliseconds(), CPU: status.CPU.Milliseconds(), Memory: status.Memory, Made: time.Now().UTC(), Build: r.Build}
	record.Reached = w.covered(status.Reached)
	if unlisted := store.WithProblem(record.Reached, store.NotListed); len(unlisted) > 0 {
		r.Warner.Warn(c.step, event.UnlistedHost, fmt.Sprintf("%s, %s asked for %s, which its network: does not list", c.Name.Unit.Name, c.Task.Label, say.Some(unlisted)))
	}
	for _, k := range c.Keep {
		record.Kept = append(record.Kept, k.Name)
	}
	earlier := r.Store.Runs(c.Key)
	if record.Log, err = r.Store.PutLog(w.log); err != nil {
		return nil, err
	}
	text := learnt.Encode()
	record.Trace = trace.ID(text)
	if err := r.Store.PutTrace(record.Trace, text); err != nil {
		return nil, err
	}
	if err := r.Store.PutRun(record); err != nil {
		return nil, err
	}
	r.warnUnstable(c, record, a.Entries(), learnt, earlier)
	var before *store.Run // the last one of the same command, whatever it read
	for _, one := range earlier {
		if !one.Shared && (before == nil || one.Made.After(before.Made)) {
			before = one
		}
	}
	return &Made{Tree: t, Run: &step.Run{Before: before, ID: c.ID, Inputs: c.Inputs, Record: record, Fill: r.fill(c, record.Trace), Ran: true, Why: why, Took: status.Wall}}, nil
}

// fill is what a run of a command is to the kept directories that it has; without a trace it is one that began.
func (r *Runner) fill(c *Command, learnt digest.Key) store.Fill {
	return store.Fill{Project: r.Project, Unit: c.Name.Unit.String(), Step: c.Name.Index, Key: c.Key, Trace: learnt}
}

// refill runs commands again that a command's kept directories are not as they leave them.
func (r *Runner) refill(ctx context.Context, lease executor.Lease, c *Command, before []Filler) (all []int, err error) {
	for _, k := range c.Keep {
		due, err := unfilled(lease, c, k.Name, before)
		if err != nil {
			return nil, err
		}
		for _, i := range due {
			if err := r.again(ctx, lease, before[i]); err != nil {
				return nil, fmt.Errorf("filling the kept directory %s again: %w", k.Name, err)
			}
			all = append(all, i)
		}
	}
	return all, nil
}

// again runs a command for its kept directories alone: what it left before stands.
func (r *Runner) again(ctx context.Context, lease executor.Lease, f Filler) error {
	a, err := r.attempt(ctx, lease, f.Command, r.watch(f.Command), true)
	if err != nil {
		return err
	}
	defer a.Discard()
	r.Sink.Send(event.Finished{Task: f.Command.Task, Outcome: event.Ran, Reason: event.Refilled, Took: a.Status().Wall})
	return lease.Filled(f.Command.Keep, f.Run.Fill)
}

// unfilled tells which of the commands before one a kept directory is not as they leave it. A directory that is empty counts
// as never filled.
func unfilled(lease executor.Lease, c *Command, name string, before []Filler) (due []int, err error) {
	fills, again, err := lease.Kept(name)
	if err != nil {
		return nil, err
	}
	current := map[digest.Key]bool{}
	for _, f := range before {
		if slices.Contains(f.Run.Record.Kept, name) {
			current[f.Run.Fill.Key] = true
		}
	}
	for i, f := range before {
		if !slices.Contains(f.Run.Record.Kept, name) {
			continue
		}
		// What comes after one that fills it anew does so on top of that.
		if again = again || !stands(fills, f.Run.Fill, current, c); again && !f.Run.Ran {
			due = append(due, i)
		}
	}
	return due, nil
}

// stands reports whether what a run left in a kept directory is still what counts there: the command has not run otherwise
// since, and no step has that the recipe had in its place, or before the command that needs it.
func stands(fills []store.Fill, f store.Fill, current map[digest.Key]bool, c *Command) bool {
	for _, later := range slices.Backward(fills) {
		if later.Key == f.Key {
			return later.Trace == f.Trace
		}
		same := later.Project == f.Project && later.Unit == f.Unit
		if same && !current[later.Key] && (later.Unit != c.Name.Unit.String() || later.Step < c.Name.Index) {
			return false
		}
	}
	return false
}

// watch tells how a command goes on, and keeps what it prints.
type watch struct {
	tell    event.Reporter
	why     event.Reason // that the command runs; nil: that is no matter
	mutex   sync.Mutex
	secrets redact.Redactor
	output  *outputCapture
	log     []byte
}

func (r *Runner) watch(c *Command) *watch {
	return &watch{tell: event.Reporter{Sink: r.Sink, Task: c.Task}}
}

// Output implements executor.Watch.
func (w *watch) Output() io.Writer {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	w.output = &outputCapture{tell: w.tell, secrets: &w.secrets}
	return w.output
}

// covered is what a command reached, without what is secret.
func (w *watch) covered(reached []store.Reached) (all []store.Reached) {
	for _, one := range reached {
		one.To = w.secrets.Text(one.To)
		all = store.AddReached(all, one)
	}
	return all
}

// again tells that the command is tried again.
func (w *watch) again(text string) {
	w.tell.Sink.Send(event.Output{Task: w.tell.Task, Text: text})
}

// Act implements executor.Watch.
func (w *watch) Act(act string) {
	w.tell.Sink.Send(event.Started{Task: w.tell.Task, Act: act, Why: w.why})
}

// Waiting implements executor.Watch.
func (w *watch) Waiting(for_ executor.Waiting) {
	note := "for the kept directory " + for_.Kept
	if h := for_.Holder; h != nil {
		note += fmt.Sprintf(": %s has it (process %d)", h.Step, h.Process)
	}
	if waited := for_.So.Round(time.Second); waited > 0 {
		note += fmt.Sprintf(", %s so far", waited)
	}
	w.tell.Sink.Send(event.Started{Task: w.tell.Task, Act: "waiting", Note: note})
}

// end passes on what has no end of line, and gives all that was printed.
func (w *watch) end() []byte {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.output != nil {
		w.output.Close()
		w.log = w.output.All()
	}
	return w.log
}
