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
	"ground/digest": "", "ground/platform": "", "ground/ignore": "", "remote/credential": "", "ground/conceal": "", "ground/printable": "", "ground/event": "", "remote/download": "", "ground/say": "", "ground/once": "", "engine/graph": "",
	"ground/reference":      "ground/digest",
	"spec/order":            "",
	"spec/lock":             "ground/digest spec/order",
	"spec/recipe":           "ground/event ground/platform ground/reference",
	"spec/facts":            "spec/recipe ground/platform",
	"output/receipt":        "ground/digest ground/reference",
	"engine/check":          "ground/ignore spec/recipe content/tree",
	"content/image":         "ground/digest ground/platform",
	"spec/plan":             "spec/recipe ground/platform ground/reference spec/retention content/image",
	"content/tree":          "ground/digest ground/ignore",
	"content/tree/treetest": "ground/digest content/tree",
	"content/layer":         "ground/digest content/tree",
	"content/layout":        "ground/digest",
	"content/store":         "ground/digest content/layer content/layout",
	"output/logbook":        "",
	"remote/registry":       "ground/digest remote/credential",
	"remote/transfer":       "ground/digest ground/event content/image content/layout ground/platform ground/reference remote/registry content/store",
	"output/inspect":        "ground/digest content/image",
	"standin":               "ground/digest spec/retention",
	"spec/retention":        "ground/digest",
	"content/trace":         "ground/digest ground/event content/tree",
	"engine/sandbox":        "ground/digest content/trace content/tree",
	"remote/share":          "ground/digest content/layer content/layout remote/registry content/store content/trace content/tree",
	"content/census":        "ground/digest content/tree",
	"content/filetree":      "ground/digest content/layer ground/once content/tree",
	"engine/baseimage":      "ground/digest content/filetree content/image content/layer ground/once ground/platform ground/reference content/store content/tree",
	"engine/account":        "ground/digest content/filetree spec/plan spec/recipe content/store content/tree",
	"engine/sources":        "content/census ground/digest ground/event content/layer ground/once spec/plan content/store content/tree",
	"engine/step":           "engine/baseimage ground/digest ground/event content/filetree content/layer ground/once spec/plan content/store content/trace content/tree",
	"engine/compose":        "engine/account content/census ground/digest ground/event content/filetree ground/ignore content/layer ground/once spec/plan spec/recipe ground/say engine/sources engine/step content/store content/tree",
	"engine/executor":       "engine/account ground/digest content/filetree spec/plan ground/platform content/store content/trace content/tree",
	"engine/explain":        "ground/digest ground/event content/filetree engine/step content/trace content/tree",
	"engine/command":        "engine/account engine/baseimage ground/conceal ground/digest ground/event engine/executor engine/explain content/filetree content/layer spec/plan spec/recipe ground/say engine/step content/store content/trace content/tree",
	"engine/local":          "ground/digest ground/event engine/executor content/filetree content/layer ground/once spec/plan ground/platform engine/sandbox ground/say content/store content/trace content/tree",
	"engine/layering":       "ground/digest ground/event content/filetree content/layer spec/order spec/plan spec/recipe engine/sources engine/step content/store content/trace content/tree",
	"engine/pack":           "engine/baseimage ground/digest ground/event content/layer engine/layering content/store content/tree",
	"engine":                "engine/baseimage content/census engine/command engine/compose ground/digest ground/event engine/executor engine/explain content/filetree engine/graph content/image content/layer engine/layering ground/once spec/order engine/pack spec/plan ground/platform spec/recipe ground/reference ground/say engine/sources engine/step content/store content/trace content/tree",
	"flow/try":              "engine/account engine/baseimage content/census engine/check engine/command engine engine/executor content/filetree engine/local spec/plan ground/platform spec/recipe engine/sandbox content/store content/tree",
	"output/phrase":         "ground/event ground/say",
	"output/report":         "ground/digest ground/event output/inspect content/layer spec/lock output/phrase output/receipt content/store",
	"output/tui":            "ground/event output/report",
	"cli":                   "*",
	"../demo":               "",
	"../scripts/histories":  "spec/order",
	"../scripts/attack":     "",
	"../scripts/mutants":    "",
	"../cmd/imbricat":       "cli engine/sandbox",
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
