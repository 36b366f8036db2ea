package recipe

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"
)

// Scope gives the values that expressions may use. A nil value is one that is not known.
type Scope struct {
	Git      map[string]any // commit, short, tag, branch: string or nil; dirty: bool or nil
	Env      map[string]any // string or nil
	Platform map[string]any // os, architecture, variant: string
	Facts    map[string]any
	Date     map[string]any // DateFields: string or nil
	Now      map[string]any // the same of the clock
	Run      map[string]any // number: string or nil
	Each     map[string]any // the values of an image's lists: string
	// Why tells what to say of a name without a value, where there is more to say than that.
	Why func(root, name string) string
	// File gives a field of a manifest of the project: text, a number or a truth value, or nil where it is not there.
	File func(path, field string) (any, error)
	// Secrets are values of secrets, for the texts of others; nil elsewhere.
	Secrets map[string]any
	// Late is what is known only once work has begun; nil before.
	Late *Late

	// Fact is the one that is computed, where one is.
	Fact string

	made *int // bytes of all texts that templates with expressions gave; scopes that come of this one share it
}

// With returns the scope of an image with values of its lists.
func (s *Scope) With(values map[string]string) *Scope {
	if s.made == nil {
		s.made = new(int)
	}
	own := *s
	own.Each = map[string]any{}
	for name, value := range values {
		own.Each[name] = value
	}
	return &own
}

// DateFields are the names below date.
var DateFields = []string{"iso", "plain", "minute", "year", "month", "day", "week"}

// GitFields are the names below git.
var GitFields = []string{"commit", "short", "tag", "branch", "dirty"}

// Expression is a compiled, type-checked expression.
type Expression struct {
	Pos  Pos
	Text string
	file *File
	in   string // the folder of its recipe
	prog *vm.Program
	uses []use
	// branches tells that some parts may not be reached; what they need is only missed where they are.
	branches bool
	reads    bool     // it asks for fields of files, or for results
	files    []string // files that it asks for by constant names
	anyFile  bool     // it asks for one whose name is computed
	late     bool     // it needs what is known only once work has begun
	results  []UnitUse
}

// use is a dotted name such as env.STATION; needed unless the expression says what happens without it.
type use struct {
	root, name string
	needed     bool
}

// Template is text with expressions in it. A template that is one expression alone keeps that expression's type.
type Template struct {
	Pos   Pos
	Given bool
	When  *Expression // of an entry of a list: it counts where this holds; nil: always
	parts []part
}

type part struct {
	text string
	expr *Expression
}

// Source is the template as the recipe has it.
func (t Template) Source() string {
	var out strings.Builder
	for _, p := range t.parts {
		if p.expr != nil {
			out.WriteString("${" + p.expr.Text + "}")
		} else {
			out.WriteString(p.text)
		}
	}
	return out.String()
}

// Constant returns the text of a template that has no expression.
func (t Template) Constant() (string, bool) {
	var out strings.Builder
	for _, p := range t.parts {
		if p.expr != nil {
			return "", false
		}
		out.WriteString(p.text)
	}
	return out.String(), true
}

// Plain returns the parts of the template that are no expressions, in order.
func (t Template) Plain() []string {
	var list []string
	for _, p := range t.parts {
		if p.expr == nil {
			list = append(list, p.text)
		}
	}
	return list
}

// Expressions are the expressions in the template, in order.
func (t Template) Expressions() []*Expression {
	var list []*Expression
	for _, p := range t.parts {
		if p.expr != nil {
			list = append(list, p.expr)
		}
	}
	return list
}

// Value evaluates the template and keeps the type of a lone expression.
func (t Template) Value(s *Scope) (any, error) {
	if len(t.parts) == 1 && t.parts[0].expr != nil {
		return t.parts[0].expr.Eval(s)
	}
	return t.Text(s)
}

// Text evaluates the template to text.
func (t Template) Text(s *Scope) (string, error) {
	var out strings.Builder
	computed := 0
	for _, p := range t.parts {
		if p.expr == nil {
			out.WriteString(p.text)
			continue
		}
		value, err := p.expr.Eval(s)
		if err != nil {
			return "", err
		}
		text, ok := format(value)
		if !ok {
			return "", p.expr.problem("${%s} gives %s, which is not text", p.expr.Text, describe(value))
		}
		if computed += len(text); computed > maxComputed {
			return "", p.expr.problem("what expressions give makes this text longer than %s", humanize.IBytes(maxComputed))
		}
		out.WriteString(text)
		if s.made == nil {
			s.made = new(int)
		}
		if *s.made += len(text); *s.made > maxMade {
			return "", p.expr.problem("the recipe's expressions make more than %s of text", humanize.IBytes(maxMade))
		}
	}
	return out.String(), nil
}

