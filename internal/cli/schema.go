package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"imbricat/internal/recipe"
)

func schemaCommand() *cli.Command {
	return &cli.Command{
		Name: "schema", Usage: "prints the JSON Schema of the recipe, for editors",
		Description: "The draft is 2020-12. Many editors read it where the recipe's first line says so:\n" +
			"# yaml-language-server: $schema=./recipe.schema.json\n\nExample: imbricat schema > recipe.schema.json",
		Action: func(_ context.Context, c *cli.Command) error {
			s := newSession(c)
			if _, err := s.args(0, 0, "no arguments"); err != nil {
				return err
			}
			_, err := s.out.Write(recipe.Schema)
			return err
		},
	}
}
