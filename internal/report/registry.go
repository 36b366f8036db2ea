package report

import (
	"fmt"
	"io"
)

// Rows writes a table, or one line where it would be empty.
func Rows(w io.Writer, p Paint, empty string, head []string, rows [][]string) error {
	if len(rows) == 0 {
		_, err := fmt.Fprintln(w, empty)
		return err
	}
	for _, row := range rows {
		row[0] = p.Bold(row[0])
	}
	return Table(w, p, head, rows)
}

// WriteRepository writes what to do with a new repository of the stand-in, ready to be pasted.
func WriteRepository(w io.Writer, p Paint, address, name string, created bool) error {
	first := "made the repository " + p.Bold(name)
	if !created {
		first = "the repository " + p.Bold(name) + " exists already"
	}
	_, err := fmt.Fprintf(w, `%s

log in, where a login is needed:
  imbricat login %[2]s --user NAME < secret.txt

in the recipe, under the image:
  publish: {main: {to: %[2]s/%[3]s, tags: ["1.0.0"]}}

build and push:
  imbricat build
  imbricat push

any other image:
  imbricat copy IMAGE %[2]s/%[3]s:1.0.0
`, first, address, name)
	return err
}
