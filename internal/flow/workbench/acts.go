package workbench

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/flow"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/say"

	"go.yaml.in/yaml/v3"
)

// Act is one thing that was done. One of Exec, Put, Take, Set, Left is set.
type Act struct {
	Number int       `json:"number"` // counted from 1; of all that there ever were
	Made   time.Time `json:"made"`
	Exec   *Exec     `json:"exec,omitempty"`
	Put    *Put      `json:"put,omitempty"`
	Take   *Take     `json:"take,omitempty"`
	Set    *Set      `json:"set,omitempty"`
	Left   *Left     `json:"left,omitempty"`
	// Layers are those of its steps, where they have layers of their own.
	Layers []digest.DiffID `json:"layers,omitempty"`
}

// deed is what an act does.
type deed interface {
	is() bool // of an act that is one of its kind
	// steps are the act's in a recipe; at tells where files that it took in lie, relative to the recipe.
	steps(at func(path string) string) []*yaml.Node
	// what is the act for people.
	what() string
}

func (a *Act) deed() deed {
	for _, one := range []deed{a.Exec, a.Put, a.Take, a.Left} {
		if one.is() {
			return one
		}
	}
	return a.Set
}

func (e *Exec) is() bool { return e != nil }
func (p *Put) is() bool  { return p != nil }
func (t *Take) is() bool { return t != nil }
func (s *Set) is() bool  { return s != nil }
func (l *Left) is() bool { return l != nil }

// files are those that an act took in, by their paths in what it took in.
func (a *Act) files() []string {
	switch {
	case a.Put != nil:
		return a.Put.From
	case a.Left != nil && a.Left.Archive != "":
		return []string{a.Left.Archive}
	}
	return nil
}

// What tells an act for people.
func (a *Act) What() string { return a.deed().what() }

// Exec is a command that ran: a line for the shell, or a program with its arguments.
type Exec struct {
	Line    string   `json:"line,omitempty"`
	Command []string `json:"command,omitempty"`
	Given
}

func (e *Exec) what() string {
	if e.Line != "" {
		return "exec " + strconv.Quote(e.Line)
	}
	return "exec " + strings.Join(e.Command, " ")
}

func (e *Exec) steps(func(string) string) []*yaml.Node {
	run := literal(e.Line)
	if e.Line == "" {
		run = flowed(object("command", literals(e.Command)))
	}
	return []*yaml.Node{e.step(run)}
}

// asLine is the command as a line for the shell.
func (e *Exec) asLine() string {
	if e.Line != "" {
		return e.Line
	}
	return say.Words(e.Command)
}

// step is a run step with what it gives its command.
func (g *Given) step(run *yaml.Node) *yaml.Node {
	step := object("run", run)
	add := func(key string, value *yaml.Node) { step.Content = append(step.Content, scalar(key), value) }
	if g.WorkingDir != "" {
		add("working-dir", text(g.WorkingDir))
	}
	if g.User != "" {
		add("user", text(g.User))
	}
	if len(g.Env) > 0 {
		add("env", texts(g.Env))
	}
	switch {
	case len(g.Hosts) > 0:
		add("network", literals(g.Hosts))
	case !g.Network:
		add("network", scalar("false"))
	}
	if g.FreshTmp {
		add("fresh-tmp", scalar("true"))
	}
	if g.FixedClock {
		add("clock", scalar("fixed"))
	}
	if g.Sorted {
		add("listing", scalar("sorted"))
	}
	if g.LinesBy != "" {
		add("lines-by", text(g.LinesBy))
	}
	if g.Strict {
		add("strict", scalar("true"))
	}
	if len(g.Kept) > 0 {
		add("kept", texts(g.Kept))
	}
	return step
}

// Put is files of the machine that were laid down.
type Put struct {
	From []string `json:"from"` // slashes; relative to what held them, as the recipe of a project there would name them
	To   string   `json:"to"`
	Rights
}

// Rights are whose files are and what may be done with them; empty: as they are.
type Rights struct {
	Owner string `json:"owner,omitempty"`
	Mode  string `json:"mode,omitempty"`
}

// with adds them to what lays files down.
func (r Rights) with(n *yaml.Node) *yaml.Node {
	if r.Owner != "" {
		n.Content = append(n.Content, scalar("owner"), quoted(r.Owner))
	}
	if r.Mode != "" {
		n.Content = append(n.Content, scalar("mode"), quoted(r.Mode))
	}
	return n
}

func (p *Put) what() string { return "put " + strings.Join(p.From, " ") + " " + p.To }

func (p *Put) steps(at func(string) string) []*yaml.Node {
	var from []string
	for _, one := range p.From {
		from = append(from, plainPattern(at(one)))
	}
	return []*yaml.Node{object("copy", p.with(flowed(object("from", several(from), "to", text(p.To)))))}
}

// Take is files of another image that were laid down.
type Take struct {
	From  string   `json:"from"` // a reference
	Paths []string `json:"paths"`
	To    string   `json:"to"`
	Rights
}

