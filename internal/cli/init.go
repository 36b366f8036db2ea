package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/drafting"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/draft"
)

func initCommand() *cli.Command {
	return &cli.Command{
		Name: "init", Usage: "looks at a project and drafts a recipe for it",
		Description: "Recognises programs in Go, Rust, Java, .NET, Node, Python, Ruby and PHP, front ends, sites of files, and\n" +
			"programs that were built elsewhere, several in one repository too; tells what tells it; and writes a recipe with\n" +
			"comments. What it cannot know stays a fact whose error says what is to be written there.\n\n" +
			"Example: imbricat init --base go=registry.tideline.example/base/go:1 --to registry.tideline.example/tides",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "base", Usage: "`NAME=REFERENCE` of a base that the draft needs, such as go, node or run; may be given again"},
			&cli.StringFlag{Name: "to", Usage: "`HOST/REPOSITORY` that images are published to; each has its name below"},
			&cli.BoolFlag{Name: "replace", Usage: "write over a recipe that is there"},
			&cli.BoolFlag{Name: "print", Usage: "print the recipe, and write nothing"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runInit(newSession(c)) },
	}
}

func runInit(s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	o := draft.Options{Bases: map[string]string{}, To: strings.TrimSuffix(s.cmd.String("to"), "/")}
	if o.To != "" {
		if _, err := reference.ParseRepository(o.To); err != nil {
			return flow.Usagef("--to: %w", err)
		}
	}
	for _, pair := range s.cmd.StringSlice("base") {
		name, ref, given := strings.Cut(pair, "=")
		if !given {
			return flow.Usagef("--base takes NAME=REFERENCE, not %q", pair)
		}
		if _, err := reference.Parse(ref); err != nil {
			return flow.Usagef("--base %s: %w", name, err)
		}
		o.Bases[name] = ref
	}
	p := s.itself()
	d, err := drafting.Of(p, o)
	if err != nil {
		return err
	}
	if s.cmd.Bool("print") {
		return s.print(d.Text)
	}
	if err := drafting.Write(p, d, s.cmd.Bool("replace")); err != nil {
		return err
	}
	document := &report.Drafted{File: p.RecipePath(), Findings: []report.Found{}, Bases: []report.WantedBase{}}
	for _, f := range d.Findings {
		document.Findings = append(document.Findings, report.Found{Folder: f.Dir, What: f.What, Why: f.Why})
	}
	for _, b := range d.Bases {
		document.Bases = append(document.Bases, report.WantedBase{Name: b.Name, Fact: b.Fact, What: b.What, Reference: b.Reference})
	}
	return s.result(document, func() string { return report.DraftedText(s.paint, document) })
}

// drafted is what --drafted builds from: a draft that is written nowhere. A recipe that is there would be passed over.
func (s *session) drafted() ([]byte, error) {
	if !s.cmd.Bool("drafted") {
		return nil, nil
	}
	p := s.itself()
	if _, err := os.Lstat(p.RecipePath()); err == nil {
		return nil, flow.Usagef("%s is there already: leave --drafted out", p.RecipePath())
	}
	d, err := drafting.Of(p, draft.Options{})
	if err != nil {
		return nil, err
	}
	for _, f := range d.Findings {
		fmt.Fprintln(s.err, "found "+f.String())
	}
	return []byte(d.Text), nil
}

func draftedFlag() cli.Flag {
	return &cli.BoolFlag{Name: "drafted", Usage: "of a project without a recipe: what imbricat init drafts, which is written nowhere; bases are given by --fact"}
}
