package credential

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
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

// TestSources: the longest part of HOST/REPOSITORY counts, the first source that has a login counts, and a program is asked
// once, again when what it told was refused or has ended.
func TestSources(t *testing.T) {
	f := OpenFile(filepath.Join(t.TempDir(), "credentials.json"))
	require.NoError(t, f.Keep("h:1", Login{User: "host"}))
	require.NoError(t, f.Keep("h:1/tides", Login{User: "tides", Issuer: "https://i"}))
	require.NoError(t, f.Keep("h:1/tides/gauge", Login{User: "gauge"}))
	asked := filepath.Join(t.TempDir(), "asked")
	script := func(text string) []string { return []string{"sh", "-c", "echo x >> " + asked + "; " + text} }
	times := func() int {
		text, _ := os.ReadFile(asked)
		return strings.Count(string(text), "x")
	}
	p := &Programs{All: map[string]Program{
		"p:1":      {Command: script("cat > " + asked + ".in; echo username=harbour; echo password=s3cret; echo password_expiry_utc=99999999999"), Git: true},
		"p:1/ends": {Command: script("echo username=harbour; echo password=s3cret; echo password_expiry_utc=1"), Git: true},
		"p:1/none": {Command: script("echo username=harbour"), Git: true},
		"p:2":      {Command: script("echo tok3n"), User: "robot"},
		"p:3":      {Command: script("echo tok3n"), Life: time.Nanosecond},
		"p:4":      {Command: script("yes")},
		"p:5":      {Command: []string{"/no/such/program"}},
	}}
	chain := Chain{Fixed{"e:1/tides", Login{User: "environment", Secret: "x"}}, p, f}
	for _, c := range []struct{ host, repository, user, secret, token string }{
		{"h:1", "", "host", "", ""}, {"h:1", "tide", "host", "", ""}, {"h:1", "tides", "tides", "", ""}, {"h:1", "tides/other", "tides", "", ""},
		{"h:1", "tides/gauge", "gauge", "", ""}, {"h:1", "tides/gauges", "tides", "", ""}, {"h:2", "tides", "", "", ""},
		{"e:1", "tides/gauge", "environment", "x", ""}, {"e:1", "other", "", "", ""},
		{"p:1", "tides/gauge", "harbour", "s3cret", ""}, {"p:1", "none/x", "", "", ""},
		{"p:2", "a", "robot", "tok3n", ""}, {"p:3", "a", "", "", "tok3n"},
	} {
		l, err := chain.Find(t.Context(), c.host, c.repository)
		require.NoError(t, err)
		require.Equal(t, []string{c.user, c.secret, c.token}, []string{l.User, l.Secret.Reveal(), l.Token.Reveal()}, c)
	}
	input, err := os.ReadFile(asked + ".in")
	require.NoError(t, err)
	require.Equal(t, "protocol=https\nhost=p:1\npath=tides/gauge\n\n", string(input))
	ask := func(host, repository string) { _, _ = chain.Find(t.Context(), host, repository) }
	for _, c := range []struct {
		host, repository string
		more             int
	}{{"p:1", "tides/gauge", 0}, {"p:1", "ends/x", 1}, {"p:1", "ends/x", 1}, {"p:3", "a", 1}, {"p:2", "a", 0}} {
		before := times()
		ask(c.host, c.repository)
		require.Equal(t, before+c.more, times(), c)
	}
	before := times()
	chain.Refused("p:1", "tides/gauge")
	ask("p:1", "tides/gauge")
	require.Equal(t, before+1, times())
	for _, host := range []string{"p:4", "p:5"} {
		_, err := chain.Find(t.Context(), host, "")
		require.ErrorContains(t, err, "for the credentials of "+host)
	}
	kept, err := f.Find(t.Context(), "h:1", "tides")
	require.NoError(t, err)
	require.Equal(t, Login{User: "tides", Issuer: "https://i"}, kept)
}

// TestManyWriters: of logins that are kept at the same time none is lost.
func TestManyWriters(t *testing.T) {
	path := filepath.Join(t.TempDir(), "credentials.json")
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() { assert.NoError(t, OpenFile(path).Keep(fmt.Sprintf("h:%d", i), Login{User: "harbour"})) })
	}
	all.Wait()
	hosts, err := OpenFile(path).Hosts()
	require.NoError(t, err)
	require.Len(t, hosts, 20)
}
