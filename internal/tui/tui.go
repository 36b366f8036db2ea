// Package tui shows the events of a build or a transfer while it runs: as lines, or as a live picture.
//
// It draws from snapshots of events and knows nothing of what it shows beyond them.
package tui

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"imbricat/internal/event"
	"imbricat/internal/report"
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
		fmt.Fprintf(w, "%s %s %s\n", p.Bold("warning:"), text, p.Muted("["+one.Code+"]"))
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
	warnings warnings
	printed  map[string]int // bytes of output, by task
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
	head := l.paint.Muted("│ " + report.Where(e.Task) + " ")
	switch {
	case before > mostOutput:
	case before+len(e.Text) > mostOutput:
		fmt.Fprintln(l.w, head+l.paint.Muted("… it prints a lot; the rest is not shown"))
	default:
		for line := range strings.Lines(e.Text) {
			// Of a line that was written over and over the last state is told.
			line = strings.TrimRight(line, "\r\n")
			fmt.Fprintln(l.w, head+line[strings.LastIndexByte(line, '\r')+1:])
		}
	}
}

// Lines is a view for logs.
func Lines(w io.Writer, p report.Paint) View { return &lines{w: w, paint: p} }

// None shows nothing but warnings, at the end.
func None(w io.Writer, p report.Paint) View { return &lines{w: w, paint: p, quiet: true} }

func (l *lines) Send(e event.Event) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	switch e := e.(type) {
	case event.Warning:
		l.warnings.add(e)
	case event.Output:
		if !l.quiet {
			l.output(e)
		}
	case event.Started:
		if e.Note != "" && !l.quiet {
			fmt.Fprintf(l.w, "%s %s\n", l.paint.Muted("… "+e.Act+" "+report.Where(e.Task)+":"), e.Note)
		}
	case event.Finished:
		// The error itself tells of a failure, once; what needed nothing is only counted.
		if !l.quiet && e.Outcome != event.Failed && e.Outcome != event.Skipped {
			fmt.Fprintln(l.w, report.Line(l.paint, e))
		}
	}
}

func (l *lines) Close(summary string) {
	l.mutex.Lock()
	defer l.mutex.Unlock()
	l.warnings.write(l.w, l.paint)
	if summary != "" && !l.quiet {
		fmt.Fprintln(l.w, summary)
	}
}
