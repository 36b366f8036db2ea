package cli

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
	"imbricat/internal/ground/redact"
	"imbricat/internal/output/phrase"
	"imbricat/internal/output/report"
)

// TestEventsAreCovered: whatever kind of event a secret comes into, neither the log nor the file of events shows it.
func TestEventsAreCovered(t *testing.T) {
	var r redact.Redactor
	r.Add([]byte("sesame"))
	r.Add([]byte("sesame-street"))
	task := event.Task{ID: "1", Unit: "sesame/x", Label: "write /sesame"}
	at := time.Date(2026, 6, 21, 9, 30, 0, 0, time.UTC)
	for _, e := range []event.Event{
		event.Started{Task: task, Act: "waiting", Note: "for sesame"}, event.Started{Task: task, Act: "running", Why: event.Differs{Changes: []event.Change{{Path: "sesame"}}}}, event.Progress{Task: task, Done: 5}, event.Output{Task: task, Text: "a sesame-street\n"},
		event.Finished{Task: task, Outcome: event.Failed, Reason: event.Text("no sesame"), Detail: "sesame"},
		event.Finished{Task: task, Reason: event.Differs{Changes: []event.Change{{Path: "sesame"}}}}, event.Warning{Code: event.Secret, Text: "sesame"},
	} {
		text, err := report.LineOf(phrase.WithTexts(e, r.Text, r.Text), at).Encode()
		require.NoError(t, err)
		require.NotContains(t, string(text), "sesame")
		require.Contains(t, string(text), "••••••")
		require.Equal(t, 1, strings.Count(string(text), "\n"), "one line for each")
		var line map[string]any
		require.NoError(t, json.Unmarshal(text, &line))
		require.Equal(t, "2026-06-21T09:30:00Z", line["time"])
		require.Contains(t, []string{"started", "progress", "output", "finished", "warning"}, line["event"])
	}
}
