package workbench

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/local"
	"imbricat/internal/flow/try"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/spec/plan"
)

// BeginAtFailure opens the workbench at what a step left whose command failed: on what lies below the step, made into an image, its
// command runs once more, and what that leaves is the first act. dropped are paths that no recipe can lay down.
func (m *Maker) BeginAtFailure(ctx context.Context, b *Bench, w *workspace.Workspace, failed *command.FailedError) (dropped []string, err error) {
	at := slices.IndexFunc(w.Plan.Units, func(u *plan.Unit) bool { return u.ID.String() == failed.Unit })
	if at < 0 {
		return nil, fmt.Errorf("the plan has no %s", failed.Unit)
	}
	u, number := w.Plan.Units[at], numberOf(failed.Place)
	if err := m.seal(ctx, b, w, u, number); err != nil {
		return nil, err
	}
	b.Failure = &Failure{Project: w.RecipePath(), Place: failed.Place, Label: failed.Label, What: failed.What}
	if abs, err := filepath.Abs(b.Failure.Project); err == nil {
		b.Failure.Project = abs
	}
	if _, err := m.make(ctx, b, nil); err != nil {
		return nil, err
	}
	left, dropped, err := m.again(ctx, b, w, u, number)
	if err != nil {
		return nil, err
	}
	if left == nil {
		return dropped, b.write()
	}
	_, err = m.Do(ctx, b, Act{Left: left})
	return dropped, err
}

// seal makes an image of what lies below a step, which the workbench starts from.
func (m *Maker) seal(ctx context.Context, b *Bench, w *workspace.Workspace, u *plan.Unit, number int) error {
	o, done, err := w.Engine(ctx, m.Sink)
	if err != nil {
		return err
	}
	defer done()
	below := below(w.Plan, u, number, b.Name+".base")
	o.Plan, o.Whole, o.Past = below, nil, nil
	return m.as(b, func() error {
		result, err := engine.Run(ctx, o)
		if err != nil {
			return err
		}
		b.Base, b.Platform = string(result.Images[0].Descriptor.Digest), u.Machine.String()
		return nil
	})
}

// below is a plan of an image that has the first steps of a unit, and says nothing of itself but what it inherits.
func below(p *plan.Plan, u *plan.Unit, number int, name string) *plan.Plan {
	short := &plan.Unit{ID: plan.UnitID{Name: name, Platform: u.Machine}, IsImage: true, Pos: u.Pos, Machine: u.Machine, Base: u.Base, Steps: u.Steps[:number-1],
		Compression: cmp.Or(u.Compression, "gzip")}
	needed := map[*plan.Unit]bool{}
	var need func(u *plan.Unit)
	need = func(u *plan.Unit) {
		if !needed[u] {
			needed[u] = true
			for _, one := range u.Needs() {
				need(one)
			}
		}
	}
	need(short)
	own := *p
	own.Stages, own.Units = nil, nil
	own.Images = []*plan.Image{{Name: name, Units: []*plan.Unit{short}}}
	for _, one := range p.Units {
		if needed[one] {
			own.Units = append(own.Units, one)
		}
	}
	own.Units = append(own.Units, short)
	return &own
}

// left is what the first act is called.
func (f *Failure) left() string { return "what " + f.Place + " left" }

// lineMark is printed with the number of the line that a shell was at when it ended.
const lineMark = "imbricat-line-"

