package e2e

import (
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

// onTerminal starts a command at a terminal of its own. What is typed goes there, and shown is all that it has shown so far.
func onTerminal(t *testing.T, c *exec.Cmd, rows, columns uint16) (typed func(text string), shown func() string) {
	ours, theirs, err := pty.Open()
	require.NoError(t, err)
	require.NoError(t, pty.Setsize(theirs, &pty.Winsize{Rows: rows, Cols: columns}))
	c.Stdin, c.Stdout, c.Stderr = theirs, theirs, theirs
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	c.Env = append(c.Env, "TERM=xterm")
	require.NoError(t, c.Start())
	theirs.Close()
	t.Cleanup(func() {
		_ = c.Process.Kill()
		ours.Close()
	})
	var mutex sync.Mutex
	var seen strings.Builder
	go func() {
		buffer := make([]byte, 1<<16)
		for {
			n, err := ours.Read(buffer)
			mutex.Lock()
			seen.Write(buffer[:n])
			mutex.Unlock()
			if err != nil {
				return
			}
		}
	}()
	typed = func(text string) {
		_, err := ours.WriteString(text)
		require.NoError(t, err)
	}
	return typed, func() string {
		mutex.Lock()
		defer mutex.Unlock()
		return seen.String()
	}
}

// waitFor waits until a text is shown.
func waitFor(t *testing.T, shown func() string, text string) {
	t.Helper()
	for began := time.Now(); !strings.Contains(shown(), text); time.Sleep(10 * time.Millisecond) {
		if time.Since(began) > 20*time.Second {
			t.Fatalf("%q does not show:\n%s", text, shown())
		}
	}
}
