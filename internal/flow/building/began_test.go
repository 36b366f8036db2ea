package building

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
)

// TestBegan: a step has begun when its command runs, whatever it waited for, and one that is told of at its end alone as long before as it took.
func TestBegan(t *testing.T) {
	w := &warnings{sink: event.Discard}
	waited := event.Task{ID: "1", Place: "pages:1", Platform: "linux/amd64"}
	w.Send(event.Started{Task: waited, Act: "waiting"})
	first, known := w.began("pages:1", "linux/amd64")
	require.True(t, known)
	time.Sleep(5 * time.Millisecond)
	w.Send(event.Started{Task: waited, Act: "running"})
	ran, _ := w.began("pages:1", "linux/amd64")
	require.Greater(t, ran.Sub(first), 4*time.Millisecond)
	w.Send(event.Finished{Task: waited, Took: time.Hour})
	after, _ := w.began("pages:1", "linux/amd64")
	require.Equal(t, ran, after)
	w.Send(event.Finished{Task: event.Task{Place: "pages:2"}, Took: time.Hour})
	quick, known := w.began("pages:2", "")
	require.True(t, known)
	require.InDelta(t, time.Hour.Seconds(), time.Since(quick).Seconds(), 60)
	_, known = w.began("pages:1", "linux/arm64")
	require.False(t, known)
}
