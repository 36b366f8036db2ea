package recipe

import (
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/ground/hosts"

	"go.yaml.in/yaml/v3"
)

// Run runs a command in what lies below the step.
type Run struct {
	Lines      []string // of a shell, each of which must succeed
	Listed     bool     // the lines are a plain list, which could be meant as a program with its arguments
	Args       []string // a program with its arguments, where there are no lines
	LinesBy    Template // the shell of lines
	Strict     *bool    // lines end at the first error of any kind; nil: not given
	WorkingDir Template
	User       Template
	Env        []Pair
	Kept       []Kept
	Secrets    []SecretUse
	Lent       []Lent
	NoNet      bool
	Hosts      []Template    // that it may reach, in place of the machine's whole network
	SaysNet    bool          // whether it has a network is said
	FreshTmp   bool          // /tmp is an empty folder in memory
	Clock      Pos           // where it is fixed; zero: it is the machine's
	Sorted     bool          // folders are listed in the order of names
	Within     time.Duration // the command is ended after; 0: the default
	Retry      int           // how often it is tried again where it fails
	Expires    time.Duration // a result is not used for longer; 0: as long as it holds
}

// Kept gives a kept directory to a step.
type Kept struct {
	Pos         Pos
	Name        string
	At          Template
	AtOnce      bool // several steps may have it at a time
	PerPlatform bool // each platform has its own
}

// Lent shows a folder to a step that is in no layer of it.
type Lent struct {
	Pos      Pos
	Do       Action // a *Take or a *Copy, which says what is laid down there for the command alone
	At       Template
	Writable bool // the command may change it; what it leaves there is thrown away
}

// Units implements Action.
func (r *Run) Units() (all []UnitUse) {
	for _, l := range r.Lent {
		all = append(all, l.Do.Units()...)
	}
	return all
}

// SecretUse gives a secret to a step as a file.
type SecretUse struct {
	Pos  Pos
	Name string
	At   Template
}

// Secret says where a secret comes from; exactly one of the sources is set.
type Secret struct {
	Name     string // as the graph has it
	In       string // the folder of its recipe
	Pos      Pos
	Env      string
	File     Template
	Command  []string
	SSHAgent bool     // the agent's socket, not its keys
	Text     Template // made of other secrets

	names map[string]string // those that the text is made of, by what it calls them
}

// Needs are the secrets that the text of one is made of.
func (s Secret) Needs() []string { return slices.Sorted(maps.Values(s.names)) }

// Make makes the text of a secret of the values of others, by the names that the graph has for them.
func (s Secret) Make(scope Scope, values map[string]string) (string, error) {
	scope.Secrets = map[string]any{}
	for here, name := range s.names {
		if value, known := values[name]; known {
			scope.Secrets[here] = value
		}
	}
	return s.Text.Text(&scope)
}

// runStep reads what a step runs: a line, a list of lines, or an argument list.
func (d *decoder) runStep(n *yaml.Node) *Run {
	r := &Run{}
	target := d.deref(n)
	if target.Kind == yaml.MappingNode {
		before := len(d.problems)
		command, lines := false, false
		d.object(n, "run",
			field{key: "command", read: func(n *yaml.Node) { command, r.Args = true, d.words(n, "command") }},
			field{key: "lines", read: func(n *yaml.Node) { lines, r.Lines = true, d.lines(n, "lines") }})
		switch {
		case len(d.problems) > before:
		case command == lines:
			d.report(at(target), "run has either command, a program with its arguments, or lines, of a shell")
		case command && (len(r.Args) == 0 || r.Args[0] == ""):
			d.report(at(target), "command names no program")
		}
	} else {
		r.Lines, r.Listed = d.lines(n, "run"), target.Kind == yaml.SequenceNode
	}
	if slices.ContainsFunc(slices.Concat(r.Lines, r.Args), func(text string) bool { return strings.ContainsRune(text, 0) }) {
		d.report(at(target), "the text has a NUL character")
	}
	return r
}

// expressionInLine is what looks like an expression of the recipe in a line of a shell, which would take it for a variable of its own.
var expressionInLine = regexp.MustCompile(`\$\{ *((facts|git|platform|date|run|env)\.[A-Za-z_]|file\()`)

