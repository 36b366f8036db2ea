package tui

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
)

// scene is a build in which everything happens.
func scene(v event.Sink) {
	step := func(id, platform, label string) event.Task {
		return event.Task{ID: id, Unit: "gauge", Platform: platform, Label: label}
	}
	v.Send(event.Started{Task: step("2", "linux/amd64", "copy pages to /srv"), Act: "reading", Total: 4_000_000})
	v.Send(event.Progress{Task: step("2", "linux/amd64", "copy pages to /srv"), Done: 1_000_000})
	v.Send(event.Finished{Task: step("1", "linux/amd64", "write /etc/gauge.conf"), Outcome: event.Reused, Reason: event.Unchanged, Detail: "1 file, 21 B"})
	v.Send(event.Finished{Task: step("1", "linux/arm64", "link /usr/bin/tide"), Outcome: event.Ran, Reason: event.Packed{}, Took: 1500 * time.Millisecond})
	v.Send(event.Finished{Task: step("3", "linux/arm64", "copy x"), Outcome: event.Failed, Reason: event.Text("told by the error")})
	v.Send(event.Finished{Task: step("4", "linux/arm64", "nothing"), Outcome: event.Skipped})
	v.Send(event.Warning{Code: "no-match", Text: "the pattern matches nothing"})
}

func TestLines(t *testing.T) {
	var out bytes.Buffer
	v := Lines(&out, report.Paint{}, nil)
	scene(v)
	require.NotContains(t, out.String(), "warning", "doubts come at the end")
	v.Close("built 1 image")
	v.Close("built 1 image")
	require.Equal(t, "○ reused  gauge linux/amd64: write /etc/gauge.conf (1 file, 21 B; unchanged)\n"+
		"● ran     gauge linux/arm64: link /usr/bin/tide (new content; 1.5 s)\n"+
		"warning: the pattern matches nothing [no-match]\nbuilt 1 image\nbuilt 1 image\n", out.String())

	out.Reset()
	v = None(&out, report.Paint{})
	scene(v)
	v.Close("built 1 image")
	require.Equal(t, "warning: the pattern matches nothing [no-match]\n", out.String())
}

// TestFold: what a command prints is one section, whole, however many run; of one that fails the error tells.
func TestFold(t *testing.T) {
	for _, wrong := range []string{"", "a", "{title}", "a|{title}"} {
		_, err := ParseFold(wrong)
		require.Error(t, err, wrong)
	}
	fold, err := ParseFold(`\e[0K>> {time}:{name}\r{title}|<< {name} \\`)
	require.NoError(t, err)
	fold.Now = func() time.Time { return time.Unix(7, 0) }
	var out bytes.Buffer
	v := Lines(&out, report.Paint{}, fold)
	step := func(n string) event.Task {
		return event.Task{ID: n, Unit: "pages", Place: "pages:" + n, Platform: "linux/amd64", Label: "render"}
	}
	for _, n := range []string{"1", "2", "3", "4"} {
		v.Send(event.Output{Task: step(n), Text: "begins " + n + "\n"})
	}
	v.Send(event.Output{Task: step("1"), Text: "10%\r100%\n"})
	v.Send(event.Output{Task: step("3"), Text: strings.Repeat("flood\n", mostOutput/6)})
	require.Empty(t, out.String(), "sections come whole")
	v.Send(event.Finished{Task: step("1"), Outcome: event.Ran, Reason: event.FirstTime, Took: time.Second})
	v.Send(event.Finished{Task: step("2"), Outcome: event.Failed})
	v.Send(event.Finished{Task: step("5"), Outcome: event.Reused, Reason: event.Unchanged})
	require.Equal(t, "\x1b[0K>> 7:pages-1-linux-amd64\r● ran     pages:1 linux/amd64: render (first time; 1.0 s)\nbegins 1\n100%\n<< pages-1-linux-amd64 \\\n"+
		"○ reused  pages:5 linux/amd64: render (unchanged)\n", out.String())
	out.Reset()
	v.Send(event.Finished{Task: step("3"), Outcome: event.Ran})
	require.Contains(t, out.String(), "… it prints a lot; the rest is not shown\n<<")
	out.Reset()
	v.Close("")
	require.Equal(t, "\x1b[0K>> 7:pages-4-linux-amd64\rpages:4 linux/amd64: render\nbegins 4\n<< pages-4-linux-amd64 \\\n", out.String(), "of what was interrupted")
}

// trimmed drops the blanks at the ends of lines.
func trimmed(text string) string {
	lines := strings.Split(text, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}

func TestPicture(t *testing.T) {
	p := &picture{width: 100}
	scene(event.Func(func(e event.Event) { p.Update(message{event: e}) }))
	require.Equal(t, `gauge linux/amd64  ▰▱
  ○ reused  write /etc/gauge.conf  1 file, 21 B
  ◐ reading copy pages to /srv  1.0 MB of 4.0 MB
gauge linux/arm64  ▰✗▰
  ● ran     link /usr/bin/tide  1.5 s
  ✗ failed  copy x
  ○ skipped nothing`, trimmed(p.View().Content))
	// Many tasks: the running ones and the newest.
	for i := range 30 {
		p.take(event.Finished{Task: event.Task{ID: string(rune('A' + i)), Unit: "push"}, Outcome: event.Sent})
	}
	p.take(event.Started{Task: event.Task{ID: "running", Unit: "push", Label: strings.Repeat("long ", 40)}, Act: "sending"})
	require.Len(t, last(p.units[2].tiles), shown)
	require.Contains(t, p.View().Content, "…")
	require.Contains(t, p.View().Content, "◐ sending")
}

// TestLiveEnds: the live view ends when it is closed, and when the work is interrupted, on something that is no terminal.
func TestLiveEnds(t *testing.T) {
	for _, interrupted := range []bool{false, true} {
		var out bytes.Buffer
		ctx, cancel := context.WithCancel(context.Background())
		v := Live(ctx, &out, report.Paint{})
		scene(v)
		if interrupted {
			cancel()
		}
		ended := make(chan struct{})
		go func() { v.Close("built 1 image"); close(ended) }()
		select {
		case <-ended:
		case <-time.After(10 * time.Second):
			t.Fatal("the live view does not end")
		}
		cancel()
		require.Contains(t, out.String(), "warning: the pattern matches nothing")
		require.True(t, strings.HasSuffix(out.String(), "built 1 image\n"))
	}
}
