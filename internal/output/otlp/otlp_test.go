package otlp

import (
	"encoding/base64"
	"encoding/hex"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	v1 "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protojson"

	"imbricat/internal/output/report"
)

// ids are what OTLP writes as hexadecimal digits, where JSON of protocol buffers has base64 otherwise.
var ids = regexp.MustCompile(`"(traceId|spanId|parentSpanId)":"([0-9a-f]+)"`)

// decoded reads a document by the published schema, and refuses what that does not know.
func decoded(t *testing.T, text []byte) *v1.TracesData {
	text = ids.ReplaceAllFunc(text, func(one []byte) []byte {
		parts := ids.FindSubmatch(one)
		raw, err := hex.DecodeString(string(parts[2]))
		require.NoError(t, err)
		return []byte(`"` + string(parts[1]) + `":"` + base64.StdEncoding.EncodeToString(raw) + `"`)
	})
	var request v1.TracesData
	require.NoError(t, protojson.Unmarshal(text, &request))
	return &request
}

func TestTraces(t *testing.T) {
	began := time.Date(2026, 11, 30, 6, 0, 0, 5_000_000, time.UTC)
	at := func(s float64) *float64 { return &s }
	build := &report.PastBuild{Number: 12, Project: "/tideline", Command: "imbricat build gauge --fresh", Started: began, Seconds: 2.5, Outcome: "failed", Error: "it failed", Ran: 1, Facts: map[string]string{"version": "1.4"},
		Images: []report.PastImage{{Name: "gauge", Digest: "sha256:11", Packed: 99}},
		Steps: []report.PastStep{{Unit: "gauge", Platform: "linux/amd64", Place: "gauge:1", Step: "copy", Outcome: "ran", Reason: "new content", Began: at(0.25), Seconds: 1, Bytes: 7},
			{Place: "gauge:2", Step: "nothing is known of it", Outcome: "skipped"},
			{Place: "gauge:3", Step: "render \u2028 \"it\"", Outcome: "failed", Reason: "ended with status 1", Began: at(1.25), Seconds: 0.5}}}
	text, err := Traces(Resource{Service: "tideline", Version: "0.1", Attributes: map[string]string{"host.name": "harbour"}}, build)
	require.NoError(t, err)
	again, err := Traces(Resource{Service: "tideline", Version: "0.1", Attributes: map[string]string{"host.name": "harbour"}}, build)
	require.NoError(t, err)
	require.Equal(t, text, again)
	all := decoded(t, text).ResourceSpans
	require.Len(t, all, 1)
	require.Len(t, all[0].Resource.Attributes, 3)
	spans := all[0].ScopeSpans[0].Spans
	require.Len(t, spans, 3)
	root, copied, failed := spans[0], spans[1], spans[2]
	require.Equal(t, "imbricat build", root.Name)
	require.Empty(t, root.ParentSpanId)
	require.Len(t, root.TraceId, 16)
	require.Equal(t, v1.Status_STATUS_CODE_ERROR, root.Status.Code)
	require.Equal(t, "it failed", root.Status.Message)
	require.EqualValues(t, began.UnixNano(), root.StartTimeUnixNano)
	require.EqualValues(t, 2.5e9, root.EndTimeUnixNano-root.StartTimeUnixNano)
	seen := map[string]bool{}
	for _, s := range spans {
		require.Equal(t, root.TraceId, s.TraceId)
		require.Len(t, s.SpanId, 8)
		require.False(t, seen[string(s.SpanId)])
		require.Equal(t, v1.Span_SPAN_KIND_INTERNAL, s.Kind)
		seen[string(s.SpanId)] = true
	}
	require.Equal(t, root.SpanId, copied.ParentSpanId)
	require.EqualValues(t, 0.25e9, copied.StartTimeUnixNano-root.StartTimeUnixNano)
	require.EqualValues(t, 1e9, copied.EndTimeUnixNano-copied.StartTimeUnixNano)
	require.Equal(t, v1.Status_STATUS_CODE_OK, copied.Status.Code)
	require.Equal(t, "gauge:3 render \u2028 \"it\"", failed.Name)
	require.Equal(t, v1.Status_STATUS_CODE_ERROR, failed.Status.Code)
	values := map[string]any{}
	for _, a := range copied.Attributes {
		values[a.Key] = a.Value.GetStringValue()
		if a.Value.GetIntValue() != 0 {
			values[a.Key] = a.Value.GetIntValue()
		}
	}
	require.EqualValues(t, 7, values["imbricat.bytes"])
	require.Equal(t, "new content", values["imbricat.reason"])
	other := *build
	other.Number++
	text, err = Traces(Resource{}, &other)
	require.NoError(t, err)
	require.NotEqual(t, root.TraceId, decoded(t, text).ResourceSpans[0].ScopeSpans[0].Spans[0].TraceId)
	text, err = Traces(Resource{}, &report.PastBuild{Started: began})
	require.NoError(t, err)
	decoded(t, text)
}
