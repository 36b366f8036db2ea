package prove

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/causes"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// remedy is a change of a step that may make it reproducible: keys of the recipe, or a line at the end of its command.
type remedy struct {
	key, value string // of the recipe; env is a variable NAME=VALUE
	apply      func(c *executor.Command)
}

// cure tries what is known against the causes of a step's differences: all at once first, and where that holds, without each. What is printed is
// what is needed.
func (r *round) cure(ctx context.Context, d *engine.Done, s *report.ProvenStep) error {
	all := remedies(d, s)
	if len(all) == 0 {
		return nil
	}
	left, err := r.holds(ctx, d, all)
	if err != nil {
		return err
	}
	if left != "" {
		s.Cures = append(s.Cures, report.Cure{Change: lines(all), What: left})
		return nil
	}
	for i := len(all) - 1; i >= 0 && len(all) > 1; i-- {
		without := slices.Delete(slices.Clone(all), i, i+1)
		if left, err = r.holds(ctx, d, without); err != nil {
			return err
		}
		if left == "" {
			all = without
		}
	}
	s.Cures = append(s.Cures, report.Cure{Change: lines(all), Holds: true})
	return nil
}

// holds runs a step that is changed, twice and under other conditions, and tells what still differs; empty: nothing does.
func (r *round) holds(ctx context.Context, d *engine.Done, all []remedy) (string, error) {
	change := func(c *executor.Command) {
		for _, one := range all {
			one.apply(c)
		}
	}
	if r.runtime <= 0 {
		return "there was no time left to try it", nil
	}
	began := time.Now()
	defer func() { r.runtime -= time.Since(began) }()
	other := *r.varied
	other.order, other.machine, other.first, other.ahead, other.cores = "", machines[0], 300, other.ahead/2, 0
	why := "with " + strings.Join(lines(all), ", ")
	first, err := r.left(ctx, d, why, r.where.Executor(ctx, r.varied.of), change)
	var second side
	if err == nil {
		if err := pause(ctx); err != nil {
			return "", err
		}
		second, err = r.left(ctx, d, why+" once more", r.where.Executor(ctx, other.of), change)
	}
	var failed *command.FailedError
	if errors.As(err, &failed) && ctx.Err() == nil {
		return "the command " + failed.What + ": " + lastLine(failed.Output), nil
	}
	if err != nil {
		return "", err
	}
	paths := differing(first, second)
	if len(paths) == 0 {
		return "", nil
	}
	return fmt.Sprintf("%s still differs", someOf(paths)), nil
}

func someOf(paths []string) string {
	if len(paths) == 1 {
		return causes.Shown(paths[0])
	}
	return fmt.Sprintf("%s (and %d more)", causes.Shown(paths[0]), len(paths)-1)
}

// remedies are the changes that may help against what differs. Those that change most of a step come last.
func remedies(d *engine.Done, s *report.ProvenStep) []remedy {
	p := &prescription{do: d.Plan.Do.(plan.Run), causes: map[causes.Cause]bool{}, forms: map[causes.Form]bool{}}
	for _, f := range s.Files {
		for _, c := range f.Found {
			p.causes[c] = true
		}
		for _, one := range f.Differences {
			p.forms[one.Form], p.causes[one.Cause] = true, true
		}
		if kind, known := causes.Known(strings.TrimPrefix(f.Path, "/")); known {
			p.known(f.Path, kind)
		}
	}
	p.lines()
	p.variables()
	p.switches()
	return p.all
}

// prescription gathers remedies for one step.
type prescription struct {
	do      plan.Run
	causes  map[causes.Cause]bool
	forms   map[causes.Form]bool
	removed []string // paths that nothing misses
	told    []string // variables that keep tools from making such files
	tmp     bool
	all     []remedy
}

func (p *prescription) add(key, value string, apply func(c *executor.Command)) {
	p.all = append(p.all, remedy{key, value, apply})
}

// known notes what is done about a file of a kind.
func (p *prescription) known(path string, kind causes.Kind) {
	p.causes[kind.Cause] = true
	switch {
	case strings.HasPrefix(path, "/tmp/"):
		p.tmp = true
	case kind.Drop:
		if at := kind.Folder(path); !slices.Contains(p.removed, at) {
			p.removed = append(p.removed, at)
		}
		if kind.Env != "" {
			p.told = append(p.told, kind.Env)
		}
	}
}

// lines removes files at the end of a command that is one of a shell.
func (p *prescription) lines() {
	if len(p.removed) == 0 || len(p.do.Lines) == 0 {
		return
	}
	line := "rm -rf " + strings.Join(quotedPaths(p.removed), " ")
	p.add("run", line, func(c *executor.Command) { c.Args[len(c.Args)-1] += "\n" + line })
}

// variables are those by which tools are told, but for those that the step sets itself.
func (p *prescription) variables() {
	all := p.told
	for _, form := range []causes.Form{causes.Tar, causes.Gzip, causes.ByteCode, causes.GoBuild} {
		if p.forms[form] {
			all = append(all, toldBy[form]...)
		}
	}
	if p.causes[causes.Random] {
		all = append(all, "PYTHONHASHSEED=0", "PERL_HASH_SEED=0")
	}
	for i, pair := range all {
		name, _, _ := strings.Cut(pair, "=")
		if _, given := p.do.Env[name]; !given && slices.Index(all, pair) == i {
			p.add("env", pair, func(c *executor.Command) { c.Env = append(c.Env, pair) })
		}
	}
}

// switches are those of a step.
func (p *prescription) switches() {
	if p.tmp && !p.do.FreshTmp {
		p.add("fresh-tmp", "true", func(c *executor.Command) { c.FreshTmp = true })
	}
	if p.causes[causes.Listing] && !p.do.Sorted {
		p.add("listing", "sorted", func(c *executor.Command) { c.Sorted = true })
	}
	if p.causes[causes.Clock] && !p.do.FixedClock && !p.do.Outside() {
		p.add("clock", "fixed", func(c *executor.Command) { c.FixedClock = true })
	}
}

// toldBy are variables by which tools that make a format are told to leave out what differs.
var toldBy = map[causes.Form][]string{
	causes.Tar:      {"TAR_OPTIONS=--sort=name --mtime=@946684800 --owner=0 --group=0 --numeric-owner"},
	causes.Gzip:     {"GZIP=-n"},
	causes.ByteCode: {"PYTHONDONTWRITEBYTECODE=1", "PYTHONHASHSEED=0"},
	causes.GoBuild:  {"GOFLAGS=-trimpath -buildvcs=false"},
}

func quotedPaths(paths []string) (all []string) {
	for _, p := range paths {
		if strings.ContainsAny(p, " '\"$`\\*?[](){}<>|&;!#~") {
			p = "'" + strings.ReplaceAll(p, "'", `'\''`) + "'"
		}
		all = append(all, path.Clean(p))
	}
	return all
}

// lines are what is to be written into the recipe.
func lines(all []remedy) (out []string) {
	var env []string
	for _, one := range all {
		if one.key == "env" {
			name, value, _ := strings.Cut(one.value, "=")
			env = append(env, fmt.Sprintf("%s: %q", name, value))
		}
	}
	if len(env) > 0 {
		out = append(out, "env: {"+strings.Join(env, ", ")+"}")
	}
	for _, one := range all {
		switch one.key {
		case "env":
		case "run":
			out = append(out, "- "+one.value+"  # as the last line of run")
		default:
			out = append(out, one.key+": "+one.value)
		}
	}
	return out
}
