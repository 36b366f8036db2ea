// Package cli is the command line: options, wiring, exit codes. Everything that prints passes through it, and it alone
// turns errors into exit codes.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/signal"
	"regexp"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"slices"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/ground/printable"
	"imbricat/internal/remote/checkout"
	"imbricat/internal/remote/download"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Exit codes; docs/commands.md tells them to people.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitDiffers     = 3
	exitRefused     = 4
	exitUnreachable = 5
	exitUnable      = 6
	exitInterrupted = 130
)

// exitCodes are those of what use cases return.
var exitCodes = map[flow.Kind]int{flow.Failed: exitFailed, flow.Usage: exitUsage, flow.Differs: exitDiffers, flow.Refused: exitRefused, flow.Unable: exitUnable}

// Main runs the program and gives its exit code.
func Main(args []string, stdin io.Reader, stdout, stderr io.Writer) int {
	sandbox.NoDumps()
	collectLater()
	ctx, stop := signal.NotifyContext(context.Background(), endings()...)
	defer stop()
	out := &results{to: stdout}
	root := newApp(stdin, out, stderr)
	err := root.Run(ctx, args)
	if err == nil {
		err = unwritten(out.err)
	}
	for list := ending(root); len(list) > 0; list = ending(root) {
		for _, act := range list {
			act()
		}
	}
	s, _ := root.Metadata[lastSession].(*session)
	if s == nil {
		s = &session{}
	}
	if err == nil {
		s.events.end(exitDone, "")
		return exitDone
	}
	if ctx.Err() != nil {
		s.events.end(exitInterrupted, "interrupted")
		fmt.Fprintln(stderr, "imbricat: interrupted; nothing half-written is left, and what was finished is kept")
		return exitInterrupted
	}
	code := exitCode(err)
	tellFailures(s, err)
	message := s.secrets.Text(strings.TrimSpace(err.Error()))
	s.events.end(code, message)
	if message != "" {
		fmt.Fprintln(stderr, s.mistake(err, message))
	}
	return code
}

// mistake is how an error is told.
func (s *session) mistake(err error, message string) string {
	text := printable.Text(prefix(err) + message)
	if prefix(err) != "" { // else lines of the recipe are shown
		text = s.errPaint.Fit(text)
	}
	return text
}

// endings are the signals that end the work in order. A terminal that goes away is one, unless whoever started this program
// chose to outlive it.
func endings() []os.Signal {
	all := []os.Signal{os.Interrupt, syscall.SIGTERM}
	if !signal.Ignored(syscall.SIGHUP) {
		all = append(all, syscall.SIGHUP)
	}
	return all
}

// smallMemory is what the program is kept within, in bytes, by collecting garbage more often: as long as no more than usedMemory of it is
// in use, which is far more than most builds need.
const (
	smallMemory = 100 << 20
	usedMemory  = 85 << 20
)

// collectLater puts the first collection of garbage off until the heap has some megabytes, which a short command never
// reaches; from then on it is as usual.
func collectLater() {
	debug.SetGCPercent(500)
	debug.SetMemoryLimit(smallMemory)
	runtime.AddCleanup(new([16]byte), func(int) {
		debug.SetGCPercent(100)
		unlimit(0)
	}, 0)
}

// unlimit looks after each collection whether more is in use than fits, where collecting would never end.
func unlimit(int) {
	live := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	if metrics.Read(live); live[0].Value.Uint64() > usedMemory {
		debug.SetMemoryLimit(math.MaxInt64)
		return
	}
	runtime.AddCleanup(new([16]byte), unlimit, 0)
}

// prefix leaves the errors of a recipe as they are: they start with their place.
func prefix(err error) string {
	var list *recipe.Errors
	if errors.As(err, &list) && err.Error() == list.Error() {
		return ""
	}
	return "imbricat: "
}

func exitCode(err error) int {
	var own *flow.Error
	var status *statusError
	var list *recipe.Errors
	var unknown *facts.UnknownFact
	var epoch *facts.BadEpoch
	var answer *registry.Error
	var lacks *image.NoPlatformError
	var file *download.Error
	var unable *sandbox.UnableError
	var move *transfer.MoveError
	var race *transfer.RaceError
	var issuer *registry.IssuerError
	switch {
	case errors.As(err, &status):
		return status.code
	case errors.As(err, &own):
		return exitCodes[own.Kind]
	case errors.As(err, &unable):
		return exitUnable
	case errors.As(err, &list), errors.As(err, &unknown), errors.As(err, &epoch), errors.As(err, &lacks),
		errors.Is(err, plan.ErrChoice):
		return exitUsage
	case errors.As(err, &move), errors.As(err, &race), errors.As(err, &issuer),
		errors.Is(err, checkout.ErrDenied), errors.As(err, &answer) && answer.Denied(), errors.As(err, &file) && file.Denied():
		return exitRefused
	case errors.As(err, &answer) && answer.Temporary(), errors.Is(err, registry.ErrUnreachable),
		errors.As(err, &file) && file.Temporary(), errors.Is(err, download.ErrUnreachable):
		return exitUnreachable
	}
	return exitFailed
}

