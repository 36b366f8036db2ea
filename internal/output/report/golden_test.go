package report

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/receipt"
)

var update = flag.Bool("update", false, "write what is written now as what is wanted")

// now is when the documents of the tests are shown.
var now = time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)

// written decodes a document and writes it for people.
func written[D any](write func(w io.Writer, d *D) error) func(text []byte) (string, error) {
	return func(text []byte) (string, error) {
		var d D
		if err := json.Unmarshal(text, &d); err != nil {
			return "", err
		}
		var out bytes.Buffer
		err := write(&out, &d)
		return out.String(), err
	}
}

// plain writes what no document is at hand of.
func plain(write func(w io.Writer) error) func([]byte) (string, error) {
	return func([]byte) (string, error) {
		var out bytes.Buffer
		err := write(&out)
		return out.String(), err
	}
}

// TestGolden: what commands print with --format json, as they printed it for a made-up project, is written for people as it was
// looked at and found right. `go test -update` writes it anew: look at it again then.
func TestGolden(t *testing.T) {
	var p Paint
	one, two := digest.FromBytes([]byte("one")), digest.FromBytes([]byte("two"))
	const file = "testdata/documents.txtar"
	archive, err := txtar.ParseFile(file)
	require.NoError(t, err)
	documents := map[string][]byte{}
	for _, f := range archive.Files {
		documents[f.Name] = f.Data
	}
	var out []txtar.File
	for _, f := range archive.Files {
		if strings.HasSuffix(f.Name, ".json") {
			out = append(out, f)
		}
	}
	for _, c := range []struct {
		document, as string
		write        func(text []byte) (string, error)
	}{
		{"build", "build", written(func(w io.Writer, d *Build) error { return WriteBuild(w, p, d) })},
		{"plan", "plan", written(func(w io.Writer, d *Plan) error { return WritePlan(w, p, d, false) })},
		{"plan", "reasons", written(func(w io.Writer, d *Plan) error { return WritePlan(w, p, d, true) })},
		{"plan", "graph", written(func(w io.Writer, d *Plan) error { return WriteGraph(w, p, d) })},
		{"plan", "stacks", written(func(w io.Writer, d *Plan) error { WriteStacks(w, p, d.Stacks); return nil })},
		{"plan", "volatility", written(func(w io.Writer, d *Plan) error { WriteVolatility(w, p, d.Stacks); return nil })},
		{"show", "show", written(func(w io.Writer, d *inspect.Image) error { return WriteImage(w, p, d, now) })},
		{"push", "push", written(func(w io.Writer, d *Push) error { return WritePush(w, p, d) })},
		{"receipt", "receipt", written(func(w io.Writer, d *receipt.Receipt) error { return WriteReceipt(w, p, d, true) })},
		{"store", "store", written(func(w io.Writer, d *Store) error { return WriteStore(w, p, d, now, "nothing") })},
		{"check", "check", written(func(w io.Writer, d *store.Report) error { return WriteCheck(w, p, d) })},
		{"trim", "trim", written(func(w io.Writer, d *store.Trimmed) error { return WriteTrimmed(w, p, d, true) })},
		{"kept", "kept", written(func(w io.Writer, d *[]KeptDirectory) error { return WriteKept(w, p, *d, now) })},
		{"logbook", "logbook", written(func(w io.Writer, d *Logbook) error { return WriteLogbook(w, p, d, now) })},
		{"one", "one", written(func(w io.Writer, d *PastBuild) error { return WritePastBuild(w, p, d, now) })},
		{"compare", "compare", written(func(w io.Writer, d *PastComparison) error { return WritePastComparison(w, p, d) })},
		{"why", "why", written(func(w io.Writer, d *Why) error { return WriteReasons(w, p, d.Steps, true) })},
		{"reads", "reads", written(func(w io.Writer, d *Reads) error { return WriteReads(w, p, d, 5) })},
		{"tags", "tags", written(func(w io.Writer, d *Tags) error { return WriteTags(w, p, d, now) })},
		{"lock", "lock", written(func(w io.Writer, d *Lock) error { return WriteLock(w, p, d) })},
		{"doctor", "doctor", written(func(w io.Writer, d *Doctor) error { return WriteDoctor(w, p, d) })},
		{"", "checks", plain(func(w io.Writer) error {
			list := []receipt.Check{{Image: "gauge", Platform: "linux/amd64", Check: "user root is not allowed", Outcome: "fails", Detail: "it runs as root\nset user:"},
				{Image: "gauge", Platform: "linux/amd64", Check: "size at most 1.0 MB packed", Outcome: "holds"}, {Image: "gauge", Platform: "linux/arm64", Check: "try gauge", Outcome: "unable", Detail: "no emulator"}}
			WriteChecks(w, p, list, true)
			WriteChecks(w, p, list, false)
			return nil
		})},
		{"", "verdicts", plain(func(w io.Writer) error {
			kept, gone := []Verdict{{"1.4.0", one, "it matches a pattern"}}, []Verdict{{"old", one, "nothing keeps it"}, {"older", two, "nothing keeps it"}}
			return errors.Join(WriteVerdicts(w, p, kept, gone, 1, true), WriteVerdicts(w, p, nil, nil, 0, false))
		})},
		{"", "fates", plain(func(w io.Writer) error {
			return WriteFates(w, p, &Fates{[]Fate{{"registry.tideline.example/tides/gauge", "1.4.0", one, one, true}, {"registry.tideline.example/tides/gauge", "newest", one, two, true},
				{"registry.tideline.example/tides/gauge", "1.4", one, "", true}, {"registry.tideline.example/tides/gauge", "1", one, "", false}}})
		})},
		{"", "tried", plain(func(w io.Writer) error {
			status := 3
			return WriteTried(w, p, []Tried{{"gauge-1", "gauge", "linux/amd64", "running", 42, now.Add(-time.Hour), nil}, {"gauge-2", "gauge", "linux/arm64", "ended", 43, now.Add(-time.Minute), &status},
				{"gauge-3", "gauge", "linux/amd64", "killed", 44, now, nil}}, now)
		})},
		{"", "verified", plain(func(w io.Writer) error {
			return WriteVerification(w, p, &Verification{[]Verified{{Subject: "gauge", Documents: 3, Blobs: 4, Bytes: 1200, Read: true}, {Subject: "receipt.json", Findings: []string{"the tag 1.4.0 stands on another digest"}}}})
		})},
		{"", "replays", plain(func(w io.Writer) error {
			bytes := []ReplayBytes{{2, 4 << 20, 9 << 20}, {1, 12 << 20, 30 << 20}}
			return WriteReplays(w, p, []Replay{{"gauge", "linux/amd64", "1.0.0", "1.1.0", []string{"today", "one layer"}, []ReplayVersion{{"1.1.0", 1 << 20, bytes}}, bytes, 1 << 20}, {Image: "slim", Platform: "linux/arm64"}})
		})},
		{"", "names", plain(func(w io.Writer) error {
			return WriteNames(w, p, "dropped", &Names{[]Name{{"gauge", "/home/tide/tideline/imbricat.yaml", one}, {"", "", two}}})
		})},
		{"", "usage", plain(func(w io.Writer) error {
			return WriteUsage(w, p, "/home/tide/store", store.Usage{Images: 1 << 20, Layers: 2 << 20, Kept: 300, Total: 3<<20 + 300})
		})},
		{"", "forgotten", plain(func(w io.Writer) error {
			return errors.Join(WriteForgotten(w, p, &store.Forgotten{Place: "registry.tideline.example/cache", Records: 2, Runs: 1, Kept: []string{"rendered"}, Images: []string{"gauge"}}),
				WriteForgotten(w, p, &store.Forgotten{Place: "/home/tide/cache"}))
		})},
		{"", "repository", plain(func(w io.Writer) error {
			return errors.Join(WriteRepository(w, p, "127.0.0.1:5000", "tides/gauge", true), WriteRepository(w, p, "127.0.0.1:5000", "tides/gauge", false))
		})},
		{"", "events", plain(func(w io.Writer) error {
			task := event.Task{ID: "1", Unit: "gauge", Platform: "linux/amd64", Place: "gauge:1", Label: "write /x"}
			for _, e := range []event.Event{event.Started{Task: task, Act: "packing", Total: 9}, event.Progress{Task: task, Done: 4}, event.Output{Task: task, Text: "low\n"},
				event.Finished{Task: task, Outcome: event.Reused, Reason: event.Unchanged, Detail: "1 file"}, event.Warning{Code: event.Stale, Text: "it replaces /x"}} {
				text, err := LineOf(e, now).Encode()
				if err != nil {
					return err
				}
				if _, err := w.Write(text); err != nil {
					return err
				}
				if done, is := e.(event.Finished); is {
					fmt.Fprintln(w, Line(p, done))
				}
			}
			return nil
		})},
	} {
		if c.document != "" {
			require.NotEmpty(t, documents[c.document+".json"], c.document)
		}
		got, err := c.write(documents[c.document+".json"])
		require.NoError(t, err, c.as)
		out = append(out, txtar.File{Name: c.as + ".txt", Data: []byte(got)})
		if !*update {
			require.Equal(t, string(documents[c.as+".txt"]), got, c.as)
		}
	}
	if *update {
		archive.Files = out
		require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
	}
}
