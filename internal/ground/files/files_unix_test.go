//go:build unix

package files

import (
	"io"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestReplaceSpecial: what is no file is written into, and stays what it is; a file is replaced, and so is a link to one.
func TestReplaceSpecial(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	require.NoError(t, unix.Mkfifo(pipe, 0o600))
	read := make(chan string, 1)
	go func() {
		f, err := os.Open(pipe)
		if err != nil {
			read <- err.Error()
			return
		}
		defer f.Close()
		text, _ := io.ReadAll(f)
		read <- string(text)
	}()
	require.NoError(t, Replace(pipe, []byte("tides"), 0o644))
	info, err := os.Lstat(pipe)
	require.NoError(t, err)
	require.Equal(t, os.ModeNamedPipe, info.Mode().Type())
	require.Equal(t, "tides", <-read)

	// As /dev/stdout is, where that goes to a file.
	out, err := os.Create(filepath.Join(t.TempDir(), "out"))
	require.NoError(t, err)
	defer out.Close()
	for name, target := range map[string]string{"stdout": "/proc/self/fd/" + strconv.Itoa(int(out.Fd())), "null": "/dev/null"} {
		link := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.Symlink(target, link))
		if _, err := os.Stat(link); err != nil {
			continue // a system without /proc
		}
		require.NoError(t, Replace(link, []byte("tides"), 0o644))
		now, err := os.Readlink(link)
		require.NoError(t, err)
		require.Equal(t, target, now)
	}

	own := filepath.Join(t.TempDir(), "own")
	for _, text := range []string{"one", "two"} {
		require.NoError(t, Replace(own, []byte(text), 0o600))
		got, err := os.ReadFile(own)
		require.NoError(t, err)
		require.Equal(t, text, string(got))
	}
	require.Error(t, Replace(t.TempDir(), nil, 0o600), "a folder")
}