func newApp(stdin io.Reader, stdout, stderr io.Writer) *cli.Command {
	cli.HelpPrinter = printHelp
	root := &cli.Command{
		Name:    "imbricat",
		Usage:   "builds layered OCI images reproducibly and ships them to registries",
		Version: version(),
		Description: "A recipe (imbricat.yaml) says what goes into the images. Try the full example, offline: imbricat demo\n\n" +
			"Exit codes: 0 done, 1 the work failed, 2 the command line or the recipe is wrong, 3 things differ,\n" +
			"4 refused, 5 a registry could not be reached, 6 this machine or version cannot do it, 130 interrupted.",
		Reader: stdin, Writer: stdout, ErrWriter: stderr, Metadata: map[string]any{},
		Flags:                      commonFlags(),
		EnableShellCompletion:      true,
		ShellCompletionCommandName: "completion",
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden = false
			c.Usage = "prints the script that completes commands in a shell: bash, zsh, fish, pwsh"
			c.Description = "Example: source <(imbricat completion bash)"
		},
		Suggest:         true,
		HideHelpCommand: true,
		ExitErrHandler:  func(context.Context, *cli.Command, error) {},
		OnUsageError:    onUsageError,
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c)
			}
			return cli.ShowRootCommandHelp(c)
		},
		Commands: []*cli.Command{
			initCommand(),
			elsewhere(planCommand()), elsewhere(affectedCommand()), elsewhere(buildCommand()), elsewhere(takeCommand()), elsewhere(shipCommand()), lockCommand(), weighCommand(), compareCommand(), reportCommand(), elsewhere(pushCommand()), pullCommand(), copyCommand(), joinCommand(), showCommand(), verifyCommand(), whyCommand(), watchCommand(), tryCommand(), workbenchCommand(), tagsCommand(),
			loginCommand(), logoutCommand(), logbookCommand(), storeCommand(), standinCommand(), doctorCommand(), recipeCommand(), schemaCommand(), demoCommand(),
		},
	}
	eachCommand(root, func(c *cli.Command) {
		c.OnUsageError = onUsageError
		c.HideHelpCommand = true
		// A value may hold commas.
		c.DisableSliceFlagSeparator = true
	})
	return root
}

func eachCommand(c *cli.Command, act func(*cli.Command)) {
	for _, sub := range c.Commands {
		act(sub)
		eachCommand(sub, act)
	}
}

// What the library says of options.
var (
	unknownOption = regexp.MustCompile(`^flag provided but not defined: -+(.*)$`)
	wrongValue    = regexp.MustCompile(`(?s)^invalid value (".*") for flag -+([a-z-]+): (.*)$`)
	missingValue  = regexp.MustCompile(`^flag needs an argument: -+(.*)$`)
)

// onUsageError puts what is wrong with an option into words of our own.
func onUsageError(_ context.Context, c *cli.Command, err error, _ bool) error {
	text := err.Error()
	if m := unknownOption.FindStringSubmatch(text); m != nil {
		var names []string
		for _, f := range optionsOf(c) {
			names = append(names, f.Names()[0])
		}
		if near := recipe.Nearest(m[1], names); near != "" {
			return flow.Usagef("there is no option --%s; did you mean --%s?", m[1], near)
		}
		return flow.Usagef("there is no option --%s; `%s --help` lists them", m[1], c.FullName())
	}
	if m := missingValue.FindStringSubmatch(text); m != nil {
		return flow.Usagef("--%s needs a value; `%s --help` tells which", m[1], c.FullName())
	}
	if m := wrongValue.FindStringSubmatch(text); m != nil {
		for _, f := range optionsOf(c) {
			if !slices.Contains(f.Names(), m[2]) {
				continue
			}
			switch f.(type) {
			case *cli.IntFlag:
				return flow.Usagef("--%s takes a number, not %s", m[2], m[1])
			case *cli.FloatFlag:
				return flow.Usagef("--%s takes a number, such as 0.5, not %s", m[2], m[1])
			case *cli.DurationFlag:
				return flow.Usagef("--%s takes a time such as 90s, 10m or 1h, not %s", m[2], m[1])
			case *cli.BoolFlag:
				return flow.Usagef("--%s is given alone, or takes true or false, not %s", m[2], m[1])
			}
		}
		return flow.Usagef("%s", m[3]) // the option's own check
	}
	return flow.Usagef("%s; `%s --help` lists the options", strings.ToLower(text[:1])+text[1:], c.FullName())
}

// optionsOf lists the options that a command takes, its own before those of the commands above it.
func optionsOf(c *cli.Command) (all []cli.Flag) {
	for _, one := range c.Lineage() {
		all = append(all, one.Flags...)
	}
	return all
}

func unknownCommand(c *cli.Command) error {
	names, word := commandNames(c), c.Args().First()
	if near := recipe.Nearest(word, names); near != "" {
		return flow.Usagef("there is no command %q; did you mean %q?", c.FullName()+" "+word, near)
	}
	return flow.Usagef("there is no command %q; known here: %s", c.FullName()+" "+word, strings.Join(names, ", "))
}

// commandNames lists the commands below one.
func commandNames(c *cli.Command) (names []string) {
	for _, sub := range c.Commands {
		if !sub.Hidden {
			names = append(names, sub.Name)
		}
	}
	return names
}

// group is a command that only holds others.
func group(c *cli.Command) *cli.Command {
	c.Action = func(_ context.Context, c *cli.Command) error {
		if c.Args().Present() {
			return unknownCommand(c)
		}
		return cli.ShowSubcommandHelp(c)
	}
	return c
}
