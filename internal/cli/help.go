package cli

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"
)

// helpWidth is how wide help is, in letters, on any terminal: it is read in documents and logs too.
const helpWidth = 80

// groups are what commands are for, in the order in which people come to need them.
var groups = []struct {
	name     string
	commands []string
}{
	{"To start", []string{"init", "demo", "doctor", "schema", "completion"}},
	{"To build", []string{"plan", "affected", "build", "watch", "take", "try", "why", "logbook", "lock", "weigh", "compare"}},
	{"To publish", []string{"ship", "push", "join", "tags", "verify", "login", "logout"}},
	{"Images and the store", []string{"show", "pull", "copy", "store"}},
	{"Without a registry", []string{"standin"}},
}

// printHelp writes the help of a command. Options that all commands have are told by the first of them alone.
func printHelp(w io.Writer, _ string, data any) {
	c, is := data.(*cli.Command)
	if !is {
		return
	}
	h := &help{}
	h.text(c.FullName()+": "+c.Usage, "", "  ")
	h.line("")
	for n, line := range strings.Split(usageOf(c), "\n") {
		h.text(line, [...]string{"Usage: ", "       "}[min(n, 1)], "         ")
	}
	if c.Description != "" {
		h.line("")
		h.paragraphs(c.Description)
	}
	h.commands(c)
	h.options(c)
	_, _ = io.WriteString(w, h.out.String())
}

func usageOf(c *cli.Command) string {
	if c.UsageText != "" {
		return c.UsageText
	}
	text := c.FullName()
	if len(c.VisibleCommands()) > 0 && c.ArgsUsage == "" {
		return text + " COMMAND [OPTION…]"
	}
	if len(c.VisibleFlags()) > 0 {
		text += " [OPTION…]"
	}
	return strings.TrimSpace(text + " " + c.ArgsUsage)
}

// help is a text on its way.
type help struct{ out strings.Builder }

func (h *help) line(text string) { h.out.WriteString(strings.TrimRight(text, " ") + "\n") }

// text writes words that break at the width; later lines begin with another indentation than the first.
func (h *help) text(text, first, later string) {
	width := helpWidth - max(len([]rune(first)), len(later))
	const dash = "\u2011" // at which nothing breaks: options begin with dashes
	wrapped := strings.ReplaceAll(ansi.Wordwrap(strings.ReplaceAll(text, "-", dash), width, ""), dash, "-")
	for n, line := range strings.Split(wrapped, "\n") {
		h.line([...]string{first, later}[min(n, 1)] + line)
	}
}

// paragraphs writes a description, whose own line ends inside of paragraphs do not count, but those of lines that are set in.
func (h *help) paragraphs(text string) {
	for n, paragraph := range strings.Split(strings.TrimSpace(text), "\n\n") {
		if n > 0 {
			h.line("")
		}
		var words []string
		flush := func() {
			if len(words) > 0 {
				h.text(strings.Join(words, " "), "", "")
				words = nil
			}
		}
		for line := range strings.Lines(paragraph) {
			if line = strings.TrimRight(line, "\n"); strings.HasPrefix(line, " ") {
				flush()
				h.line(line)
				continue
			}
			words = append(words, line)
		}
		flush()
	}
}

// commands lists the commands below one, those of the program by what they are for.
func (h *help) commands(c *cli.Command) {
	below := c.VisibleCommands()
	if len(below) == 0 {
		return
	}
	width := 0
	for _, one := range below {
		width = max(width, len(one.Name))
	}
	list := func(title string, wanted func(name string) bool) {
		h.line("")
		h.line(title + ":")
		for _, one := range below {
			if wanted(one.Name) {
				h.text(one.Usage, fmt.Sprintf("  %-*s  ", width, one.Name), strings.Repeat(" ", width+4))
			}
		}
	}
	if c.Root() != c {
		list("Commands", func(string) bool { return true })
		return
	}
	for _, g := range groups {
		list(g.name, func(name string) bool { return slices.Contains(g.commands, name) })
	}
}

// placeholder is the name of an option's value in its usage.
var placeholder = regexp.MustCompile("`([^`]*)`")

// options lists a command's own options; those of the program are told by the program's help.
func (h *help) options(c *cli.Command) {
	flags := slices.DeleteFunc(slices.Clone(c.VisibleFlags()), func(f cli.Flag) bool { return f.Names()[0] == "help" && c.Root() != c })
	if len(flags) > 0 {
		h.line("")
		h.line("Options:")
	}
	for _, f := range flags {
		h.option(f)
	}
	if c.Root() != c {
		h.line("")
		h.text("All commands take the options of imbricat, such as --dir FOLDER, --recipe FILE, --store FOLDER and --format json: imbricat --help", "", "")
	}
}

func (h *help) option(f cli.Flag) {
	doc, is := f.(cli.DocGenerationFlag)
	if !is {
		return
	}
	text := doc.GetUsage()
	var names []string
	for _, name := range f.Names() {
		names = append(names, strings.Repeat("-", min(len(name), 2))+name)
	}
	head := "  " + strings.Join(names, ", ")
	if m := placeholder.FindStringSubmatch(text); m != nil {
		head, text = head+" "+m[1], strings.Replace(text, m[0], m[1], 1)
	}
	value := doc.GetDefaultText()
	if value == "" && doc.TakesValue() && doc.IsDefaultVisible() {
		value = doc.GetValue()
	}
	if value = strings.Trim(value, `"`); !slices.Contains([]string{"", "0", "0s", "[]"}, value) && !strings.Contains(text, "(default") {
		text += " (default: " + value + ")"
	}
	for _, name := range doc.GetEnvVars() {
		text += " [$" + name + "]"
	}
	const column = 22
	if len([]rune(head)) >= column-1 {
		h.line(head)
		h.text(text, strings.Repeat(" ", column), strings.Repeat(" ", column))
		return
	}
	h.text(text, fmt.Sprintf("%-*s", column, head), strings.Repeat(" ", column))
}