func format(value any) (string, bool) {
	switch v := value.(type) {
	case string:
		return v, true
	case bool:
		return strconv.FormatBool(v), true
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64), true
	}
	switch reflect.ValueOf(value).Kind() {
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64,
		reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return fmt.Sprint(value), true
	}
	return "", false
}

func describe(value any) string {
	if value == nil {
		return "nothing"
	}
	return "a " + reflect.TypeOf(value).Kind().String()
}

// Uses lists the names below root ("git", "facts", …) that the expression reads.
func (e *Expression) Uses(root string) []string {
	var names []string
	for _, u := range e.uses {
		if u.root == root {
			names = append(names, u.name)
		}
	}
	return names
}

func (e *Expression) problem(format string, args ...any) *Errors {
	return e.file.Problem(e.Pos, format, args...)
}

// Eval computes the expression. What it needs and is not known is an error that names it.
func (e *Expression) Eval(s *Scope) (any, error) {
	if u, unknown := e.unknown(s); unknown && !e.branches {
		return nil, e.problem("%s", s.missing(u))
	}
	for _, u := range e.uses {
		if text, is := s.lookup(u.root, u.name).(string); is && u.root == "facts" && len(text) > maxValue {
			return nil, e.problem("%s.%s has %s, and an expression takes texts of at most %s", u.root, u.name, humanize.IBytes(uint64(len(text))), humanize.IBytes(maxValue))
		}
	}
	var unread error
	machine := vm.VM{MemoryBudget: mostElements}
	value, err := machine.Run(e.prog, map[string]any{
		"git": s.Git, "env": s.Env, "platform": s.Platform, "facts": s.Facts, "date": s.Date, "now": s.Now, "run": s.Run, "each": s.Each, "tag": MendTag, "base": s.Late.base(), "secrets": s.Secrets,
		"file": func(path string, fields ...string) any {
			field := strings.Join(fields, "")
			value, err := s.file(path, field)
			if text, is := value.(string); is && len(text) > maxValue {
				err = fmt.Errorf("%s is longer than %s", strings.TrimPrefix(field+" of "+path, " of "), humanize.IBytes(maxValue))
			}
			if len(fields) > 1 {
				err = errors.New("file takes a path and, if wanted, one field")
			}
			unread = errors.Join(unread, err)
			return value
		},
		"needed": func(what string) any {
			unread = errors.Join(unread, s.needed(what))
			return nil
		},
		"result": func(unit, path string) any {
			value, err := s.Late.result(meantIn(e.in, unit), path)
			unread = errors.Join(unread, err)
			return value
		},
	})
	if unread != nil {
		return nil, e.problem("%s", firstLine(unread))
	}
	if u, unknown := e.unknown(s); unknown && (err != nil || value == nil) {
		return nil, e.problem("%s", s.missing(u))
	}
	if err != nil && strings.Contains(err.Error(), "memory budget") {
		return nil, e.problem("${%s} makes lists of more than %d elements", e.Text, mostElements)
	}
	if err != nil {
		return nil, e.problem("${%s}: %s", e.Text, firstLine(err))
	}
	if value == nil && e.reads {
		return nil, e.problem("%s is not there; give a default: %s ?? \"…\"", e.Text, e.Text)
	}
	if text, is := value.(string); is && len(text) > maxValue {
		return nil, e.problem("${%s} gives a text of %s, and at most %s are allowed", e.Text, humanize.IBytes(uint64(len(text))), humanize.IBytes(maxValue))
	}
	return value, nil
}

func (s *Scope) needed(what string) error {
	if s.Fact == "" {
		return fmt.Errorf("this is to be filled in: %s", what)
	}
	return fmt.Errorf("%s is to be filled in: %s; write it here, or give --fact %s=VALUE", s.Fact, what, s.Fact)
}

func (s *Scope) file(path, field string) (any, error) {
	if s.File == nil {
		return nil, nil
	}
	return s.File(path, field)
}

// unknown finds a name that the expression needs and that has no value.
func (e *Expression) unknown(s *Scope) (use, bool) {
	for _, u := range e.uses {
		if u.needed && s.lookup(u.root, u.name) == nil {
			return u, true
		}
	}
	return use{}, false
}

