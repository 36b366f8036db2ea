package build

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/sandbox"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// errTimeLimit ends a command that takes too long.
var errTimeLimit = errors.New("took longer than it may")

// execute runs a command and keeps what it left. Where it runs for its kept directories alone the rest is dropped: what it
// left before stands.
func (b *builder) execute(ctx context.Context, c *command, key digest.Key, reason string, drop bool, sink event.Sink) (*stepTree, error) {
	box, err := b.box(ctx)
	if err != nil {
		return nil, err
	}
	spec, finish, err := b.ready(ctx, c, box, sink, nil)
	if err != nil {
		return nil, err
	}
	defer finish()
	printed := newPrinted(sink, c.task, spec.Secrets)
	spec.Stdout, spec.Stderr = printed, printed
	began := time.Now()
	limited, cancel := context.WithTimeoutCause(ctx, c.do.Within, errTimeLimit)
	defer cancel()
	status, err := box.Run(limited, spec)
	took := time.Since(began)
	printed.Close()
	if err == nil && status.Code != 0 {
		err = errors.New(statusText(status))
	} else if errors.Is(err, errTimeLimit) {
		err = fmt.Errorf("was ended: it took longer than %s (set within: for more)", c.do.Within)
	} else if err != nil {
		return nil, err
	}
	if err != nil {
		return nil, &StepFailed{Unit: c.unit.ID.String(), Label: c.task.Label, Place: c.place, Command: shown(c), What: err.Error(), Output: printed.All()}
	}
	if drop {
		box.Finish(spec)
		sink.Send(event.Finished{Task: c.task, Outcome: event.Ran, Reason: reason, Took: took})
		return nil, nil
	}
	t, err := b.capture(ctx, c, box, spec)
	if err != nil {
		return nil, err
	}
	t.ran = &ran{key: key, outcome: event.Ran, reason: reason, took: took}
	for _, k := range c.do.Keep {
		t.ran.kept = append(t.ran.kept, k.Name)
	}
	record := &store.Run{Key: key, Tree: t.key, Files: t.files, Bytes: t.bytes, Millis: took.Milliseconds(), Made: time.Now().UTC(), Kept: t.ran.kept}
	return t, b.o.Store.PutRun(record, tree.EncodeEntries(t.entries), printed.All())
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

// ready gathers what a command needs and waits for its turn. finish gives all of it back; adjust, where it is
// given, has the last word before anything is unpacked.
func (b *builder) ready(ctx context.Context, c *command, box *sandbox.Box, sink event.Sink, adjust func(*sandbox.Spec) error) (*sandbox.Spec, func(), error) {
	var undo []func()
	finish := func() {
		for i := len(undo) - 1; i >= 0; i-- {
			undo[i]()
		}
	}
	spec, err := func() (*sandbox.Spec, error) {
		spec := &sandbox.Spec{Args: c.args, Env: c.env, Dir: c.dir, UID: c.user.uid, GID: c.user.gid, Groups: c.user.groups,
			Network: c.do.Network, FreshTmp: c.do.FreshTmp}
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
		if err := b.setUp(ctx, c, box, spec, adjust); err != nil {
			return nil, err
		}
		sink.Send(event.Started{Task: c.task, Act: "running"})
		return spec, nil
	}()
	if err != nil {
		finish()
		return nil, func() {}, err
	}
	return spec, finish, nil
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

// setUp unpacks what lies below and lays down what the mounts need.
func (b *builder) setUp(ctx context.Context, c *command, box *sandbox.Box, spec *sandbox.Spec, adjust func(*sandbox.Spec) error) error {
	spec.Top = tree.Entry{Kind: tree.Folder, Mode: 0o755}
	if n, exists := c.view.Lookup(""); exists {
		spec.Top.Mode, spec.Top.UID, spec.Top.GID = n.Mode, n.UID, n.GID
	}
	var err error
	if spec.Points, err = points(c.view, spec); err != nil {
		return err
	}
	if adjust != nil {
		if err := adjust(spec); err != nil {
			return err
		}
	}
	if !box.Overlay() {
		entries, feed := whole(ctx, c.view)
		return box.Prepare(ctx, spec, entries, feed)
	}
	for i := len(c.strata) - 1; i >= 0; i-- {
		dir, err := b.snapshot(ctx, box, c.strata[i])
		if err != nil {
			return err
		}
		spec.Lower = append(spec.Lower, dir)
	}
	return box.Prepare(ctx, spec, nil, nil)
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

// capture keeps what a command left as an unpacked tree.
func (b *builder) capture(ctx context.Context, c *command, box *sandbox.Box, spec *sandbox.Spec) (*stepTree, error) {
	keep, err := b.o.Store.TemporaryFolder()
	if err != nil {
		return nil, err
	}
	defer b.o.Store.Discard(keep)
	root := filepath.Join(keep, "root")
	found, err := box.Wrote(spec, root)
	if err != nil {
		return nil, fmt.Errorf("reading what the command left: %w", err)
	}
	entries, mending, err := settle(c.view, found, box.IDs() == "few")
	if err != nil {
		return nil, err
	}
	if err := box.Mend(root, mending); err != nil {
		return nil, err
	}
	t := &stepTree{entries: entries, places: map[string]place{}}
	t.seal()
	if t.empty {
		return t, nil
	}
	dir, err := b.o.Store.PutSnapshot(box.Form(), t.key, keep, t.bytes)
	if err != nil {
		return nil, err
	}
	t.places = placesIn(entries, contentsIn(box, dir, entries))
	return t, ctx.Err()
}

// settle makes entries of what was found: folders that hide what was below become deletions of just that, deletions of
// what was never there go, and in a sandbox with one id owners come from the view.
func settle(view *tree.View, found []sandbox.Found, single bool) ([]tree.Entry, sandbox.Mending, error) {
	var entries []tree.Entry
	var mend sandbox.Mending
	there := map[string]bool{}
	for i := range found {
		there[found[i].Path] = true
	}
	if single {
		if err := restoreOwners(view, found); err != nil {
			return nil, mend, err
		}
	}
	hidden := map[string]bool{} // folders of which nothing below shows
	for i := range found {
		f := &found[i]
		n, below := view.Lookup(f.Path)
		if f.Kind == tree.Whiteout {
			if !below {
				mend.Drop = append(mend.Drop, f.Path)
				continue
			}
			entries = append(entries, f.Entry)
			continue
		}
		if f.Path == "" && below && string(bareLine(n)) == string(bareLine(&tree.Node{Entry: f.Entry})) {
			continue
		}
		entries = append(entries, f.Entry)
		if f.Kind != tree.Folder {
			continue
		}
		if f.Opaque {
			mend.Show = append(mend.Show, f.Path)
		}
		if f.Opaque || hidden[tree.Parent(f.Path)] && f.Path != "" {
			hidden[f.Path] = true
			if below && n.Kind == tree.Folder {
				for _, child := range n.Children() {
					if !there[child.Path] {
						entries = append(entries, tree.Entry{Path: child.Path, Kind: tree.Whiteout})
						mend.Hide = append(mend.Hide, child.Path)
					}
				}
			}
		}
	}
	return entries, mend, nil
}

func bareLine(n *tree.Node) []byte {
	e := bare(n)
	e.Time = 0
	return e.AppendLine(nil)
}

// restoreOwners gives what was copied up the owner that it has in the view. What cannot be known is an error: the result
// would differ from that of a machine with more ids.
func restoreOwners(view *tree.View, found []sandbox.Found) error {
	mixed := false
	view.Each(func(n *tree.Node) { mixed = mixed || n.UID != 0 || n.GID != 0 })
	if !mixed {
		return nil
	}
	unable := func(f *sandbox.Found, what string) error {
		return &sandbox.UnableError{Missing: "ids", What: fmt.Sprintf("/%s %s, and this user has no range of ids to tell its owner", f.Path, what),
			Mend: "give the user a range in /etc/subuid and /etc/subgid and install newuidmap, or run as root"}
	}
	for i := range found {
		f := &found[i]
		if f.Kind == tree.Whiteout {
			continue
		}
		n, below := view.Lookup(f.Path)
		sameLink := below && n.Kind == tree.Symlink && f.Kind == tree.Symlink && n.Target == f.Target
		switch {
		case f.CopiedUp && below && n.Kind == f.Kind, sameLink:
			f.UID, f.GID = n.UID, n.GID
		case f.CopiedUp && f.Path != "":
			return unable(f, "was moved from elsewhere")
		default:
			parent, exists := view.Lookup(tree.Parent(f.Path))
			if exists && parent.Mode&0o2000 != 0 && parent.GID != 0 {
				return unable(f, fmt.Sprintf("is new in a folder that gives its group %d", parent.GID))
			}
		}
	}
	return nil
}

// takeKept waits until the step has all of its kept directories, in the order of their names.
func (b *builder) takeKept(ctx context.Context, c *command, box *sandbox.Box, spec *sandbox.Spec, sink event.Sink) (release func(), err error) {
	var held []*flock.Flock
	release = func() {
		for _, lock := range held {
			lock.Close()
		}
	}
	for _, k := range c.do.Keep {
		kept, lock, err := b.o.Store.Kept(box.Owners(), k.Name)
		if err != nil {
			return release, err
		}
		if err := b.waitFor(ctx, c, kept, lock, k.AtOnce, sink); err != nil {
			return release, err
		}
		held = append(held, lock)
		if err := b.o.Store.HoldKept(kept, store.Holder{Step: c.unit.ID.String() + ", " + c.task.Label, Process: os.Getpid(), Since: time.Now()}); err != nil {
			return release, err
		}
		if _, err := os.Stat(kept.Dir); errors.Is(err, os.ErrNotExist) {
			folder := []tree.Entry{{Kind: tree.Folder, Mode: 0o755, UID: c.user.uid, GID: c.user.gid}}
			if err := box.Lay(ctx, kept.Dir, folder, func(putFunc) error { return nil }); err != nil {
				return release, err
			}
		}
		real, err := c.view.Resolve(strings.TrimPrefix(k.At, "/"), true)
		if err != nil {
			return release, err
		}
		spec.Mounts = append(spec.Mounts, sandbox.Mount{From: kept.Dir, At: "/" + real})
	}
	return release, nil
}

type putFunc = func(i int, size int64, body io.Reader) error

// waitFor takes the lock of a kept directory and says for whom it waits meanwhile.
func (b *builder) waitFor(ctx context.Context, c *command, kept store.Kept, lock *flock.Flock, atOnce bool, sink event.Sink) error {
	take := lock.TryLock
	if atOnce {
		take = lock.TryRLock
	}
	began, told := time.Now(), time.Time{}
	for {
		free, err := take()
		if err != nil {
			return fmt.Errorf("taking the kept directory %s: %w", kept.Name, err)
		}
		if free {
			return nil
		}
		if time.Since(told) > 5*time.Second {
			told = time.Now()
			note := "for the kept directory " + kept.Name
			if h, known := b.o.Store.KeptHolder(kept); known {
				note += fmt.Sprintf(": %s has it (process %d)", h.Step, h.Process)
			}
			if waited := time.Since(began).Round(time.Second); waited > 0 {
				note += fmt.Sprintf(", %s so far", waited)
			}
			sink.Send(event.Started{Task: c.task, Act: "waiting", Note: note})
		}
		select {
		case <-time.After(50 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}
