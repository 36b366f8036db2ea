package poll

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

// TestUntil: it is asked at once and after each pause, and the first answer, error or end of the context counts.
func TestUntil(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		wrong := errors.New("wrong")
		for _, c := range []struct {
			calls int // that say no
			err   error
			took  time.Duration
			want  error
		}{
			{0, nil, 0, nil},
			{3, nil, 3 * time.Second, nil},
			{2, wrong, 2 * time.Second, wrong},
			{100, nil, 10*time.Second + time.Millisecond, context.DeadlineExceeded},
		} {
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second+time.Millisecond)
			began, calls := time.Now(), 0
			err := Until(ctx, time.Second, func() (bool, error) {
				calls++
				return calls > c.calls && c.err == nil, map[bool]error{true: c.err}[calls > c.calls]
			})
			cancel()
			require.ErrorIs(t, err, c.want)
			require.Equal(t, c.took, time.Since(began))
		}
	})
}