// EvalBool computes a condition.
func (e *Expression) EvalBool(s *Scope) (bool, error) {
	value, err := e.Eval(s)
	if err != nil {
		return false, err
	}
	truth, ok := value.(bool)
	if !ok {
		return false, e.problem("the condition gives %s, not true or false", describe(value))
	}
	return truth, nil
}

func (s *Scope) lookup(root, name string) any {
	switch root {
	case "git":
		return s.Git[name]
	case "env":
		return s.Env[name]
	case "platform":
		return s.Platform[name]
	case "date":
		return s.Date[name]
	case "now":
		return s.Now[name]
	case "run":
		return s.Run[name]
	case "each":
		return s.Each[name]
	case "secrets":
		return s.Secrets[name]
	case "base", "base.env", "base.labels":
		return s.Late.lookup(root, name)
	}
	return s.Facts[name]
}

func (s *Scope) missing(u use) string {
	if s.Why != nil {
		if why := s.Why(u.root, u.name); why != "" {
			return fmt.Sprintf("%s.%s is not known here: %s; or give a default: %s.%s ?? \"…\"", u.root, u.name, why, u.root, u.name)
		}
	}
	switch u.root {
	case "env":
		return fmt.Sprintf("the environment variable %s is not set; set it, or give a default: env.%s ?? \"…\"", u.name, u.name)
	case "base":
		return fmt.Sprintf("the base has no %s; give a default: base.%s ?? \"…\"", u.name, u.name)
	case "base.env", "base.labels":
		return fmt.Sprintf("the base has no %s in its %s; give a default with ??", u.name, strings.TrimPrefix(u.root, "base."))
	case "git", "date", "run":
		return fmt.Sprintf("%s.%s is not known here; give a default: %s.%s ?? \"…\"", u.root, u.name, u.root, u.name)
	}
	return fmt.Sprintf("%s.%s is not known here", u.root, u.name)
}

// compiler turns text into expressions; factNames bounds what may stand after "facts.".
type compiler struct {
	file      *File
	folder    string // of the recipe that is read
	factNames []string
	secrets   []string
	each      []string // the names of the lists of the image that is read
	place     place    // where the expressions that come stand
	report    func(pos Pos, format string, args ...any)
}

// environment types the names. For checking, what is known has its type; for running, everything may be unknown.
func (c *compiler) environment(check bool) types.Map {
	var text, truth types.Type = types.Any, types.Any
	if check {
		text, truth = types.String, types.Bool
	}
	git := types.Map{}
	for _, name := range GitFields {
		git[name] = text
	}
	git["dirty"] = truth
	date := types.Map{}
	for _, name := range DateFields {
		date[name] = text
	}
	facts := types.Map{}
	for _, name := range c.factNames {
		facts[name] = types.Any
	}
	each := types.Map{}
	for _, name := range c.each {
		each[name] = types.String
	}
	return types.Map{
		"each":     each,
		"git":      git,
		"env":      types.Map{types.Extra: text},
		"platform": types.Map{"os": types.String, "architecture": types.String, "variant": types.String},
		"facts":    facts,
		"date":     date,
		"now":      date,
		"run":      types.Map{"number": text},
		"file":     types.TypeOf(func(string, ...string) any { return nil }),
		"tag":      types.TypeOf(MendTag),
		"base":     types.Map{"env": types.Map{types.Extra: text}, "labels": types.Map{types.Extra: text}, "user": text},
		"secrets":  types.Map{types.Extra: text},
		"needed":   types.TypeOf(func(string) any { return nil }),
		"result":   types.TypeOf(func(string, string) any { return nil }),
	}
}

// roots are the names that expressions begin with.
var roots = []string{"git", "env", "platform", "facts", "date", "now", "run", "each", "file", "tag", "base", "result", "secrets", "needed"}

// compile checks one expression. A mistake is reported and gives nil.
func (c *compiler) compile(pos Pos, text string, condition bool) *Expression {
	e := &Expression{Pos: pos, Text: strings.TrimSpace(text), file: c.file, in: c.folder}
	if e.Text == "" {
		c.report(pos, "an empty expression: write a name between ${ and }")
		return nil
	}
	collect := &collector{optional: map[ast.Node]bool{}}
	source, grouped := groupDefaults(c.dashed(e.Text))
	_, err := expr.Compile(source, c.options(true, condition)...)
	if grouped {
		err = ungroup(source, err)
	}
	var program *vm.Program
	if err == nil {
		program, err = expr.Compile(source, c.options(false, condition)...)
	}
	if err != nil {
		if !condition {
			pos.Column += len("${")
		}
		pos.Column += len(text) - len(strings.TrimLeft(text, " "))
		c.reportCompile(pos, e.Text, err)
		return nil
	}
	node := program.Node()
	ast.Walk(&node, collect)
	e.prog, e.uses, e.branches, e.reads = program, collect.finish(), collect.branches, collect.file
	e.files, e.anyFile = collect.files, collect.anyFile
	c.checkLate(e, collect)
	c.file.expressions = append(c.file.expressions, e)
	return e
}

