package background

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
)

// TestTries: names are free, valid and told apart; what is written is read again, in the order of the names; and one runs as long
// as its process holds the lock, which ending it waits for.
func TestTries(t *testing.T) {
	st, err := store.Open(filepath.Join(t.TempDir(), "store"))
	require.NoError(t, err)
	for _, wanted := range []string{"../up", strings.Repeat("t", 101), "", "tide", "tide"} {
		b, err := New(st, wanted, "registry.tideline.example/tides/gauge:1.4.0")
		var name *NameError
		switch {
		case wanted == "../up" || len(wanted) > 100:
			require.ErrorAs(t, err, &name)
			require.False(t, name.Taken)
		case b == nil:
			require.ErrorAs(t, err, &name)
			require.True(t, name.Taken)
			require.ErrorContains(t, err, "try stop tide")
		default:
			require.NoError(t, err)
			require.False(t, b.Running())
			b.Started = time.Now().UTC()
			require.NoError(t, b.Write())
			again, err := Read(b.Dir())
			require.NoError(t, err)
			require.Equal(t, b, again)
		}
	}
	require.NoError(t, os.WriteFile(filepath.Join(st.Dir(), "imbricat/tries/tide/state.json"), []byte(`{"name":"tide","process":`), 0o600))
	all, err := All(st)
	require.NoError(t, err)
	require.Len(t, all, 1, "what is half written is none")
	require.Equal(t, "gauge-1.4.0-1", all[0].Name)

	b := In(all[0].Dir())
	c := exec.Command("sleep", "60")
	require.NoError(t, c.Start())
	b.Process = c.Process.Pid
	lock := flock.New(b.Path("lock"))
	held, err := lock.TryLock()
	require.NoError(t, err)
	require.True(t, held)
	require.True(t, b.Running())
	go func() {
		_ = c.Wait()
		lock.Close()
	}()
	require.NoError(t, b.End(t.Context(), time.Minute))
	require.False(t, b.Running())
	require.ErrorIs(t, c.Process.Signal(syscall.Signal(0)), os.ErrProcessDone)
	require.NoError(t, b.End(t.Context(), 0), "it has ended")
}
