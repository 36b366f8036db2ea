package cli

import (
	"fmt"
	"os"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/printable"
	"imbricat/internal/ground/redact"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/report"
	"imbricat/internal/output/tui"
)

// progressFlags are those of commands that a pipeline runs.
func progressFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "events", Usage: "write what happens to this `FILE`, as JSON lines", Sources: env("EVENTS")},
		&cli.StringFlag{Name: "fold", Usage: "`OPEN|CLOSE`: the lines around what each command prints, for logs that fold sections; {title}, {name} and {time} are filled in", Sources: env("FOLD"),
			Validator: func(text string) error {
				if text == "" {
					return nil
				}
				if _, err := tui.ParseFold(text); err != nil {
					return fmt.Errorf("--fold cannot be %q: %w", text, err)
				}
				return nil
			}},
	}
}

// seen is a view whose events are covered and made fit for a terminal, and written to a file where that is wanted.
type seen struct {
	tui.View
	secrets *redact.Redactor
	file    *eventFile
	colours bool
}

// Send implements event.Sink.
func (s *seen) Send(e event.Event) {
	e = phrase.WithTexts(e, s.secrets.Text, s.secrets.Text)
	s.View.Send(phrase.WithTexts(e, printable.Text, func(text string) string { return printable.Output(text, s.colours) }))
	s.file.event(e, s.View)
}

// eventFile is a file of events. A nil one takes nothing.
type eventFile struct {
	mutex    sync.Mutex
	f        *os.File
	failed   bool
	progress map[string]time.Time // when a task's progress was written last
}

// openEvents opens the file of events, once for a run of the program, and writes its first line.
func (s *session) openEvents() (*eventFile, error) {
	name := s.cmd.String("events")
	if name == "" || s.events != nil {
		return s.events, nil
	}
	f, err := os.Create(name)
	if err != nil {
		return nil, flow.Usagef("--events: %w", err)
	}
	s.events = &eventFile{f: f, progress: map[string]time.Time{}}
	if !s.events.write(&report.EventLine{Time: time.Now().UTC(), Event: "began", Command: s.cmd.Name, Program: "imbricat " + version()}) {
		return nil, flow.Usagef("--events: %s cannot be written to", name)
	}
	return s.events, nil
}

// write writes a line at once, so that what was told stays told. It tells whether that went well.
func (f *eventFile) write(line *report.EventLine) bool {
	if f == nil || f.failed {
		return true
	}
	text, err := line.Encode()
	if err == nil {
		_, err = f.f.Write(text)
	}
	f.failed = err != nil
	return err == nil
}

// oftenest is how often the progress of one task is written.
const oftenest = time.Second

func (f *eventFile) event(e event.Event, doubts event.Sink) {
	if f == nil {
		return
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	now := time.Now()
	if p, is := e.(event.Progress); is {
		if now.Sub(f.progress[p.Task.ID]) < oftenest {
			return
		}
		f.progress[p.Task.ID] = now
	}
	if !f.write(report.LineOf(e, now)) {
		doubts.Send(event.Warning{Code: event.Events, Text: "events are no longer written to " + f.f.Name()})
	}
}

// end writes the last line.
func (f *eventFile) end(code int, message string) {
	if f == nil {
		return
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	f.write(&report.EventLine{Time: time.Now().UTC(), Event: "ended", Exit: &code, Message: message})
	f.f.Close()
}
