// Command messages lists the texts that the program can print, from its source: what went wrong, warnings, reasons, help and results,
// each with the file and the function that it stands in. docs/messages.md is its output, for reading all of them as a person would who
// meets them, and for finding where a message comes from. It runs nothing of the program.
//
//	go run ./scripts/messages          writes docs/messages.md
//	go run ./scripts/messages -check   fails where that is not up to date
package main

import (
	"bytes"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

const output = "docs/messages.md"

// kinds are in the order in which they are listed, each with what the list says of it.
var kinds = []struct{ name, title string }{
	{"error", "What went wrong"},
	{"warning", "Warnings"},
	{"help", "Help"},
	{"text", "Reasons, results and other words"},
}

// message is a text of the program. %s and the like stand for values.
type message struct{ kind, text, file, function string }

// noWords are calls and types whose texts are not for people: patterns, keys, queries and formats of files.
var noWords = regexp.MustCompile(`^(regexp\.|ContentBytes$|digest\.|Exec|Query|Prepare|template\.|time\.Parse|Format$|strings\.(Cut|Has|Contains|Trim|Split|Fields|Replace|Index)|MustCompile|keyOfText|Pragma|Getenv|slices\.|sql)`)

// wordy is a text that a person reads: two words at least.
var wordy = regexp.MustCompile(`[A-Za-z%"’)\]]+[,;:]? +[A-Za-z%("“]`)

// noText are texts of other languages.
var noText = regexp.MustCompile(`(?i)^\s*(select|insert|update|delete from|create|pragma|drop|alter|begin|with) |^\s*<|^[\[{]"|^#!|%\[1\]d;|^imbricat [a-z ]+ \d+ ?$|^(Bearer|Basic|bytes) `)

func main() {
	check := flag.Bool("check", false, "compare with the list that is there")
	flag.Parse()
	text, err := list("internal", "cmd")
	if err == nil {
		err = deliver(text, *check)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "messages:", err)
		os.Exit(1)
	}
}

func deliver(text []byte, check bool) error {
	if !check {
		return os.WriteFile(output, text, 0o644)
	}
	there, err := os.ReadFile(output)
	if err != nil {
		return err
	}
	if !bytes.Equal(there, text) {
		return fmt.Errorf("%s is not up to date: go run ./scripts/messages", output)
	}
	return nil
}

