package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"runtime/debug"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/affected"
	"imbricat/internal/flow/settings"
	"imbricat/internal/flow/tags"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/redact"
	"imbricat/internal/output/report"
	"imbricat/internal/output/tui"
	"imbricat/internal/remote/registry"
	"imbricat/internal/spec/recipe"
)

// version is what the build recorded, for --version and for registries.
func version() string {
	if info, ok := debug.ReadBuildInfo(); ok && info.Main.Version != "" && info.Main.Version != "(devel)" {
		return info.Main.Version
	}
	return "0.1.0-dev"
}

func env(name string) cli.ValueSourceChain { return cli.EnvVars("IMBRICAT_" + name) }

// commonFlags hold for every command.
func commonFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "dir", Value: ".", Usage: "project `FOLDER`", Sources: env("DIR")},
		&cli.StringFlag{Name: "recipe", Value: recipe.DefaultName, Usage: "recipe `FILE`, relative to the project folder", Sources: env("RECIPE")},
		&cli.StringFlag{Name: "store", Usage: "`FOLDER` of the local store (default: imbricat in the user's data folder)", Sources: env("STORE")},
		choiceFlag("format", "text", "`FORM` of the result: text or json", "FORMAT", "text", "json"),
		choiceFlag("view", "auto", "`KIND` of the progress: auto, live, lines or none", "VIEW", "auto", "live", "lines", "none"),
		choiceFlag("color", "auto", "`WHEN` to use colour: auto, always or never", "COLOR", "auto", "always", "never"),
		&cli.BoolFlag{Name: "whole", Usage: "write digests out whole in tables, as --format json does", Sources: env("WHOLE")},
		choiceFlag("log-level", "warn", "`LEVEL` of the diagnostic log on standard error: debug, info, warn or error", "LOG_LEVEL", "debug", "info", "warn", "error"),
	}
}

func choiceFlag(name, value, usage, variable string, words ...string) cli.Flag {
	return &cli.StringFlag{Name: name, Value: value, Usage: usage, Sources: env(variable), Validator: func(text string) error {
		for _, word := range words {
			if text == word {
				return nil
			}
		}
		return fmt.Errorf("--%s cannot be %q: %s", name, text, strings.TrimPrefix(strings.Join(words, ", "), ", "))
	}}
}

// session is what a command works with.
type session struct {
	cmd      *cli.Command
	in       io.Reader
	out, err io.Writer
	paint    report.Paint // of standard output
	errPaint report.Paint

	mutex    sync.Mutex
	registry *registry.Client // made when it is first needed
	store    *store.Store     // that is open; nil: none
	events   *eventFile       // nil: none is wanted
	secrets  redact.Redactor  // over what the environment holds of secrets
	around   *around          // nil: it was not looked yet
	seenTags tags.Seen        // what tags stood on, for their history
	touched  *affected.Result // by --affected-since; nil: it was not looked yet
	calm     bool             // progress leaves nothing behind unless that is asked for
}

func newSession(c *cli.Command) *session {
	root := c.Root()
	s := &session{cmd: c, in: root.Reader, out: root.Writer, err: root.ErrWriter}
	s.paint = report.Paint{On: s.colour(s.out), Whole: c.Bool("whole"), Columns: columns(s.out)}
	s.errPaint = report.Paint{On: s.colour(s.err), Columns: columns(s.err)}
	// Whatever a text holds that came from outside, it does not reach the terminal but as letters.
	s.out, s.err = printable.Writer(s.out, s.paint.On), printable.Writer(s.err, s.errPaint.On)
	root.Metadata[lastSession] = s
	s.secrets.Add([]byte(os.Getenv(settings.SecretVariable)))
	s.secrets.Add([]byte(os.Getenv(settings.TokenVariable)))
	var level slog.Level
	if level.UnmarshalText([]byte(c.String("log-level"))) == nil {
		slog.SetDefault(slog.New(slog.NewTextHandler(s.err, &slog.HandlerOptions{Level: level})))
	}
	return s
}

// results is where results go. It remembers that one could not be written: whoever prints line by line need not ask each time.
type results struct {
	to    io.Writer
	mutex sync.Mutex
	err   error
}

func (r *results) Write(p []byte) (int, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	n, err := r.to.Write(p)
	if r.err == nil {
		r.err = err
	}
	return n, err
}