func (c *compiler) options(check, condition bool) []expr.Option {
	options := []expr.Option{
		expr.Env(c.environment(check)),
		expr.DisableBuiltin("now"),
		expr.DisableBuiltin("reduce"), // makes texts of any length, a bit at a time
		expr.MaxNodes(mostNodes),
	}
	options = append(options, boundedFunctions...)
	if condition && check {
		options = append(options, expr.AsBool())
	}
	if !check {
		options = append(options, expr.Patch(boundedSums{}))
	}
	if condition && !check {
		options = append(options, expr.Patch(&absentAsEmpty{plain: map[ast.Node]ast.Node{}}))
	}
	return options
}

// absentAsEmpty has conditions take a text that is not known for the empty one: on a commit without a tag git.tag != ""
// does not hold, and git.tag matches "^v" neither. What is compared with nil, or has a default, is left as it is.
type absentAsEmpty struct{ plain map[ast.Node]ast.Node }

// Visit implements ast.Visitor; children are visited before their parents.
func (a *absentAsEmpty) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.MemberNode:
		root, ok := n.Node.(*ast.IdentifierNode)
		name, named := n.Property.(*ast.StringNode)
		if ok && named && slices.Contains([]string{"git", "env", "date", "run"}, root.Value) && name.Value != "dirty" {
			text := &ast.BinaryNode{Operator: "??", Left: n, Right: &ast.StringNode{}}
			a.plain[text] = n
			ast.Patch(node, text)
		}
	case *ast.BinaryNode:
		_, leftNil := n.Left.(*ast.NilNode)
		_, rightNil := n.Right.(*ast.NilNode)
		if plain := a.plain[n.Left]; plain != nil && (n.Operator == "??" || rightNil) && a.plain[n] == nil {
			n.Left = plain
		}
		if plain := a.plain[n.Right]; plain != nil && leftNil {
			n.Right = plain
		}
	}
}

// ungroup gives the place of an error as it is in the text that the person wrote.
func ungroup(grouped string, err error) error {
	var located *file.Error
	if !errors.As(err, &located) || located.Column > len(grouped) {
		return err
	}
	own := *located
	own.Column -= len("(") + strings.Count(grouped[:located.Column], groupMark)*(len(groupMark)-len("??"))
	return &own
}

// groupMark stands between the groups that groupDefaults makes.
const groupMark = ") ?? ("

// groupDefaults puts each side of "??" in brackets. The language wants them where "??" stands beside another operator;
// in a recipe "??" binds loosest, so that a default may be put together without them.
func groupDefaults(text string) (string, bool) {
	var sides []string
	depth, start := 0, 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '"', '\'', '`':
			i += skipString(text[i:])
		case '(', '[', '{':
			depth++
		case ')', ']', '}':
			depth--
		case ',', ':', '|':
			if depth == 0 {
				return text, false
			}
		case '?':
			if depth == 0 && strings.HasPrefix(text[i:], "??") {
				sides = append(sides, text[start:i])
				i++
				start = i + 1
			}
		}
	}
	if len(sides) == 0 {
		return text, false
	}
	return "(" + strings.Join(append(sides, text[start:]), groupMark) + ")", true
}

// skipString returns the offset of the quote that ends the string at the start of text, or of the text's end.
func skipString(text string) int {
	for i := 1; i < len(text); i++ {
		switch {
		case text[i] == text[0]:
			return i
		case text[i] == '\\' && text[0] != '`':
			i++
		}
	}
	return len(text)
}

func (c *compiler) reportCompile(pos Pos, text string, err error) {
	message := firstLine(err)
	if located, ok := err.(*file.Error); ok {
		message = located.Message
		pos.Column += located.Column
	}
	if name, found := strings.CutPrefix(message, "unknown name "); found {
		message = fmt.Sprintf("unknown name %q in an expression%s", name, suggest(name, roots))
	}
	if rest, found := strings.CutPrefix(message, "type "); found && strings.Contains(rest, "has no field") {
		name := rest[strings.LastIndexByte(rest, ' ')+1:]
		message = fmt.Sprintf("unknown name %q in ${%s}%s", name, text, suggest(name, c.fieldsAround(text, name)))
	}
	if rest, found := strings.CutPrefix(message, "unknown field "); found {
		message = fmt.Sprintf("unknown name %q in ${%s}%s", rest, text, suggest(rest, c.fieldsAround(text, rest)))
	}
	if strings.HasPrefix(message, `unexpected token Operator("=")`) {
		message = "= compares nothing: write =="
	}
	c.report(pos, "%s", message)
}

