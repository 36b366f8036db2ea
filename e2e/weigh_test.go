package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// TestWeighSchemas: what weigh and compare print for programs is as their schemas say.
func TestWeighSchemas(t *testing.T) {
	r := newRun(t)
	for i, moon := range []string{"new", "full"} {
		r.write("src/moon", strings.Repeat(moon+"\n", 300))
		r.write("src/tides", moon)
		r.write("node/node_modules/tide/package.json", fmt.Sprintf(`{"name": "tide", "version": "1.%d.0"}`, i))
		r.write("imbricat.yaml", fmt.Sprintf(`imbricat: 1
images:
  base: {base: none, steps: [{write: {to: /usr/share/doc/tide, text: manual}}, {copy: {from: src, to: /srv}}]}
  gauge: {base: base, steps: [{remove: [/srv/tides]}, {copy: {from: node, to: /opt}}, {copy: {from: src/moon, to: /opt/moon}}], settings: {labels: {moon: %s}}}
  bare: {base: none, settings: {user: "7"}}
`, moon))
		r.ok("build", "--receipt", fmt.Sprintf("receipt-%d.json", i))
		if i == 0 {
			r.ok("store", "name", "gauge", "gauge:before")
		}
	}
	check := func(schema *jsonschema.Schema, args ...string) {
		t.Helper()
		out, err := r.command(append(args, "--format", "json")...).Output()
		if len(out) == 0 {
			require.NoError(t, err)
		}
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(out)))
		require.NoError(t, err)
		require.NoError(t, schema.Validate(document), string(out))
	}
	weigh, compare := r.schemaOf("weigh"), r.schemaOf("compare")
	check(weigh, "weigh", "gauge", "--against", "base", "--limit", "growth=1%", "--limit", "packed=1B")
	check(weigh, "weigh", "bare")
	check(weigh, "weigh", "gauge", "bare", "gauge:before")
	check(compare, "compare", "gauge:before", "gauge", "--text", "/opt/moon")
	check(compare, "compare", "gauge", "gauge")
	check(compare, "compare", "bare", "gauge")
	check(compare, "compare", "receipt-0.json", "receipt-1.json")
	require.Error(t, weigh.Validate(map[string]any{"reference": "gauge"}))
	require.Error(t, compare.Validate([]any{map[string]any{"image": "gauge", "what": "changed"}}), "what changed is told")
	for _, name := range []string{"map.svg", "map.png"} {
		r.ok("weigh", "gauge", "--chart", name)
		info, err := os.Stat(filepath.Join(r.dir, name))
		require.NoError(t, err)
		require.Positive(t, info.Size())
	}
}
