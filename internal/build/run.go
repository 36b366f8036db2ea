package build

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/sandbox"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// Reasons of run steps.
const (
	reused     = event.Reused
	sameReads  = "what it reads did not change"
	sameView   = "nothing below it changed"
	newCommand = "first time"
	refilled   = "its kept directory was not as it leaves it"
)

// wouldRun ends a preview at a command that would be run.
type wouldRun struct {
	step *plan.Step
	why  why
}

func (w *wouldRun) Error() string { return w.why.text }

// ran tells how a run step went, beside what it laid down.
type ran struct {
	key     digest.Key // of the command and what lies below it
	outcome event.Outcome
	why     why
	took    time.Duration
	kept    []string
	record  *store.Run
	fill    store.Fill // what it is to the kept directories that it has
	inputs  string
	again   func(ctx context.Context, why string) error // fills its kept directories
}

// StepFailed is a command that did not end well. Output is all that it printed, but for what was too much.
type StepFailed struct {
	Unit    string
	Label   string
	Place   string // where the step stands, for trying it by hand: gauge:3
	Command string // as people would type it
	What    string // "ended with status 2"
	Output  []byte
}

func (e *StepFailed) Error() string {
	return fmt.Sprintf("%s, %s: the command %s", e.Unit, e.Label, e.What)
}

// command is a run step with everything known that it needs.
type command struct {
	do     plan.Run
	unit   *plan.Unit
	step   *plan.Step
	place  string
	index  int // of the step in its unit
	task   event.Task
	view   *tree.View
	strata func() []*stratum // lowest first
	below  digest.Key        // names all strata
	key    digest.Key        // names all that it is given
	base   string            // the name of the base, or empty
	args   []string
	env    []string
	dir    string
	user   account
	ids    string
	// machine names what the command can see of this machine that most others do not show.
	machine []string
	time    int64 // of the files that it leaves; 0: the constant
}

// account is as whom a command runs.
type account struct {
	uid, gid int
	groups   []int
	home     string
}

// runStep gives what a command leaves: remembered, or by running it.
func (b *builder) runStep(ctx context.Context, u *plan.Unit, step *plan.Step, s *unitState, task event.Task, sink event.Sink) (*stepTree, error) {
	do := step.Do.(plan.Run)
	c, err := b.command(ctx, u, step, do, s, task)
	if err != nil {
		return nil, err
	}
	inputs := encodeInputs(c.inputs())
	c.key = keyOfText(inputs)
	id := keyOfText(string(c.key) + " " + string(c.below))
	t, first, err := b.runs.do(id, func() (*stepTree, error) {
		t, err := b.runOnce(b.whole(ctx), c, s, sink)
		if t != nil {
			t.ran.key, t.ran.inputs = id, inputs
			t.doubts = b.doubtsOf(t.entries)
		}
		return t, err
	})
	var would *wouldRun
	if errors.As(err, &would) {
		return nil, &wouldRun{step, would.why} // another unit may have asked first
	}
	if err != nil {
		return nil, err
	}
	if first {
		return t, nil
	}
	return t.sharedRun(), nil
}

// sharedRun is the same outcome for another step.
func (t *stepTree) sharedRun() *stepTree {
	own := t.alias()
	own.doubts = nil // the first one tells of them
	about := *t.ran
	about.outcome, about.why, about.took = event.Reused, why{text: asAnother}, 0
	own.ran = &about
	return own
}

