package build

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/sandbox"
	"imbricat/internal/store"
	"imbricat/internal/trace"
	"imbricat/internal/tree"
)

// errTimeLimit ends a command that takes too long.
var errTimeLimit = errors.New("took longer than it may")

// execute runs a command and keeps what it left. Where it runs once more for its kept directories alone the rest is
// dropped: what filled left before stands.
//
// With fit the command begins only where that returns nil, when it has its kept directories.
func (b *builder) execute(ctx context.Context, c *command, reason why, filled *store.Run, fit func(*sandbox.Box) error, sink event.Sink) (t *stepTree, err error) {
	for range mostDamaged {
		if t, err = b.executeOnce(ctx, c, reason, filled, fit, sink); !errors.Is(err, errDamaged) {
			break
		}
	}
	return t, err
}

// mostDamaged bounds how often a command runs, where what it ran over was found damaged.
const mostDamaged = 3

func (b *builder) executeOnce(ctx context.Context, c *command, reason why, filled *store.Run, fit func(*sandbox.Box) error, sink event.Sink) (*stepTree, error) {
	drop := filled != nil
	if err := b.secretsThere(); err != nil {
		return nil, err
	}
	box, err := b.box(ctx)
	if err != nil {
		return nil, err
	}
	spec, laid, finish, err := b.ready(ctx, c, box, sink, nil)
	if err != nil {
		return nil, err
	}
	defer finish()
	if fit != nil {
		if err := fit(box); err != nil {
			return nil, err
		}
	}
	if err := b.noteFills(c, box, nil); err != nil {
		return nil, err
	}
	// What links in kept directories lead to is known while the command runs alone.
	spec.Observe, spec.Links = !drop, len(c.do.Keep) > 0 || leadsOut(c.view)
	printed := newPrinted(sink, c.task, spec.Secrets)
	spec.Stdout, spec.Stderr = printed, printed
	began := time.Now()
	limited, cancel := context.WithTimeoutCause(ctx, c.do.Within, errTimeLimit)
	defer cancel()
	status, err := box.Run(limited, spec)
	took := time.Since(began)
	printed.Close()
	if (err != nil || status.Code != 0) && ctx.Err() == nil {
		// What is damaged may keep a command from starting, or from ending well.
		if damage := b.checkBelow(ctx, c, box, laid, everything); damage != nil {
			return nil, damage
		}
	}
	if err := c.failure(status, err, printed); err != nil {
		return nil, err
	}
	if drop {
		box.Finish(spec)
		if err := b.checkBelow(ctx, c, box, laid, everything); err != nil {
			return nil, err
		}
		sink.Send(event.Finished{Task: c.task, Outcome: event.Ran, Reason: reason.text, Took: took})
		return nil, b.noteFills(c, box, filled)
	}
	t, learnt, err := b.capture(ctx, c, box, spec, status.Observed)
	if err != nil {
		return nil, err
	}
	if err := b.checkBelow(ctx, c, box, laid, learnt); err != nil {
		return nil, err
	}
	if b.o.forget != nil {
		learnt.Entries = slices.DeleteFunc(learnt.Entries, b.o.forget)
	}
	t.ran = &ran{outcome: event.Ran, why: reason, took: took}
	for _, k := range c.do.Keep {
		t.ran.kept = append(t.ran.kept, k.Name)
	}
	t.ran.record = &store.Run{Key: c.key, Tree: t.key, Reads: len(learnt.Entries), Whole: learnt.Why, Files: t.files, Bytes: t.bytes,
		Millis: took.Milliseconds(), CPU: status.CPU.Milliseconds(), Made: time.Now().UTC(), Build: b.o.Build, Kept: t.ran.kept}
	for _, below := range laid {
		t.ran.record.Over = append(t.ran.record.Over, below.stratum.key)
	}
	earlier := b.o.Store.Runs(c.key)
	if err := b.remember(t.ran.record, learnt, printed.All()); err != nil {
		return t, err
	}
	b.warnUnstable(c, t, learnt, earlier)
	return t, b.noteFills(c, box, t.ran.record)
}