// lines reads lines of a shell. Nothing is expanded in them.
func (d *decoder) lines(n *yaml.Node, what string) (lines []string) {
	before := len(d.problems)
	d.each(n, what, true, func(item *yaml.Node) {
		line := d.word(item, "an entry of "+what)
		if found := expressionInLine.FindStringIndex(line); found != nil {
			expression := line[found[0]:]
			if length := closing(expression); length > 0 {
				expression = expression[:length+1]
			}
			d.report(d.locate(d.deref(item), found[0]), "nothing is expanded in lines of a shell: give it by env, such as env: {VALUE: %s}, and write $VALUE here", strconv.Quote(expression))
		}
		lines = append(lines, line)
	})
	if len(d.problems) == before && !slices.ContainsFunc(lines, func(line string) bool { return strings.TrimSpace(line) != "" }) {
		d.report(at(d.deref(n)), "%s has nothing to run", what)
	}
	return lines
}

// runFields are the keys that stand beside run.
func (d *decoder) runFields(r *Run) []field {
	return []field{
		{key: "lines-by", read: func(n *yaml.Node) { r.LinesBy = d.target(n, "lines-by") }},
		{key: "strict", read: func(n *yaml.Node) { strict := d.boolean(n, "strict"); r.Strict = &strict }},
		{key: "working-dir", was: "in", read: func(n *yaml.Node) { r.WorkingDir = d.target(n, "working-dir") }},
		{key: "user", read: func(n *yaml.Node) { r.User = d.scalar(n, "user") }},
		{key: "env", read: func(n *yaml.Node) { r.Env = d.runEnv(n) }},
		{key: "kept", was: "keep", read: func(n *yaml.Node) {
			d.placed(n, "kept", func(name, item *yaml.Node) { r.Kept = append(r.Kept, d.kept(name, item)) })
		}},
		{key: "secrets", read: func(n *yaml.Node) {
			d.placed(n, "secrets", func(name, item *yaml.Node) { r.Secrets = append(r.Secrets, d.secretUse(name, item)) })
		}},
		{key: "lend", read: func(n *yaml.Node) {
			d.each(n, "lend", true, func(item *yaml.Node) {
				if one, ok := d.lent(item); ok {
					r.Lent = append(r.Lent, one)
				}
			})
		}},
		{key: "network", read: func(n *yaml.Node) { d.network(n, r) }},
		{key: "fresh-tmp", read: func(n *yaml.Node) { r.FreshTmp = d.boolean(n, "fresh-tmp") }},
		{key: "clock", read: func(n *yaml.Node) { d.oneOf(n, "clock", "fixed"); r.Clock = at(d.deref(n)) }},
		{key: "listing", read: func(n *yaml.Node) { r.Sorted = d.oneOf(n, "listing", "sorted") == "sorted" }},
		{key: "within", read: func(n *yaml.Node) { r.Within = d.duration(n, "within") }},
		{key: "retry", read: func(n *yaml.Node) { r.Retry = d.number(n, "retry", 0, 10) }},
		{key: "expires", read: func(n *yaml.Node) { r.Expires = d.duration(n, "expires") }},
	}
}

// network reads whether a command has the machine's network, or which hosts it may reach in place of that.
func (d *decoder) network(n *yaml.Node, r *Run) {
	r.SaysNet = true
	switch target := d.deref(n); {
	case target.Kind == yaml.ScalarNode && target.Tag == "!!bool":
		r.NoNet = !d.boolean(n, "network")
		return
	case target.Kind == yaml.SequenceNode && len(target.Content) == 0:
		d.report(at(target), "network lists no host: false leaves a loopback alone")
	case target.Kind != yaml.SequenceNode && (target.Kind != yaml.ScalarNode || target.Tag != "!!str"):
		d.wrongType(target, "network", "true, false or a list of hosts")
		return
	}
	r.NoNet = true
	d.each(n, "network", true, func(item *yaml.Node) {
		t := d.text(item, "an entry of network")
		if text, constant := t.Constant(); constant && t.Given {
			if _, err := hosts.Parse(text); err != nil {
				d.report(t.Pos, "network: %q: %s", text, err)
			}
		}
		r.Hosts = append(r.Hosts, t)
	})
}

// runEnv reads the environment of a command.
func (d *decoder) runEnv(n *yaml.Node) (env []Pair) {
	d.late(func() { env = d.textPairs(n, "env") })
	d.checkEnvNames(n)
	return env
}

