// Package internal_test holds the rules of docs/architecture.md that a machine can check.
package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// allowed says which packages of ours each package may import. It is the picture of docs/architecture.md.
var allowed = map[string]string{
	"ground/digest": "", "ground/platform": "", "ground/ignore": "", "credential": "", "ground/conceal": "", "ground/printable": "", "ground/event": "", "download": "", "ground/say": "", "ground/once": "", "graph": "",
	"ground/reference":     "ground/digest",
	"order":                "",
	"lock":                 "ground/digest order",
	"recipe":               "ground/event ground/platform ground/reference",
	"facts":                "recipe ground/platform",
	"receipt":              "ground/digest ground/reference",
	"check":                "ground/ignore recipe tree",
	"image":                "ground/digest ground/platform",
	"plan":                 "recipe ground/platform ground/reference retention image",
	"tree":                 "ground/digest ground/ignore",
	"tree/treetest":        "ground/digest tree",
	"layer":                "ground/digest tree",
	"layout":               "ground/digest",
	"store":                "ground/digest layer layout",
	"logbook":              "",
	"registry":             "ground/digest credential",
	"transfer":             "ground/digest ground/event image layout ground/platform ground/reference registry store",
	"inspect":              "ground/digest image",
	"standin":              "ground/digest retention",
	"retention":            "ground/digest",
	"trace":                "ground/digest ground/event tree",
	"sandbox":              "ground/digest trace tree",
	"share":                "ground/digest layer layout registry store trace tree",
	"census":               "ground/digest tree",
	"filetree":             "ground/digest layer ground/once tree",
	"baseimage":            "ground/digest filetree image layer ground/once ground/platform ground/reference store tree",
	"account":              "ground/digest filetree plan recipe store tree",
	"sources":              "census ground/digest ground/event layer ground/once plan store tree",
	"step":                 "baseimage ground/digest ground/event filetree layer ground/once plan store trace tree",
	"compose":              "account census ground/digest ground/event filetree ground/ignore layer ground/once plan recipe ground/say sources step store tree",
	"executor":             "account ground/digest filetree plan ground/platform store trace tree",
	"explain":              "ground/digest ground/event filetree step trace tree",
	"command":              "account baseimage ground/conceal ground/digest ground/event executor explain filetree layer plan recipe ground/say step store trace tree",
	"local":                "ground/digest ground/event executor filetree layer ground/once plan ground/platform sandbox ground/say store trace tree",
	"layering":             "ground/digest ground/event filetree layer order plan recipe sources step store trace tree",
	"pack":                 "baseimage ground/digest ground/event layer layering store tree",
	"engine":               "baseimage census command compose ground/digest ground/event executor explain filetree graph image layer layering ground/once order pack plan ground/platform recipe ground/reference ground/say sources step store trace tree",
	"try":                  "account baseimage census check command engine executor filetree local plan ground/platform recipe sandbox store tree",
	"phrase":               "ground/event ground/say",
	"report":               "ground/digest ground/event inspect layer lock phrase receipt store",
	"tui":                  "ground/event report",
	"cli":                  "*",
	"../demo":              "",
	"../scripts/histories": "order",
	"../scripts/attack":    "",
	"../scripts/mutants":   "",
	"../cmd/imbricat":      "cli sandbox",
}

func TestImports(t *testing.T) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Doc", "imbricat/...").Output()
	require.NoError(t, err)
	seen := 0
	for decoder := json.NewDecoder(strings.NewReader(string(out))); decoder.More(); {
		var p struct {
			ImportPath, Doc string
			Imports         []string
		}
		require.NoError(t, decoder.Decode(&p))
		if p.ImportPath == "imbricat/e2e" || p.ImportPath == "imbricat/internal" {
			continue // tests alone
		}
		seen++
		name, inside := strings.CutPrefix(p.ImportPath, "imbricat/internal/")
		if !inside {
			name = "../" + strings.TrimPrefix(p.ImportPath, "imbricat/")
		}
		may, known := allowed[name]
		require.True(t, known, "%s is new: say in the table and in docs/architecture.md what it may import", p.ImportPath)
		require.Greater(t, len(p.Doc), 40, "%s needs a comment that says what it is for", p.ImportPath)
		for _, imported := range p.Imports {
			ours, is := strings.CutPrefix(imported, "imbricat/")
			if is && may != "*" {
				require.Contains(t, strings.Fields(may), strings.TrimPrefix(ours, "internal/"), "%s imports %s", p.ImportPath, imported)
			}
		}
	}
	require.Equal(t, len(allowed), seen, "the table names a package that is gone")
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
