package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow/settings"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/hosts"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/say"
	"imbricat/internal/remote/relay"
)

func sandboxFlag() cli.Flag {
	return choiceFlag("sandbox", "auto", "`KIND` of sandbox for commands: auto, or chroot for root where namespaces are forbidden", "SANDBOX", "auto", "chroot")
}

// sandbox returns what opens the sandbox when it is first needed, until the program ends.
func (s *session) sandbox(st *store.Store) func(ctx context.Context) (*sandbox.Box, error) {
	return func(ctx context.Context) (*sandbox.Box, error) {
		personal, err := settings.Read()
		if err != nil {
			return nil, err
		}
		o := sandbox.Options{Time: layer.Epoch.Unix(), Bounds: personal.Bounds}
		if s.cmd.String("sandbox") == "chroot" {
			o.Kind = sandbox.Chroot
		}
		box, err := sandbox.Open(ctx, o)
		if err != nil {
			return nil, err
		}
		st.Unlink = box.Remove
		st.Sweep()
		s.atEnd(func() { box.Close() })
		return box, nil
	}
}

// executor returns what runs commands on this machine. authorities are certificates that these are to believe besides their images' own.
func (s *session) executor(ctx context.Context, st *store.Store, sink event.Sink, authorities []byte) *local.Local {
	return local.New(ctx, s.executing(st, sink, authorities))
}

func (s *session) executing(st *store.Store, sink event.Sink, authorities []byte) local.Options {
	return local.Options{Store: st, Open: s.sandbox(st), Sink: sink, Jobs: int(s.cmd.Int("jobs")), Authorities: authorities, Relay: relayed}
}

// relayed lets a command reach hosts.
func relayed(l net.Listener, list []string, own func(port uint16) (net.Conn, error)) (local.Relay, error) {
	parsed, err := hosts.ParseList(list)
	if err != nil {
		return nil, err
	}
	return relay.Start(l, parsed, own), nil
}

// unlinker lets a store remove what commands left; without a sandbox there is nothing of that kind that we could.
func (s *session) unlinker(ctx context.Context, st *store.Store) {
	_, _ = s.sandbox(st)(ctx)
}

// snapshotChecker lets a store compare unpacked trees with their indexes: those that this user's sandbox can read.
func (s *session) snapshotChecker(ctx context.Context, st *store.Store) {
	box, err := s.sandbox(st)(ctx)
	if err != nil {
		return
	}
	st.CheckTree = func(form, root string, lines []byte) error {
		if strings.TrimSuffix(form, "-copied") != box.Owners() {
			return nil
		}
		entries, err := tree.DecodeEntries(string(lines))
		if err != nil {
			return err
		}
		return local.CheckSnapshot(box, form, root, entries)
	}
}

// tellFailures writes what commands printed that failed, each once and whole, and how to look around there.
func tellFailures(s *session, err error) {
	for _, one := range flatten(err) {
		var failed *command.FailedError
		if !errors.As(one, &failed) {
			continue
		}
		fmt.Fprintf(s.err, "\n%s %s\n", s.errPaint.Wrong("✗ failed  "+failed.Place+" "+failed.Unit[strings.LastIndexByte(failed.Unit, ' ')+1:]+":"), s.errPaint.Bold(failed.Label))
		for line := range strings.Lines(strings.TrimRight(failed.Command, "\n") + "\n") {
			fmt.Fprintf(s.err, "  %s\n", s.errPaint.Muted("$ "+strings.TrimRight(line, "\n")))
		}
		text := strings.TrimRight(printable.Output(string(failed.Output), s.errPaint.On), "\n")
		if text == "" {
			text = s.errPaint.Muted("(it printed nothing)")
		}
		fmt.Fprintf(printable.Unwrap(s.err), "%s\n", text)
		again := "imbricat try --step " + failed.Place + " --platform " + failed.Unit[strings.LastIndexByte(failed.Unit, ' ')+1:]
		for _, flag := range []string{"dir", "recipe"} {
			if s.cmd.IsSet(flag) {
				again += " --" + flag + " " + s.cmd.String(flag)
			}
		}
		if unlisted := store.WithProblem(failed.Reached, store.NotListed); len(unlisted) > 0 {
			fmt.Fprintf(s.err, "  it asked for %s, which its network: does not list\n", say.Some(unlisted))
		}
		if unreachable := store.WithProblem(failed.Reached, store.Unreachable); len(unreachable) > 0 {
			fmt.Fprintf(s.err, "  no connection was made to %s\n", say.Some(unreachable))
		}
		fmt.Fprintf(s.err, "  the command %s; to look around in the same view: %s\n\n", failed.What, s.errPaint.Bold(again))
	}
}

// flatten returns the errors that were joined.
func flatten(err error) []error {
	if many, is := err.(interface{ Unwrap() []error }); is {
		return many.Unwrap()
	}
	return []error{err}
}
