// Package command is about run steps: what decides what a command does, whether an earlier run serves, and what becomes of one
// that is run. Where it runs is the executor's matter; when, that of whoever builds.
package command

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/explain"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Command is a run step over its view, with all that decides what it does.
type Command struct {
	executor.Command
	Name   step.Name
	Task   event.Task
	View   *executor.View
	Key    digest.Key // names all that it is given
	ID     digest.Key // names that and the view
	Inputs string     // what Key is made of

	do          plan.Run
	step        *plan.Step
	unit        *plan.Unit
	base        string // the name of the image that lies lowest, or empty
	inputs      []explain.Input
	steps       []*step.Outcome // of which the view is laid together
	compression layer.Compression
}

// Setting is where a run step stands.
type Setting struct {
	Unit   *plan.Unit
	Name   step.Name
	Step   *plan.Step // whose action is a plan.Run
	Task   event.Task
	Below  *step.View      // with what is lent
	Own    *step.View      // without; nil: nothing is lent
	Config *v1.ImageConfig // of what lies below; nil where that is no image
}

// Prepare works out what a run step does.
func (r *Runner) Prepare(ctx context.Context, s Setting) (*Command, error) {
	view, err := s.Below.Index(ctx)
	if err != nil {
		return nil, err
	}
	do := s.Step.Do.(plan.Run)
	c := &Command{Name: s.Name, Task: s.Task, do: do, steps: s.Below.Outcomes(), step: s.Step, unit: s.Unit, compression: layer.Compression(s.Unit.Compression),
		View: &executor.View{Key: s.Below.Key(), Index: view, Strata: s.Below.Strata}}
	c.Command = executor.Command{Title: s.Unit.ID.String() + ", " + s.Task.Label, Platform: s.Unit.Machine, Network: do.Network, Hosts: do.Hosts, FreshTmp: do.FreshTmp,
		FixedClock: do.FixedClock, Sorted: do.Sorted, Within: do.Within, Keep: do.Keep, Secrets: do.Secrets}
	if err := c.lend(ctx, s, view); err != nil {
		return nil, err
	}
	if s.Step.RisingTimes {
		c.Time = step.TimeAfter(view)
	}
	if base := s.Below.Base(); base != nil {
		c.base = base.Found.Name
	}
	config := s.Config
	if config == nil {
		config = &v1.ImageConfig{}
	}
	owner, pos := plan.Owner{}, do.UserPos
	switch {
	case do.User != nil:
		owner = *do.User
	case config.User != "":
		owner, pos = account.Named(config.User), s.Step.Pos
	}
	if c.User, err = (account.Finder{Store: r.Store, File: r.Plan.File}).User(ctx, view, owner, pos); err != nil {
		return nil, err
	}
	c.Env = environment(config.Env, do, c.User.Home)
	if c.Args = do.Args; len(c.Args) == 0 {
		if err := c.checkShell(r.Plan.File); err != nil {
			return nil, err
		}
		c.Args = []string{do.LinesBy, "-e", "-c", strict(do) + script(do.Lines)}
	}
	if err := c.folder(r.Plan.File, config.WorkingDir); err != nil {
		return nil, err
	}
	return c.in(r.Executor.Classes(ctx, c.Platform)[0]), nil
}

// lend notes where what is lent lies in the view.
func (c *Command) lend(ctx context.Context, s Setting, view *tree.View) error {
	if s.Own == nil {
		return nil
	}
	own, err := s.Own.Index(ctx)
	if err != nil {
		return err
	}
	for _, l := range c.do.Lent {
		real, err := view.Resolve(strings.TrimPrefix(l.At, "/"), true)
		if err != nil {
			return err
		}
		one := executor.Lent{At: "/" + real, Writable: l.Writable}
		for p := real; p != ""; p = tree.Parent(p) {
			if _, there := own.Lookup(p); there {
				break
			}
			one.New = "/" + p
		}
		c.Lent = append(c.Lent, one)
	}
	return nil
}

// in returns the command as it is in a class of places.
func (c *Command) in(class executor.Class) *Command {
	own := *c
	own.inputs = c.givenIn(class)
	own.Inputs = explain.EncodeInputs(own.inputs)
	own.Key = filetree.KeyOfText(own.Inputs)
	own.ID = filetree.KeyOfText(string(own.Key) + " " + string(c.View.Key))
	return &own
}

