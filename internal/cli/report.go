package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/page"
	"imbricat/internal/output/report"
)

func reportCommand() *cli.Command {
	return &cli.Command{
		Name: "report", Usage: "writes a page about an image, what changed between two, or a build, for a browser", ArgsUsage: "[REFERENCE [REFERENCE]]",
		Description: "The page is one file without a script, that fetches nothing. Of an image it has its layers, folders, packages, settings and\n" +
			"platforms, and what could go; of two how the second differs from the first; of a build when each step ran, why, what it printed, and the builds before it.\n" +
			"Without a reference it is about the last build of the recipe, or the one that --build names.\n\nExample: imbricat report gauge --to gauge.html",
		Flags:  []cli.Flag{platformFlag(), &cli.StringFlag{Name: "to", Value: "report.html", Usage: "`FILE` to write"}, &cli.BoolFlag{Name: "tags", Usage: "also how large the other images of its repository are, which asks for each of them"}, &cli.StringFlag{Name: "build", Usage: "`NUMBER` of a build in the logbook"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runReport(ctx, newSession(c)) },
	}
}

func runReport(ctx context.Context, s *session) error {
	args, err := s.args(0, 2, "one reference or two, or nothing for a build")
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	about := page.About{Program: "imbricat " + version(), Made: time.Now()}
	var text []byte
	switch {
	case len(args) > 0 && s.cmd.IsSet("build"):
		return flow.Usagef("report takes a reference or --build, not both")
	case len(args) == 2:
		text, err = s.reportCompared(ctx, st, about, args)
	case len(args) == 1:
		text, err = s.reportImage(ctx, st, about, args[0])
	default:
		text, err = s.reportBuild(st, about)
	}
	if err != nil {
		return err
	}
	to := s.cmd.String("to")
	if err := files.Replace(to, text, 0o644); err != nil {
		return err
	}
	return s.result(&report.Page{File: to, Bytes: len(text)}, func() string {
		return fmt.Sprintf("wrote %s (%s): open it in a browser\n", to, report.Size(int64(len(text))))
	})
}

// reportImage makes the page of an image.
func (s *session) reportImage(ctx context.Context, st *store.Store, about page.About, arg string) ([]byte, error) {
	wanted, err := s.onePlatform()
	if err != nil {
		return nil, err
	}
	source, done, err := s.weighSource(ctx, st, arg)
	if err != nil {
		return nil, err
	}
	defer done()
	i, err := source.Open(ctx, wanted)
	if err != nil {
		return nil, err
	}
	weighed, err := i.Weigh(ctx)
	if err != nil {
		return nil, err
	}
	if base, done := s.baseOf(ctx, st, weighed, source.Elsewhere); base != nil {
		defer done()
		base.Name = weighed.BaseName
		weighed.Base, _ = i.Against(ctx, weighed, base) // without it there is less to tell
	}
	shown, err := inspect.Describe(ctx, source.From, arg, source.Root, nil)
	if err != nil {
		return nil, err
	}
	var tags []report.Tag
	if s.cmd.Bool("tags") {
		ref, err := reference.Parse(arg)
		if err != nil || ref.Kind != reference.Registry {
			return nil, flow.Usagef("--tags is for an image of a registry")
		}
		_, _, document, err := s.tagsDocument(ctx, ref.Host+"/"+ref.Repository)
		if err != nil {
			return nil, err
		}
		tags = document.Tags
	}
	return page.Image(about, weighed, shown, tags)
}

// reportCompared makes the page of how two images differ.
func (s *session) reportCompared(ctx context.Context, st *store.Store, about page.About, args []string) ([]byte, error) {
	wanted, err := s.onePlatform()
	if err != nil {
		return nil, err
	}
	compared, err := s.compare(ctx, st, args[0], args[1], wanted)
	if err != nil {
		return nil, err
	}
	return page.Compared(about, compared)
}

// mostPast is how many builds before one its page has.
const mostPast = 30

// reportBuild makes the page of a build.
func (s *session) reportBuild(st *store.Store, about page.About) ([]byte, error) {
	book, err := s.openLogbook(st)
	if err != nil {
		return nil, err
	}
	document, steps, err := s.pastDocument(book, s.cmd.String("build"))
	if err != nil {
		return nil, err
	}
	builds, err := book.List(document.Project, int(document.Number))
	if err != nil {
		return nil, err
	}
	var past []report.PastBuild
	for _, b := range builds {
		if b.Number <= document.Number && len(past) < mostPast {
			past = append(past, pastBuild(b))
		}
	}
	slices.Reverse(past)
	return page.Build(about, page.BuildOf{Build: document, Past: past, Log: func(step int) string {
		log, _ := st.Log(digest.Key(steps[step].Log))
		return string(log)
	}})
}