// again runs the command of a step once more, and keeps what it leaves.
func (m *Maker) again(ctx context.Context, b *Bench, w *workspace.Workspace, u *plan.Unit, number int) (left *Left, dropped []string, err error) {
	o, done, err := w.Engine(ctx, m.Sink)
	if err != nil {
		return nil, nil, err
	}
	defer done()
	l, is := o.Executor.(*local.Local)
	if !is {
		return nil, nil, errors.New("commands are not run on this machine")
	}
	out, err := os.CreateTemp(b.dir, "output-")
	if err != nil {
		return nil, nil, err
	}
	defer func() { err = errors.Join(err, out.Close(), os.Remove(out.Name())) }()
	f := b.Failure
	change := func(_ *engine.Below, do plan.Run) (plan.Run, error) {
		f.Lines, f.Command, f.Given = do.Lines, do.Args, givenBy(do)
		if len(do.Lines) > 1 {
			traced := []string{fmt.Sprintf("trap 'echo %s$imbricat_line' EXIT", lineMark)}
			for i, line := range do.Lines {
				traced = append(traced, fmt.Sprintf("imbricat_line=%d\n%s", i, line))
			}
			do.Lines = traced
		}
		return do, nil
	}
	keep := func(ctx context.Context, view *tree.View, entries []tree.Entry, from tree.Contents) error {
		left, dropped, err = b.Keep(ctx, f.left(), view, entries, from)
		return err
	}
	_, err = try.StepAs(ctx, o, l, u.ID.Name, u.ID.Platform, number, try.Command{Network: f.Given.Network, Stdout: out, Stderr: out, Left: keep}, change)
	if err == nil {
		f.At, err = lineAt(out.Name())
	}
	return left, dropped, err
}

// lineAt reads from an output which line a shell was at when it ended.
func lineAt(name string) (at int, err error) {
	text, err := os.Open(name)
	if err != nil {
		return 0, err
	}
	defer text.Close()
	lines := bufio.NewScanner(text)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if _, number, found := bytes.Cut(lines.Bytes(), []byte(lineMark)); found {
			at, _ = strconv.Atoi(string(number)) // what is no number is not ours
		}
	}
	return at, nil // an output that cannot be read to its end tells less
}

// givenBy is what a step gives its command, as far as others can be given it too.
func givenBy(do plan.Run) Given {
	g := Given{WorkingDir: do.WorkingDir, Env: do.Env, Network: do.Network, Hosts: do.Hosts, FreshTmp: do.FreshTmp, FixedClock: do.FixedClock, Sorted: do.Sorted, Strict: do.Strict}
	if do.LinesBy != "/bin/sh" {
		g.LinesBy = do.LinesBy
	}
	if o := do.User; o != nil {
		g.User = nameOr(o.User, o.UID)
		if group := nameOr(o.Group, o.GID); group != "" {
			g.User += ":" + group
		}
	}
	for _, k := range do.Keep {
		if g.Kept == nil {
			g.Kept = map[string]string{}
		}
		g.Kept[k.Name] = k.At
	}
	return g
}

// nameOr is a name or, where there is none, a number; empty for a group that goes with its user.
func nameOr(name string, number int) string {
	if name == "" && number >= 0 {
		return strconv.Itoa(number)
	}
	return name
}

// mended is the step in place of the one that failed: its lines before the one that it failed at, then what was done here. Files that
// were laid down here come before it. What ran in place of a program is steps of its own. As long as nothing was done it is the step as it was.
func (b *Bench) mended() []byte {
	f := b.Failure
	steps := &yaml.Node{Kind: yaml.SequenceNode}
	var notes []string
	var ran []*Exec
	for i := range b.Acts {
		a := &b.Acts[i]
		switch {
		case a.Exec != nil:
			ran = append(ran, a.Exec)
		case a.Put != nil || a.Take != nil:
			steps.Content = append(steps.Content, a.deed().steps(func(path string) string { return path })...)
		case a.What() != f.left():
			notes = append(notes, "no line does what act "+strconv.Itoa(a.Number)+" did: "+a.What())
		}
	}
	switch {
	case len(ran) == 0 && len(f.Lines) == 0:
		ran = []*Exec{{Command: f.Command, Given: f.Given}}
		fallthrough
	case len(f.Lines) == 0:
		for _, e := range ran {
			steps.Content = append(steps.Content, e.steps(nil)...)
		}
	default:
		lines := f.Lines
		if len(ran) > 0 {
			lines = slices.Clone(f.Lines[:min(f.At, len(f.Lines))])
		}
		for _, e := range ran {
			lines = append(lines, e.asLine())
		}
		run := literals(lines)
		if len(lines) == 1 {
			run = literal(lines[0])
		}
		steps.Content = append(steps.Content, f.Given.step(run))
	}
	head := fmt.Sprintf("# In place of %s of %s, which %s.\n", f.Place, f.Project, f.What)
	for _, one := range notes {
		head += "# " + strings.ReplaceAll(one, "\n", " ") + "\n"
	}
	return append([]byte(head), encode(steps)...)
}
