package settings

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/adrg/xdg"
	"github.com/stretchr/testify/require"

	"imbricat/internal/flow"
)

// write puts settings where they are looked for.
func write(t *testing.T, text string) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	xdg.Reload()
	t.Cleanup(xdg.Reload)
	require.NoError(t, os.MkdirAll(filepath.Dir(File()), 0o755))
	require.NoError(t, os.WriteFile(File(), []byte(text), 0o600))
}

// TestRead: settings are checked whole, and a mistake is told with its place and without our own types.
func TestRead(t *testing.T) {
	for text, want := range map[string]string{
		"":                                     "",
		"cache: {share: ./x, direction: read}": "",
		"cache: {mode: read}":                  `cache: "mode" is called "direction"`,
		"cache: {direction: sometimes}":        `cache: direction: cannot be "sometimes": read, write or both`,
		"limits: {memory: much}":               `limits: memory must be a size such as 8GB, not "much"`,
		"limits: {disk: '0'}":                  "limits: disk must be a size",
		"store: {at-most: 0GB}":                `store: at-most must be a size such as 8GB, not "0GB"`,
		"limits: {processes: -1}":              "limits: processes must be a number above 0",
		"limits: {colour: red}":                "there is no key colour here",
		"trust: {registry.tideline.example/cache: [no key]}":                                                   "trust: registry.tideline.example/cache",
		"trust: {registry.tideline.example/cache: []}":                                                         "there is no key in the list",
		"trust: {registry.tideline.example/cache: [none.pem]}":                                                 "no such file",
		"trust: {./relative: [MCowBQYDK2VwAyEAAAECAwQFBgcICQoLDA0ODxAREhMUFRYXGBkaGxwdHh8=]}":                  "write HOST/REPOSITORY or a whole path of a folder",
		"notify: {to: 'https://h.tideline.example/told', key: notice.key, on: failed}":                         "",
		"notify: [{to: 'http://127.0.0.1:80/told', on: [done, nothing]}]":                                      "",
		"notify: [{to: 'http://h.tideline.example/told'}]":                                                     "notify: to: http://h.tideline.example/told: notices go to https addresses",
		"notify: {to: 'https://h.tideline.example', on: never}":                                                `notify: on: cannot be "never"`,
		"notify: {too: 'https://h.tideline.example'}":                                                          "there is no key too here",
		"registries: {registry.tideline.example: {parallel: 65}}":                                              "registries: registry.tideline.example: parallel: a number from 1 to 64",
		"registries: {registry.tideline.example: {chunk: 10kB}}":                                               "write a size from 1MB on",
		"registries: {registry.tideline.example: {issuer: tokens}}":                                            "issuer: \"tokens\": write https://HOST",
		"registries: {registry.tideline.example: {mirrors: ['a b']}}":                                          "mirrors:",
		"registries: {'a b': {}}":                                                                              "registries: a b",
		"registries: {registry.tideline.example: {key: k}}":                                                    "key: there is no certificate for it",
		"registries: {registry.tideline.example: {authority: none.pem}}":                                       "authority:",
		"registries: {registry.tideline.example: {credentials: {}}}":                                           "takes helper or token",
		"registries: {registry.tideline.example: {credentials: {helper: [a], token: [b]}}}":                    "takes helper or token",
		"registries: {registry.tideline.example: {credentials: {token: [a], life: soon}}}":                     "credentials: life:",
		"registries: {registry.tideline.example: {plain-http: true, chunk: 32MB, mirrors: [m.example/tides]}}": "",
	} {
		write(t, text)
		_, err := Read()
		if want == "" {
			require.NoError(t, err, text)
			continue
		}
		require.ErrorContains(t, err, want, text)
		require.ErrorContains(t, err, File())
		var kind *flow.Error
		require.ErrorAs(t, err, &kind)
		require.Equal(t, flow.Usage, kind.Kind)
	}
	write(t, "limits: {memory: 2GB, disk: 1MB, processes: 30}\nregistries: {registry.tideline.example: {credentials: {helper: [keys], life: 1h}}}\n")
	s, err := Read()
	require.NoError(t, err)
	require.EqualValues(t, 2e9, s.Bounds.Memory)
	require.EqualValues(t, 1e6, s.Bounds.Disk)
	require.EqualValues(t, 20e9, s.AtMost)
	require.Equal(t, 30, s.Bounds.Processes)
	require.Equal(t, time.Hour, s.programs["registry.tideline.example"].Life)
	require.True(t, s.programs["registry.tideline.example"].Git)

	write(t, "notify: {to: 'https://h.tideline.example/told', key: notice.key}")
	s, err = Read()
	require.NoError(t, err)
	require.Equal(t, notices{{"https://h.tideline.example/told", filepath.Join(filepath.Dir(File()), "notice.key"), words{"done", "failed"}}}, s.Notify)
	write(t, "store: {at-most: 500MB}")
	s, err = Read()
	require.NoError(t, err)
	require.EqualValues(t, 500e6, s.AtMost)
}

// TestLogins: the environment comes before programs and the file, and half a login there is refused.
func TestLogins(t *testing.T) {
	write(t, "")
	for _, c := range []struct {
		registry, user, secret, token, issuer string
		want                                  string
	}{
		{"", "", "sesame", "", "", ""},
		{"registry.tideline.example", "harbour", "sesame", "", "", ""},
		{"registry.tideline.example/tides", "", "", "token", "https://tokens.example", ""},
		{"registry.tideline.example", "harbour", "", "", "", "neither IMBRICAT_SECRET nor IMBRICAT_TOKEN holds a secret"},
		{"a b", "harbour", "sesame", "", "", "IMBRICAT_REGISTRY: "},
		{"registry.tideline.example", "harbour", "sesame", "", "tokens.example", "IMBRICAT_ISSUER must be https://HOST"},
	} {
		t.Setenv(registryVariable, c.registry)
		t.Setenv(userVariable, c.user)
		t.Setenv(SecretVariable, c.secret)
		t.Setenv(TokenVariable, c.token)
		t.Setenv(issuerVariable, c.issuer)
		s, err := Read()
		require.NoError(t, err)
		chain, err := s.Logins()
		if c.want != "" {
			require.ErrorContains(t, err, c.want)
			continue
		}
		require.NoError(t, err)
		login, err := chain.Find(t.Context(), "registry.tideline.example", "tides/gauge")
		require.NoError(t, err)
		require.Equal(t, c.registry != "", login.Given(), "%+v", c)
		require.Equal(t, c.issuer, s.settings["registry.tideline.example"].Issuer)
	}
	t.Setenv(signingVariable, "no key")
	s, err := Read()
	require.NoError(t, err)
	_, err = s.Signer()
	require.ErrorContains(t, err, signingVariable)
	t.Setenv(signingVariable, "")
	signer, err := s.Signer()
	require.NoError(t, err)
	require.Nil(t, signer)
}
