package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

// schemas are those of documents, by what prints them.
var schemas = map[string][]byte{"receipt": receipt.Schema, "weigh": report.WeighSchema, "compare": report.CompareSchema}

func schemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "prints the JSON Schema of the recipe, for editors, or of what a command prints", ArgsUsage: "[receipt|weigh|compare]",
		Description: "The draft is 2020-12. Many editors read it where the recipe's first line says so:\n" +
			"# yaml-language-server: $schema=./recipe.schema.json\n\nExample: imbricat schema > recipe.schema.json",
		Action: func(_ context.Context, c *cli.Command) error {
			s := newSession(c)
			args, err := s.args(0, 1, "no arguments, or receipt, weigh or compare")
			if err != nil {
				return err
			}
			text := recipe.Schema
			if len(args) > 0 {
				var known bool
				if text, known = schemas[args[0]]; !known {
					return flow.Usagef("schema takes no arguments, or receipt, weigh or compare, not %q", args[0])
				}
			}
			_, err = s.out.Write(text)
			return err
		},
	}
}
