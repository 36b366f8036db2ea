package store

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

// TestUploads: a note is there for the next run, belongs to one process at a time, and is gone when the upload is finished.
func TestUploads(t *testing.T) {
	s := open(t)
	other, err := Open(s.Dir())
	require.NoError(t, err)
	defer other.Close()
	blob := digest.FromBytes([]byte("tide"))
	u := s.TakeUpload("h:1/tides", blob)
	require.Empty(t, u.Address())
	require.Nil(t, other.TakeUpload("h:1/tides", blob), "somebody works on it")
	require.NotNil(t, other.TakeUpload("h:1/ebbs", blob))
	u.Note("https://h:1/a-long-place-for-it")
	u.Note("https://h:1/u")
	u.Release(false)
	again := other.TakeUpload("h:1/tides", blob)
	require.Equal(t, "https://h:1/u", again.Address())
	require.NoError(t, os.WriteFile(s.path(again.name), []byte(`{"repository":"h:1/ti`), 0o600))
	again.Release(false)
	cut := s.TakeUpload("h:1/tides", blob)
	require.Empty(t, cut.Address(), "a note that was cut off is none")
	cut.Note("https://h:1/u")
	cut.Release(true)
	require.NoFileExists(t, s.path(cut.name))
}
