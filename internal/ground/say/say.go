// Package say puts counts and lists into words, for messages.
package say

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize"
)

// Count counts something: "1 file", "1,204 files".
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return humanize.Comma(int64(n)) + " " + noun + "s"
}

// Some names the first of a list.
func Some(names []string) string {
	const most = 3
	if len(names) <= most {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
}

// Words returns a program with its arguments as a shell would take them.
func Words(args []string) string {
	words := make([]string, len(args))
	for i, arg := range args {
		if words[i] = arg; arg == "" || strings.ContainsAny(arg, " \t\n\"'$`\\*?[]{}()<>|&;#~") {
			words[i] = "'" + strings.ReplaceAll(arg, "'", `'\''`) + "'"
		}
	}
	return strings.Join(words, " ")
}
