package recipe

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAbsentInConditions: what is not known compares as the empty text does, and as nil where it is compared with that.
func TestAbsentInConditions(t *testing.T) {
	for text, want := range map[string][3]bool{ // with nothing known, on the tag nightly, on the tag v1.4.0
		`git.tag != ""`:                       {false, true, true},
		`git.tag == ""`:                       {true, false, false},
		`git.tag != nil`:                      {false, true, true},
		`nil == git.tag`:                      {true, false, false},
		`git.tag matches "^v?[0-9]"`:          {false, false, true},
		`git.tag startsWith "v"`:              {false, false, true},
		`not (git.tag startsWith "v")`:        {true, true, false},
		`(git.tag ?? "none") == "none"`:       {true, false, false},
		`git.tag in ["", "nightly"]`:          {true, true, false},
		`len(git.tag) > 0`:                    {false, true, true},
		`env.RELEASE == "yes"`:                {false, false, false},
		`git.branch == "trunk" && !git.dirty`: {false, false, false},
	} {
		r, err := Parse("r", []byte(imageWith(fmt.Sprintf("    publish: {main: {to: h:1/g, tags: [{tag: a, when: '%s'}]}}\n", text))))
		require.NoError(t, err, text)
		when := r.Images[0].Publish[0].Tags[0].When
		for i, tag := range []any{nil, "nightly", "v1.4.0"} {
			holds, err := when.EvalBool(&Scope{Git: map[string]any{"tag": tag}})
			require.NoError(t, err, text)
			require.Equal(t, want[i], holds, "%s on %v", text, tag)
		}
	}
}

// TestBoundedTexts: whatever an expression makes of long texts is refused where it stands, before it is made.
func TestBoundedTexts(t *testing.T) {
	long := strings.Repeat("tide", 8<<10) // 32 KiB
	for text, want := range map[string]string{
		`${facts.long}`:                           "",
		`${facts.long + facts.long}`:              "",
		`${facts.long + facts.long + "."}`:        "a text of more than 64 KiB",
		`${1 + 2}`:                                "",
		`${repeat("ab", 3)}`:                      "",
		`${repeat(facts.long, 1000000)}`:          "a text of more than 64 KiB",
		`${repeat("a", -1)}`:                      "a text of more than 64 KiB",
		`${join(["a", "b"], "-")}`:                "",
		`${join(split("1.4.0", ".")[:2], ".")}`:   "",
		`${join(map(1..9, facts.long))}`:          "a text of more than 64 KiB",
		`${join(map(1..900, "a"))}`:               "",
		`${join(map(1..100000, "a"))}`:            "makes lists of more than 2000 elements",
		`${replace("a.b", ".", "-")}`:             "",
		`${replace(facts.long, "t", facts.long)}`: "a text of more than 64 KiB",
		`${upper(facts.long + facts.long)}`:       "",
		`${facts.over}`:                           "facts.over has 128 KiB, and an expression takes texts of at most 64 KiB",
		`${env.OVER}`:                             "gives a text of 128 KiB, and at most 64 KiB are allowed",
		strings.Repeat(`${facts.long}`, 32):       "",
		strings.Repeat(`${facts.long}`, 33):       "what expressions give makes this text longer than 1.0 MiB",
		strings.Repeat("a", 2<<20) + "${1}":       "",
	} {
		r, err := Parse("r", []byte("imbricat: 1\nfacts: {long: x, over: x}\nimages:\n  gauge:\n    base: none\n    steps:\n      - write:\n          to: /a\n          text: >-\n            "+text+"\n"))
		require.NoError(t, err, text[:min(len(text), 60)])
		template := r.Images[0].Steps[0].Do.(*Write).Text
		scope := &Scope{Facts: map[string]any{"long": long, "over": strings.Repeat(long, 4)}, Env: map[string]any{"OVER": strings.Repeat(long, 4)}}
		_, err = template.Text(scope)
		if want == "" {
			require.NoError(t, err, text[:min(len(text), 60)])
			continue
		}
		require.ErrorContains(t, err, want, text[:min(len(text), 60)])
		require.ErrorContains(t, err, "r:10:", "with its place")
	}
	_, err := Parse("r", []byte(imageWith("    annotations: {a: '${"+strings.Repeat("1 + ", 600)+"1}'}\n")))
	require.ErrorContains(t, err, "exceeds maximum allowed nodes")

	// Many texts are bounded together.
	r, err := Parse("r", []byte("imbricat: 1\nfacts: {long: x, over: x}\nimages:\n  gauge:\n    base: none\n    steps:\n      - write: {to: /a, text: '"+strings.Repeat("${facts.long}", 32)+"'}\n"))
	require.NoError(t, err)
	template, scope := r.Images[0].Steps[0].Do.(*Write).Text, &Scope{Facts: map[string]any{"long": long}}
	for range maxMade / (1 << 20) {
		_, err := template.Text(scope)
		require.NoError(t, err)
	}
	_, err = template.Text(scope)
	require.ErrorContains(t, err, "the recipe's expressions make more than 256 MiB of text")
}