// placed reads things with a place in the view: a list of mappings with name and at, one such, or a mapping of names to places, or to
// mappings with at.
func (d *decoder) placed(n *yaml.Node, what string, read func(name, item *yaml.Node)) {
	target := d.deref(n)
	long := slices.ContainsFunc(target.Content, func(key *yaml.Node) bool { return key.Value == "name" || key.Value == "at" })
	if target.Kind != yaml.MappingNode || long {
		d.each(n, what, true, func(item *yaml.Node) { read(nil, item) })
		return
	}
	d.named(n, what, read)
}

// placeOf reads the name and the place of a thing, and what else it has. Where it has a name already, the place alone may stand for it.
func (d *decoder) placeOf(name, item *yaml.Node, what string, named func(n *yaml.Node), to *Template, more ...field) {
	place := field{key: "at", need: true, read: func(n *yaml.Node) { *to = d.inside(n, "at") }}
	switch {
	case name == nil:
		d.object(item, what, append(more, field{key: "name", need: true, read: named}, place)...)
		return
	case d.deref(item).Kind == yaml.MappingNode:
		d.object(item, what, append(more, place)...)
	default:
		place.read(item)
	}
	named(name)
}

func (d *decoder) secretUse(name, item *yaml.Node) SecretUse {
	use := SecretUse{Pos: at(d.deref(item))}
	d.placeOf(name, item, "a secret", func(n *yaml.Node) { use.Name, use.Pos = d.secret(d.word(n, "name")), at(d.deref(n)) }, &use.At)
	return use
}

func (d *decoder) kept(name, item *yaml.Node) Kept {
	k := Kept{Pos: at(d.deref(item))}
	d.placeOf(name, item, "a kept directory", func(n *yaml.Node) {
		before := len(d.problems)
		if k.Name = d.word(n, "name"); len(d.problems) == before {
			d.checkName(d.deref(n), "kept directory", unitName)
		}
	}, &k.At,
		field{key: "hand-out", read: func(n *yaml.Node) { k.AtOnce = d.oneOf(n, "hand-out", "turns", "at-once") == "at-once" }},
		field{key: "per-platform", read: func(n *yaml.Node) { k.PerPlatform = d.boolean(n, "per-platform") }})
	return k
}

// ownProject is what a folder is lent from where it is one of the project.
const ownProject = "project"

// lent reads a folder that is lent: of the project as a copy would take it, or as a take would. What is wrong is reported.
func (d *decoder) lent(n *yaml.Node) (l Lent, ok bool) {
	before := len(d.problems)
	var from, path *yaml.Node
	var leaveOut []string
	l.Pos = at(d.deref(n))
	d.object(n, "lend",
		field{key: "from", need: true, read: func(n *yaml.Node) { from = n }},
		field{key: "path", read: func(n *yaml.Node) { path = n }},
		field{key: "at", need: true, read: func(n *yaml.Node) { l.At = d.inside(n, "at") }},
		field{key: "writable", read: func(n *yaml.Node) { l.Writable = d.boolean(n, "writable") }},
		field{key: "leave-out", read: func(n *yaml.Node) { leaveOut = d.words(n, "leave-out") }})
	if from == nil {
		return l, false
	}
	whole := func(text string) Template { return Template{Pos: l.Pos, Given: true, parts: []part{{text: text}}} }
	if target := d.deref(from); target.Kind == yaml.ScalarNode && target.Value == ownProject {
		c := &Copy{From: []Template{whole(".")}, To: l.At, Picking: Picking{LeaveOut: leaveOut}}
		if path != nil {
			c.From = []Template{d.source(path, "path")}
		}
		l.Do = c
	} else {
		t := &Take{Paths: []Template{whole("/")}, To: l.At, Picking: Picking{LeaveOut: leaveOut}}
		d.origin(from, t)
		if path != nil {
			t.Paths = []Template{d.target(path, "path")}
		}
		l.Do = t
	}
	return l, len(d.problems) == before
}

// reserved are the folders of a view that the sandbox fills itself.
var reserved = []string{"/dev", "/proc", "/sys"}

// Reserved reports whether a path is the root or belongs to the sandbox.
func Reserved(path string) bool {
	return path == "/" || slices.ContainsFunc(reserved, func(r string) bool { return path == r || strings.HasPrefix(path, r+"/") })
}

// inside is a target at which the sandbox shows something.
func (d *decoder) inside(n *yaml.Node, what string) Template {
	t := d.target(n, what)
	if text, constant := t.Constant(); constant && t.Given && Reserved(text) {
		d.report(t.Pos, "nothing can be put at %s: the sandbox has it for itself", text)
	}
	return t
}

