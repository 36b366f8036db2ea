// Package internal_test holds the rules of docs/architecture.md that a machine can check.
package internal_test

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// allowed says which packages of ours each package may import. It is the picture of docs/architecture.md.
var allowed = map[string]string{
	"digest": "", "platform": "", "ignore": "", "credential": "", "conceal": "", "printable": "", "event": "", "download": "", "say": "", "once": "", "graph": "",
	"reference":            "digest",
	"order":                "",
	"lock":                 "digest order",
	"recipe":               "event platform reference",
	"facts":                "recipe platform",
	"receipt":              "digest reference",
	"check":                "ignore recipe tree",
	"image":                "digest platform",
	"plan":                 "recipe platform reference retention image",
	"tree":                 "digest ignore",
	"tree/treetest":        "digest tree",
	"layer":                "digest tree",
	"layout":               "digest",
	"store":                "digest layer layout",
	"logbook":              "",
	"registry":             "digest credential",
	"transfer":             "digest event image layout platform reference registry store",
	"inspect":              "digest image",
	"standin":              "digest retention",
	"retention":            "digest",
	"trace":                "digest event tree",
	"sandbox":              "digest trace tree",
	"share":                "digest layer layout registry store trace tree",
	"census":               "digest tree",
	"filetree":             "digest layer once tree",
	"baseimage":            "digest filetree image layer once platform reference store tree",
	"account":              "digest filetree plan recipe store tree",
	"sources":              "census digest event layer once plan store tree",
	"step":                 "baseimage digest event filetree layer once plan store trace tree",
	"compose":              "account census digest event filetree ignore layer once plan recipe say sources step store tree",
	"executor":             "account digest filetree plan platform store trace tree",
	"explain":              "digest event filetree step trace tree",
	"command":              "account baseimage conceal digest event executor explain filetree layer plan recipe say step store trace tree",
	"local":                "digest event executor filetree layer once plan platform sandbox say store trace tree",
	"layering":             "digest event filetree layer order plan recipe sources step store trace tree",
	"pack":                 "baseimage digest event layer layering store tree",
	"engine":               "baseimage census command compose digest event executor explain filetree graph image layer layering once order pack plan platform recipe reference say sources step store trace tree",
	"try":                  "account baseimage census check command engine executor filetree local plan platform recipe sandbox store tree",
	"phrase":               "event say",
	"report":               "digest event inspect layer lock phrase receipt store",
	"tui":                  "event report",
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
	files, err := filepath.Glob("*/*.go")
	require.NoError(t, err)
	require.Greater(t, len(files), 40)
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
