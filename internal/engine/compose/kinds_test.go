package compose

import (
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryKindIsKnown: each kind of step that recipes may have is one of plans, is expanded, and is laid down or run.
func TestEveryKindIsKnown(t *testing.T) {
	read := func(name string) *ast.File {
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		return file
	}
	// cases gives the types of one package that a type switch of a file has cases for.
	cases := func(name, of string) (kinds []string) {
		ast.Inspect(read(name), func(n ast.Node) bool {
			if c, is := n.(*ast.CaseClause); is {
				for _, one := range c.List {
					if star, is := one.(*ast.StarExpr); is {
						one = star.X
					}
					if s, is := one.(*ast.SelectorExpr); is && s.X.(*ast.Ident).Name == of {
						kinds = append(kinds, s.Sel.Name)
					}
				}
			}
			return true
		})
		return kinds
	}
	// kinds gives the types of a file that tell what they name, by themselves or by what they embed for want of anything.
	kinds := func(name, embedded string) (all []string) {
		ast.Inspect(read(name), func(n ast.Node) bool {
			if s, is := n.(*ast.TypeSpec); is {
				if body, is := s.Type.(*ast.StructType); is && len(body.Fields.List) > 0 {
					if first, is := body.Fields.List[0].Type.(*ast.Ident); is && first.Name == embedded {
						all = append(all, s.Name.Name)
					}
				}
			}
			if f, is := n.(*ast.FuncDecl); is && f.Name.Name == "Units" && f.Recv != nil {
				if star, is := f.Recv.List[0].Type.(*ast.StarExpr); is {
					all = append(all, star.X.(*ast.Ident).Name)
				}
			}
			return true
		})
		return all
	}
	recipes := slices.Concat(kinds("../../spec/recipe/steps.go", "noUnits"), kinds("../../spec/recipe/run.go", "noUnits"))
	plans := kinds("../../spec/plan/actions.go", "nothing")
	require.Greater(t, len(recipes), 7)
	require.ElementsMatch(t, recipes, plans, "kinds of plan/actions.go")
	require.ElementsMatch(t, recipes, cases("../../spec/plan/actions.go", "recipe"), "what evaluator.step expands")
	require.ElementsMatch(t, slices.DeleteFunc(recipes, func(kind string) bool { return kind == "Run" }), cases("kinds.go", "plan"), "what Of gives")
}
