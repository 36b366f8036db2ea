package credential

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFile(t *testing.T) {
	f := OpenFile(filepath.Join(t.TempDir(), "deep", "credentials.json"))
	none, err := f.Find(t.Context(), "h:1", "tides/gauge")
	require.NoError(t, err)
	require.False(t, none.Given())
	require.NoError(t, f.Keep("h:1", Login{User: "harbour", Secret: "s3cret"}))
	require.NoError(t, f.Keep("h:2", Login{User: "mole", Secret: "0ther"}))
	info, err := os.Stat(f.Path())
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	got, err := f.Find(t.Context(), "h:1", "tides/gauge")
	require.NoError(t, err)
	require.Equal(t, "s3cret", got.Secret.Reveal())
	hosts, err := f.Hosts()
	require.NoError(t, err)
	require.Equal(t, []string{"h:1", "h:2"}, hosts)
	known, err := f.Forget("h:1")
	require.NoError(t, err)
	require.True(t, known)
	text, err := os.ReadFile(f.Path())
	require.NoError(t, err)
	require.NotContains(t, string(text), "s3cret")
	require.Contains(t, string(text), "0ther")

	require.NoError(t, os.Chmod(f.Path(), 0o640))
	_, err = f.Find(t.Context(), "h:2", "")
	require.ErrorContains(t, err, "can be read by others")
	require.NoError(t, os.Chmod(f.Path(), 0o600))
	require.NoError(t, os.WriteFile(f.Path(), []byte("["), 0o600))
	_, err = f.Find(t.Context(), "h:2", "")
	require.ErrorContains(t, err, "are damaged")
}

func TestSecretsNeverPrint(t *testing.T) {
	login := Login{User: "harbour", Secret: "s3cret"}
	encoded, err := json.Marshal(login)
	require.NoError(t, err)
	for _, text := range []string{fmt.Sprint(login), fmt.Sprintf("%v %+v %#v %s %q", login, login, login, login.Secret, login.Secret), string(encoded)} {
		require.NotContains(t, text, "s3cret")
	}
}