// failure tells how a command failed that did not end well: as a *StepFailed, or as what kept it from being run.
func (c *command) failure(status sandbox.Status, err error, printed *printed) error {
	what := ""
	switch over, is := errors.AsType[*sandbox.BoundError](err); {
	case err == nil && status.Code == 0:
		return nil
	case err == nil:
		what = statusText(status)
	case errors.Is(err, errTimeLimit):
		what = fmt.Sprintf("was ended: it took longer than %s (set within: for more)", c.do.Within)
	case is:
		what = fmt.Sprintf("was ended: %s%s", over, over.Mend())
	default:
		return err
	}
	return &StepFailed{Unit: c.unit.ID.String(), Label: c.task.Label, Place: c.place, Command: shown(c), What: what, Output: printed.All()}
}

// secretsThere finds, before the first command of a build is run, secrets of any of them that are not to be had: a build
// must not fail for the want of one when half of it is done. What is only recalled needs none.
func (b *builder) secretsThere() error {
	b.secretsOnce.Do(func() {
		problems := &recipe.Errors{File: b.o.Plan.File}
		for _, u := range b.o.Plan.Units {
			for i := range u.Steps {
				do, is := u.Steps[i].Do.(plan.Run)
				if !is {
					continue
				}
				for _, use := range do.Secrets {
					s := b.o.Plan.Secrets[use.Name]
					if _, set := os.LookupEnv(s.Env); s.Env != "" && !set {
						report(problems, s.Pos, "the secret %q: the environment variable %s is not set", use.Name, s.Env)
					}
				}
			}
		}
		if len(problems.Problems) > 0 {
			b.secretsErr = problems
		}
	})
	return b.secretsErr
}

// remember keeps a run: what it printed, what it learnt, and last the record.
func (b *builder) remember(record *store.Run, learnt *trace.Trace, log []byte) (err error) {
	if record.Log, err = b.o.Store.PutLog(log); err != nil {
		return err
	}
	text := learnt.Encode()
	record.Trace = trace.ID(text)
	if err := b.o.Store.PutTrace(record.Trace, text); err != nil {
		return err
	}
	return b.o.Store.PutRun(record)
}

// leadsOut tells whether a view has links through which a path may come to what only the running system knows: into
// /proc or /dev, or to the root, in which these lie.
func leadsOut(view *tree.View) bool {
	found := false
	view.Each(func(n *tree.Node) {
		if found || n.Kind != tree.Symlink {
			return
		}
		real, err := view.Resolve(n.Path, true)
		first, _, _ := strings.Cut(real, "/")
		found = err != nil || first == "" || first == "proc" || first == "dev"
	})
	return found
}