func (t *Take) what() string {
	return "take " + t.From + " " + strings.Join(t.Paths, " ") + " " + t.To
}

func (t *Take) steps(func(string) string) []*yaml.Node {
	return []*yaml.Node{object("take", t.with(flowed(object("from", object("reference", text(t.From)), "paths", several(t.Paths), "to", text(t.To)))))}
}

// Set is settings of the image, by their keys in a recipe. Those of env and labels have the name behind a dot.
type Set struct {
	Values map[string]string `json:"values"` // YAML
}

func (s *Set) what() string {
	var all []string
	for _, key := range slices.Sorted(maps.Keys(s.Values)) {
		all = append(all, key+"="+s.Values[key])
	}
	return "set " + strings.Join(all, " ")
}

func (*Set) steps(func(string) string) []*yaml.Node { return nil }

// Check finds values that are no YAML.
func (s *Set) Check() error {
	for _, key := range slices.Sorted(maps.Keys(s.Values)) {
		var value yaml.Node
		if err := yaml.Unmarshal([]byte(s.Values[key]), &value); err != nil {
			return flow.Usagef("the value of %s is no YAML, such as [/usr/bin/gauge, --verbose]: %w", key, err)
		}
	}
	return nil
}

// into lays the settings over others.
func (s *Set) into(all *yaml.Node) {
	for _, key := range slices.Sorted(maps.Keys(s.Values)) {
		var document yaml.Node
		value := literal(s.Values[key])
		if yaml.Unmarshal([]byte(s.Values[key]), &document) == nil && len(document.Content) == 1 {
			value = document.Content[0]
			plain(value)
		}
		to := all
		if group, name, below := strings.Cut(key, "."); below {
			if to = at(all, group); to == nil {
				to = object()
				replace(all, group, to)
			}
			key = name
		}
		replace(to, key, value)
	}
}

// Left is what a shell, or a command that failed, left: what is removed, and an archive of what is there, with folders of the view
// that got other owners or modes.
type Left struct {
	By      string   `json:"by"` // for people: "shell"
	Removed []string `json:"removed,omitempty"`
	Archive string   `json:"archive,omitempty"` // empty: nothing was written
	Folders []Folder `json:"folders,omitempty"`
}

// Folder is a folder with its owner and mode.
type Folder struct {
	Path  string `json:"path"`
	Owner string `json:"owner"`
	Mode  string `json:"mode"`
}

func (l *Left) what() string { return l.By }

func (l *Left) steps(at func(string) string) (all []*yaml.Node) {
	if len(l.Removed) > 0 {
		var paths []string
		for _, one := range l.Removed {
			paths = append(paths, plainPattern(one))
		}
		all = append(all, object("remove", several(paths)))
	}
	if l.Archive != "" {
		all = append(all, object("unpack", flowed(object("from", text(at(l.Archive)), "to", text("/")))))
	}
	for _, f := range l.Folders {
		all = append(all, object("make", flowed(object("folder", text(f.Path), "owner", quoted(f.Owner), "mode", quoted(f.Mode)))))
	}
	return all
}

// recipe is what makes the same image. at tells where files of an act lie, relative to the recipe. labels are what the image's history
// calls the steps, where files lie elsewhere than a person's recipe has them; nil: as the steps are called by themselves.
func (b *Bench) recipe(at func(act *Act, path string) string, labels []string) []byte {
	base := text(b.Base)
	if b.Base != "none" {
		base = flowed(object("reference", base))
	}
	image := object("base", base, "platforms", flowed(literals([]string{b.Platform})))
	steps, settings := &yaml.Node{Kind: yaml.SequenceNode}, object()
	for i := range b.Acts {
		a := &b.Acts[i]
		own := a.deed().steps(func(path string) string { return at(a, path) })
		for n, step := range own {
			if len(a.files()) > 0 && labels != nil {
				step.Content = slices.Concat([]*yaml.Node{scalar("name"), text(labels[len(steps.Content)+n])}, step.Content)
			}
		}
		steps.Content = append(steps.Content, own...)
		if a.Set != nil {
			a.Set.into(settings)
		}
	}
	if len(steps.Content) > 0 {
		image.Content = append(image.Content, scalar("steps"), steps)
	}
	if len(settings.Content) > 0 {
		image.Content = append(image.Content, scalar("settings"), settings)
	}
	return encode(object("imbricat", scalar("1"), "images", object(b.Name, image)))
}

// labels are what the steps of the recipe for people are called.
func (b *Bench) labels() (all []string, err error) {
	planned, err := b.project(b.natural()).Expand(workspace.Choice{})
	if err != nil {
		return nil, mistake(err)
	}
	for _, s := range planned.Plan.Images[0].Units[0].Steps {
		all = append(all, s.Label)
	}
	return all, nil
}

// own is where an act's files lie in the workbench's own folder.
func (b *Bench) own(a *Act, of string) string { return path.Join("files", fmt.Sprint(a.Number), of) }
