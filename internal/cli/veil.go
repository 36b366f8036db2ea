package cli

import (
	"bytes"
	"cmp"
	"os"
	"slices"
	"sync"

	"imbricat/internal/ground/conceal"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/phrase"
)

// redactor covers secrets in texts.
type redactor struct {
	mutex   sync.Mutex
	secrets [][]byte // longest first
}

// add has the values of variables of the environment covered from now on.
func (v *redactor) add(variables ...string) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for _, name := range variables {
		if name != "" {
			v.secrets = append(v.secrets, conceal.Forms([]byte(os.Getenv(name)))...)
		}
	}
	slices.SortStableFunc(v.secrets, func(a, b []byte) int { return cmp.Or(len(b)-len(a), bytes.Compare(a, b)) })
	v.secrets = slices.CompactFunc(v.secrets, bytes.Equal)
}

// hides tells whether a text holds a secret.
func (v *redactor) hides(text string) bool { return v.cover(text) != text }

func (v *redactor) cover(text string) string {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return conceal.CoverText(text, v.secrets)
}

// event covers every text of an event that a value of the environment may have come into.
func (v *redactor) event(e event.Event) event.Event { return withTexts(e, v.cover, v.cover) }

// withTexts is an event with each of its texts put through a function; output is what a command printed.
func withTexts(e event.Event, text, output func(string) string) event.Event {
	task := func(t event.Task) event.Task { t.Label, t.Unit = text(t.Label), text(t.Unit); return t }
	switch e := e.(type) {
	case event.Started:
		e.Task, e.Note = task(e.Task), text(e.Note)
		return e
	case event.Progress:
		e.Task = task(e.Task)
		return e
	case event.Output:
		e.Task, e.Text = task(e.Task), output(e.Text)
		return e
	case event.Finished:
		if e.Reason != nil {
			e.Reason = event.Text(text(phrase.Line(e.Reason)))
		}
		e.Task, e.Detail = task(e.Task), text(e.Detail)
		return e
	case event.Warning:
		e.Text = text(e.Text)
		return e
	}
	return e
}