// command works out what a run step does in its view.
func (b *builder) command(ctx context.Context, u *plan.Unit, step *plan.Step, do plan.Run, s *unitState, task event.Task) (*command, error) {
	view, err := s.see(ctx)
	if err != nil {
		return nil, err
	}
	if len(do.Keep) > 0 {
		// It may run once more when later steps have been laid over the unit's view.
		view = view.Clone()
	}
	c := &command{do: do, unit: u, step: step, task: task, view: view, ids: b.ids(ctx), machine: b.surroundings(ctx)}
	own := slices.Clone(s.own)
	if step.RisingTimes {
		c.time = timeAfter(view)
	}
	c.strata = func() []*stratum { return s.strata(own) }
	c.below = s.identity(own)
	if s.of != nil {
		c.base = s.of.resolved.Name
	}
	for i := range u.Steps {
		if &u.Steps[i] == step {
			c.place, c.index = placeOf(u, i), i
		}
	}
	config := b.inherit(u, s)
	baseEnv, baseUser, baseDir := []string(nil), "", ""
	if config != nil {
		baseEnv, baseUser, baseDir = config.Config.Config.Env, config.Config.Config.User, config.Config.Config.WorkingDir
	}
	if c.user, err = b.runsAs(ctx, c, baseUser); err != nil {
		return nil, err
	}
	c.env = environment(baseEnv, do.Env, c.user.home)
	if c.args = do.Args; len(c.args) == 0 {
		if err := c.hasShell(b); err != nil {
			return nil, err
		}
		c.args = []string{"/bin/sh", "-e", "-c", script(do.Lines)}
	}
	return c, c.folder(b, baseDir)
}

// script makes one shell script of lines, each of which must succeed as a whole.
func script(lines []string) string {
	if len(lines) == 1 {
		return lines[0]
	}
	var out strings.Builder
	for _, line := range lines {
		if strings.TrimSpace(line) == "" {
			continue
		}
		fmt.Fprintf(&out, "%s\n[ $? = 0 ] || exit\n", line)
	}
	return out.String()
}

func hasShell(view *tree.View) bool {
	real, err := view.Resolve("bin/sh", true)
	if err != nil {
		return false
	}
	n, exists := view.Lookup(real)
	return exists && n.Kind == tree.File
}

func (c *command) hasShell(b *builder) error {
	if !hasShell(c.view) {
		return b.o.Plan.File.Problem(c.step.Pos, "what lies below has no shell /bin/sh: take a base that has one, or write run: {command: [PROGRAM, …]}")
	}
	return nil
}

// folder settles where the command starts.
func (c *command) folder(b *builder, baseDir string) error {
	c.dir = c.do.In
	if c.dir == "" {
		c.dir = path.Clean("/" + baseDir)
	}
	real, err := c.view.Resolve(strings.TrimPrefix(c.dir, "/"), true)
	if err != nil {
		return err
	}
	n, exists := c.view.Lookup(real)
	inKept := slices.ContainsFunc(c.do.Keep, func(k plan.Keep) bool { return c.dir == k.At || strings.HasPrefix(c.dir, k.At+"/") })
	switch {
	case exists && n.Kind == tree.Folder || inKept:
		return nil
	case c.do.In == "":
		c.dir = "/" // a base that names a folder it lacks
		return nil
	}
	return b.o.Plan.File.Problem(c.do.InPos, "there is no folder %s below this step: an earlier step must make it", c.do.In)
}

const defaultPath = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"

// environment is the base's with the step's own, and what every program may rely on.
func environment(base []string, own map[string]string, home string) []string {
	all := map[string]string{"PATH": defaultPath, "HOME": home}
	for _, pair := range base {
		if name, value, found := strings.Cut(pair, "="); found && name != "" {
			all[name] = value
		}
	}
	all["SOURCE_DATE_EPOCH"] = strconv.FormatInt(layer.Epoch.Unix(), 10)
	maps.Copy(all, own)
	var out []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, name+"="+all[name])
	}
	return out
}

