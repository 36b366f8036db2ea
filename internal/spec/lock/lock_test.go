package lock

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/division"
)

func TestEncodeAndParse(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		l := &Lock{Bases: map[string]digest.Digest{}, Images: map[string]*division.Rules{}}
		for range rapid.IntRange(0, 4).Draw(r, "bases") {
			name := rapid.StringMatching(`[a-z.]{1,9}(:[0-9]{2,4})?/[a-z/]{1,9}:[A-Za-z0-9._-]{1,5}`).Draw(r, "reference")
			l.Bases[name] = digest.FromBytes([]byte(name))
		}
		for _, image := range rapid.SliceOfDistinct(rapid.StringMatching(`[a-z][a-z0-9-]{0,8}`), rapid.ID).Draw(r, "images") {
			paths := rapid.SliceOfNDistinct(rapid.StringMatching(`/[ -~ä#:"'\\]{1,9}`), 0, 6, func(s string) string { return s }).Draw(r, "paths")
			rules, err := division.New([][]string{{"/"}, paths})
			if err == nil {
				l.Images[image] = rules
			}
		}
		again, err := Parse("x", l.Encode())
		require.NoError(r, err)
		require.Equal(r, l, again)
		require.Empty(r, l.Differences(again))
	})
	for text, want := range map[string]string{
		"":                                       "has format 0",
		"imbricat-lock: 2":                       "has format 2; this version of imbricat reads format 1",
		"imbricat-lock: 1\nx: y":                 "is not a lock",
		"- a":                                    "is not a lock",
		"imbricat-lock: 1\nbases: {a: sha256:1}": "is not a digest",
		"imbricat-lock: 1\nimages: {gauge: [{paths: [/usr/]}]}":           "no part has /",
		"imbricat-lock: 1\nimages: {gauge: [{paths: [/]}, {paths: [/]}]}": "/ belongs to two parts",
	} {
		_, err := Parse("imbricat.lock", []byte(text))
		require.ErrorContains(t, err, want, text)
	}
}

func TestDifferences(t *testing.T) {
	one, two := digest.FromBytes([]byte("1")), digest.FromBytes([]byte("2"))
	old := &Lock{Bases: map[string]digest.Digest{"same": one, "moved": one, "gone": one}}
	now := &Lock{Bases: map[string]digest.Digest{"same": one, "moved": two, "new": two}}
	require.Equal(t, []Difference{{"gone", one, ""}, {"moved", one, two}, {"new", "", two}}, old.Differences(now))
}

// FuzzParse: no text makes the parser panic, and what it accepts comes back.
func FuzzParse(f *testing.F) {
	f.Add("imbricat-lock: 1\nbases:\n  a: sha256:0000000000000000000000000000000000000000000000000000000000000000\n")
	f.Fuzz(func(t *testing.T, text string) {
		l, err := Parse("x", []byte(text))
		if err != nil {
			return
		}
		again, err := Parse("x", l.Encode())
		require.NoError(t, err)
		require.Equal(t, l, again)
	})
}
