package once

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMap: work is done once, under the map's own context: whoever asked first and is ended takes nobody along, and whoever
// waits can be ended.
func TestMap(t *testing.T) {
	whole, end := context.WithCancel(t.Context())
	m := NewMap[string, int](whole)
	begun, go_ := make(chan struct{}), make(chan struct{})
	var times atomic.Int32
	work := func(ctx context.Context) (int, error) {
		times.Add(1)
		close(begun)
		<-go_
		return 7, ctx.Err()
	}
	first, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	group.Go(func() {
		value, err := m.Do(first, "tides", work)
		require.NoError(t, err)
		require.Equal(t, 7, value)
	})
	<-begun
	cancel()
	_, err := m.Do(first, "tides", work)
	require.ErrorIs(t, err, context.Canceled, "who waits is ended")
	for range 4 {
		group.Go(func() {
			value, err := m.Do(t.Context(), "tides", work)
			require.NoError(t, err)
			require.Equal(t, 7, value)
		})
	}
	close(go_)
	group.Wait()
	require.EqualValues(t, 1, times.Load())
	sum := 0
	m.Each(func(n int) { sum += n })
	require.Equal(t, 7, sum)

	m.Forget("tides")
	wrong, tries := errors.New("no such level"), 0
	for range 2 {
		_, err = m.Try(t.Context(), "tides", func(context.Context) (int, error) { tries++; return 0, wrong })
		require.ErrorIs(t, err, wrong)
	}
	require.Equal(t, 2, tries)
	begun = make(chan struct{})
	end()
	_, err = m.Do(t.Context(), "tides", work)
	require.ErrorIs(t, err, context.Canceled, "the work ends with the map")
}

// TestValue: a failure is kept, but not that of being ended.
func TestValue(t *testing.T) {
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	var asked int
	wrong := errors.New("no such level")
	v := NewValue(func(ctx context.Context) (int, error) {
		if asked++; ctx.Err() != nil {
			return 0, ctx.Err()
		}
		return asked, wrong
	})
	for v.turn <- struct{}{}; ; { // somebody has the turn
		_, err := v.Get(ended)
		require.ErrorIs(t, err, context.Canceled)
		<-v.turn
		break
	}
	require.Zero(t, asked)
	ended, cancel = context.WithCancel(t.Context())
	halfway := NewValue(func(ctx context.Context) (int, error) {
		if asked++; asked == 1 {
			cancel() // while it is read
		}
		return asked, ctx.Err()
	})
	_, err := halfway.Get(ended)
	require.ErrorIs(t, err, context.Canceled)
	second, err := halfway.Get(t.Context())
	require.NoError(t, err, "the next one asks again")
	require.Equal(t, 2, second)
	asked = 0
	for range 3 {
		_, err := v.Get(t.Context())
		require.ErrorIs(t, err, wrong)
	}
	require.Equal(t, 1, asked)
	known, err := Known("3.42").Get(t.Context())
	require.NoError(t, err)
	require.Equal(t, "3.42", known)
}