// givenIn is what a command is given: all that decides what it does, but for what it reads of its view. Secrets and kept
// directories count by their names and places alone.
func (c *Command) givenIn(class executor.Class) []explain.Input {
	all := []explain.Input{{Name: "run", Value: "2"}, {Name: "sandbox", Value: class.Sandbox}, {Name: "ids", Value: class.IDs}}
	add := func(name string, values ...string) {
		for _, value := range values {
			all = append(all, explain.Input{Name: name, Value: value})
		}
	}
	add("machine", class.Machine...)
	add("arg", c.Args...)
	add("env", c.Env...)
	add("user", fmt.Sprintf("%d:%d %v", c.User.UID, c.User.GID, c.User.Groups))
	add("in", c.Dir)
	add("platform", c.Platform.String())
	if len(c.Hosts) > 0 {
		add("network", c.Hosts...)
	} else {
		add("network", fmt.Sprint(c.Network))
	}
	add("fresh-tmp", fmt.Sprint(c.FreshTmp))
	if c.FixedClock {
		add("clock", "fixed")
	}
	if c.Sorted {
		add("listing", "sorted")
	}
	if c.Time != 0 {
		add("times", fmt.Sprint(c.Time))
	}
	for _, k := range c.Keep {
		add("keep", k.Name+" "+k.At)
	}
	for _, s := range c.Secrets {
		add("secret", s.Name+" "+s.At)
	}
	for _, l := range c.Lent {
		what := " read-only"
		if l.Writable {
			what = " writable"
		}
		add("lent", l.At+what)
	}
	return all
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

// HasProgram reports whether a view has a file at an absolute path, through links.
func HasProgram(view *tree.View, path string) bool {
	real, err := view.Resolve(strings.TrimPrefix(path, "/"), true)
	if err != nil {
		return false
	}
	n, exists := view.Lookup(real)
	return exists && n.Kind == tree.File
}

func (c *Command) checkShell(f *recipe.File) error {
	if !HasProgram(c.View.Index, c.do.LinesBy) {
		return f.Problem(cmp.Or(c.do.LinesByPos, c.step.Pos), "what lies below has no shell %s: take a base that has one, or write run: {command: [PROGRAM, …]}", c.do.LinesBy)
	}
	return nil
}

// strict is what comes before strict lines. Not every shell can find an error inside a pipeline; one that cannot says so.
func strict(do plan.Run) string {
	if !do.Strict {
		return ""
	}
	return fmt.Sprintf("(set -o pipefail) 2> /dev/null || { echo 'strict: %s cannot find errors inside a pipeline (it has no pipefail); name a shell that can, such as lines-by: /bin/bash' >&2; exit 2; }\nset -euo pipefail\n",
		strings.ReplaceAll(do.LinesBy, "'", `'\''`))
}

// folder settles where the command starts.
func (c *Command) folder(f *recipe.File, baseDir string) error {
	c.Dir = c.do.WorkingDir
	if c.Dir == "" {
		c.Dir = path.Clean("/" + baseDir)
	}
	real, err := c.View.Index.Resolve(strings.TrimPrefix(c.Dir, "/"), true)
	if err != nil {
		return err
	}
	n, exists := c.View.Index.Lookup(real)
	inKept := slices.ContainsFunc(c.do.Keep, func(k plan.Keep) bool { return c.Dir == k.At || strings.HasPrefix(c.Dir, k.At+"/") })
	switch {
	case exists && n.Kind == tree.Folder || inKept:
		return nil
	case c.do.WorkingDir == "":
		c.Dir = "/" // a base that names a folder it lacks
		return nil
	}
	return f.Problem(c.do.WorkingDirPos, "there is no folder %s below this step: an earlier step must make it", c.do.WorkingDir)
}

// environment is the base's with the step's own, and what every program may rely on.
func environment(base []string, do plan.Run, home string) []string {
	all := map[string]string{"PATH": image.DefaultPath, "HOME": home}
	add := func(pairs []string) {
		for _, pair := range pairs {
			if name, value, found := strings.Cut(pair, "="); found && name != "" {
				all[name] = value
			}
		}
	}
	add(base)
	all["SOURCE_DATE_EPOCH"] = strconv.FormatInt(layer.Epoch.Unix(), 10)
	if len(do.Hosts) > 0 { // over the base's: what that names cannot be reached
		add(executor.RelayVariables())
	}
	maps.Copy(all, do.Env)
	var out []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, name+"="+all[name])
	}
	return out
}

// shown is a command for people: lines as they are, arguments as a shell would take them.
func (c *Command) shown() string {
	if len(c.do.Lines) > 0 {
		return strings.Join(c.do.Lines, "\n")
	}
	return say.Words(c.do.Args)
}
