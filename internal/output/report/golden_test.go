package report

import (
	"bytes"
	"encoding/json"
	"flag"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
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

// TestGolden: what commands print with --format json, as they printed it for a made-up project, is written for people as it was
// looked at and found right. `go test -update` writes it anew: look at it again then.
func TestGolden(t *testing.T) {
	var p Paint
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
	for _, one := range []struct {
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
	} {
		require.NotEmpty(t, documents[one.document+".json"], one.document)
		got, err := one.write(documents[one.document+".json"])
		require.NoError(t, err, one.as)
		out = append(out, txtar.File{Name: one.as + ".txt", Data: []byte(got)})
		if !*update {
			require.Equal(t, string(documents[one.as+".txt"]), got, one.as)
		}
	}
	if *update {
		archive.Files = out
		require.NoError(t, os.WriteFile(file, txtar.Format(archive), 0o644))
	}
}