// list reads the sources below folders and returns the document.
func list(folders ...string) ([]byte, error) {
	var all []message
	for _, folder := range folders {
		err := filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			switch {
			case err != nil:
				return err
			case d.IsDir() && (d.Name() == "testdata" || strings.HasSuffix(d.Name(), "test")):
				return fs.SkipDir
			case strings.HasSuffix(path, ".go") && !strings.HasSuffix(path, "_test.go"):
				found, err := read(path)
				all = append(all, found...)
				return err
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return document(all), nil
}

func document(all []message) []byte {
	var out bytes.Buffer
	out.WriteString("# Messages\n\nEvery text that the program can print, with where it stands in the source; `%s` and the like stand for values. Written by\n`go run ./scripts/messages`; the tests hold it against the source.\n")
	for _, kind := range kinds {
		of := slices.DeleteFunc(slices.Clone(all), func(m message) bool { return m.kind != kind.name })
		fmt.Fprintf(&out, "\n## %s\n", kind.title)
		folder := ""
		for n, m := range of {
			if n > 0 && of[n-1] == m {
				continue
			}
			if dir := filepath.Dir(m.file); dir != folder {
				folder = dir
				fmt.Fprintf(&out, "\n### %s\n\n", dir)
			}
			fmt.Fprintf(&out, "- `%s` (%s, %s)\n", strings.ReplaceAll(m.text, "`", "'"), filepath.Base(m.file), m.function)
		}
	}
	return out.Bytes()
}

// read returns the messages of a file, in their order.
func read(path string) ([]message, error) {
	parsed, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	var all []message
	for _, decl := range parsed.Decls {
		r := &reader{file: path, function: "the file"}
		switch decl := decl.(type) {
		case *ast.GenDecl:
			if decl.Tok == token.IMPORT {
				continue
			}
		case *ast.FuncDecl:
			r.function = decl.Name.Name
		}
		r.walk(decl, kindOf(r.function, "text"))
		all = append(all, r.found...)
	}
	return all, nil
}

// reader collects the messages of a declaration.
type reader struct {
	file, function string
	found          []message
}

// walk visits a node; kind is what its texts are unless something closer says otherwise.
func (r *reader) walk(n ast.Node, kind string) {
	switch n := n.(type) {
	case nil:
	case *ast.Field:
		return // tags
	case *ast.CallExpr:
		name := callee(n.Fun)
		if noWords.MatchString(name) {
			return
		}
		kind = kindOf(name, kind)
		r.walk(n.Fun, kind)
		for _, arg := range n.Args {
			r.walk(arg, kind)
		}
		return
	case *ast.CompositeLit:
		if name := callee(n.Type); strings.HasSuffix(name, "Warning") {
			kind = "warning"
		}
	case *ast.KeyValueExpr:
		if key, is := n.Key.(*ast.Ident); is && slices.Contains([]string{"Usage", "Description", "UsageText", "ArgsUsage", "DefaultText"}, key.Name) {
			kind = "help"
		}
		r.walk(n.Value, kind)
		return
	case *ast.BinaryExpr:
		if text, is := concatenated(n); is {
			r.add(text, kind)
			return
		}
	case *ast.BasicLit:
		if n.Kind == token.STRING {
			if text, err := strconv.Unquote(n.Value); err == nil {
				r.add(text, kind)
			}
		}
		return
	}
	ast.Inspect(n, func(inner ast.Node) bool {
		if inner == n {
			return true
		}
		if inner != nil {
			r.walk(inner, kind)
		}
		return false
	})
}

func (r *reader) add(text, kind string) {
	if !wordy.MatchString(text) || noText.MatchString(text) {
		return
	}
	r.found = append(r.found, message{kind, strings.Join(strings.Fields(text), " "), r.file, r.function})
}

// concatenated is the text of literals that are added up; %s stands for what is no literal.
func concatenated(e ast.Expr) (text string, literal bool) {
	switch e := e.(type) {
	case *ast.BasicLit:
		text, err := strconv.Unquote(e.Value)
		return text, e.Kind == token.STRING && err == nil
	case *ast.BinaryExpr:
		left, is := concatenated(e.X)
		right, also := concatenated(e.Y)
		if e.Op == token.ADD && (is || also) {
			return left + right, true
		}
		return "", false
	case *ast.ParenExpr:
		return concatenated(e.X)
	}
	return "%s", false
}

// callee is the name of what is called, with its package or receiver where that is one word.
func callee(e ast.Expr) string {
	switch e := e.(type) {
	case *ast.Ident:
		return e.Name
	case *ast.SelectorExpr:
		if x, is := e.X.(*ast.Ident); is && x.Name == strings.ToLower(x.Name) && len(x.Name) > 2 {
			return x.Name + "." + e.Sel.Name
		}
		return e.Sel.Name
	}
	return ""
}

var (
	errorful  = regexp.MustCompile(`^(errors\.New|fmt\.Errorf|Error|[Rr]eport|[Pp]roblem|refuse|refusal|wrongType|flow\.[A-Z][a-z]+f|[A-Z]?[a-z]*[Ff]ailf?|add|unknownUnit|Usagef|panic)$`)
	warnings  = regexp.MustCompile(`([Ww]arn|[Dd]oubt)`)
	workplace = regexp.MustCompile(`^(log|slog)\.`)
)

// kindOf is the kind of what a call or a function says.
func kindOf(name, otherwise string) string {
	switch {
	case warnings.MatchString(name):
		return "warning"
	case errorful.MatchString(name):
		return "error"
	case workplace.MatchString(name):
		return "text"
	}
	return otherwise
}
