package receipt

import (
	"bytes"
	"encoding/json"
	"errors"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/digest"
)

var one, two = digest.FromBytes([]byte("1")), digest.FromBytes([]byte("2"))

func full() *Receipt {
	dirty := false
	created := time.Date(2026, 6, 21, 9, 30, 0, 0, time.UTC)
	return &Receipt{Command: "ship", Outcome: Failed, Stopped: &Stop{Part: "tags", Message: "gone", Exit: 5}, Program: "imbricat 1", Began: created, Seconds: 1.5,
		Recipe: &Recipe{File: "imbricat.yaml", Digest: one, Lock: two}, Revision: &Revision{Commit: "c0ffee", Branch: "trunk", Dirty: &dirty}, Run: "7",
		Facts: map[string]string{"station": "north-pier"}, Ran: 1, Warnings: []Warning{{"shallow", "the clone is shallow"}}, Shared: &Shared{Place: "h:1/cache"},
		Images: []Image{{Name: "gauge", Digest: one, MediaType: "m", Created: &created, Platforms: []Platform{{Platform: "linux/arm64", Digest: two}},
			Destinations: []Destination{
				{Name: "main", Repository: "h:1/tides/gauge", Reference: "h:1/tides/gauge@" + string(one), Tags: []string{"1.4.0", "newest"}, Held: []Held{{"1", "higher"}}},
				{Name: "spare", Repository: "h:2/gauge"}}}},
		Checks: []Check{{Image: "gauge", Platform: "linux/arm64", Check: "size", Outcome: "holds"}},
		Steps: []Step{{Unit: "gauge", Platform: "linux/arm64", Place: "gauge:1", Step: "copy", Outcome: "ran", Reason: "first time", Layer: one, Failed: 1, Processor: 2, Memory: 3, Before: &Used{Seconds: 1},
			Reached: []Reached{{To: "http://index.tideline.example/tables", Times: 2, Bytes: 9, Status: 200, Content: one}, {To: "elsewhere.example:443", Times: 1, Problem: "not listed"}}}}}
}

func schema(t require.TestingT) *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("receipt.json", document))
	compiled, err := c.Compile("receipt.json")
	require.NoError(t, err)
	return compiled
}

// TestRoundTrip: what is written is what is read, and what the schema tells.
func TestRoundTrip(t *testing.T) {
	for _, r := range []*Receipt{full(), {Command: "ship", Outcome: Nothing, Why: "no tag's condition holds"}} {
		text, err := r.Encode()
		require.NoError(t, err)
		got, err := Decode("r.json", bytes.NewReader(text))
		require.NoError(t, err)
		require.Equal(t, r, got)
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err)
		require.NoError(t, schema(t).Validate(document))
		require.Error(t, r.Finished())
	}
	require.NoError(t, (&Receipt{Outcome: Done}).Finished())
	require.ErrorContains(t, full().Finished(), `stopped at its part "tags": gone`)
}

// TestMalformed: whatever is cut off, or says what cannot be, is refused with the reason.
func TestMalformed(t *testing.T) {
	whole, err := full().Encode()
	require.NoError(t, err)
	for at := range len(whole) - 2 {
		_, err := Decode("r.json", bytes.NewReader(whole[:at]))
		require.ErrorIs(t, err, ErrMalformed, "%s", whole[:at])
	}
	for _, c := range []struct{ from, to, want string }{
		{`"receipt": 1`, `"receipt": 2`, "has format 2; this version of imbricat reads format 1"},
		{`"receipt": 1`, `"other": 1`, `does not say "receipt": 1`},
		{`"outcome": "failed"`, `"outcome": "fine"`, `its outcome is "fine"`},
		{string(one), "sha256:12", `the image "gauge"`},
		{"h:1/tides/gauge@" + string(one), "h:1/tides/gauge@" + string(two), "is not h:1/tides/gauge@" + string(one)},
		{`"newest"`, `"../up"`, `"../up" is not a tag`},
		{"h:2/gauge", "gauge", `"gauge" names no registry`},
		{`"images": [`, `"images": 5, "x": [`, "cannot unmarshal"},
	} {
		_, err := Decode("r.json", strings.NewReader(strings.ReplaceAll(string(whole), c.from, c.to)))
		require.ErrorIs(t, err, ErrMalformed)
		require.ErrorContains(t, err, c.want)
	}
}

// TestLines: a shell reads the lines, and nothing in them is run.
func TestLines(t *testing.T) {
	r := full()
	r.Run = "$(touch hurt)"
	r.Revision.Commit = "`touch hurt`"
	require.Equal(t, "RECEIPT_OUTCOME=failed\nRECEIPT_STOPPED=tags\nRECEIPT_GAUGE_DIGEST="+string(one)+"\nRECEIPT_GAUGE_DIGEST_LINUX_ARM64="+string(two)+
		"\nRECEIPT_GAUGE_REFERENCE=h:1/tides/gauge@"+string(one)+"\nRECEIPT_GAUGE_TAGS=1.4.0,newest\n", r.Lines())
	out, err := exec.Command("sh", "-euc", r.Lines()+"echo $RECEIPT_GAUGE_TAGS").Output()
	require.NoError(t, err)
	require.Equal(t, "1.4.0,newest\n", string(out))
}

// FuzzDecode: whatever is read is refused as malformed, or is a receipt that the schema tells once it is written again.
func FuzzDecode(f *testing.F) {
	whole, _ := full().Encode()
	f.Add(string(whole))
	f.Add(`{"receipt": 1, "outcome": "done"}`)
	compiled := schema(f)
	f.Fuzz(func(t *testing.T, text string) {
		r, err := Decode("r.json", strings.NewReader(text))
		if err != nil {
			require.True(t, errors.Is(err, ErrMalformed), err)
			return
		}
		again, err := r.Encode()
		require.NoError(t, err)
		got, err := Decode("r.json", bytes.NewReader(again))
		require.NoError(t, err)
		require.Equal(t, r.Lines(), got.Lines())
		var plain map[string]any
		require.NoError(t, json.Unmarshal(again, &plain))
		if r.Command == "ship" && r.Stopped == nil && r.Steps == nil && r.Checks == nil && r.Began.Year() > 0 && r.Seconds >= 0 && r.Recipe == nil && len(r.Images) == 0 {
			document, err := jsonschema.UnmarshalJSON(bytes.NewReader(again))
			require.NoError(t, err)
			require.NoError(t, compiled.Validate(document))
		}
	})
}
