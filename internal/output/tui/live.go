package tui

import (
	"context"
	"fmt"
	"io"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/progress"
	"imbricat/internal/output/report"
)

// live is a picture of what runs. It takes no input.
type live struct {
	w        io.Writer
	paint    report.Paint
	passing  bool // nothing is left of it
	program  *tea.Program
	ended    chan struct{}
	close    sync.Once
	warnings warnings

	mutex    sync.Mutex // of what follows
	progress *progress.Progress
	version  int // counts events
	draws    int // counts pictures
}

// Live is a view for terminals. What it leaves on the screen tells what was done.
func Live(ctx context.Context, w io.Writer, p report.Paint) View { return show(ctx, w, p, false) }

// Passing is Live that leaves nothing on the screen.
func Passing(ctx context.Context, w io.Writer, p report.Paint) View { return show(ctx, w, p, true) }

// perSecond is how often the picture is drawn at most.
const perSecond = 5

func show(ctx context.Context, w io.Writer, p report.Paint, passing bool) View {
	l := &live{w: w, paint: p, passing: passing, ended: make(chan struct{}), progress: progress.Start(time.Now())}
	l.program = tea.NewProgram(&screen{live: l}, tea.WithContext(ctx), tea.WithOutput(w),
		tea.WithInput(nil), tea.WithoutSignalHandler(), tea.WithFPS(perSecond), tea.WithColorProfile(profile(p)))
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

// Send implements event.Sink. The picture is drawn when it is time, not here.
func (l *live) Send(e event.Event) {
	if w, ok := e.(event.Warning); ok {
		l.warnings.add(w)
		return
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.progress.Take(e, time.Now())
	l.version++
}

func (l *live) Close(summary string) {
	l.close.Do(func() {
		l.program.Send(finish{})
		<-l.ended
		if !l.passing {
			l.mutex.Lock()
			fmt.Fprint(l.w, l.paint.Fit(transcript(l.paint, l.progress)))
			l.mutex.Unlock()
		}
		l.warnings.write(l.w, l.paint)
		if summary != "" {
			fmt.Fprintln(l.w, summary)
		}
	})
}

// screen is the picture as the terminal shows it.
type screen struct {
	live          *live
	width, height int
	over          bool

	drawn   string
	version int
	second  time.Duration
}

type (
	finish struct{}
	tick   struct{}
)

func (s *screen) again() tea.Cmd {
	return tea.Tick(time.Second/perSecond, func(time.Time) tea.Msg { return tick{} })
}

// Init implements tea.Model.
func (s *screen) Init() tea.Cmd { return s.again() }

// Update implements tea.Model.
func (s *screen) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		s.width, s.height, s.version = m.Width, m.Height, -1
	case finish:
		s.over = true
		return s, tea.Quit
	case tick:
		return s, s.again()
	}
	return s, nil
}

// View implements tea.Model. The same picture is not drawn again.
func (s *screen) View() tea.View {
	if s.over {
		return tea.NewView("")
	}
	l := s.live
	l.mutex.Lock()
	defer l.mutex.Unlock()
	now := time.Now()
	if second := l.progress.Elapsed(now).Truncate(time.Second); l.version != s.version || second != s.second {
		l.draws++
		s.drawn = picture(l.paint, l.progress, now, s.width, s.height)
		s.version, s.second = l.version, second
	}
	return tea.NewView(s.drawn)
}