// shown is a command for people: lines as they are, arguments as a shell would take them.
func shown(c *command) string {
	if len(c.do.Lines) > 0 {
		return strings.Join(c.do.Lines, "\n")
	}
	words := make([]string, len(c.do.Args))
	for i, arg := range c.do.Args {
		if words[i] = arg; arg == "" || strings.ContainsAny(arg, " \t\n\"'$`\\*?[]{}()<>|&;#~") {
			words[i] = "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}

func statusText(s sandbox.Status) string {
	if s.Signal != "" {
		return fmt.Sprintf("was ended by the signal %s", s.Signal)
	}
	return fmt.Sprintf("ended with status %d", s.Code)
}

// ready gathers what a command needs and waits for its turn. Laid are the unpacked trees that it works on, lowest first.
// finish gives all of it back; adjust, where it is given, has the last word before anything is unpacked.
func (b *builder) ready(ctx context.Context, c *command, box *sandbox.Box, sink event.Sink, adjust func(*sandbox.Spec) error) (spec *sandbox.Spec, laid []laidTree, finish func(), err error) {
	var undo []func()
	finish = func() {
		for i := len(undo) - 1; i >= 0; i-- {
			undo[i]()
		}
	}
	spec, err = func() (*sandbox.Spec, error) {
		spec := &sandbox.Spec{Args: c.args, Env: c.env, Dir: c.dir, UID: c.user.uid, GID: c.user.gid, Groups: c.user.groups,
			Network: c.do.Network, FreshTmp: c.do.FreshTmp, Time: c.time}
		if err := b.give(ctx, c, spec); err != nil {
			return nil, err
		}
		release, err := b.takeKept(ctx, c, box, spec, sink)
		undo = append(undo, release)
		if err != nil {
			return nil, err
		}
		// Whoever has a place to work never waits for a kept directory, so nobody waits in a circle.
		select {
		case b.jobs <- struct{}{}:
			undo = append(undo, func() { <-b.jobs })
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		sink.Send(event.Started{Task: c.task, Act: "unpacking"})
		work, remove, err := b.workFolder()
		undo = append(undo, remove)
		if err != nil {
			return nil, err
		}
		spec.Work = work
		if laid, err = b.setUp(ctx, c, box, spec, adjust); err != nil {
			return nil, err
		}
		sink.Send(event.Started{Task: c.task, Act: "running"})
		return spec, nil
	}()
	if err != nil {
		finish()
		return nil, nil, func() {}, err
	}
	return spec, laid, finish, nil
}

// hosts is the one list of machines that a command sees.
const hosts = "127.0.0.1 localhost " + sandbox.Hostname + "\n::1 localhost\n"

// give adds secrets and the small files of the machine.
func (b *builder) give(ctx context.Context, c *command, spec *sandbox.Spec) error {
	public := func(at, text string) error {
		real, err := c.view.Resolve(strings.TrimPrefix(at, "/"), true)
		if err == nil {
			spec.Files = append(spec.Files, sandbox.Secret{At: "/" + real, Content: []byte(text), Mode: 0o644})
		}
		return err
	}
	if err := public("/etc/hosts", hosts); err != nil {
		return err
	}
	if c.do.Network {
		resolver, err := os.ReadFile("/etc/resolv.conf")
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("reading the machine's resolver: %w", err)
		}
		if err := public("/etc/resolv.conf", string(resolver)); err != nil {
			return err
		}
	}
	for _, use := range c.do.Secrets {
		secret := b.o.Plan.Secrets[use.Name]
		real, err := c.view.Resolve(strings.TrimPrefix(use.At, "/"), true)
		if err != nil {
			return err
		}
		at := "/" + real
		if secret.SSHAgent {
			socket := os.Getenv("SSH_AUTH_SOCK")
			if socket == "" {
				return b.problemAt(secret.Pos, "no ssh agent runs: SSH_AUTH_SOCK is not set")
			}
			spec.Mounts = append(spec.Mounts, sandbox.Mount{From: socket, At: at})
			spec.Env = append(slices.Clone(spec.Env), "SSH_AUTH_SOCK="+use.At)
			continue
		}
		value, err := b.o.Secret(ctx, use.Name, secret)
		if err != nil {
			return b.problemAt(secret.Pos, "the secret %q: %s", use.Name, err)
		}
		spec.Secrets = append(spec.Secrets, sandbox.Secret{At: at, Content: value, UID: c.user.uid, GID: c.user.gid, Mode: 0o400})
	}
	return nil
}

// setUp unpacks what lies below and lays down what the mounts need. It gives the unpacked trees, lowest first.
func (b *builder) setUp(ctx context.Context, c *command, box *sandbox.Box, spec *sandbox.Spec, adjust func(*sandbox.Spec) error) (laid []laidTree, err error) {
	spec.Top = tree.Entry{Kind: tree.Folder, Mode: 0o755}
	if n, exists := c.view.Lookup(""); exists {
		spec.Top.Mode, spec.Top.UID, spec.Top.GID = n.Mode, n.UID, n.GID
	}
	if spec.Points, err = points(c.view, spec); err != nil {
		return nil, err
	}
	if adjust != nil {
		if err := adjust(spec); err != nil {
			return nil, err
		}
	}
	if !box.Overlay() {
		entries, feed := whole(ctx, c.view)
		return nil, box.Prepare(ctx, spec, entries, feed)
	}
	for _, one := range slices.Backward(c.strata()) {
		dir, err := b.snapshot(ctx, box, one)
		if err != nil {
			return nil, err
		}
		// Of a tree that comes twice the higher one is enough: it has all that the lower one shows. The kernel takes no folder
		// twice.
		if !slices.Contains(spec.Lower, dir) {
			marks, _ := os.Stat(store.MarksOf(dir))
			spec.Lower, laid = append(spec.Lower, dir), append(laid, laidTree{one, dir, marks})
		}
	}
	slices.Reverse(laid)
	return laid, box.Prepare(ctx, spec, nil, nil)
}

// whole gives a view as one tree.
func whole(ctx context.Context, view *tree.View) ([]tree.Entry, sandbox.Feed) {
	var entries []tree.Entry
	nodes := map[int]*tree.Node{}
	view.Each(func(n *tree.Node) {
		if n.Kind == tree.File {
			nodes[len(entries)] = n
		}
		e := n.Entry
		entries = append(entries, e)
	})
	order := make([]int, len(entries))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(entries[a].Path, entries[b].Path) })
	sorted := make([]tree.Entry, len(entries))
	from := map[int]*tree.Node{}
	for to, old := range order {
		sorted[to] = entries[old]
		if n := nodes[old]; n != nil {
			from[to] = n
		}
	}
	return sorted, func(put putFunc) error {
		wanted := map[preparer][]string{}
		for _, n := range from {
			if p, needs := n.From.(preparer); needs {
				wanted[p] = append(wanted[p], n.At)
			}
		}
		for p, paths := range wanted {
			if err := p.prepare(ctx, paths); err != nil {
				return err
			}
		}
		for i := range sorted {
			if n := from[i]; n != nil {
				if err := putFile(put, i, n.From, n.At); err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// points are the entries that mounts are put on, with the folders above them as the view has them.
func points(view *tree.View, spec *sandbox.Spec) ([]tree.Entry, error) {
	all := map[string]tree.Entry{}
	add := func(at string, kind tree.Kind) error {
		p := strings.TrimPrefix(at, "/")
		if n, exists := view.Lookup(p); exists && (n.Kind == tree.Folder) != (kind == tree.Folder) {
			return fmt.Errorf("%s is a %s in the view, and a %s is to be shown there", at, n.Kind, kind)
		} else if !exists {
			all[p] = tree.Entry{Path: p, Kind: kind, Mode: 0o755}
		}
		for above := tree.Parent(p); ; above = tree.Parent(above) {
			n, exists := view.Lookup(above)
			if exists && n.Kind != tree.Folder {
				return fmt.Errorf("/%s is a %s in the view, and %s is to be shown in it", above, n.Kind, at)
			}
			if _, known := all[above]; !known {
				all[above] = tree.Entry{Path: above, Kind: tree.Folder, Mode: 0o755}
				if exists {
					all[above] = bare(n)
				}
			}
			if above == "" {
				return nil
			}
		}
	}
	for _, m := range spec.Mounts {
		kind := tree.Folder
		if info, err := os.Stat(m.From); err == nil && !info.IsDir() {
			kind = tree.File
		}
		if err := add(m.At, kind); err != nil {
			return nil, err
		}
	}
	for _, f := range slices.Concat(spec.Files, spec.Secrets) {
		if err := add(f.At, tree.File); err != nil {
			return nil, err
		}
	}
	var list []tree.Entry
	for _, e := range all {
		if e.Kind == tree.File {
			e.Content = digest.ContentBytes(nil)
		}
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	return list, nil
}
