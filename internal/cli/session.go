package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"sync"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/output/tui"
	"imbricat/internal/remote/credential"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
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
	veil     redactor         // over what the environment holds of secrets
}

func newSession(c *cli.Command) *session {
	root := c.Root()
	s := &session{cmd: c, in: root.Reader, out: root.Writer, err: root.ErrWriter}
	s.paint = report.Paint{On: s.colour(s.out)}
	s.errPaint = report.Paint{On: s.colour(s.err)}
	// Whatever a text holds that came from outside, it does not reach the terminal but as letters.
	s.out, s.err = printable.Writer(s.out, s.paint.On), printable.Writer(s.err, s.errPaint.On)
	root.Metadata[lastSession] = s
	s.veil.add(secretVariable, tokenVariable)
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

// fileOf gives the file that a writer of the program is, where it is one.
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
func (s *session) result(document any, text func() error) error {
	if s.json() {
		return report.JSON(s.out, document)
	}
	return text()
}

// view opens the progress view; the caller closes it before writing the result.
func (s *session) view(ctx context.Context) tui.View {
	v := s.plainView(ctx)
	file, err := s.openEvents()
	if err != nil { // it could be opened when the command began
		v.Send(event.Warning{Code: event.Events, Text: err.Error()})
	}
	return &seen{View: v, veil: &s.veil, file: file, colours: s.errPaint.On}
}

func (s *session) plainView(ctx context.Context) tui.View {
	to := printable.Unwrap(s.err) // events are made fit before they come, and a view moves the cursor
	kind := s.cmd.String("view")
	if kind == "auto" {
		kind = "lines"
		if isTerminal(s.err) && os.Getenv("TERM") != "dumb" && os.Getenv("CI") == "" {
			kind = "live"
		}
	}
	switch kind {
	case "live":
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

// userDir is where credentials are kept.
func credentialFile() *credential.File {
	return credential.OpenFile(filepath.Join(xdg.ConfigHome, "imbricat", "credentials.json"))
}

func (s *session) storeDir() string {
	if dir := s.cmd.String("store"); dir != "" {
		return dir
	}
	return filepath.Join(xdg.DataHome, "imbricat", "store")
}

// openStore opens the store until the program ends.
func (s *session) openStore() (*store.Store, error) {
	st, err := store.Open(s.storeDir())
	if err == nil {
		s.store = st
		if own, ownErr := s.project(); ownErr == nil {
			st.Project, st.Mine = own, s.imageOfRecipe()
		}
		st.Bring = s.bringer(st, nil)
		s.atEnd(func() {
			for _, text := range st.Spoilt() { // what no build has told
				fmt.Fprintf(s.err, "warning: %s\n", text)
			}
			st.Close()
		})
	}
	return st, err
}

// imageOfRecipe tells whether a name is that of an image of the recipe. One with mistakes has none.
func (s *session) imageOfRecipe() func(name string) bool {
	names := sync.OnceValue(func() []string {
		r, err := s.loadRecipe()
		if err != nil {
			return nil
		}
		var all []string
		for _, i := range r.Images {
			all = append(all, i.Name)
		}
		return all
	})
	return func(name string) bool { return slices.Contains(names(), name) }
}

// lastSession is where the root command keeps the session, for what is told at the end.
const lastSession = "session"

// closers is where the root command keeps what is to be done at the end, under this name.
const closers = "closers"

func (s *session) atEnd(act func()) {
	root := s.cmd.Root()
	list, _ := root.Metadata[closers].([]func())
	root.Metadata[closers] = append(list, act)
}

// uploads remembers where uploads stand, in the store.
func (s *session) uploads() registry.Uploads {
	if s.store == nil {
		return nil
	}
	return uploadNotes{s.store}
}

type uploadNotes struct{ store *store.Store }

func (u uploadNotes) TakeUpload(repository string, blob digest.Digest) registry.Upload {
	if note := u.store.TakeUpload(repository, blob); note != nil {
		return note
	}
	return nil
}

// opener opens places that the command line names.
func (s *session) opener(st *store.Store) (*transfer.Places, error) {
	client, err := s.client()
	return &transfer.Places{Store: st, Client: client}, err
}

// source opens a place to read from.
func (s *session) source(st *store.Store, ref reference.Reference) (transfer.Place, error) {
	opener, err := s.opener(st)
	if err != nil {
		return nil, err
	}
	return opener.Source(ref)
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

// maxRecipe is more than a recipe may have, so that the parser's own bound speaks.
const maxRecipe = 5 << 20

// recipePath is the recipe's file.
func (s *session) recipePath() string {
	if name := s.cmd.String("recipe"); filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(s.cmd.String("dir"), s.cmd.String("recipe"))
}

// loadRecipe reads and parses the recipe.
func (s *session) loadRecipe() (*recipe.Recipe, error) {
	path := s.recipePath()
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, flow.Usagef("there is no recipe %s; write one (docs/recipe.md), or name its folder with --dir", path)
	}
	if err != nil {
		return nil, flow.Usagef("reading the recipe: %w", err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxRecipe))
	if err != nil {
		return nil, flow.Usagef("reading the recipe %s: %w", path, err)
	}
	return recipe.Parse(filepath.ToSlash(s.cmd.String("recipe")), text)
}

// planned is a recipe with its facts, expanded.
type planned struct {
	recipe *recipe.Recipe
	facts  *facts.Facts
	plan   *plan.Plan
}

// makePlan reads the recipe, gathers its facts and expands it for the images named.
func (s *session) makePlan(images []string) (*planned, error) {
	r, err := s.loadRecipe()
	if err != nil {
		return nil, err
	}
	for _, one := range r.Secrets {
		s.veil.add(one.Env)
	}
	given := map[string]string{}
	for _, text := range s.cmd.StringSlice("fact") {
		name, value, found := strings.Cut(text, "=")
		if !found || name == "" {
			return nil, flow.Usagef("--fact takes NAME=VALUE, not %q", text)
		}
		given[name] = value
	}
	f, err := facts.Gather(r, facts.Options{Dir: s.cmd.String("dir"), Lookup: os.LookupEnv, Given: given, Own: s.writes()})
	if err != nil {
		return nil, err
	}
	wanted, err := s.platforms()
	if err != nil {
		return nil, err
	}
	p, err := plan.Expand(r, plan.Options{Images: images, Platforms: wanted, Here: platform.Here(), Scope: f.Scope})
	if err != nil {
		return nil, err
	}
	return &planned{r, f, p}, nil
}

// planAndStore is what every command that works on the recipe's images begins with: its arguments name images.
func (s *session) planAndStore() (*planned, *store.Store, error) {
	return s.planAndStoreOf(s.cmd.Args().Slice())
}

func (s *session) planAndStoreOf(images []string) (*planned, *store.Store, error) {
	p, err := s.makePlan(images)
	if err != nil {
		return nil, nil, err
	}
	st, err := s.openStore()
	return p, st, err
}

// Options that several commands share.
func factFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "fact", Usage: "`NAME=VALUE` that replaces a fact of the recipe; may be given again"}
}

func platformFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "platform", Usage: "`OS/ARCHITECTURE`: only this one of the platforms; may be given again, or hold several with commas"}
}

func jobsFlag() cli.Flag {
	return &cli.IntFlag{Name: "jobs", HideDefault: true, Usage: "`NUMBER` of commands that run at a time (default: as many as there are processors, at least 4)", Sources: env("JOBS"),
		Validator: func(n int) error {
			if n < 1 {
				return fmt.Errorf("--jobs takes a number from 1")
			}
			return nil
		}}
}

func keepGoingFlag() cli.Flag {
	return &cli.BoolFlag{Name: "keep-going", Usage: "when something fails, finish what does not need it", Sources: env("KEEP_GOING")}
}

// printed writes what a command printed to the result, with its colours alone.
func (s *session) printed(text string) error {
	_, err := io.WriteString(printable.Unwrap(s.out), printable.Output(text, s.paint.On))
	return err
}