// fileOf returns the file that a writer of the program is, where it is one.
func fileOf(w io.Writer) (*os.File, bool) {
	w = printable.Unwrap(w)
	if r, is := w.(*results); is {
		w = r.to
	}
	f, is := w.(*os.File)
	return f, is
}

func isTerminal(w io.Writer) bool {
	f, ok := fileOf(w)
	return ok && term.IsTerminal(int(f.Fd()))
}

// columns is how wide a terminal is; 0 of what is none.
func columns(w io.Writer) int {
	f, is := fileOf(w)
	if !is {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		return 0
	}
	return width
}

func (s *session) colour(w io.Writer) bool {
	switch s.cmd.String("color") {
	case "always":
		return true
	case "never":
		return false
	}
	return isTerminal(w) && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
}

func (s *session) json() bool { return s.cmd.String("format") == "json" }

// result writes a document as JSON, or as text by the given function.
func (s *session) result(document any, text func() string) error {
	if s.json() {
		return unwritten(report.JSON(s.out, document))
	}
	return s.print(text())
}

// unwritten is the error of a result that could not be written; nil for none.
func unwritten(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("the result could not be written: %w", err)
}

// print writes text of the program's own as a result.
func (s *session) print(text string) error {
	_, err := io.WriteString(s.out, s.paint.Fit(text))
	return unwritten(err)
}

// view opens the progress view; the caller closes it before writing the result.
func (s *session) view(ctx context.Context) tui.View {
	v := s.plainView(ctx)
	file, err := s.openEvents()
	if err != nil { // it could be opened when the command began
		v.Send(event.Warning{Code: event.Events, Text: err.Error()})
	}
	return &seen{View: v, secrets: &s.secrets, file: file, colours: s.errPaint.On}
}

// viewKind is the progress view that is shown.
func (s *session) viewKind() string {
	kind := s.cmd.String("view")
	switch {
	case kind != "auto":
		return kind
	case isTerminal(s.err) && os.Getenv("TERM") != "dumb" && os.Getenv("CI") == "":
		return "live"
	case s.calm:
		return "none"
	}
	return "lines"
}

// live reports whether somebody looks on at a terminal.
func (s *session) live() bool { return s.viewKind() == "live" && !s.calm }

func (s *session) plainView(ctx context.Context) tui.View {
	to := printable.Unwrap(s.err) // events are made fit before they come, and a view moves the cursor
	switch s.viewKind() {
	case "live":
		if s.calm {
			return tui.Passing(ctx, to, s.errPaint)
		}
		return tui.Live(ctx, to, s.errPaint)
	case "none":
		return tui.None(to, s.errPaint)
	}
	fold, _ := tui.ParseFold(s.cmd.String("fold")) // what is wrong was refused with the command line
	return tui.Lines(to, s.errPaint, fold)
}

// args checks how many arguments there are; most below 0 is no limit.
func (s *session) args(least, most int, usage string) ([]string, error) {
	list := s.cmd.Args().Slice()
	if len(list) < least || most >= 0 && len(list) > most {
		return nil, flow.Usagef("%s takes %s", s.cmd.FullName(), usage)
	}
	return list, nil
}

// lastSession is where the root command keeps the session, for what is told at the end.
const lastSession = "session"

// closers is where the root command keeps what is to be done at the end, under this name.
const closers = "closers"

// ending takes what is to be done at the end. Doing it may add more.
func ending(root *cli.Command) []func() {
	list, _ := root.Metadata[closers].([]func())
	delete(root.Metadata, closers)
	return list
}

func (s *session) atEnd(act func()) {
	root := s.cmd.Root()
	list, _ := root.Metadata[closers].([]func())
	root.Metadata[closers] = append(list, act)
}

func (s *session) platforms() ([]platform.Platform, error) {
	var list []platform.Platform
	for _, text := range strings.FieldsFunc(strings.Join(s.cmd.StringSlice("platform"), ","), func(c rune) bool { return c == ',' }) {
		p, err := platform.Parse(text)
		if err != nil {
			return nil, flow.WrongUse(err)
		}
		list = append(list, p)
	}
	return list, nil
}

// printed writes what a command printed to the result, with its colours alone.
func (s *session) printed(text string) error {
	_, err := io.WriteString(printable.Unwrap(s.out), printable.Output(text, s.paint.On))
	return err
}
