package recipe

import (
	"errors"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm/runtime"
)

// A short recipe must not make long texts: nine facts, each the one before ten times, would take gigabytes.
const (
	maxValue     = 64 << 10  // bytes of what one expression takes or gives
	maxComputed  = 1 << 20   // bytes that expressions give to one text
	maxMade      = 256 << 20 // bytes that they give to all texts of a recipe, for one platform
	mostElements = 2000      // of lists that one expression makes
	mostNodes    = 1000      // operators, names and values of one expression
)

var errLong = fmt.Errorf("a text of more than %s", humanize.IBytes(maxValue))

// sum is + with a bound on texts.
func sum(params ...any) (any, error) {
	a, isText := params[0].(string)
	b, both := params[1].(string)
	if isText && both {
		if len(a)+len(b) > maxValue {
			return nil, errLong
		}
		return a + b, nil
	}
	return runtime.Add(params[0], params[1]), nil
}

// sumName is how expressions call it; no name that a person writes has a blank.
const sumName = "sum of"

// boundedSums has + go through sum.
type boundedSums struct{}

// Visit implements ast.Visitor.
func (boundedSums) Visit(node *ast.Node) {
	if b, is := (*node).(*ast.BinaryNode); is && b.Operator == "+" {
		ast.Patch(node, &ast.CallNode{Callee: &ast.IdentifierNode{Value: sumName}, Arguments: []ast.Node{b.Left, b.Right}})
	}
}

// boundedFunctions stand for those of the same names that could make texts of any length.
var boundedFunctions = []expr.Option{
	expr.DisableBuiltin("repeat"), expr.DisableBuiltin("join"), expr.DisableBuiltin("replace"),
	expr.Function(sumName, sum, new(func(any, any) any)),
	expr.Function("repeat", func(params ...any) (any, error) {
		text, times := params[0].(string), params[1].(int)
		if times < 0 || len(text) > 0 && times > maxValue/len(text) {
			return nil, errLong
		}
		return strings.Repeat(text, times), nil
	}, new(func(string, int) string)),
	expr.Function("replace", func(params ...any) (any, error) {
		text, old, by, most := params[0].(string), params[1].(string), params[2].(string), -1
		if len(params) > 3 {
			most = params[3].(int)
		}
		if len(text)+(strings.Count(text, old)+1)*len(by) > maxValue {
			return nil, errLong
		}
		return strings.Replace(text, old, by, most), nil
	}, new(func(string, string, string) string), new(func(string, string, string, int) string)),
	expr.Function("join", func(params ...any) (any, error) {
		between := ""
		if len(params) > 1 {
			between = params[1].(string)
		}
		var all []string
		size := 0
		add := func(one any) error {
			text, is := one.(string)
			if !is {
				return errors.New("join takes a list of texts")
			}
			if size += len(text) + len(between); size > maxValue {
				return errLong
			}
			all = append(all, text)
			return nil
		}
		switch list := params[0].(type) {
		case []string:
			for _, one := range list {
				if err := add(one); err != nil {
					return nil, err
				}
			}
		case []any:
			for _, one := range list {
				if err := add(one); err != nil {
					return nil, err
				}
			}
		default:
			return nil, errors.New("join takes a list of texts")
		}
		return strings.Join(all, between), nil
	}, new(func([]any) string), new(func([]string) string), new(func([]any, string) string), new(func([]string, string) string)),
}
