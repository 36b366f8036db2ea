package e2e

import (
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/vt"
	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

// onTerminal starts a command at a terminal of its own. What is typed goes there, and shown is all that it has shown so far.
func onTerminal(t *testing.T, c *exec.Cmd, rows, columns uint16) (typed func(text string), shown func() string) {
	_, typed, shown = resizable(t, c, rows, columns)
	return typed, shown
}

// resizable is onTerminal with the terminal, whose size can be changed.
func resizable(t *testing.T, c *exec.Cmd, rows, columns uint16) (terminal *os.File, typed func(text string), shown func() string) {
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
	return ours, typed, func() string {
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

// screenOf is a terminal's screen as somebody sees it.
type screenOf struct {
	*vt.Emulator
	taken int
}

func newScreen(t *testing.T, rows, columns int) *screenOf {
	s := &screenOf{Emulator: vt.NewEmulator(columns, rows)}
	go func() { _, _ = io.Copy(io.Discard, s) }() // what it answers to questions, until it is closed
	t.Cleanup(func() { s.Close() })
	return s
}

// lines are what is on the screen, when it has taken all that was shown so far.
func (s *screenOf) lines(shown string) []string {
	_, _ = s.WriteString(strings.ReplaceAll(shown[s.taken:], "\r\r\n", "\r\n"))
	s.taken = len(shown)
	lines := strings.Split(s.String(), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return lines
}

// TestLiveView: at a terminal a build has one picture, which fits the screen and stays where it is, also when the screen becomes smaller; what
// was there before stays, and what is left can be read.
func TestLiveView(t *testing.T) {
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
stages: {tools: {base: none, steps: [{copy: {from: bin, to: /bin}}]}}
images:
  pages:
    each: {month: ["01", "02", "03", "04", "05", "06"]}
    base: {stage: tools}
    steps:
      - name: render the pages
        run: {command: [/bin/busybox, sh, -c, "busybox seq 1 70 | while read i; do echo page $i of $MONTH; busybox sleep 0.1; done; echo > /done"]}
        env: {MONTH: "${each.month}"}
        network: false
`)
	r.ok("build") // so that it is known how long it takes
	c := r.command("build", "--view", "live", "--fresh", "--jobs", "8")
	c.Args = append([]string{"/bin/sh", "-c", `echo before; "$@"; echo after`, "sh"}, c.Args...)
	c.Path = "/bin/sh"
	rows, columns := 24, 100
	terminal, _, shown := resizable(t, c, uint16(rows), uint16(columns))
	screen := newScreen(t, rows, columns)
	look := func() []string { return screen.lines(shown()) }
	until := func(what string, is func(lines []string) bool) []string {
		t.Helper()
		var lines []string
		require.Eventually(t, func() bool { lines = look(); return is(lines) }, 60*time.Second, 20*time.Millisecond, "%s: %s", what, strings.Join(lines, "\n"))
		return lines
	}
	all := func(lines []string) bool { return strings.Count(strings.Join(lines, "\n"), "◐ running") == 6 }
	lines := until("all run", func(lines []string) bool {
		return all(lines) && strings.Contains(lines[1], "left") && strings.Contains(lines[3], "│ page")
	})
	require.Equal(t, "before", lines[0])
	require.Regexp(t, `^▰.* of 7 steps · .*, about \d+ s left$`, lines[1])
	require.Regexp(t, `◐ running  pages-0\d:1 linux/\w+  render the pages +\d+ s of \d+ s$`, lines[2])
	require.Regexp(t, `│ page \d+ of 0\d$`, lines[3])

	rows, columns = 9, 60
	require.NoError(t, pty.Setsize(terminal, &pty.Winsize{Rows: uint16(rows), Cols: uint16(columns)}))
	screen.Resize(columns, rows)
	until("it is drawn for a small screen", func(lines []string) bool {
		return all(lines) && !strings.Contains(strings.Join(lines, "\n"), "│")
	})
	for range 10 {
		lines := strings.Join(look(), "\n")
		require.LessOrEqual(t, strings.Count(lines, "steps ·"), 1, "one picture:\n%s", lines)
		time.Sleep(50 * time.Millisecond)
	}
	require.NoError(t, c.Wait())
	waitFor(t, shown, "after")
	left := strings.ReplaceAll(ansi.Strip(shown()), "\r", "")
	require.Contains(t, left, "● ran     pages-01")
	left = left[strings.Index(left, "● ran     pages-01"):]
	require.Regexp(t, `(?s)^(● ran     pages-0[1-6]:1 linux/\w+: render the pages\n? +\(1 file, 1 B; asked for with --fresh; [0-9.]+ s\)\n){6}built 6 images: 7 of 7 steps ran, 0 reused, in \S+ s; 7 layers of\n? +\S+ MB made\nnext: imbricat try pages-01`, left)
	require.True(t, strings.HasSuffix(strings.TrimSpace(left), "after"))
}