// duration reads a time such as 90s, 12h or 14d.
func (d *decoder) duration(n *yaml.Node, what string) time.Duration {
	before := len(d.problems)
	text := d.word(n, what)
	if len(d.problems) > before {
		return 0
	}
	took, err := ParseDuration(text)
	if err != nil || took <= 0 {
		d.report(at(d.deref(n)), "%s must be a time such as 90s, 12h or 14d", what)
	}
	return took
}

// ParseDuration reads a time such as 90s, 12h or 14d.
func ParseDuration(text string) (time.Duration, error) {
	if days, is := strings.CutSuffix(text, "d"); is {
		if n, err := strconv.Atoi(days); err == nil && n >= 0 && n < 100_000 {
			return time.Duration(n) * 24 * time.Hour, nil
		}
	}
	return time.ParseDuration(text)
}

func (d *decoder) secrets(n *yaml.Node, r *Recipe) {
	d.named(n, "secrets", func(key, value *yaml.Node) {
		s := Secret{Name: d.own(key.Value), In: d.in.folder, Pos: at(key), names: map[string]string{}}
		d.checkName(key, "secret", unitName)
		before := len(d.problems)
		d.object(value, "the secret "+key.Value,
			field{key: "env", read: func(n *yaml.Node) {
				before := len(d.problems)
				if s.Env = d.word(n, "env"); s.Env == "" && len(d.problems) == before {
					d.report(at(d.deref(n)), "env names no variable")
				}
			}},
			field{key: "file", read: func(n *yaml.Node) {
				s.File = d.text(n, "file")
				if text, constant := s.File.Constant(); constant && s.File.Given && text == "" {
					d.report(s.File.Pos, "file names no file")
				}
			}},
			field{key: "command", read: func(n *yaml.Node) {
				if s.Command = d.words(n, "command"); len(s.Command) == 0 || s.Command[0] == "" {
					d.report(at(d.deref(n)), "command names no program")
				}
			}},
			field{key: "ssh-agent", read: func(n *yaml.Node) {
				if s.SSHAgent = d.boolean(n, "ssh-agent"); !s.SSHAgent {
					d.report(at(d.deref(n)), "ssh-agent can only be true")
				}
			}},
			field{key: "text", read: func(n *yaml.Node) { d.within(secretPlace, func() { s.Text = d.text(n, "text") }) }})
		if target := d.deref(value); len(d.problems) == before && len(target.Content) != 2 {
			d.report(at(target), "a secret has exactly one of env, file, command, ssh-agent, text")
		}
		for _, e := range s.Text.Expressions() {
			for _, name := range e.Uses("secrets") {
				s.names[name] = d.secret(name)
			}
		}
		r.Secrets = append(r.Secrets, s)
	})
}

// checkSecretTexts finds secrets whose texts are made of secrets that are not declared, that have no text, or that are made of themselves.
func (d *decoder) checkSecretTexts(r *Recipe) {
	known := map[string]*Secret{}
	var names []string
	for i := range r.Secrets {
		known[r.Secrets[i].Name] = &r.Secrets[i]
		names = append(names, r.Secrets[i].Name)
	}
	var made func(name string, by []string) bool
	made = func(name string, by []string) bool {
		s := known[name]
		return s != nil && (slices.Contains(by, name) || slices.ContainsFunc(s.Needs(), func(other string) bool { return made(other, append(by, name)) }))
	}
	for _, s := range r.Secrets {
		for _, name := range s.Needs() {
			if known[name] == nil {
				d.report(s.Text.Pos, "no secret is named %q%s", name, suggest(name, names))
			} else if known[name].SSHAgent {
				d.report(s.Text.Pos, "the secret %q is an agent, which tells no value", name)
			}
		}
		if made(s.Name, nil) {
			d.report(s.Text.Pos, "the secret %q is made of itself", s.Name)
		}
	}
}

// checkSecretUses finds secrets that are not declared.
func (d *decoder) checkSecretUses(r *Recipe, steps []Step) {
	var names []string
	for _, s := range r.Secrets {
		names = append(names, s.Name)
	}
	for _, step := range steps {
		run, is := step.Do.(*Run)
		if !is {
			continue
		}
		for _, use := range run.Secrets {
			if use.Name != "" && !slices.Contains(names, use.Name) {
				d.report(use.Pos, "no secret is named %q%s", use.Name, suggest(use.Name, names))
			}
		}
	}
}
