package phrase

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
)

// TestWords: each reason has one line, and what more there is to say.
func TestWords(t *testing.T) {
	made := time.Date(2026, 3, 1, 12, 0, 0, 0, time.Local)
	changed := event.Change{Path: "a", From: "copy a"}
	for _, one := range []struct {
		reason event.Reason
		line   string
		more   []string
	}{
		{nil, "", nil},
		{event.Text("no room"), "no room", nil},
		{event.Expired{After: time.Hour}, "its result is older than 1h0m0s", nil},
		{event.Recalled{Made: made, Build: "7"}, "what it reads did not change", []string{"ran at 2026-03-01 12:00:00, build 7"}},
		{event.Recalled{Made: made, WholeView: true, Spared: 2 * time.Second, Shared: true}, "nothing below it changed, 2s spared, from the shared cache", []string{"ran at 2026-03-01 12:00:00 on another machine"}},
		{event.Recalled{Made: made, Spared: 83 * time.Second}, "what it reads did not change, 1m23s spared", []string{"ran at 2026-03-01 12:00:00, build "}},
		{event.Packed{}, "new content", nil},
		{event.Packed{Merged: true}, "new content, in a layer with other steps", nil},
		{event.Packed{New: 1, Of: 3}, "new content: 1 of 3 layers", nil},
		{event.Packed{Changes: []event.Change{{Path: "a"}, {Path: "b", Kind: event.Vanished}}}, "new content: /a changed, and 1 more", []string{"/a changed", "/b vanished"}},
		{event.Differs{Changes: []event.Change{changed}}, "/a changed (copy a)", []string{"/a changed (copy a)"}},
		{event.Differs{Changes: []event.Change{{Kind: event.Everything, Now: "it was not observed"}}}, "something below changed, and all of it counts: it was not observed", []string{"something below changed, and all of it counts: it was not observed"}},
		{event.Given{Changes: []event.Input{{Name: "arg", Was: []string{"make all\n"}, Now: []string{"make one\n"}}, {Name: "env", Variable: "V", Now: []string{"1"}}}},
			`the command changed: "make one" was "make all"`, []string{`the command changed: "make one" was "make all"`, "- make all", "+ make one", "the environment V is new"}},
		{event.Given{Changes: []event.Input{{Name: "arg", Was: []string{"apt-get install -y -q --no-install-recommends tide-tables=1.4.0 harmonics"}, Now: []string{"apt-get install -y -q --no-install-recommends tide-tables=1.4.1 harmonics"}}}},
			`the command changed: "…no-install-recommends tide-tables=1.4.1 harmonics" was "…no-install-recommends tide-tables=1.4.0 harmonics"`,
			[]string{`the command changed: "…no-install-recommends tide-tables=1.4.1 harmonics" was "…no-install-recommends tide-tables=1.4.0 harmonics"`, "- apt-get install -y -q --no-install-recommends tide-tables=1.4.0 harmonics", "+ apt-get install -y -q --no-install-recommends tide-tables=1.4.1 harmonics"}},
		{event.Given{Changes: []event.Input{{Name: "arg", Was: []string{"a\nb"}, Now: []string{"b\na"}}}}, "the command changed: its lines are in another order", []string{"the command changed: its lines are in another order"}},
		{event.Given{Changes: []event.Input{{Name: "env", Variable: "V", Was: []string{"1"}}}}, "the environment V is gone", []string{"the environment V is gone"}},
		{event.Given{Changes: []event.Input{{Name: "keep", Was: []string{"a"}, Now: []string{"b"}}}}, "its kept directories changed", []string{"its kept directories changed"}},
	} {
		require.Equal(t, one.line, Line(one.reason))
		require.Equal(t, one.more, More(one.reason), one.line)
	}
	for c := event.Unchanged; c <= event.Lost; c++ {
		require.NotEmpty(t, Line(c))
	}
	for kind, want := range map[event.ChangeKind]string{event.Appeared: "/a appeared", event.LeadsAway: "/a leads elsewhere", event.SizeChanged: "/a changed (its size alone was looked at)",
		event.MetaChanged: "mode, owner or time of /a changed", event.OtherKind: "/a is a folder now and was a file", event.Listing: "the listing of /a gained x and 1 more and lost z"} {
		require.Equal(t, want, Change(event.Change{Kind: kind, Path: "a", Was: "file", Now: "folder", Gained: []string{"x", "y"}, Lost: []string{"z"}}))
	}
}
