package cli

import (
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
)

// TestDoubts: a warning is told again only where the round before did not give it; all else passes.
func TestDoubts(t *testing.T) {
	var d doubts
	round := func(texts ...string) (told []event.Event) {
		sink := d.once(event.Func(func(e event.Event) { told = append(told, e) }))
		for _, one := range texts {
			sink.Send(event.Warning{Text: one})
		}
		sink.Send(event.Progress{})
		return told
	}
	a, b, all := event.Warning{Text: "a"}, event.Warning{Text: "b"}, event.Progress{}
	require.Equal(t, []event.Event{a, all}, round("a"))
	require.Equal(t, []event.Event{b, all}, round("a", "b"))
	require.Equal(t, []event.Event{all}, round("b"))
	require.Equal(t, []event.Event{a, all}, round("a"))
}