// runsAs finds as whom the command runs, in the view's own lists of users and groups.
func (b *builder) runsAs(ctx context.Context, c *command, baseUser string) (account, error) {
	owner, pos := plan.Owner{}, c.do.UserPos
	switch {
	case c.do.User != nil:
		owner = *c.do.User
	case baseUser != "":
		owner, pos = ownerOf(baseUser), c.step.Pos
	}
	looker := newComposer(c.view)
	ids, err := b.owner(ctx, looker, owner, pos)
	if err != nil {
		return account{}, err
	}
	a := account{uid: ids.uid, gid: ids.gid, home: "/"}
	if a.uid == 0 {
		a.home = "/root"
	}
	passwd, err := b.readBelow(ctx, c.view, "etc/passwd")
	if err != nil {
		return a, err
	}
	name := owner.User
	for line := range strings.Lines(passwd) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) >= 6 && fields[2] == strconv.Itoa(a.uid) && strings.HasPrefix(fields[5], "/") {
			a.home, name = fields[5], fields[0]
			break
		}
	}
	groups, err := b.readBelow(ctx, c.view, "etc/group")
	if err != nil || name == "" || owner.Group != "" {
		return a, err
	}
	for line := range strings.Lines(groups) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) >= 4 && slices.Contains(strings.Split(fields[3], ","), name) {
			if gid, err := strconv.ParseUint(fields[2], 10, 31); err == nil {
				a.groups = append(a.groups, int(gid))
			}
		}
	}
	slices.Sort(a.groups)
	return a, nil
}

// ownerOf reads the user of an image's settings.
func ownerOf(text string) plan.Owner {
	user, group, both := strings.Cut(text, ":")
	var o plan.Owner
	if n, err := strconv.ParseUint(user, 10, 31); err == nil {
		o.UID, o.GID = int(n), int(n)
	} else {
		o.User, o.GID = user, -1
	}
	if both {
		if n, err := strconv.ParseUint(group, 10, 31); err == nil {
			o.GID = int(n)
		} else {
			o.Group = group
		}
	}
	return o
}

// inputs are what a command is given: all that decides what it does, but for what it reads of its view. Secrets and kept
// directories count by their names and places alone.
func (c *command) inputs() []input {
	all := []input{{"run", "2"}, {"sandbox", sandbox.Version}, {"ids", c.ids}}
	for _, word := range c.machine {
		all = append(all, input{"machine", word})
	}
	add := func(name string, values ...string) {
		for _, value := range values {
			all = append(all, input{name, value})
		}
	}
	add("arg", c.args...)
	add("env", c.env...)
	add("user", fmt.Sprintf("%d:%d %v", c.user.uid, c.user.gid, c.user.groups))
	add("in", c.dir)
	add("platform", c.unit.Machine.String())
	add("network", fmt.Sprint(c.do.Network))
	add("fresh-tmp", fmt.Sprint(c.do.FreshTmp))
	if c.time != 0 {
		add("times", fmt.Sprint(c.time))
	}
	for _, k := range c.do.Keep {
		add("keep", k.Name+" "+k.At)
	}
	for _, s := range c.do.Secrets {
		add("secret", s.Name+" "+s.At)
	}
	return all
}

// runOnce recalls what the command left, or runs it.
func (b *builder) runOnce(ctx context.Context, c *command, s *unitState, sink event.Sink) (*stepTree, error) {
	reason := why{text: askedFor}
	var filled *store.Run
	again := func(ctx context.Context, text string) error {
		_, err := b.execute(ctx, c, why{text: text}, filled, nil, sink)
		return err
	}
	if !c.task.Fresh {
		t, differs := b.recall(ctx, c)
		if t != nil {
			filled = t.ran.record
			t.ran.again, t.ran.fill = again, b.fill(c, filled)
			return t, nil
		}
		reason = differs
	}
	if b.looking {
		return nil, &wouldRun{c.step, reason}
	}
	t, err := b.inFilled(ctx, c, s, sink, func(fit func(box *sandbox.Box) error) (*stepTree, error) {
		return b.execute(ctx, c, reason, nil, fit, sink)
	})
	if t != nil {
		filled = t.ran.record
		t.ran.again, t.ran.fill = again, b.fill(c, filled)
	}
	return t, err
}

