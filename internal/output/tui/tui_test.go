package tui

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/progress"
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

// at is a moment of a scene.
func at(second int) time.Time { return time.Unix(1_000_000+int64(second), 0) }

// busy is a build in the middle of everything, two minutes in.
func busy() *progress.Progress {
	of := progress.Start(at(0))
	task := func(unit string, n int, label string) event.Task {
		return event.Task{ID: fmt.Sprintf("%s#%d", unit, n), Unit: unit, Platform: "linux/arm64", Place: fmt.Sprintf("%s:%d", unit, n), Label: label}
	}
	step := func(unit string, n int, took time.Duration) event.PlannedStep {
		return event.PlannedStep{ID: fmt.Sprintf("%s#%d", unit, n), Took: took}
	}
	of.Take(event.Planned{Units: []event.PlannedUnit{
		{Steps: []event.PlannedStep{step("tables", 1, time.Second), step("tables", 2, 3*time.Minute)}},
		{Steps: []event.PlannedStep{step("almanac", 1, time.Second), step("almanac", 2, 40*time.Second)}, Needs: []int{0}},
		{Steps: []event.PlannedStep{step("gauge", 1, 0), step("gauge", 2, 0), step("gauge", 3, 0)}},
	}}, at(1))
	of.Take(event.Finished{Task: task("tables", 1, "copy common/astro to /src"), Outcome: event.Ran, Reason: event.Packed{}, Detail: "34 files, 1.2 MB", Took: time.Second}, at(2))
	of.Take(event.Finished{Task: task("gauge", 1, "copy gauge to /srv"), Outcome: event.Reused, Reason: event.Unchanged}, at(2))
	of.Take(event.Finished{Task: task("gauge", 2, "selfcheck"), Outcome: event.Failed}, at(3))
	of.Take(event.Started{Task: task("tables", 2, "compute the tables of the year"), Act: "running", Why: event.FirstTime}, at(20))
	of.Take(event.Output{Task: task("tables", 2, "compute the tables of the year"), Text: "\x1b[31mpage 11\rpage 12 of 365\x1b[0m\n"}, at(100))
	of.Take(event.Started{Task: task("gauge", 3, "copy a folder of a long name to /srv/surveys/of/the/harbour"), Act: "packing", Total: 400_000_000}, at(110))
	of.Take(event.Progress{Task: task("gauge", 3, ""), Done: 100_000_000}, at(115))
	of.Take(event.Started{Task: event.Task{ID: "w", Unit: "almanac", Place: "almanac:1", Platform: "linux/arm64", Label: "render"}, Act: "waiting", Note: "for the kept directory pages"}, at(119))
	return of
}

func TestPicture(t *testing.T) {
	require.Equal(t, `▰▰▰▰▰▰▰▰▰▰▱▱▱▱▱▱▱▱▱▱▱▱  3 of 7 steps · 1 failed · 1 done · 1 reused · 2 min 00 s, about 2 min 01 s left
◐ running  tables:2 linux/arm64  compute the tables of the year                1 min 40 s of 3 min 00 s
    first time │ page 12 of 365
◐ packing  gauge:3 linux/arm64  copy a folder of a long n…   100 MB of 400 MB, 20 MB/s, 15 s left  10 s
◐ waiting  almanac:1 linux/arm64  render                                                            1 s
    for the kept directory pages`, picture(report.Paint{}, busy(), at(120), 103, 30))
	require.Equal(t, `3 of 7 steps · 1 failed · 2 min 00 s, about 2 min 01 s left
◐ running  tables:2  compute the…   1 min 40 s of 3 min 00 s
◐ packing  gauge:3  copy a folder …   100 MB of 400 MB  10 s
◐ waiting  almanac:1 linux/arm64  render                 1 s`, picture(report.Paint{}, busy(), at(120), 60, 5))
	require.Contains(t, picture(report.Paint{}, busy(), at(120), 60, 4), "… and 2 more")
	require.Equal(t, `● ran     tables:1 linux/arm64: copy common/astro to /src (34 files, 1.2 MB; new content; 1.0 s)
gauge linux/arm64  ▰✗
  ✗ failed  selfcheck
○ 1 reused
`, transcript(report.Paint{}, busy()))
	require.Empty(t, picture(report.Paint{}, progress.Start(at(0)), at(5), 80, 24), "before anything is known")
}

// TestPictureFits: whatever happens, no line is wider than the screen, and there are no more lines than it has.
func TestPictureFits(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		of := progress.Start(at(0))
		texts := rapid.SampledFrom([]string{"", "a", "潮汐表 潮汐表 潮汐表", strings.Repeat("long ", 60), "\x1b[2J\x1b[H\n\r\ttab", "e\u0301"})
		for i := range rapid.IntRange(0, 60).Draw(t, "events") {
			task := event.Task{ID: fmt.Sprint(rapid.IntRange(0, 20).Draw(t, "task")), Unit: texts.Draw(t, "unit"), Platform: "linux/amd64", Label: texts.Draw(t, "label")}
			of.Take(rapid.SampledFrom([]event.Event{event.Started{Task: task, Act: "running", Total: 1e12, Note: texts.Draw(t, "note"), Why: event.Text(texts.Draw(t, "why"))}, event.Progress{Task: task, Done: int64(i) * 1e9},
				event.Output{Task: task, Text: texts.Draw(t, "output")}, event.Finished{Task: task, Outcome: event.Ran}, event.Finished{Task: task, Outcome: event.Reused}, event.Finished{Task: task, Outcome: event.Failed}}).Draw(t, "event"), at(i))
		}
		width, height := rapid.IntRange(leastWidth, 200).Draw(t, "width"), rapid.IntRange(3, 60).Draw(t, "height")
		drawn := picture(report.Paint{}, of, at(rapid.IntRange(60, 100_000).Draw(t, "now")), width, height)
		lines := strings.Split(drawn, "\n")
		require.Less(t, len(lines), height)
		for _, line := range lines {
			require.LessOrEqual(t, ansi.StringWidth(line), width, "%q", line)
			require.NotContains(t, line, "\x1b")
		}
	})
}

// TestTranscriptIsShort: what is left on the screen is bounded, and counts what it leaves out.
func TestTranscriptIsShort(t *testing.T) {
	of := progress.Start(at(0))
	for u := range 100 {
		for i := range 30 {
			of.Take(event.Finished{Task: event.Task{ID: fmt.Sprintf("%d#%02d", u, i), Unit: fmt.Sprint("unit ", u), Label: "sent"}, Outcome: event.Sent}, at(1))
			of.Take(event.Finished{Task: event.Task{ID: fmt.Sprintf("%d#r%02d", u, i), Unit: fmt.Sprint("unit ", u)}, Outcome: event.Reused}, at(1))
		}
	}
	text := transcript(report.Paint{}, of)
	require.Equal(t, mostUnits*(1+mostOfUnit)+2, strings.Count(text, "\n"))
	require.Contains(t, text, "  … and 23 more\n")
	require.Contains(t, text, "… and 2640 more done in 88 others\n○ 3000 reused\n")
}

// TestSignOfLife: a log that nothing is written to tells what runs, also where output is folded, and only then.
func TestSignOfLife(t *testing.T) {
	fold, err := ParseFold("[ {title}|]")
	require.NoError(t, err)
	var out safeBuffer
	v := newLines(&out, report.Paint{}, fold, 20*time.Millisecond)
	step := event.Task{ID: "1", Unit: "pages", Place: "pages:1", Platform: "linux/amd64", Label: "render"}
	time.Sleep(60 * time.Millisecond)
	require.Empty(t, out.String(), "nothing runs")
	v.Send(event.Started{Task: step, Act: "running"})
	v.Send(event.Started{Task: event.Task{ID: "2"}, Act: "running"})
	require.Eventually(t, func() bool {
		return strings.Count(out.String(), "… running pages:1 linux/amd64: render (0 s so far) and 1 more\n") > 1
	}, 30*time.Second, time.Millisecond)
	v.Close("")
	before := out.String()
	time.Sleep(60 * time.Millisecond)
	require.Equal(t, before, out.String())

	out = safeBuffer{}
	v = newLines(&out, report.Paint{}, nil, 500*time.Millisecond)
	v.Send(event.Started{Task: step, Act: "running"})
	for range 60 {
		v.Send(event.Output{Task: step, Text: "page\n"})
		time.Sleep(10 * time.Millisecond)
	}
	v.Close("")
	require.NotContains(t, out.String(), "so far", "it was not silent")
}

type safeBuffer struct {
	mutex sync.Mutex
	text  strings.Builder
}

func (b *safeBuffer) Write(p []byte) (int, error) {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.text.Write(p)
}

func (b *safeBuffer) String() string {
	b.mutex.Lock()
	defer b.mutex.Unlock()
	return b.text.String()
}

// TestLiveCost: however much happens, the picture is drawn a few times a second, and not at all where nothing happens.
func TestLiveCost(t *testing.T) {
	var out bytes.Buffer
	v := Live(context.Background(), &out, report.Paint{}).(*live)
	draws := func() int {
		v.mutex.Lock()
		defer v.mutex.Unlock()
		return v.draws
	}
	began := time.Now()
	for i := 0; time.Since(began) < time.Second; i++ {
		v.Send(event.Output{Task: event.Task{ID: fmt.Sprint(i % 50), Unit: "pages"}, Text: fmt.Sprintln("page", i)})
	}
	busy := draws()
	require.NotZero(t, busy)
	require.LessOrEqual(t, busy, int(time.Since(began).Seconds()*perSecond)+2)
	began = time.Now()
	time.Sleep(1500 * time.Millisecond)
	require.LessOrEqual(t, draws()-busy, int(time.Since(began).Seconds())+2, "the seconds go on, and nothing else")
	v.Close("")
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
