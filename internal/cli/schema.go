package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/output/receipt"
	"imbricat/internal/spec/recipe"
)

func schemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "prints the JSON Schema of the recipe, for editors, or of receipts", ArgsUsage: "[receipt]",
		Description: "The draft is 2020-12. Many editors read it where the recipe's first line says so:\n" +
			"# yaml-language-server: $schema=./recipe.schema.json\n\nExample: imbricat schema > recipe.schema.json",
		Action: func(_ context.Context, c *cli.Command) error {
			s := newSession(c)
			args, err := s.args(0, 1, "no arguments, or the word receipt")
			if err != nil {
				return err
			}
			text := recipe.Schema
			if len(args) > 0 {
				if args[0] != "receipt" {
					return flow.Usagef("schema takes no arguments, or the word receipt, not %q", args[0])
				}
				text = receipt.Schema
			}
			_, err = s.out.Write(text)
			return err
		},
	}
}
