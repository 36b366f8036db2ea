//go:build unix

package cli

import (
	"context"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"syscall"

	"github.com/creack/pty"
	"golang.org/x/term"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/sandbox"
)

// withTerminal gives the command a terminal of its own and passes everything between it and ours, so that nothing inside
// has its hands on this one.
func (s *session) withTerminal(ctx context.Context, st *store.Store, t *trial, in, out *os.File) (sandbox.Status, error) {
	ours, theirs, err := pty.Open()
	if err != nil {
		return sandbox.Status{}, err
	}
	defer ours.Close()
	defer theirs.Close()
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, syscall.SIGWINCH)
	defer signal.Stop(resized)
	go func() {
		for {
			_ = pty.InheritSize(in, ours) // a size that cannot be had is none
			if _, more := <-resized; !more {
				return
			}
		}
	}()
	before, err := term.MakeRaw(int(in.Fd()))
	if err != nil {
		return sandbox.Status{}, err
	}
	defer term.Restore(int(in.Fd()), before)
	go io.Copy(ours, in)
	shown := make(chan struct{})
	go func() {
		defer close(shown)
		_, _ = io.Copy(out, ours) // ends with an error when the last process that has the terminal goes
	}()
	t.do.Terminal = theirs
	if name := os.Getenv("TERM"); name != "" {
		t.do.Env = append([]string{"TERM=" + name}, t.do.Env...)
	}
	status, err := s.run(ctx, st, t)
	theirs.Close()
	<-shown
	return status, err
}

// ownSession lets a process outlive this terminal.
// groupOfItsOwn has a command be ended with all that it starts.
func groupOfItsOwn(c *exec.Cmd) {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGTERM) }
}

func ownSession() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }
