package tui

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
)

// live is a picture of what runs: a row for each unit, drawn as a pile of tiles, the lowest first.
type live struct {
	w        io.Writer
	paint    report.Paint
	program  *tea.Program
	ended    chan struct{}
	close    sync.Once
	warnings warnings
}

// Live is a view for terminals. It takes no input and leaves its last picture on the screen.
func Live(ctx context.Context, w io.Writer, p report.Paint) View {
	return show(ctx, w, &picture{paint: p})
}

// Passing is Live that leaves nothing on the screen.
func Passing(ctx context.Context, w io.Writer, p report.Paint) View {
	return show(ctx, w, &picture{paint: p, passing: true})
}

func show(ctx context.Context, w io.Writer, drawn *picture) View {
	p := drawn.paint
	l := &live{w: w, paint: p, ended: make(chan struct{})}
	l.program = tea.NewProgram(drawn, tea.WithContext(ctx), tea.WithOutput(w),
		tea.WithInput(nil), tea.WithoutSignalHandler(), tea.WithFPS(20), tea.WithColorProfile(profile(p)))
	go func() {
		defer close(l.ended)
		// The view is an ornament: where the terminal refuses it, the work goes on without.
		_, _ = l.program.Run()
	}()
	return l
}

// profile lets the picture have the same colours as everything else that is written.
func profile(p report.Paint) colorprofile.Profile {
	if p.On {
		return colorprofile.TrueColor
	}
	return colorprofile.ASCII
}

func (l *live) Send(e event.Event) {
	if w, ok := e.(event.Warning); ok {
		l.warnings.add(w)
		return
	}
	l.program.Send(message{e, time.Now()})
}

func (l *live) Close(summary string) {
	l.close.Do(func() {
		l.program.Send(finish{})
		<-l.ended
		l.warnings.write(l.w, l.paint)
		if summary != "" {
			fmt.Fprintln(l.w, summary)
		}
	})
}

type message struct {
	event event.Event
	at    time.Time
}

type finish struct{}

// picture is the state that is drawn.
type picture struct {
	paint   report.Paint
	units   []*pile // in the order of their first events
	width   int
	over    bool
	passing bool // nothing is left of it
}

// pile is a unit with its tiles.
type pile struct {
	unit, platform string
	tiles          []*tile
}

// tile is a task.
type tile struct {
	task    event.Task
	act     string
	note    string // of a task that waits
	line    string // that its command printed last
	total   int64
	done    int64
	over    bool
	outcome event.Outcome
	detail  string
	took    time.Duration
}

// Init implements tea.Model.
func (p *picture) Init() tea.Cmd { return nil }

// Update implements tea.Model.
func (p *picture) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		p.width = m.Width
	case finish:
		if p.over = true; p.passing {
			p.units = nil
		}
		return p, tea.Quit
	case message:
		p.take(m.event)
	}
	return p, nil
}

func (p *picture) take(e event.Event) {
	switch e := e.(type) {
	case event.Started:
		t := p.tile(e.Task)
		t.act, t.total, t.done, t.note, t.over = e.Act, e.Total, 0, e.Note, false
	case event.Output:
		if text := strings.TrimSpace(strings.TrimRight(e.Text, "\r\n")); text != "" {
			p.tile(e.Task).line = text[strings.LastIndexByte(text, '\n')+1:]
		}
	case event.Progress:
		p.tile(e.Task).done = e.Done
	case event.Finished:
		t := p.tile(e.Task)
		t.over, t.outcome, t.detail, t.took = true, e.Outcome, e.Detail, e.Took
	}
}

func (p *picture) tile(task event.Task) *tile {
	at := slices.IndexFunc(p.units, func(u *pile) bool { return u.unit == task.Unit && u.platform == task.Platform })
	if at < 0 {
		at = len(p.units)
		p.units = append(p.units, &pile{unit: task.Unit, platform: task.Platform})
	}
	unit := p.units[at]
	for _, t := range unit.tiles {
		if t.task.ID == task.ID {
			return t
		}
	}
	t := &tile{task: task}
	unit.tiles = append(unit.tiles, t)
	return t
}

// shown is how many tasks of a unit are told in words at most.
const shown = 8

// View implements tea.Model.
func (p *picture) View() tea.View {
	var out strings.Builder
	for _, u := range p.units {
		sort.Slice(u.tiles, func(i, j int) bool { return u.tiles[i].task.ID < u.tiles[j].task.ID })
		fmt.Fprintf(&out, "%s %s  %s\n", p.paint.Bold(u.unit), u.platform, p.tiles(u.tiles))
		for _, t := range last(u.tiles) {
			out.WriteString("  " + p.words(t) + "\n")
		}
	}
	if p.over {
		// The line that the cursor is left on is written over by what follows.
		return tea.NewView(out.String())
	}
	return tea.NewView(strings.TrimSuffix(out.String(), "\n"))
}

// last picks what is told in words: all of a few tasks, of many the newest, with those that run.
func last(tiles []*tile) []*tile {
	if len(tiles) <= shown {
		return tiles
	}
	var running, over []*tile
	for _, t := range tiles {
		if t.over {
			over = append(over, t)
		} else {
			running = append(running, t)
		}
	}
	running = running[:min(len(running), shown)]
	return append(over[len(over)-(shown-len(running)):], running...)
}

// tiles draws a pile from the side: each tile overlaps the one below it.
func (p *picture) tiles(list []*tile) string {
	var out strings.Builder
	for _, t := range list {
		switch {
		case !t.over:
			out.WriteString(p.paint.Accent("▱"))
		case t.outcome.Worked():
			out.WriteString(p.paint.Accent("▰"))
		case t.outcome == event.Failed:
			out.WriteString(p.paint.Wrong("✗"))
		default:
			out.WriteString(p.paint.Muted("▰"))
		}
	}
	return out.String()
}

// cut makes a text fit into the picture; what is no text does not reach the terminal.
func (p *picture) cut(text string) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, text)
	if letters := []rune(text); p.width > 10 && len(letters) > p.width-6 {
		return string(letters[:p.width-7]) + "…"
	}
	return text
}

func (p *picture) words(t *tile) string {
	label := []rune(t.task.Label)
	if room := p.width - 40; p.width > 0 && len(label) > max(room, 20) {
		label = append(label[:max(room, 20)-1], '…')
	}
	if t.over {
		line := report.Mark(t.outcome) + " " + fmt.Sprintf("%-7s", t.outcome) + " "
		tail := t.detail
		if t.outcome.Worked() {
			line = p.paint.Accent(line)
			tail = strings.TrimPrefix(tail+", "+report.Took(t.took), ", ")
		} else {
			line = p.paint.Muted(line)
		}
		return line + string(label) + p.paint.Muted("  "+tail)
	}
	progress := report.Size(t.done)
	if t.done == 0 && t.total == 0 {
		progress = ""
	}
	if t.total > 0 {
		progress = fmt.Sprintf("%s of %s", report.Size(t.done), report.Size(t.total))
	}
	text := p.paint.Accent("◐ "+fmt.Sprintf("%-8s", t.act)) + string(label) + p.paint.Muted("  "+progress)
	if below := cmp.Or(t.note, t.line); below != "" {
		text += "\n    " + p.paint.Muted(p.cut(below))
	}
	return text
}
