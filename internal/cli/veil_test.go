package cli

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
)

// TestVeil: whatever kind of event a secret comes into, neither the log nor the file of events shows it; what is too short to
// be told from chance stays.
func TestVeil(t *testing.T) {
	t.Setenv("TIDE_SECRET", "sesame")
	t.Setenv("TIDE_LONGER", "sesame-street")
	t.Setenv("TIDE_SHORT", "se")
	var v redactor
	require.False(t, v.hides("sesame"))
	v.add("TIDE_SECRET", "TIDE_LONGER", "TIDE_SHORT", "TIDE_UNSET", "")
	require.Equal(t, "open •••••• at ••••••, se", v.cover("open sesame-street at sesame, se"))
	require.True(t, v.hides("open sesame"))
	task := event.Task{ID: "1", Unit: "sesame/x", Label: "write /sesame"}
	at := time.Date(2026, 6, 21, 9, 30, 0, 0, time.UTC)
	for _, e := range []event.Event{
		event.Started{Task: task, Act: "waiting", Note: "for sesame"}, event.Progress{Task: task, Done: 5}, event.Output{Task: task, Text: "a sesame-street\n"},
		event.Finished{Task: task, Outcome: event.Failed, Reason: event.Text("no sesame"), Detail: "sesame"},
		event.Finished{Task: task, Reason: event.Differs{Changes: []event.Change{{Path: "sesame"}}}}, event.Warning{Code: event.Secret, Text: "sesame"},
	} {
		text, err := report.LineOf(v.event(e), at).Encode()
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
