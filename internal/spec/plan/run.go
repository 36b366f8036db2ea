package plan

import (
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/hosts"
	"imbricat/internal/spec/recipe"
)

// defaultShell runs lines unless the recipe says otherwise.
const defaultShell = "/bin/sh"

// defaultWithin is how long a command may take unless the recipe says otherwise.
const defaultWithin = time.Hour

// longestLabel is how much of a command is told as its name, in characters.
const longestLabel = 60

// shortened is a text in one line of bounded length.
func shortened(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if letters := []rune(text); len(letters) > longestLabel {
		return string(letters[:longestLabel-1]) + "…"
	}
	return text
}

func (e *evaluator) run(do *recipe.Run, d recipe.Defaults) Run {
	r := Run{Lines: do.Lines, Args: do.Args, Network: !do.NoNet, FreshTmp: do.FreshTmp, FixedClock: do.Clock != recipe.Pos{}, Sorted: do.Sorted, Within: do.Within, Retry: do.Retry, Expires: do.Expires}
	for _, host := range do.Hosts {
		if p, err := hosts.Parse(e.text(host)); err != nil {
			e.report(host.Pos, "network: %q: %s", e.text(host), err)
		} else if text := p.String(); !slices.Contains(r.Hosts, text) {
			r.Hosts = append(r.Hosts, text)
		}
	}
	slices.Sort(r.Hosts)
	if r.FixedClock && r.Outside() {
		e.report(do.Clock, "clock: fixed needs network: false: at the time that it shows no certificate is valid yet")
	}
	by, strict := do.LinesBy, do.Strict
	if !by.Given {
		by = d.LinesBy
	}
	if strict == nil {
		strict = d.Strict
	}
	if len(r.Lines) > 0 {
		r.LinesBy, r.Strict = defaultShell, strict != nil && *strict
		if by.Given {
			r.LinesBy, r.LinesByPos = e.target(by).Path, by.Pos
		}
	}
	if r.Within == 0 {
		r.Within = defaultWithin
	}
	in, user := do.WorkingDir, do.User
	if !in.Given {
		in = d.WorkingDir
	}
	if !user.Given {
		user = d.User
	}
	if in.Given {
		r.WorkingDir, r.WorkingDirPos = e.target(in).Path, in.Pos
	}
	if user.Given {
		owner := e.owner(user)
		r.User, r.UserPos = &owner, user.Pos
	}
	for _, k := range do.Kept {
		kept := Keep{Name: k.Name, At: e.inside(k.At), AtOnce: k.AtOnce}
		if k.PerPlatform {
			kept.Name += "@" + strings.ReplaceAll(e.platform.String(), "/", "-")
		}
		if slices.ContainsFunc(r.Keep, func(o Keep) bool { return o.Name == kept.Name }) {
			e.report(k.Pos, "the kept directory %q stands twice", k.Name)
		}
		r.Keep = append(r.Keep, kept)
	}
	slices.SortFunc(r.Keep, func(a, b Keep) int { return strings.Compare(a.Name, b.Name) })
	for _, use := range do.Secrets {
		r.Secrets = append(r.Secrets, SecretUse{use.Name, e.inside(use.At)})
		e.secret(use.Name)
	}
	for _, l := range do.Lent {
		r.Lent = append(r.Lent, e.lent(do, l, user))
	}
	e.checkPlaces(do)
	return r
}

// lent works out a folder that is lent. One of the project that the command may change belongs to its user.
func (e *evaluator) lent(do *recipe.Run, l recipe.Lent, user recipe.Template) Lent {
	out := Lent{At: e.inside(l.At), Writable: l.Writable, Lay: Step{Pos: l.Pos}}
	switch lay := l.Do.(type) {
	case *recipe.Copy:
		access := recipe.Access{}
		if l.Writable {
			access.Owner = user
		}
		c := e.copy(lay, access)
		out.Lay.Do, out.Lay.Label = c, "lend "+c.names()+" at "+out.At
	case *recipe.Take:
		t := e.take(lay, recipe.Access{})
		from := lay.Unit
		if from == "" {
			from = t.Reference.String()
		}
		out.Lay.Do, out.Lay.Label = t, "lend "+strings.Join(t.Paths, " ")+" of "+from+" at "+out.At
	}
	if on := out.At + "/"; do.FreshTmp && strings.HasPrefix(on, "/tmp/") {
		e.report(l.At.Pos, "fresh-tmp covers %s: lend the folder elsewhere", out.At)
	}
	return out
}

// secret notes a secret that is used, with those that it is made of.
func (e *evaluator) secret(name string) {
	if _, known := e.secrets[name]; known {
		return
	}
	for _, s := range e.recipe.Secrets {
		if s.Name != name {
			continue
		}
		its := e.evaluator(s.In, e.platform)
		if its.scope == nil {
			return
		}
		own := Secret{Pos: s.Pos, In: s.In, Env: s.Env, File: its.text(s.File), Command: s.Command, SSHAgent: s.SSHAgent, Needs: s.Needs()}
		if s.Text.Given {
			own.Text = func(values map[string]string) (string, error) {
				e.settling.Lock()
				defer e.settling.Unlock()
				return s.Make(*its.scope, values)
			}
		}
		e.secrets[name] = own
		for _, other := range own.Needs {
			e.secret(other)
		}
	}
}

// runEnv is the environment that a command gets besides the base's.
func (e *evaluator) runEnv(do *recipe.Run, d recipe.Defaults) map[string]string {
	env := e.pairs(d.Env)
	maps.Copy(env, e.pairs(do.Env))
	for _, p := range slices.Concat(d.Env, do.Env) {
		if strings.ContainsRune(p.Key+env[p.Key], 0) {
			e.report(p.Value.Pos, "%q is not an environment variable", p.Key)
		}
	}
	return env
}

// inside is where the sandbox shows something.
func (e *evaluator) inside(t recipe.Template) string {
	p := e.target(t).Path
	if recipe.Reserved(p) {
		e.report(t.Pos, "nothing can be put at %s: the sandbox has it for itself", p)
	}
	return p
}

// checkPlaces refuses things that would lie in or over each other.
func (e *evaluator) checkPlaces(do *recipe.Run) {
	type place struct {
		at  string
		pos recipe.Pos
	}
	var all []place
	for _, k := range do.Kept {
		all = append(all, place{path.Clean(e.text(k.At)), k.At.Pos})
	}
	for _, s := range do.Secrets {
		all = append(all, place{path.Clean(e.text(s.At)), s.At.Pos})
	}
	for _, l := range do.Lent {
		all = append(all, place{path.Clean(e.text(l.At)), l.At.Pos})
	}
	for i, one := range all {
		for _, other := range all[:i] {
			if one.at == other.at || strings.HasPrefix(one.at, other.at+"/") || strings.HasPrefix(other.at, one.at+"/") {
				e.report(one.pos, "%s and %s lie in each other", other.at, one.at)
			}
		}
	}
}
