// Package internal_test holds the rules of docs/architecture.md that a machine can check.
package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"maps"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// floors are the folders below this one, lowest first. A package imports packages of the floors below, and of its own; that there
// is no circle the compiler sees to.
var floors = []string{"ground", "content", "spec", "remote", "engine", "output", "flow", "cli"}

// apart are floors that know nothing of each other though one stands on the other: what makes images never moves any.
var apart = [][2]string{{"engine", "remote"}, {"standin", "remote"}}

// beside is what stands outside of the floors, and which floors it may import.
var beside = map[string]string{
	"standin": "ground spec", "demo": "", "cmd/imbricat": "cli engine", "scripts/histories": "engine", "scripts/attack": "", "scripts/messages": "", "scripts/mutants": "", "scripts/house": "", "scripts/speed": "",
}

// floorOf returns the floor of a package, or what it is beside them.
func floorOf(path string) (name string, level int) {
	path = strings.TrimPrefix(path, "imbricat/")
	inside, is := strings.CutPrefix(path, "internal/")
	if !is {
		return path, -1
	}
	name, _, _ = strings.Cut(inside, "/")
	return name, slices.Index(floors, name)
}

// TestImports: packages import downward alone, their tests too; each says what it is for.
func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,TestImports,XTestImports,Doc", "imbricat/...").Output()
	require.NoError(t, err)
	seen := map[string]bool{}
	for decoder := json.NewDecoder(strings.NewReader(string(out))); decoder.More(); {
		var p struct {
			ImportPath, Doc                    string
			Imports, TestImports, XTestImports []string
		}
		require.NoError(t, decoder.Decode(&p))
		if p.ImportPath == "imbricat/e2e" || p.ImportPath == "imbricat/internal" {
			continue // tests alone
		}
		require.Greater(t, len(p.Doc), 40, "%s needs a comment that says what it is for", p.ImportPath)
		floor, level := floorOf(p.ImportPath)
		seen[floor] = true
		may, outside := beside[floor]
		require.True(t, outside || level >= 0, "%s stands on no floor", p.ImportPath)
		for _, imported := range slices.Concat(p.Imports, p.TestImports, p.XTestImports) {
			if !strings.HasPrefix(imported, "imbricat/") {
				continue
			}
			other, below := floorOf(imported)
			test := !slices.Contains(p.Imports, imported)
			switch {
			case other == floor, floor == "cli":
			case outside:
				require.Contains(t, strings.Fields(may), other, "%s imports %s", p.ImportPath, imported)
			case other == "standin" && ((floor == "remote" || floor == "flow") && test || p.ImportPath == "imbricat/internal/flow/flowtest"): // what they are tried against
			default:
				require.True(t, below >= 0 && below < level, "%s imports %s, which is not below it", p.ImportPath, imported)
				require.NotContains(t, apart, [2]string{floor, other}, "%s imports %s", p.ImportPath, imported)
			}
		}
	}
	for _, name := range slices.Concat(floors, slices.Collect(maps.Keys(beside))) {
		require.True(t, seen[name], "%s is gone", name)
	}
}

// TestOnlyTheCommandLineTouchesTheProcess: no other package prints, exits or reads the command line.
func TestOnlyTheCommandLineTouchesTheProcess(t *testing.T) {
	forbidden := map[string][]string{"os": {"Args", "Stdout", "Stderr", "Stdin", "Exit"}, "fmt": {"Print", "Printf", "Println"}, "log": nil}
	var files []string
	require.NoError(t, filepath.WalkDir(".", func(name string, _ fs.DirEntry, err error) error {
		if strings.HasSuffix(name, ".go") && strings.Contains(name, "/") {
			files = append(files, name)
		}
		return err
	}))
	require.Greater(t, len(files), 150)
	for _, name := range files {
		if strings.HasPrefix(name, "cli/") || strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			s, ok := n.(*ast.SelectorExpr)
			if !ok {
				return true
			}
			if pkg, ok := s.X.(*ast.Ident); ok && pkg.Obj == nil {
				words, watched := forbidden[pkg.Name]
				if watched && (words == nil || slices.Contains(words, s.Sel.Name)) {
					t.Errorf("%s uses %s.%s", name, pkg.Name, s.Sel.Name)
				}
			}
			return true
		})
	}
}
