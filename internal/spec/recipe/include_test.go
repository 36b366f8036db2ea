package recipe

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// findIn finds files of a made-up project.
func findIn(files map[string]string) Find {
	return func(name string) ([]Source, error) {
		text, there := files[name]
		if !there {
			return nil, errors.New("there is no such file")
		}
		return []Source{{name, []byte(text)}}, nil
	}
}

const parts = `# What both stations share.
facts:
  version: "1.0"
  registry: registry.tideline.example
shared:
  checks: &checks
    - size: {packed: 1MB}
silence: [merged]
stages:
  tables: {base: none, steps: [{write: {to: /t, text: t}}]}
`

// TestInclude: anchors and entries of an included file are the recipe's, whose own facts count before them; every place is told as it is
// written.
func TestInclude(t *testing.T) {
	own := `imbricat: 1
include: common/parts.yaml
facts:
  version: "2.0"
silence: [modes]
images:
  gauge:
    base: none
    steps: [{take: {from: tables, paths: /t, to: /t}}]
    checks: *checks
`
	files := map[string]string{"common/parts.yaml": parts}
	r, err := ParseGraph("imbricat.yaml", []byte(own), findIn(files))
	require.NoError(t, err)
	facts := map[string]string{}
	for _, f := range r.Facts {
		facts[f.Name] = f.Value.Source()
	}
	require.Equal(t, map[string]string{"version": "2.0", "registry": "registry.tideline.example"}, facts)
	require.ElementsMatch(t, []string{"merged", "modes"}, r.Silence)
	require.Len(t, r.Images[0].Checks, 1)
	require.Equal(t, []string{"imbricat.yaml", "common/parts.yaml"}, r.Files())
	name, line, column := r.File.Place(r.Images[0].Checks[0].Pos)
	require.Equal(t, "common/parts.yaml:7:7", strings.Join([]string{name, strconv.Itoa(line), strconv.Itoa(column)}, ":"))
	name, line, _ = r.File.Place(r.Images[0].Pos)
	require.Equal(t, "imbricat.yaml:7", name+":"+strconv.Itoa(line))
	name, line, _ = r.File.Place(r.Stages[0].Pos)
	require.Equal(t, "common/parts.yaml:10", name+":"+strconv.Itoa(line))

	// The same as if it was written in the recipe itself, whatever stands between.
	plain, err := Parse("imbricat.yaml", []byte(strings.Replace(own, "include: common/parts.yaml\nfacts:\n  version: \"2.0\"\nsilence: [modes]\n",
		strings.Replace(strings.Replace(parts, `"1.0"`, `"2.0"`, 1), "[merged]", "[merged, modes]", 1), 1)))
	require.NoError(t, err)
	require.Equal(t, plain.Images[0].Said, r.Images[0].Said)
	require.Equal(t, plain.Stages[0].Said, r.Stages[0].Said)

	// In recipes of other folders too, each with entries of its own; with the marks of a document, and lines that end as elsewhere.
	files["north/imbricat.yaml"] = strings.ReplaceAll("---\n"+own+"...\n", "\n", "\r\n")
	r, err = ParseGraph("imbricat.yaml", []byte("imbricat: 1\nrecipes: [north/imbricat.yaml]\n"), findIn(files))
	require.NoError(t, err)
	require.Equal(t, "north#tables", r.Stages[0].Name)
	name, line, _ = r.File.Place(r.Images[0].Pos)
	require.Equal(t, "north/imbricat.yaml:8", name+":"+strconv.Itoa(line))

	large := make([]string, 40)
	for i := range large {
		name := fmt.Sprintf("large-%d.yaml", i)
		large[i], files[name] = name, "shared: |\n  "+strings.Repeat("x", 120_000)+"\n"
	}
	_, err = ParseGraph("imbricat.yaml", []byte("imbricat: 1\ninclude: ["+strings.Join(large, ", ")+"]\nimages: {gauge: {base: none}}\n"), findIn(files))
	require.ErrorContains(t, err, "the recipe and what it includes have more than 4194304 bytes together")
	for _, c := range []struct{ own, parts, wrong string }{
		{"imbricat: 1\ninclude: missing.yaml\nimages: {}\n", "", "imbricat.yaml:2:10: include: missing.yaml: there is no such file"},
		{"imbricat: 1\ninclude: ../parts.yaml\nimages: {}\n", "", `imbricat.yaml:2:10: include names files below the project folder, each by its path: "../parts.yaml" is none`},
		{"imbricat: 1\ninclude: ['common/*.yaml']\nimages: {}\n", "", `"common/*.yaml" is none`},
		{own, "facts:\n  version: ${nothing.here}\n  other: ${nothing.here}\nshared: &checks []\n", "common/parts.yaml:3:"},
		{own, "facts: {}\n", "imbricat.yaml:10:1: this is not YAML: unknown anchor 'checks' referenced"},
		{own, "images: {}\n", `common/parts.yaml:1:1: what is included cannot hold "images": only imbricat, facts`},
		{own, "include: x\n", `cannot hold "include"`},
		{own, "facts: [\n", "common/parts.yaml:"},
		{own, "{facts: {a: b}}\n", "common/parts.yaml: what is included is a mapping in block style"},
		{own, "- a\n", "a mapping in block style"},
		{own, "", "common/parts.yaml:1:1: the recipe is empty"},
		{own, strings.Replace(parts, "tables: {", "tables: {nonsense: 1, ", 1), "common/parts.yaml:10:12:"},
		{strings.Replace(own, "images:", "stages:\n  tables: {base: none}\nimages:", 1), parts, `imbricat.yaml:7:3: "tables" is also in common/parts.yaml, which is included`},
		{strings.Replace(own, "    base: none", "    bse: none", 1), parts, "imbricat.yaml:8:5:"},
		{strings.Replace(own, "*checks", "*chcks", 1), parts, "imbricat.yaml:"},
		{"{imbricat: 1, include: common/parts.yaml, images: {gauge: {base: none}}}", parts, "imbricat.yaml:1:24: a recipe that includes others is written in block style"},
	} {
		files["common/parts.yaml"] = c.parts
		_, err := ParseGraph("imbricat.yaml", []byte(c.own), findIn(files))
		require.ErrorContains(t, err, c.wrong, "%s\n%s", c.own, c.parts)
	}
}
