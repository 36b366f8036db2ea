// Package tui shows the events of a build or a transfer while it runs: as lines, or as a live picture.
//
// It draws from snapshots of events and knows nothing of what it shows beyond them.
package tui

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/progress"
	"imbricat/internal/output/report"
)

// View is a sink of events that people look at.
type View interface {
	event.Sink
	// Close ends the view, repeats what needs attention, and writes a closing line where there is one. Closing it again
	// does nothing.
	Close(summary string)
}

// warnings keeps doubts for the end, where they are seen.
type warnings struct {
	mutex sync.Mutex
	list  []event.Warning
}

func (k *warnings) add(w event.Warning) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	k.list = append(k.list, w)
}

func (k *warnings) write(w io.Writer, p report.Paint) {
	k.mutex.Lock()
	defer k.mutex.Unlock()
	// Their order in time is chance.
	slices.SortFunc(k.list, func(a, b event.Warning) int { return strings.Compare(a.Text, b.Text) })
	for _, one := range k.list {
		text, context, more := strings.Cut(one.Text, "\n")
		fmt.Fprintln(w, p.Fit(fmt.Sprintf("%s %s %s", p.Bold("warning:"), text, p.Muted("["+one.Code+"]"))))
		if more {
			fmt.Fprintln(w, context)
		}
	}
	k.list = nil
}

// lines writes a line for each task that ends, whole and in one piece, so that a log can be read after the fact.
type lines struct {
	w        io.Writer
	paint    report.Paint
	quiet    bool
	mutex    sync.Mutex
	closed   bool
	warnings warnings
	printed  map[string]int // bytes of output, by task
	fold     *Fold
	folded   map[string]*folded // by task
	progress *progress.Progress
	silence  *time.Timer // ends when nothing was written for a while; nil: nobody wants to know
	patience time.Duration
}

// patience is after how long a log tells that something still runs: a pipeline ends jobs that are silent.
const patience = time.Minute

// folded is what a command printed so far that is to be a section.
type folded struct {
	task event.Task
	text strings.Builder
}

// mostOutput is how much of a command's output is shown while it runs, in bytes; all of it is kept with its record.
const mostOutput = 1 << 20

// output shows what a command prints, each line under the step's name.
func (l *lines) output(e event.Output) {
	if l.printed == nil {
		l.printed = map[string]int{}
	}
	before := l.printed[e.Task.ID]
	l.printed[e.Task.ID] += len(e.Text)
	head := l.paint.Muted("│ " + report.Where(e.Task) + ": ")
	switch {
	case l.fold != nil:
		l.collect(e, before)
	case before > mostOutput:
	case before+len(e.Text) > mostOutput:
		fmt.Fprintln(l.w, head+l.paint.Muted("… it prints a lot; the rest is not shown"))
	default:
		l.wrote()
		for line := range strings.Lines(e.Text) {
			fmt.Fprintln(l.w, head+lastState(line))
		}
	}
}

// lastState is what a line that was written over and over showed last.
func lastState(line string) string {
	line = strings.TrimRight(line, "\r\n")
	return line[strings.LastIndexByte(line, '\r')+1:]
}

// Lines is a view for logs. With a fold what a command prints comes as one section when it has ended.
func Lines(w io.Writer, p report.Paint, fold *Fold) View { return newLines(w, p, fold, patience) }

func newLines(w io.Writer, p report.Paint, fold *Fold, patience time.Duration) *lines {
	l := &lines{w: w, paint: p, fold: fold, folded: map[string]*folded{}, progress: progress.Start(time.Now()), patience: patience}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.silence = time.AfterFunc(patience, l.alive)
	return l
}

// alive tells what runs, where nothing was written for a while.
func (l *lines) alive() {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.closed {
		return
	}
	if active := l.progress.Active(time.Now()); len(active) > 0 {
		text := l.paint.Muted("… "+active[0].Act+" "+report.Where(active[0].Task)+":") + " " + active[0].Task.Label + l.paint.Muted(" ("+times(active[0])+" so far)")
		if more := len(active) - 1; more > 0 {
			text += l.paint.Muted(fmt.Sprintf(" and %d more", more))
		}
		fmt.Fprintln(l.w, l.paint.Fit(text))
	}
	l.silence.Reset(l.patience)
}

// wrote puts off telling what runs.
func (l *lines) wrote() {
	if l.silence != nil {
		l.silence.Reset(l.patience)
	}
}

func (l *lines) collect(e event.Output, before int) {
	one := l.folded[e.Task.ID]
	if one == nil {
		one = &folded{task: e.Task}
		l.folded[e.Task.ID] = one
	}
	switch {
	case before > mostOutput:
	case before+len(e.Text) > mostOutput:
		one.text.WriteString("… it prints a lot; the rest is not shown\n")
	default:
		one.text.WriteString(e.Text)
	}
}

// finish writes the line of a task that is over, as the title of a section where there is output to fold.
func (l *lines) finish(e event.Finished) {
	one := l.folded[e.Task.ID]
	delete(l.folded, e.Task.ID)
	if e.Outcome == event.Failed || e.Outcome == event.Skipped {
		return // the error itself tells of a failure, once; what needed nothing is only counted
	}
	l.wrote()
	if one == nil {
		fmt.Fprintln(l.w, l.paint.Fit(report.Line(l.paint, e)))
		return
	}
	l.fold.write(l.w, report.Line(report.Paint{}, e), one)
}

// None shows nothing but warnings, at the end.
func None(w io.Writer, p report.Paint) View { return &lines{w: w, paint: p, quiet: true} }

func (l *lines) Send(e event.Event) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.progress != nil {
		l.progress.Take(e, time.Now())
	}
	switch e := e.(type) {
	case event.Warning:
		l.warnings.add(e)
	case event.Output:
		if !l.quiet {
			l.output(e)
		}
	case event.Started:
		if e.Note != "" && !l.quiet {
			l.wrote()
			fmt.Fprintf(l.w, "%s %s\n", l.paint.Muted("… "+e.Act+" "+report.Where(e.Task)+":"), e.Note)
		}
	case event.Finished:
		if !l.quiet {
			l.finish(e)
		}
	}
}

func (l *lines) Close(summary string) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	if l.closed = true; l.silence != nil {
		l.silence.Stop()
	}
	for _, id := range slices.Sorted(maps.Keys(l.folded)) { // of commands that did not end
		l.fold.write(l.w, report.Where(l.folded[id].task)+": "+l.folded[id].task.Label, l.folded[id])
	}
	clear(l.folded)
	l.warnings.write(l.w, l.paint)
	if summary != "" && !l.quiet {
		fmt.Fprintln(l.w, summary)
	}
}
