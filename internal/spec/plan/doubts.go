package plan

import (
	"fmt"
	"regexp"
	"slices"

	"imbricat/internal/ground/event"
	"imbricat/internal/spec/recipe"
)

// Doubt is what a recipe says and its author may not mean. It stops nothing.
type Doubt struct {
	Pos     recipe.Pos
	Code    string // of the warning
	Text    string
	Silence []string // codes that the step does not tell
}

func (x *expander) doubt(d Doubt) {
	if !slices.ContainsFunc(x.doubts, func(o Doubt) bool { return o.Pos == d.Pos && o.Code == d.Code && o.Text == d.Text }) {
		x.doubts = append(x.doubts, d)
	}
}

// unused tells of stages that no image needs, and none of those that are asked for: nothing builds them.
func (x *expander) unused(asked []string) {
	used := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		if used[name] {
			return
		}
		used[name] = true
		for _, needed := range x.recipe.Needs(name) {
			visit(needed)
		}
	}
	for _, i := range x.recipe.Images {
		visit(i.Name)
	}
	for _, name := range asked {
		visit(name)
	}
	for _, s := range x.recipe.Stages {
		if !used[s.Name] {
			x.doubt(Doubt{Pos: s.Pos, Code: event.UnusedStage, Text: fmt.Sprintf("no image needs the stage %q, so it is never built; checks: [{stage: %s}] has ship build it", s.Name, s.Name)})
		}
	}
}

// word is one word of a command: nothing that a shell would take apart, and no command of several words.
var word = regexp.MustCompile(`^[A-Za-z0-9_./:=@%+,-]+$`)

// words tells of a list of lines that looks like one program with its arguments.
func (e *evaluator) words(do *recipe.Run, s *recipe.Step) {
	if do.Listed && len(do.Lines) > 1 && !slices.ContainsFunc(do.Lines, func(line string) bool { return !word.MatchString(line) }) {
		e.doubt(Doubt{Pos: s.Pos, Code: event.Words, Silence: s.Silence,
			Text: "each word of this list is run as a line of its own; a program with its arguments is {command: […]}, and {lines: […]} says that lines are meant"})
	}
}

// shellName is a variable of the environment as shells write it.
var shellName = regexp.MustCompile(`(?:^|[^$])(\$[A-Z_][A-Z0-9_]*)`)

// doubtful tells of settings that take the builder's own environment, or that wait for a shell which never comes.
func (e *evaluator) doubtful(s *recipe.Settings) {
	for _, p := range s.Env {
		e.builders("the variable "+p.Key, p.Value)
		e.unexpanded("the variable "+p.Key, p.Value)
	}
	for _, p := range s.Labels {
		e.builders("the label "+p.Key, p.Value)
	}
	e.unexpanded("the working directory", s.WorkingDir)
	runs := slices.Concat(s.Entrypoint, s.Command)
	shell := slices.ContainsFunc(runs, func(t recipe.Template) bool { text, _ := t.Constant(); return text == "-c" })
	for _, t := range runs {
		e.builders("what the image runs", t)
		if !shell {
			e.unexpanded("what the image runs", t)
		}
	}
}

func (e *evaluator) builders(what string, t recipe.Template) {
	for _, x := range t.Expressions() {
		for _, name := range x.Uses("env") {
			if name == "PATH" || name == "HOME" {
				e.doubt(Doubt{Pos: x.Pos, Code: event.BuilderEnv, Text: fmt.Sprintf("%s gets %s of whoever builds, which differs from machine to machine", what, name)})
			}
		}
	}
}

func (e *evaluator) unexpanded(what string, t recipe.Template) {
	for _, text := range t.Plain() {
		if found := shellName.FindStringSubmatch(text); found != nil {
			e.doubt(Doubt{Pos: t.Pos, Code: event.Unexpanded, Text: fmt.Sprintf("%s stays %q as it is written: nothing expands it, here or when the image runs", what, found[1])})
		}
	}
}
