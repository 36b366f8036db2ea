package hosts

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPatterns(t *testing.T) {
	for _, c := range []struct {
		pattern  string
		reads    string // as it is written back
		matches  []string
		matchnot []string
	}{
		{"Index.Tideline.example.", "index.tideline.example", []string{"index.tideline.example 443", "INDEX.tideline.example. 80"},
			[]string{"index.tideline.example 22", "x.index.tideline.example 443", "index.tideline.example.evil.example 443", "xindex.tideline.example 443", "index.tideline.example@evil.example 443"}},
		{"index.tideline.example:8080", "index.tideline.example:8080", []string{"index.tideline.example 8080"}, []string{"index.tideline.example 80", "index.tideline.example 443"}},
		{"*.tideline.example", "*.tideline.example", []string{"a.tideline.example 443", "a.b.tideline.example 80"},
			[]string{"tideline.example 443", "atideline.example 443", ".tideline.example.evil 443", "a.tideline.example 8443"}},
		{"*.tideline.example:22", "*.tideline.example:22", []string{"git.tideline.example 22"}, []string{"git.tideline.example 443"}},
		{"203.0.113.7", "203.0.113.7", []string{"203.0.113.7 443"}, []string{"203.0.113.70 443"}},
		{"[2001:DB8::0:1]:5000", "[2001:db8::1]:5000", []string{"2001:db8::1 5000", "[2001:DB8:0::1] 5000"}, []string{"2001:db8::1 443"}},
		{"2001:db8::1", "2001:db8::1", []string{"2001:db8::1 443"}, nil},
	} {
		t.Run(c.pattern, func(t *testing.T) {
			p, err := Parse(c.pattern)
			require.NoError(t, err)
			require.Equal(t, c.reads, p.String())
			again, err := Parse(p.String())
			require.NoError(t, err)
			require.Equal(t, p, again)
			ports := map[string]int{"22": 22, "80": 80, "443": 443, "5000": 5000, "8080": 8080, "8443": 8443}
			for _, one := range c.matches {
				host, port, _ := strings.Cut(one, " ")
				require.True(t, List{{name: "other.example"}, p}.Allows(host, ports[port]), one)
			}
			for _, one := range c.matchnot {
				host, port, _ := strings.Cut(one, " ")
				require.False(t, List{{name: "other.example"}, p}.Allows(host, ports[port]), one)
			}
		})
	}
	for wrong, why := range map[string]string{
		"": "not HOST", "*": "not HOST", "*.": "not HOST", "*.example": "too much", "a*.tideline.example": "not HOST", "a b": "not HOST", "-a.example": "not HOST",
		"https://index.tideline.example": "no path and no scheme", "index.tideline.example/simple": "not HOST", "index.tideline.example:0": "port", "index.tideline.example:65536": "port",
		"index.tideline.example:http": "port", "index.tideline.example:": "port", "localhost": "itself", "LOCALHOST.:80": "itself", "x.localhost": "itself", "127.0.0.9:5000": "itself", "[::1]:5000": "itself",
		"::ffff:127.0.0.1": "itself", "0.0.0.0": "itself", "*.203.0.113.7": "below an address", "keeper@index.tideline.example": "not HOST", "index..example": "not HOST",
		strings.Repeat("a.", 130) + "example": "not HOST", "évian.example": "not HOST", "index.tideline.example\n": "not HOST"} {
		_, err := ParseList([]string{"index.tideline.example", wrong})
		require.ErrorContains(t, err, why, "%q", wrong)
	}
	list, err := ParseList(nil)
	require.NoError(t, err)
	require.False(t, list.Allows("index.tideline.example", HTTPS))
}
