package folder

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestPlainCapability: a program's capabilities lose the user namespace in which they were set.
func TestPlainCapability(t *testing.T) {
	second := "\x01\x00\x00\x02\x00\x04\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"
	third := "\x01\x00\x00\x03" + second[4:] + "\xa0\x86\x01\x00"
	require.Equal(t, second, string(plainCapability([]byte(third))))
	require.Equal(t, second, string(plainCapability([]byte(second))))
}

// TestTouched: whatever somebody does to a folder after it was noted is found, with the size and the time left as they were too; what nobody
// touched is not, and what cannot be told is found rather than not.
func TestTouched(t *testing.T) {
	dir, marks := filepath.Join(t.TempDir(), "tree"), filepath.Join(t.TempDir(), "marks")
	write := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	for _, name := range []string{"still", "low/level", "low/other", "gone", "mode"} {
		write(name, "3.42")
	}
	time.Sleep(20 * time.Millisecond) // what was written in the same tick of the clock is in doubt
	require.NoError(t, Reading{Dir: dir}.Note(marks))
	all := []string{"still", "low", "low/level", "low/other", "gone", "mode"}
	touched := func(paths ...string) (names []string) {
		found, err := Reading{Dir: dir, Before: marks}.Touched(paths)
		require.NoError(t, err)
		for _, f := range found {
			names = append(names, f.Path)
		}
		return names
	}
	require.Empty(t, touched(all...))
	at, err := os.Stat(filepath.Join(dir, "low/level"))
	require.NoError(t, err)
	write("low/level", "4.23")
	require.NoError(t, os.Chtimes(filepath.Join(dir, "low/level"), time.Time{}, at.ModTime()))
	require.NoError(t, os.Remove(filepath.Join(dir, "gone")))
	require.NoError(t, os.Chmod(filepath.Join(dir, "mode"), 0o600))
	got := touched(all...)
	require.Contains(t, got, "low/level")
	require.Contains(t, got, "mode")
	require.NotContains(t, got, "still")
	require.NotContains(t, got, "low/other")
	require.NoError(t, os.WriteFile(marks, []byte("no marks"), 0o644))
	_, err = Reading{Dir: dir, Before: marks}.Touched(all)
	require.Error(t, err)
}
