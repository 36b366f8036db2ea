package report

import (
	"encoding/json"
	"time"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/phrase"
)

// EventLine is one line of a file of events. Sizes are in bytes, times in seconds.
type EventLine struct {
	Time     time.Time `json:"time"`
	Event    string    `json:"event"` // began, planned, started, progress, output, finished, warning or ended
	Command  string    `json:"command,omitempty"`
	Program  string    `json:"program,omitempty"`
	Task     string    `json:"task,omitempty"` // one for all events of a piece of work
	Unit     string    `json:"unit,omitempty"`
	Platform string    `json:"platform,omitempty"`
	Place    string    `json:"place,omitempty"` // gauge:3
	Label    string    `json:"label,omitempty"`
	Act      string    `json:"act,omitempty"`
	Note     string    `json:"note,omitempty"`
	Steps    int       `json:"steps,omitempty"`
	Done     int64     `json:"done,omitempty"`
	Total    int64     `json:"total,omitempty"`
	Text     string    `json:"text,omitempty"`
	Outcome  string    `json:"outcome,omitempty"`
	Reason   string    `json:"reason,omitempty"`
	Detail   string    `json:"detail,omitempty"`
	Seconds  *float64  `json:"seconds,omitempty"`
	Code     string    `json:"code,omitempty"`
	Exit     *int      `json:"exit,omitempty"`
	Message  string    `json:"message,omitempty"`
}

// LineOf describes an event.
func LineOf(e event.Event, at time.Time) *EventLine {
	line := &EventLine{Time: at.UTC()}
	task := func(kind string, t event.Task) {
		line.Event, line.Task, line.Unit, line.Platform, line.Place, line.Label = kind, t.ID, t.Unit, t.Platform, t.Place, t.Label
	}
	switch e := e.(type) {
	case event.Planned:
		line.Event = "planned"
		for _, u := range e.Units {
			line.Steps += len(u.Steps)
		}
	case event.Started:
		task("started", e.Task)
		line.Act, line.Total, line.Note, line.Reason = e.Act, e.Total, e.Note, phrase.Line(e.Why)
	case event.Progress:
		task("progress", e.Task)
		line.Done = e.Done
	case event.Output:
		task("output", e.Task)
		line.Text = e.Text
	case event.Finished:
		task("finished", e.Task)
		took := e.Took.Seconds()
		line.Outcome, line.Reason, line.Detail, line.Seconds = e.Outcome.String(), phrase.Line(e.Reason), e.Detail, &took
	case event.Warning:
		line.Event, line.Code, line.Text = "warning", e.Code, e.Text
	}
	return line
}

// Encode returns the line with its end.
func (l *EventLine) Encode() ([]byte, error) {
	text, err := json.Marshal(l)
	return append(text, '\n'), err
}
