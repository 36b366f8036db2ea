package engine

import (
	"bytes"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/plan"
)

// piped is an executor in another process, to which a pipe leads that is not to be relied on: answers are lost, come late, and
// come twice. Each question is asked again until it is answered, and answered once however often it is asked.
type piped struct {
	mutex   sync.Mutex
	out     *gob.Encoder
	next    int
	waiting map[int]chan *answer
	held    map[digest.Key]tree.Contents
	class   executor.Class
	odd     map[string]int // what went wrong on the way
}

// question is what is asked of the other process.
type question struct {
	ID, Lease int
	Op        string
	Command   *executor.Command
	Keep      []plan.Keep
	Name      string
	Fill      store.Fill
	Refill    bool
	Secrets   map[string]executor.Secret
	View, Key string // the view's entries, and its key
	Bodies    map[string][]byte
}

// answer is what the other process answers.
type answer struct {
	ID, Lease      int
	Error, Stopped string
	Class          executor.Class
	Fills          []store.Fill
	Empty          bool
	Status         executor.Status
	Trace, Output  []byte
	Entries        string
	Bodies         map[string][]byte
}

// again is how long an answer is waited for before the question is asked once more.
const again = 300 * time.Millisecond

func (p *piped) ask(ctx context.Context, q question) (*answer, error) {
	p.mutex.Lock()
	p.next++
	q.ID = p.next
	got := make(chan *answer, 1)
	p.waiting[q.ID] = got
	p.mutex.Unlock()
	for first := true; ; first = false {
		p.mutex.Lock()
		if !first {
			p.odd["asked again"]++
		}
		err := p.out.Encode(q)
		p.mutex.Unlock()
		if err != nil {
			return nil, err
		}
		select {
		case a := <-got:
			switch {
			case a.Stopped != "":
				return a, &executor.StoppedError{What: a.Stopped}
			case a.Error != "":
				return a, errors.New(a.Error)
			}
			return a, nil
		case <-time.After(again):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// listen gives answers to those who wait for them. What nobody waits for came twice.
func (p *piped) listen(in io.Reader) {
	for decoder := gob.NewDecoder(in); ; {
		a := &answer{}
		if decoder.Decode(a) != nil {
			return
		}
		p.mutex.Lock()
		if got := p.waiting[a.ID]; got != nil {
			delete(p.waiting, a.ID)
			got <- a
		} else {
			p.odd["answered twice"]++
		}
		p.mutex.Unlock()
	}
}

func (p *piped) Check(context.Context, executor.Wanted) error { return nil }

func (p *piped) Classes(context.Context, platform.Platform) []executor.Class {
	return []executor.Class{p.class}
}

func (p *piped) Holds(_ context.Context, key digest.Key, _ []tree.Entry) (tree.Contents, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	return p.held[key], nil
}

func (p *piped) Reserve(ctx context.Context, c *executor.Command, keep []plan.Keep, _ executor.Watch) (executor.Lease, error) {
	a, err := p.ask(ctx, question{Op: "reserve", Command: c, Keep: keep})
	if err != nil {
		return nil, err
	}
	return &pipedLease{p, a.Lease}, nil
}

type pipedLease struct {
	*piped
	id int
}

func (l *pipedLease) Kept(name string) ([]store.Fill, bool, error) {
	a, err := l.ask(context.Background(), question{Op: "kept", Lease: l.id, Name: name})
	return a.Fills, a.Empty, err
}

func (l *pipedLease) Filled(keep []plan.Keep, fill store.Fill) error {
	_, err := l.ask(context.Background(), question{Op: "filled", Lease: l.id, Keep: keep, Fill: fill})
	return err
}

func (l *pipedLease) Release() {
	_, _ = l.ask(context.Background(), question{Op: "release", Lease: l.id})
}

func (l *pipedLease) Run(ctx context.Context, job executor.Job, watch executor.Watch) (executor.Attempt, error) {
	q := question{Op: "run", Lease: l.id, Command: job.Command, Fill: job.Fill, Refill: job.Refill, Secrets: map[string]executor.Secret{}}
	for _, use := range job.Secrets {
		value, err := job.Secret(ctx, use.Name)
		if err != nil {
			return nil, err
		}
		q.Secrets[use.Name] = value
	}
	entries, feed := filetree.Whole(ctx, job.View.Index)
	q.Bodies = map[string][]byte{}
	err := feed(func(i int, _ int64, body io.Reader) (err error) {
		q.Bodies[entries[i].Path], err = io.ReadAll(body)
		return err
	})
	if err != nil {
		return nil, err
	}
	for i := range entries { // what is one file stays one
		e := &entries[i]
		if n, _ := job.View.Index.Lookup(e.Path); n.Linked {
			if names := job.View.Index.Names(n); names[0] != e.Path {
				*e = tree.Entry{Path: e.Path, Kind: tree.Hardlink, Mode: e.Mode, UID: e.UID, GID: e.GID, Time: e.Time, Target: names[0]}
			}
		}
	}
	q.View = string(tree.EncodeEntries(entries))
	watch.Act("running")
	a, err := l.ask(ctx, q)
	if a != nil {
		_, _ = watch.Output().Write(a.Output)
	}
	if err != nil {
		return nil, err
	}
	made := &pipedAttempt{piped: l.piped, answer: a}
	if made.entries, err = tree.DecodeEntries(a.Entries); err == nil {
		made.learnt, err = trace.Decode(string(a.Trace))
	}
	return made, err
}

type pipedAttempt struct {
	*piped
	*answer
	entries []tree.Entry
	learnt  *trace.Trace
}

func (a *pipedAttempt) Status() executor.Status { return a.answer.Status }
func (a *pipedAttempt) Trace() *trace.Trace     { return a.learnt }
func (a *pipedAttempt) Entries() []tree.Entry   { return a.entries }
func (a *pipedAttempt) Over() []digest.Key      { return nil }
func (a *pipedAttempt) Discard()                {}
func (a *pipedAttempt) Files() tree.Contents {
	files := inMemory(a.Bodies)
	return &files
}

// Accept believes nothing: files are what the entries say.
func (a *pipedAttempt) Accept(context.Context) (tree.Contents, error) {
	for i := range a.entries {
		if e := &a.entries[i]; e.Kind == tree.File && digest.ContentBytes(a.Bodies[e.Path]) != e.Content {
			return nil, fmt.Errorf("/%s came otherwise than it was told: %w", e.Path, digest.ErrMismatch)
		}
	}
	a.mutex.Lock()
	defer a.mutex.Unlock()
	files := inMemory(a.Bodies)
	a.held[filetree.Summarize(a.entries).Key] = &files
	return &files, nil
}

// inMemory are files by their paths.
type inMemory map[string][]byte

func (m *inMemory) Open(p string) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader((*m)[p])), nil
}

// pipedEnd is the other end of the pipe: it executes what it is asked in a sandbox with a store of its own.
type pipedEnd struct {
	local   *local.Local
	mutex   sync.Mutex
	out     *gob.Encoder
	answers map[int]*answer // nil while they are worked on
	leases  map[int]executor.Lease
}

// servePipe is the other process.
func servePipe(dir string) error {
	st, err := store.Open(filepath.Join(dir, "store"))
	if err != nil {
		return err
	}
	box, err := sandbox.Open(context.Background(), sandbox.Options{Time: layer.Epoch.Unix()})
	if err != nil {
		return err
	}
	defer box.Close()
	defer box.Remove(st.Dir())
	e := &pipedEnd{out: gob.NewEncoder(os.Stdout), answers: map[int]*answer{}, leases: map[int]executor.Lease{},
		local: local.New(context.Background(), local.Options{Store: st, Sink: event.Discard, Open: func(context.Context) (*sandbox.Box, error) { return box, nil }})}
	for decoder := gob.NewDecoder(os.Stdin); ; {
		q := &question{}
		if err := decoder.Decode(q); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		e.mutex.Lock()
		known, asked := e.answers[q.ID]
		e.answers[q.ID] = known
		e.mutex.Unlock()
		switch {
		case !asked:
			go e.answer(q)
		case known != nil:
			e.send(known)
		}
	}
}

func (e *pipedEnd) send(a *answer) {
	e.mutex.Lock()
	defer e.mutex.Unlock()
	_ = e.out.Encode(a)
}

// answer answers a question. One answer of five is lost at first, one comes late, and one comes twice.
func (e *pipedEnd) answer(q *question) {
	a := e.act(q)
	a.ID = q.ID
	var stopped *executor.StoppedError
	if errors.As(a.err, &stopped) {
		a.Stopped = stopped.What
	} else if a.err != nil {
		a.Error = a.err.Error()
	}
	e.mutex.Lock()
	e.answers[q.ID] = &a.answer
	e.mutex.Unlock()
	switch q.ID % 5 {
	case 1:
		return
	case 2:
		time.Sleep(2 * again)
	case 3:
		e.send(&a.answer)
	}
	e.send(&a.answer)
}

type acted struct {
	answer
	err error
}

func (e *pipedEnd) act(q *question) (a acted) {
	ctx := context.Background()
	e.mutex.Lock()
	lease := e.leases[q.Lease]
	e.mutex.Unlock()
	switch q.Op {
	case "class":
		a.Class = e.local.Classes(ctx, platform.Here())[0]
	case "reserve":
		lease, a.err = e.local.Reserve(ctx, q.Command, q.Keep, silent{})
		e.mutex.Lock()
		e.leases[q.ID], a.Lease = lease, q.ID
		e.mutex.Unlock()
	case "kept":
		a.Fills, a.Empty, a.err = lease.Kept(q.Name)
	case "filled":
		a.err = lease.Filled(q.Keep, q.Fill)
	case "release":
		lease.Release()
	case "run":
		a.err = e.run(ctx, lease, q, &a.answer)
	}
	return a
}

func (e *pipedEnd) run(ctx context.Context, lease executor.Lease, q *question, a *answer) error {
	entries, err := tree.DecodeEntries(q.View)
	if err != nil {
		return err
	}
	files := inMemory(q.Bodies)
	below := filetree.Of(entries, &files)
	view := tree.NewView()
	if err := view.Apply(entries, below); err != nil {
		return err
	}
	var printed bytes.Buffer
	made, err := lease.Run(ctx, executor.Job{Command: q.Command, Fill: q.Fill, Refill: q.Refill,
		View:   &executor.View{Index: view, Strata: func() []filetree.Stratum { return []filetree.Stratum{filetree.StratumOf(below, "the view")} }},
		Secret: func(_ context.Context, name string) (executor.Secret, error) { return q.Secrets[name], nil }}, silent{&printed})
	a.Output = printed.Bytes()
	if err != nil {
		return err
	}
	defer made.Discard()
	a.Status, a.Entries, a.Trace = made.Status(), string(tree.EncodeEntries(made.Entries())), made.Trace().Encode()
	if !a.Status.Good() || q.Refill {
		return nil
	}
	left, err := made.Accept(ctx)
	a.Bodies = map[string][]byte{}
	for _, one := range made.Entries() {
		if one.Kind != tree.File || err != nil {
			continue
		}
		var body io.ReadCloser
		if body, err = left.Open(one.Path); err == nil {
			a.Bodies[one.Path], err = io.ReadAll(body)
			err = errors.Join(err, body.Close())
		}
	}
	return err
}

// silent is a watch that keeps what is printed.
type silent struct{ out io.Writer }

func (s silent) Output() io.Writer      { return s.out }
func (silent) Act(string)               {}
func (silent) Waiting(executor.Waiting) {}

// pipeVariable has the test's program be the other process, with its files in the folder that it names.
const pipeVariable = "IMBRICAT_TEST_PIPE"

// pipe starts the other process.
func pipe(t *testing.T) *piped {
	c := exec.Command(os.Args[0])
	c.Env, c.Stderr = append(os.Environ(), pipeVariable+"="+t.TempDir()), os.Stderr
	in, err := c.StdinPipe()
	require.NoError(t, err)
	out, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	p := &piped{out: gob.NewEncoder(in), waiting: map[int]chan *answer{}, held: map[digest.Key]tree.Contents{}, odd: map[string]int{}}
	go p.listen(out)
	t.Cleanup(func() {
		require.NoError(t, in.Close())
		require.NoError(t, c.Wait())
	})
	a, err := p.ask(t.Context(), question{Op: "class"})
	require.NoError(t, err)
	p.class = a.Class
	return p
}

// TestAnotherExecutor: commands that are run in another process, whose answers get lost and come late or twice, give what the
// sandbox of this one gives: digests, reuse, refilled kept directories, what is printed, and failures.
func TestAnotherExecutor(t *testing.T) {
	here := commandSite(t, sandbox.Options{})
	there := here.elsewhere(t)
	there.freshAll = false
	other := pipe(t)
	there.executor = other
	secret := "sesame-street"
	sites := []*site{here, there}
	for _, s := range sites {
		s.secrets = map[string]string{"token": secret}
	}
	recipe := func(fill, use string) string {
		return "imbricat: 1\nsecrets: {token: {env: TIDE_TOKEN}}\nstages:\n  made:\n    base: none\n    steps:\n      - copy: {from: bin, to: /bin}\n" +
			"      - {run: {command: [/bin/busybox, sh, -c, '/bin/busybox --install -s /bin; mkdir -p /k /o/d /tmp; echo one > /o/a; ln /o/a /o/d/b']}}\n" +
			"      - {run: '" + fill + "', kept: [{name: levels, at: /k}]}\n" +
			"images:\n  gauge:\n    base: {stage: made}\n    platforms: [linux/amd64]\n    steps:\n" +
			"      - {run: '" + use + "', kept: [{name: levels, at: /k}], secrets: [{name: token, at: /token}]}\n" +
			"      - {run: 'rm /o/a; chmod 700 /o/d', times: rising}\n      - run: 'true'\n" +
			"  slim:\n    base: none\n    platforms: [linux/amd64]\n    steps:\n      - take: {from: made, paths: /o, to: /o}\n"
	}
	t.Setenv("TIDE_TOKEN", secret)
	build := func(text string) (results []*Result) {
		for _, s := range sites {
			r, err := s.build(text)
			require.NoError(t, err)
			results = append(results, r)
		}
		mine, other := results[0], results[1]
		require.Len(t, mine.Images, 2)
		for i := range mine.Images {
			require.Equal(t, mine.Images[i].Descriptor, other.Images[i].Descriptor)
		}
		for i, step := range mine.Steps {
			require.Equal(t, step.Outcome, other.Steps[i].Outcome, step.Place)
			if step.Run != nil {
				require.Equal(t, [3]digest.Key{step.Run.Key, step.Run.Tree, step.Run.Trace}, [3]digest.Key{other.Steps[i].Run.Key, other.Steps[i].Run.Tree, other.Steps[i].Run.Trace}, step.Place)
			}
		}
		return results
	}
	text := recipe("echo 3.42 > /k/level", "cat /k/level > /o/level; cat /token; echo")
	first := build(text)
	log := func(i int) string {
		text, found := sites[i].store.Log(first[i].Steps[3].Run.Log)
		require.True(t, found)
		return string(text)
	}
	require.NotContains(t, log(0), secret)
	require.Equal(t, log(0), log(1))
	for _, r := range build(text) {
		for _, step := range r.Steps {
			require.NotEqual(t, event.Ran, step.Outcome, step.Place)
		}
	}
	// Another version fills the kept directory, and then the first one is wanted again, which is recalled and runs again for it.
	build(recipe("echo 2.71 > /k/level", "cat /k/level > /o/level"))
	again := build(recipe("echo 3.42 > /k/level", "cat /k/level > /o/other"))
	require.Equal(t, event.Refilled, again[0].Steps[2].Reason)
	require.Equal(t, event.Refilled, again[1].Steps[2].Reason)

	for _, s := range sites {
		_, err := s.build(recipe("echo 3.42 > /k/level", "echo high; exit 3"))
		var failed *command.FailedError
		require.ErrorAs(t, err, &failed)
		require.Equal(t, "gauge:1 ended with status 3: high\n", failed.Place+" "+failed.What+": "+string(failed.Output))
		_, err = s.build(strings.Replace(recipe("echo 3.42 > /k/level", "sleep 60"), "secrets: [{name: token, at: /token}]", "within: 300ms", 1))
		require.ErrorAs(t, err, &failed)
		require.Contains(t, failed.What, "it took longer than 300ms")
	}
	require.Positive(t, other.odd["asked again"])
	require.Positive(t, other.odd["answered twice"])
}
