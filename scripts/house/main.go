// Command house prints figures of the source for a reader to think about: how many files of a package need one another in a
// circle, methods on a type, lines of a package, and functions of more than 60 lines. Nothing fails by them.
//
//	go run ./scripts/house [-all]
package main

import (
	"cmp"
	"flag"
	"fmt"
	"go/ast"
	"go/token"
	"go/types"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"

	"golang.org/x/tools/go/packages"
)

// figures are those of one package.
type figures struct {
	path        string
	files       int
	lines       int
	circle      []string // the largest set of files that need one another
	methods     int      // of the type that has most
	methodsOn   string
	long        []string // functions of more than longest lines
	longestFunc int
}

// longest is how many lines a function has at most without a word.
const longest = 60

func main() {
	all := flag.Bool("all", false, "name the files of each circle and the long functions")
	flag.Parse()
	list, err := measure()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	slices.SortFunc(list, func(a, b figures) int {
		return cmp.Or(len(b.circle)-len(a.circle), b.methods-a.methods, strings.Compare(a.path, b.path))
	})
	out := tabwriter.NewWriter(os.Stdout, 0, 0, 2, ' ', 0)
	fmt.Fprintln(out, "package\tfiles\tin a circle\tlines\tmost methods\ton\tlong functions\tlongest")
	for _, f := range list {
		fmt.Fprintf(out, "%s\t%d\t%d\t%d\t%d\t%s\t%d\t%d\n", f.path, f.files, len(f.circle), f.lines, f.methods, f.methodsOn, len(f.long), f.longestFunc)
	}
	out.Flush()
	for _, f := range list {
		if *all && (len(f.circle) > 1 || len(f.long) > 0) {
			fmt.Printf("\n%s\n  %s\n", f.path, strings.Join(slices.Concat(f.circle, f.long), " "))
		}
	}
}

func measure() (list []figures, err error) {
	loaded, err := packages.Load(&packages.Config{Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes | packages.NeedTypesInfo}, "./internal/...", "./cmd/...")
	if err != nil {
		return nil, err
	}
	for _, p := range loaded {
		if len(p.Syntax) == 0 {
			continue
		}
		for _, wrong := range p.Errors {
			return nil, wrong
		}
		list = append(list, of(p))
	}
	return list, nil
}

func of(p *packages.Package) figures {
	f := figures{path: strings.TrimPrefix(p.PkgPath, "imbricat/"), files: len(p.Syntax)}
	needs, methods := map[string][]string{}, map[string]int{}
	name := func(at token.Pos) string { return filepath.Base(p.Fset.Position(at).Filename) }
	for _, file := range p.Syntax {
		own := name(file.Pos())
		f.lines += p.Fset.Position(file.End()).Line
		needs[own] = nil
		ast.Inspect(file, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.FuncDecl:
				f.function(p, n, methods)
			case *ast.Ident:
				if used := p.TypesInfo.Uses[n]; used != nil && used.Pkg() == p.Types && shared(used) && name(used.Pos()) != own {
					needs[own] = append(needs[own], name(used.Pos()))
				}
			}
			return true
		})
	}
	for on, n := range methods {
		if n > f.methods || n == f.methods && on < f.methodsOn {
			f.methods, f.methodsOn = n, on
		}
	}
	f.circle = circle(needs)
	return f
}

func (f *figures) function(p *packages.Package, d *ast.FuncDecl, methods map[string]int) {
	if d.Recv != nil {
		methods[strings.TrimPrefix(types.ExprString(d.Recv.List[0].Type), "*")]++
	}
	lines := p.Fset.Position(d.End()).Line - p.Fset.Position(d.Pos()).Line + 1
	if f.longestFunc = max(f.longestFunc, lines); lines > longest {
		f.long = append(f.long, fmt.Sprintf("%s(%d)", d.Name.Name, lines))
	}
}

// shared reports whether other files of a package can use an object: what stands at its top, methods and fields.
func shared(o types.Object) bool {
	switch o := o.(type) {
	case *types.Var:
		return o.IsField() || o.Parent() == o.Pkg().Scope()
	case *types.Func:
		return true
	}
	return o.Parent() == o.Pkg().Scope()
}

// circle returns the largest set of files each of which needs all others, be it through others.
func circle(needs map[string][]string) (largest []string) {
	reach := map[string]map[string]bool{}
	for file := range needs {
		seen := map[string]bool{}
		for todo := slices.Clone(needs[file]); len(todo) > 0; {
			next := todo[0]
			if todo = todo[1:]; !seen[next] {
				seen[next] = true
				todo = append(todo, needs[next]...)
			}
		}
		reach[file] = seen
	}
	for file := range needs {
		set := []string{file}
		for other := range needs {
			if other != file && reach[file][other] && reach[other][file] {
				set = append(set, other)
			}
		}
		if slices.Sort(set); len(set) > len(largest) || len(set) == len(largest) && set[0] < largest[0] {
			largest = set
		}
	}
	return largest
}
