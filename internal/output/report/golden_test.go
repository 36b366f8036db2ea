package report

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
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
func written[D any](write func(d *D) string) func(text []byte) (string, error) {
	return func(text []byte) (string, error) {
		var d D
		if err := json.Unmarshal(text, &d); err != nil {
			return "", err
		}
		return write(&d), nil
	}
}

// plain writes what no document is at hand of.
func plain(write func() string) func([]byte) (string, error) {
	return func([]byte) (string, error) { return write(), nil }
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
		{"build", "build", written(func(d *Build) string { return BuildText(p, d) })},
		{"plan", "plan", written(func(d *Plan) string { return PlanText(p, d, false) })},
		{"plan", "reasons", written(func(d *Plan) string { return PlanText(p, d, true) })},
		{"plan", "graph", written(func(d *Plan) string { return GraphText(p, d) })},
		{"plan", "stacks", written(func(d *Plan) string { return StacksText(p, d.Stacks) })},
		{"plan", "volatility", written(func(d *Plan) string { return VolatilityText(p, d.Stacks) })},
		{"show", "show", written(func(d *inspect.Image) string { return ImageText(p, d, now) })},
		{"push", "push", written(func(d *Push) string { return PushText(p, d) })},
		{"receipt", "receipt", written(func(d *receipt.Receipt) string { return ReceiptText(p, d, true) })},
		{"store", "store", written(func(d *Store) string { return StoreText(p, d, now, "nothing") })},
		{"check", "check", written(func(d *store.Report) string { return CheckText(p, d) })},
		{"trim", "trim", written(func(d *store.Trimmed) string { return TrimmedText(p, d, true) })},
		{"kept", "kept", written(func(d *[]KeptDirectory) string { return KeptText(p, *d, now) })},
		{"logbook", "chart", written(func(d *Logbook) string {
			slices.Reverse(d.Builds)
			for i := range d.Builds {
				d.Builds[i].Steps = []PastStep{{Place: "gauge:3", Platform: "linux/amd64", Outcome: []string{"ran", "reused"}[i%2], Seconds: float64(10 + 30*i)}, {Place: "gauge:4", Outcome: "ran", Seconds: 1}}
			}
			return TrendText(p, TrendOfBuilds(d.Builds, func(s *PastStep) bool { return s.Place == "gauge:3" }), now)
		})},
		{"logbook", "logbook", written(func(d *Logbook) string { return LogbookText(p, d, now) })},
		{"one", "one", written(func(d *PastBuild) string { return PastBuildText(p, d, now) })},
		{"compare", "compare", written(func(d *PastComparison) string { return PastComparisonText(p, d) })},
		{"why", "why", written(func(d *Why) string { return ReasonsText(p, d.Steps, true) })},
		{"reads", "reads", written(func(d *Reads) string { return ReadsText(p, d, 5) })},
		{"tags", "tags", written(func(d *Tags) string { return TagsText(p, d, now) })},
		{"lock", "lock", written(func(d *Lock) string { return LockText(p, d) })},
		{"doctor", "doctor", written(func(d *Doctor) string { return DoctorText(p, d) })},
		{"", "checks", plain(func() string {
			list := []receipt.Check{{Image: "gauge", Platform: "linux/amd64", Check: "user root is not allowed", Outcome: "fails", Detail: "it runs as root\nset user:"},
				{Image: "gauge", Platform: "linux/amd64", Check: "size at most 1.0 MB packed", Outcome: "holds"}, {Image: "gauge", Platform: "linux/arm64", Check: "try gauge", Outcome: "unable", Detail: "no emulator"}}
			return ChecksText(p, list, true) + ChecksText(p, list, false)
		})},
		{"", "verdicts", plain(func() string {
			kept, gone := []Verdict{{"1.4.0", one, "it matches a pattern"}}, []Verdict{{"old", one, "nothing keeps it"}, {"older", two, "nothing keeps it"}}
			return VerdictsText(p, kept, gone, 1, true) + VerdictsText(p, nil, nil, 0, false)
		})},
		{"", "fates", plain(func() string {
			return FatesText(p, &Fates{[]Fate{{"registry.tideline.example/tides/gauge", "1.4.0", one, one, true}, {"registry.tideline.example/tides/gauge", "newest", one, two, true},
				{"registry.tideline.example/tides/gauge", "1.4", one, "", true}, {"registry.tideline.example/tides/gauge", "1", one, "", false}}})
		})},
		{"", "tried", plain(func() string {
			status := 3
			all := []Tried{{Name: "gauge-1", Image: "gauge", Platform: "linux/amd64", State: "running", Process: 42, Started: now.Add(-time.Hour)},
				{Name: "gauge-2", Image: "gauge", Platform: "linux/arm64", State: "ended", Process: 43, Started: now.Add(-time.Minute), Status: &status},
				{Name: "gauge-3", Image: "gauge", Platform: "linux/amd64", State: "killed", Process: 44, Started: now}}
			alone := TriedText(p, all, now)
			all[0].Network, all[0].Relays = "tides", []TriedRelay{{"127.0.0.1:18080", 8080}, {"127.0.0.1:40123", 9090}}
			return alone + TriedText(p, all, now)
		})},
		{"", "workbenches", plain(func() string {
			acts := []Act{{1, "exec make tables", now.Add(-time.Hour)}, {2, "put pages/public /srv/pages", now}}
			bench := Workbench{Name: "pier", Base: "registry.tideline.example/base/slim:4", Platform: "linux/amd64", Opened: now.Add(-2 * time.Hour), Acts: acts, Image: one}
			failed := Workbench{Name: "broken", Base: string(two), Platform: "linux/arm64", Opened: now, Failure: &Failure{"/home/tide/imbricat.yaml", "tables:2", "run make tables", "ended with status 2"}}
			return WorkbenchesText(p, nil, now) + WorkbenchesText(p, []Workbench{bench, failed}, now) + WorkbenchText(p, &bench, now) + WorkbenchText(p, &failed, now) +
				ActedText(p, &Acted{Workbench: "pier", Number: 2, Act: "put pages/public /srv/pages", Files: 34, Bytes: 1 << 20}) + ActedText(p, &Acted{Workbench: "pier", Act: "exec ls"}) +
				WorkbenchChangesText(p, nil) + WorkbenchChangesText(p, []WorkbenchChange{{"/etc/gauge.conf", "changed", "file", "0644", "0:0", 120}, {"/srv/old", "gone", "folder", "0755", "0:0", 0}, {"/srv/pages", "new", "folder", "0755", "7:8", 0}})
		})},
		{"", "verified", plain(func() string {
			return VerificationText(p, &Verification{[]Verified{{Subject: "gauge", Documents: 3, Blobs: 4, Bytes: 1200, Read: true}, {Subject: "receipt.json", Findings: []string{"the tag 1.4.0 stands on another digest"}}}})
		})},
		{"", "replays", plain(func() string {
			bytes := []ReplayBytes{{2, 4 << 20, 9 << 20}, {1, 12 << 20, 30 << 20}}
			return ReplaysText(p, []Replay{{"gauge", "linux/amd64", "1.0.0", "1.1.0", []string{"today", "one layer"}, []ReplayVersion{{"1.1.0", 1 << 20, bytes}}, bytes, 1 << 20}, {Image: "slim", Platform: "linux/arm64"}})
		})},
		{"", "names", plain(func() string {
			return NamesText(p, "dropped", &Names{[]Name{{"gauge", "/home/tide/tideline/imbricat.yaml", one}, {"", "", two}}})
		})},
		{"", "usage", plain(func() string {
			return UsageText(p, "/home/tide/store", store.Usage{Amounts: store.Amounts{Images: 1 << 20, Layers: 2 << 20, Kept: 300, Total: 3<<20 + 300}, Files: store.Amounts{Images: 4, Layers: 1200, Total: 1204}}) +
				BoundedText(p, &store.Bounded{Bytes: 3e9, Trees: 2, Files: 1200, Over: 1e6}, 20e9) + BoundedText(p, &store.Bounded{Bytes: 1e6, Files: 1, Over: 2e9, Held: true}, 20e9)
		})},
		{"", "forgotten", plain(func() string {
			return ForgottenText(p, &store.Forgotten{Place: "registry.tideline.example/cache", Records: 2, Runs: 1, Kept: []string{"rendered"}, Images: []string{"gauge"}}) + ForgottenText(p, &store.Forgotten{Place: "/home/tide/cache"})
		})},
		{"", "repository", plain(func() string {
			return RepositoryText(p, "127.0.0.1:5000", "tides/gauge", true) + RepositoryText(p, "127.0.0.1:5000", "tides/gauge", false)
		})},
		{"", "events", plain(func() string {
			task := event.Task{ID: "1", Unit: "gauge", Platform: "linux/amd64", Place: "gauge:1", Label: "write /x"}
			var w strings.Builder
			for _, e := range []event.Event{event.Planned{Units: []event.PlannedUnit{{Steps: make([]event.PlannedStep, 2)}, {Steps: make([]event.PlannedStep, 1)}}}, event.Started{Task: task, Act: "packing", Total: 9, Why: event.FirstTime}, event.Progress{Task: task, Done: 4}, event.Output{Task: task, Text: "low\n"},
				event.Finished{Task: task, Outcome: event.Reused, Reason: event.Unchanged, Detail: "1 file"}, event.Warning{Code: event.Stale, Text: "it replaces /x"}} {
				text, err := LineOf(e, now).Encode()
				require.NoError(t, err)
				w.Write(text)
				if done, is := e.(event.Finished); is {
					fmt.Fprintln(&w, Line(p, done))
				}
			}
			return w.String()
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
