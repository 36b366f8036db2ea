package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
)

// runFlags are those of commands that a pipeline runs: what they write beside their result.
func runFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "receipt", Usage: "write the receipt to this `PLACE`: a file, or HOST/REPOSITORY:TAG, whose tag gets the platforms behind it", Sources: env("RECEIPT")},
		&cli.StringFlag{Name: "values", Usage: "add the receipt's digests, references and tags to this `FILE` as KEY=VALUE lines", Sources: env("VALUES")},
	}, progressFlags()...)
}

// writes lists the files that the run writes down into the project folder, relative to it.
func (s *session) writes(project string) (list []string) {
	dir, err := filepath.Abs(project)
	for _, flag := range []string{"receipt", "values", "events"} {
		name := s.cmd.String(flag)
		if _, inRegistry := receipts.InRegistry(name); err != nil || name == "" || inRegistry {
			continue
		}
		if below, is := workspace.Inside(dir, name); is {
			list = append(list, below)
		}
	}
	return append(list, s.redirected(dir)...)
}

// redirected lists the files of the project folder that a shell sends what is printed to.
func (s *session) redirected(dir string) (list []string) {
	real, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return nil
	}
	for _, to := range []io.Writer{s.out, s.err} {
		f, is := fileOf(to)
		if !is {
			continue
		}
		if name, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", f.Fd())); err == nil {
			if below, is := workspace.Inside(real, name); is {
				list = append(list, below)
			}
		}
	}
	return list
}

// begin begins the receipt of a run, and its file of events.
func (s *session) begin(command string) (*receipts.Recorder, error) {
	if _, err := s.openEvents(); err != nil {
		return nil, err
	}
	return receipts.Begin(receipts.Options{Command: command, Program: "imbricat " + version(), Place: s.cmd.String("receipt"), Values: s.cmd.String("values"),
		Redactor: &s.secrets, Client: s.client, Exit: exitCode, Interrupted: exitInterrupted})
}
