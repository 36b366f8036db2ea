package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/conceal"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/printable"
	"imbricat/internal/spec/plan"
)

func sandboxFlag() cli.Flag {
	return choiceFlag("sandbox", "auto", "`KIND` of sandbox for commands: auto, or chroot for root where namespaces are forbidden", "SANDBOX", "auto", "chroot")
}

// sandbox gives what opens the sandbox when it is first needed, until the program ends.
func (s *session) sandbox(st *store.Store) func(ctx context.Context) (*sandbox.Box, error) {
	return func(ctx context.Context) (*sandbox.Box, error) {
		personal, err := readConfig()
		if err != nil {
			return nil, err
		}
		o := sandbox.Options{Time: layer.Epoch.Unix(), Bounds: personal.bounds}
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

// executor gives what runs commands on this machine.
func (s *session) executor(ctx context.Context, st *store.Store, sink event.Sink) *local.Local {
	return local.New(ctx, local.Options{Store: st, Open: s.sandbox(st), Sink: sink, Jobs: int(s.cmd.Int("jobs"))})
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

// mostSecret bounds a secret, in bytes.
const mostSecret = 1 << 20

// mostSaid bounds what is repeated of what a secret's command complains of, in bytes.
const mostSaid = 64 << 10

// beginning keeps the first bytes that are written and takes the rest for read.
type beginning struct {
	text bytes.Buffer
	left int
}

// Write implements io.Writer.
func (b *beginning) Write(p []byte) (int, error) {
	n := min(len(p), b.left)
	b.left -= n
	b.text.Write(p[:n])
	return len(p), nil
}

// secretFiles finds secrets where the recipe says that they are. What a secret's command complains of is told, without the
// secret.
type secretFiles struct {
	dir  string // the project folder
	tell io.Writer
}

// Secret implements command.Secrets.
func (f secretFiles) Secret(ctx context.Context, _ string, s plan.Secret) ([]byte, error) {
	var value []byte
	switch {
	case s.Env != "":
		text, set := os.LookupEnv(s.Env)
		if !set {
			return nil, fmt.Errorf("the environment variable %s is not set", s.Env)
		}
		value = []byte(text)
	case len(s.Command) > 0:
		var out bytes.Buffer
		said := &beginning{left: mostSaid}
		c := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
		c.Dir, c.Stdout, c.Stderr = f.dir, &out, said
		err := c.Run()
		// What it complains of may repeat the secret, which is known when it has ended.
		_, _ = f.tell.Write(conceal.Cover(said.text.Bytes(), conceal.Forms(out.Bytes())))
		if err != nil {
			return nil, fmt.Errorf("its command %s: %w", s.Command[0], err)
		}
		value = out.Bytes()
	default:
		name := s.File
		if !filepath.IsAbs(name) {
			name = filepath.Join(f.dir, name)
		}
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		if value, err = io.ReadAll(io.LimitReader(file, mostSecret+1)); err != nil {
			return nil, err
		}
	}
	if len(value) > mostSecret {
		return nil, fmt.Errorf("it has more than %d bytes", mostSecret)
	}
	return value, nil
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
		fmt.Fprintf(s.err, "  the command %s; to look around in the same view: %s\n\n", failed.What, s.errPaint.Bold(again))
	}
}

// flatten gives the errors that were joined.
func flatten(err error) []error {
	if many, is := err.(interface{ Unwrap() []error }); is {
		return many.Unwrap()
	}
	return []error{err}
}