// treeOf finds a tree that a command left: its entries, and its contents unpacked or in a layer.
func (b *builder) treeOf(ctx context.Context, run *store.Run, compression layer.Compression) (*stepTree, error) {
	key := run.Tree
	text, found := b.o.Store.Entries(key)
	if !found {
		return nil, os.ErrNotExist
	}
	entries, err := tree.DecodeEntries(string(text))
	if err != nil {
		return nil, err
	}
	t := &stepTree{entries: entries}
	if t.seal(); t.key != key {
		return nil, fmt.Errorf("the entries of %s: %w", key, digest.ErrMismatch)
	}
	if t.files == 0 {
		return t, nil
	}
	if box, err := b.box(ctx); err == nil {
		if dir, seen, found := b.o.Store.Snapshot(box.Form(), key); found {
			if seen || CheckSnapshot(box, box.Form(), dir, entries) == nil {
				if !seen {
					_ = b.o.Store.SawSnapshot(box.Form(), key, bytesOf(entries))
				}
				t.places = placesIn(entries, contentsIn(box, dir, entries))
				return t, nil
			}
			if _, err := b.o.Store.DropDamaged(box.Form(), key); err != nil {
				return nil, err
			}
		}
	}
	for _, how := range []layer.Compression{compression, layer.Gzip, layer.Zstd, layer.None} {
		t.compression = how
		if record, found := b.o.Store.Record(t.layerKey()); found {
			t.places = placesIn(entries, b.lazily(record, entries))
			return t, nil
		}
	}
	if t.places = b.placesInParts(entries, run.Parts); t.places != nil {
		return t, nil
	}
	return nil, os.ErrNotExist
}

// placesInParts finds the files of a tree in layers that hold it together; nil where they do not.
func (b *builder) placesInParts(entries []tree.Entry, parts []digest.Key) map[string]place {
	where := map[digest.Content]place{}
	for _, key := range parts {
		record, found := b.o.Store.Record(key)
		if !found {
			return nil
		}
		text, found := b.o.Store.Tree(record.DiffID)
		indexed, err := layer.DecodeIndex(text)
		if !found || err != nil {
			return nil
		}
		contents := b.lazily(record, indexed.Entries)
		for i := range indexed.Entries {
			if e := &indexed.Entries[i]; e.Kind == tree.File {
				where[e.Content] = place{contents, e.Path}
			}
		}
	}
	places := map[string]place{}
	for i := range entries {
		if entries[i].Kind != tree.File {
			continue
		}
		at, known := where[entries[i].Content]
		if !known {
			return nil
		}
		places[entries[i].Path] = at
	}
	return places
}

func placesIn(entries []tree.Entry, from tree.Contents) map[string]place {
	places := map[string]place{}
	for i := range entries {
		if entries[i].Kind == tree.File {
			places[entries[i].Path] = place{from, entries[i].Path}
		}
	}
	return places
}

// box opens the sandbox, once.
func (b *builder) box(ctx context.Context) (*sandbox.Box, error) {
	ctx = b.whole(ctx)
	box, _, err := b.boxes.do("", func() (*sandbox.Box, error) {
		if b.o.Sandbox == nil {
			return nil, errors.New("no sandbox was given")
		}
		return b.o.Sandbox(ctx)
	})
	return box, err
}

// ids names the ids that commands can have here; without a sandbox those that most machines give.
func (b *builder) ids(ctx context.Context) string {
	if box, err := b.box(ctx); err == nil {
		return box.IDs()
	}
	return "full"
}

// surroundings names what commands see of this machine alone; without a sandbox nothing.
func (b *builder) surroundings(ctx context.Context) []string {
	if box, err := b.box(ctx); err == nil {
		return box.Surroundings()
	}
	return nil
}

// problemAt places an error in the recipe.
func (b *builder) problemAt(pos recipe.Pos, format string, args ...any) error {
	return b.o.Plan.File.Problem(pos, format, args...)
}
