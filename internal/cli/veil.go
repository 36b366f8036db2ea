package cli

import (
	"os"
	"slices"
	"strings"
	"sync"

	"imbricat/internal/event"
)

// veil covers secrets in texts.
type veil struct {
	mutex   sync.Mutex
	secrets []string // longest first
}

// shortestSecret is the length from which on a secret can be told from chance, in bytes.
const shortestSecret = 4

// add has the values of variables of the environment covered from now on.
func (v *veil) add(variables ...string) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for _, name := range variables {
		if value := strings.TrimSpace(os.Getenv(name)); name != "" && len(value) >= shortestSecret && !slices.Contains(v.secrets, value) {
			v.secrets = append(v.secrets, value)
		}
	}
	slices.SortStableFunc(v.secrets, func(a, b string) int { return len(b) - len(a) })
}

// hides tells whether a text holds a secret.
func (v *veil) hides(text string) bool { return v.cover(text) != text }

func (v *veil) cover(text string) string {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	for _, s := range v.secrets {
		text = strings.ReplaceAll(text, s, "••••••")
	}
	return text
}

// event covers every text of an event that a value of the environment may have come into.
func (v *veil) event(e event.Event) event.Event {
	task := func(t event.Task) event.Task { t.Label, t.Unit = v.cover(t.Label), v.cover(t.Unit); return t }
	switch e := e.(type) {
	case event.Started:
		e.Task, e.Note = task(e.Task), v.cover(e.Note)
		return e
	case event.Progress:
		e.Task = task(e.Task)
		return e
	case event.Output:
		e.Task, e.Text = task(e.Task), v.cover(e.Text)
		return e
	case event.Finished:
		e.Task, e.Reason, e.Detail = task(e.Task), v.cover(e.Reason), v.cover(e.Detail)
		return e
	case event.Warning:
		e.Text = v.cover(e.Text)
		return e
	}
	return e
}
