package recipe

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr/ast"
)

// Late is what expressions may use that is known only once work has begun: what lies below, and what stages leave.
type Late struct {
	Env, Labels map[string]string // of the base
	User        string
	// Result returns the text of a file of a stage or an image, or nil where it is not there.
	Result func(unit, path string) (any, error)
}

func (l *Late) base() map[string]any {
	if l == nil {
		return nil
	}
	known := func(values map[string]string) map[string]any {
		out := make(map[string]any, len(values))
		for name, value := range values {
			out[name] = value
		}
		return out
	}
	return map[string]any{"env": known(l.Env), "labels": known(l.Labels), "user": l.lookup("base", "user")}
}

func (l *Late) lookup(root, name string) any {
	if l == nil {
		return nil
	}
	switch root {
	case "base.env":
		if value, has := l.Env[name]; has {
			return value
		}
	case "base.labels":
		if value, has := l.Labels[name]; has {
			return value
		}
	case "base":
		if l.User != "" {
			return l.User
		}
	}
	return nil
}

func (l *Late) result(unit, path string) (any, error) {
	if l == nil || l.Result == nil {
		return nil, nil
	}
	return l.Result(unit, path)
}

// place is where an expression stands, as far as it decides what the expression may use.
type place int

const (
	early       place = iota // it must be known before work
	tagPlace                 // of a tag
	latePlace                // it is used once what lies below is known
	secretPlace              // it is of a secret's text
)

// within reads something that stands at a place.
func (d *decoder) within(p place, read func()) {
	before := d.compiler.place
	d.compiler.place = p
	read()
	d.compiler.place = before
}

// late reads something that may need what is known only once work has begun.
func (d *decoder) late(read func()) { d.within(latePlace, read) }

// checkLate finds what an expression needs that is known only once work has begun, and refuses it where that is too late.
func (c *compiler) checkLate(e *Expression, found *collector) {
	needs := ""
	for _, m := range found.members {
		root, _ := m.Node.(*ast.IdentifierNode)
		switch {
		case root == nil:
		case root.Value == "base":
			needs = "base"
		case root.Value == "now" && c.place != tagPlace:
			c.report(e.Pos, "now is another time at every run, so it can stand in tags alone; date is that of the commit, or of SOURCE_DATE_EPOCH")
		case root.Value == "secrets" && c.place != secretPlace:
			c.report(e.Pos, "the value of a secret can stand in the text of a secret alone: secrets: {settings: {text: \"token = ${secrets.token}\"}}")
		}
	}
	for _, call := range found.results {
		needs = "result"
		var texts []string
		for _, argument := range call.Arguments {
			if text, is := argument.(*ast.StringNode); is {
				texts = append(texts, text.Value)
			}
		}
		if len(texts) != 2 || !strings.HasPrefix(texts[1], "/") {
			c.report(e.Pos, "result needs the name of a stage and an absolute path in it, both as they are: result(\"stage\", \"/out/VERSION\")")
			continue
		}
		e.results = append(e.results, UnitUse{Name: meantIn(c.folder, texts[0]), Pos: e.Pos})
	}
	if e.late = needs != ""; !e.late || c.place == latePlace {
		return
	}
	known := map[string]string{"base": "what the base says is known only once it is there", "result": "what a stage leaves is known only once it is built"}[needs]
	if c.place == tagPlace {
		c.report(e.Pos, "%s, and a tag must be known before any work: take it from version control, from a field of a file, or by --fact", known)
		return
	}
	c.report(e.Pos, "%s: it can stand in settings, annotations, the text of a write and the env of a run", known)
}

var secretForm = regexp.MustCompile(`\bsecrets\.([a-z0-9]+(?:[._-][a-z0-9]+)*)`)

// dashed has names of secrets with dashes and dots in them stand for themselves in the text of one: elsewhere - is an operator.
func (c *compiler) dashed(text string) string {
	if c.place != secretPlace {
		return text
	}
	return secretForm.ReplaceAllStringFunc(text, func(found string) string {
		if name := strings.TrimPrefix(found, "secrets."); strings.ContainsAny(name, "-.") && slices.Contains(c.secrets, name) {
			return "secrets[" + strconv.Quote(name) + "]"
		}
		return found
	})
}

// rootOf names what a name is below: "git", "base.env"; empty where it is below something computed.
func rootOf(node ast.Node) string {
	switch n := node.(type) {
	case *ast.IdentifierNode:
		return n.Value
	case *ast.MemberNode:
		root, isRoot := n.Node.(*ast.IdentifierNode)
		name, named := n.Property.(*ast.StringNode)
		if isRoot && named && root.Value == "base" {
			return "base." + name.Value
		}
	}
	return ""
}

// IsLate reports whether a template needs what is known only once work has begun.
func (t Template) IsLate() bool {
	return slices.ContainsFunc(t.Expressions(), func(e *Expression) bool { return e.late })
}

// Results are the stages and images of the recipe whose files a template takes values of.
func (t Template) Results() (all []UnitUse) {
	for _, e := range t.Expressions() {
		all = append(all, e.results...)
	}
	return all
}