func (c *compiler) fieldsAround(text, name string) []string {
	switch {
	case strings.Contains(text, "facts."+name):
		return c.factNames
	case strings.Contains(text, "each."+name):
		return c.each
	case strings.Contains(text, "git."+name):
		return GitFields
	case strings.Contains(text, "date."+name), strings.Contains(text, "now."+name):
		return DateFields
	case strings.Contains(text, "run."+name):
		return []string{"number"}
	case strings.Contains(text, "base."+name):
		return []string{"env", "labels", "user"}
	}
	return []string{"os", "architecture", "variant"}
}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// collector notes which names an expression reads. Names on the left of ?? and names compared with nil may be unknown.
type collector struct {
	optional map[ast.Node]bool
	members  []*ast.MemberNode
	results  []*ast.CallNode
	file     bool
	files    []string
	anyFile  bool
	branches bool
}

// first is the first of a call's arguments; nil where there is none.
func first(arguments []ast.Node) ast.Node {
	if len(arguments) == 0 {
		return nil
	}
	return arguments[0]
}

// Visit implements ast.Visitor; children are visited before their parents.
func (c *collector) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.MemberNode:
		c.members = append(c.members, n)
	case *ast.BinaryNode:
		switch n.Operator {
		case "??":
			c.free(n.Left)
		case "==", "!=":
			c.free(n.Left)
			c.free(n.Right)
		case "&&", "||", "and", "or":
			c.branches = true
		}
	case *ast.ConditionalNode:
		c.branches = true
	case *ast.CallNode:
		switch name, _ := n.Callee.(*ast.IdentifierNode); {
		case name == nil:
		case name.Value == "result":
			c.results = append(c.results, n)
			c.file = true
		case name.Value == "file":
			c.file = true
			if constant, is := first(n.Arguments).(*ast.StringNode); is {
				c.files = append(c.files, constant.Value)
			} else {
				c.anyFile = true
			}
		}
	}
}

func (c *collector) free(node ast.Node) {
	switch n := node.(type) {
	case *ast.ChainNode:
		c.free(n.Node)
	case *ast.BinaryNode:
		if n.Operator == "??" {
			c.free(n.Left)
			c.free(n.Right)
		}
	}
	c.optional[node] = true
}

func (c *collector) finish() []use {
	var uses []use
	for _, m := range c.members {
		root := rootOf(m.Node)
		name, named := m.Property.(*ast.StringNode)
		if root == "" || !named || root == "base" && name.Value != "user" {
			continue
		}
		needed := !c.optional[m] && !m.Optional && root != "platform"
		uses = append(uses, use{root, name.Value, needed})
	}
	return uses
}

// template cuts text at ${…}; "$${" stands for "${". column tells how far a byte of text lies from pos.
func (c *compiler) template(pos Pos, text string, column func(offset int) Pos) Template {
	t := Template{Pos: pos, Given: true}
	var plain strings.Builder
	for i := 0; i < len(text); {
		rest := text[i:]
		switch {
		case strings.HasPrefix(rest, "$${"):
			plain.WriteString("${")
			i += 3
		case strings.HasPrefix(rest, "${"):
			length := closing(rest)
			if length < 0 {
				c.report(column(i), "\"${\" without its \"}\"; write \"$${\" where the text itself has \"${\"")
				return t
			}
			if plain.Len() > 0 {
				t.parts = append(t.parts, part{text: plain.String()})
				plain.Reset()
			}
			if e := c.compile(column(i), rest[2:length], false); e != nil {
				t.parts = append(t.parts, part{expr: e})
			}
			i += length + 1
		default:
			plain.WriteByte(text[i])
			i++
		}
	}
	if plain.Len() > 0 || len(t.parts) == 0 {
		t.parts = append(t.parts, part{text: plain.String()})
	}
	return t
}

// closing finds the brace that ends an expression which starts with "${", passing over strings and nested braces.
func closing(text string) int {
	depth := 0
	for i := 2; i < len(text); i++ {
		switch text[i] {
		case '"', '\'', '`':
			i += skipString(text[i:])
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		}
	}
	return -1
}
