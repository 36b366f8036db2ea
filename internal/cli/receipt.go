package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
)

// runFlags are those of commands that a pipeline runs: what they write beside their result.
func runFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "receipt", Usage: "write the receipt to this `PLACE`: a file, or HOST/REPOSITORY:TAG, whose tag gets the platforms behind it", Sources: env("RECEIPT")},
		&cli.StringFlag{Name: "annotate", Usage: "tell mistakes, failed steps and checks that do not hold in lines of this `FORM` on standard error: {file}, {line}, {column}, {title}, {message}, {encoded}", Sources: env("ANNOTATE")},
		&cli.StringFlag{Name: "values", Usage: "add the receipt's digests, references and tags to this `FILE` as KEY=VALUE lines", Sources: env("VALUES")},
	}, progressFlags()...)
}

// writes lists the files that the run writes down into the project folder, relative to it.
func (s *session) writes(project string) (list []string) {
	dir, err := filepath.Abs(project)
	for _, flag := range []string{"receipt", "values", "events", "test-report", "kit", "kit-to"} {
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
	closing := func(_ context.Context, r *receipt.Receipt, err error) error {
		s.annotate(r, err)
		return nil
	}
	return s.beginTelling(command, closing)
}

// annotate tells what is wrong at lines of the recipe, for what reads that from a log.
func (s *session) annotate(r *receipt.Receipt, err error) {
	if form := s.cmd.String("annotate"); form != "" {
		fmt.Fprint(s.err, s.secrets.Text(report.AnnotationsText(form, report.Annotations(r, err))))
	}
}

// beginTelling is begin with what is done when all of the receipt is known.
func (s *session) beginTelling(command string, closing func(context.Context, *receipt.Receipt, error) error) (*receipts.Recorder, error) {
	if _, err := s.openEvents(); err != nil {
		return nil, err
	}
	return receipts.Begin(receipts.Options{Command: command, Program: "imbricat " + version(), Place: s.cmd.String("receipt"), Values: s.cmd.String("values"), Tests: s.cmd.String("test-report"), Closing: closing,
		Redactor: &s.secrets, Client: s.client, Exit: exitCode, Interrupted: exitInterrupted})
}
