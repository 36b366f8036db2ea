// Package otlp writes past builds as traces in the JSON form of the OpenTelemetry protocol (OTLP 1.x): a span for each build, and one in it for
// each step. It sends nothing.
package otlp

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/output/logbook"
	"imbricat/internal/output/report"
)

// Resource is whose builds they are.
type Resource struct {
	Service string // its name
	Version string // of the program
	// Attributes are more of it, by name.
	Attributes map[string]string
}

// The messages of the protocol, as far as they are used; numbers of 64 bits are texts in its JSON.
type (
	request struct {
		ResourceSpans []resourceSpans `json:"resourceSpans"`
	}
	resourceSpans struct {
		Resource   attributed   `json:"resource"`
		ScopeSpans []scopeSpans `json:"scopeSpans"`
	}
	attributed struct {
		Attributes []attribute `json:"attributes"`
	}
	scopeSpans struct {
		Scope scope  `json:"scope"`
		Spans []span `json:"spans"`
	}
	scope struct {
		Name    string `json:"name"`
		Version string `json:"version"`
	}
	span struct {
		TraceID    string      `json:"traceId"`
		SpanID     string      `json:"spanId"`
		Parent     string      `json:"parentSpanId,omitempty"`
		Name       string      `json:"name"`
		Kind       int         `json:"kind"`
		Start      string      `json:"startTimeUnixNano"`
		End        string      `json:"endTimeUnixNano"`
		Attributes []attribute `json:"attributes"`
		Status     status      `json:"status"`
	}
	status struct {
		Code    int    `json:"code,omitempty"`
		Message string `json:"message,omitempty"`
	}
	attribute struct {
		Key   string `json:"key"`
		Value value  `json:"value"`
	}
	value struct {
		Text   *string  `json:"stringValue,omitempty"`
		Number *string  `json:"intValue,omitempty"`
		Real   *float64 `json:"doubleValue,omitempty"`
	}
)

// What the protocol's numbers mean.
const (
	internalKind = 1
	statusGood   = 1
	statusError  = 2
)

// Traces encodes a build with its steps. It has the same ids each time, so that one that is sent twice is one.
func Traces(r Resource, b *report.PastBuild) ([]byte, error) {
	own := map[string]string{"service.name": r.Service, "service.version": r.Version}
	maps.Copy(own, r.Attributes)
	return json.Marshal(request{[]resourceSpans{{Resource: attributed{attributes(own)}, ScopeSpans: []scopeSpans{{Scope: scope{"imbricat", r.Version}, Spans: spansOf(b)}}}}})
}

// spansOf are the spans of a build: its own, and one for each step that took time or of which it is known when it began.
func spansOf(b *report.PastBuild) []span {
	trace := sha256.Sum256(fmt.Appendf(nil, "imbricat trace 1\n%s\n%d\n%d\n", b.Project, b.Number, b.Started.UnixNano()))
	id := func(n int) string {
		sum := sha256.Sum256(fmt.Appendf(nil, "%x %d", trace, n))
		return hex.EncodeToString(sum[:8])
	}
	root := span{TraceID: hex.EncodeToString(trace[:16]), SpanID: id(-1), Name: strings.Join(strings.Fields(b.Command)[:min(2, len(strings.Fields(b.Command)))], " "), Kind: internalKind}
	root.Start, root.End = nanos(b.Started), nanos(b.Started.Add(seconds(b.Seconds)))
	root.Attributes = []attribute{text("imbricat.project", b.Project), text("imbricat.command", b.Command), number("imbricat.build", b.Number), text("imbricat.outcome", b.Outcome),
		number("imbricat.steps.ran", int64(b.Ran)), number("imbricat.steps.reused", int64(b.Reused)), float("imbricat.spared.seconds", b.Spared), float("imbricat.processor.seconds", b.Processor)}
	for _, name := range slices.Sorted(maps.Keys(b.Facts)) {
		root.Attributes = append(root.Attributes, text("imbricat.facts."+name, b.Facts[name]))
	}
	for _, i := range b.Images {
		root.Attributes = append(root.Attributes, text("imbricat.images."+i.Name+".digest", i.Digest), number("imbricat.images."+i.Name+".packed", i.Packed))
	}
	root.Status = outcome(b.Outcome == logbook.Built, b.Error)
	all := []span{root}
	for n, s := range b.Steps {
		if s.Began == nil {
			continue // nobody could draw it
		}
		began := b.Started.Add(seconds(*s.Began))
		one := span{TraceID: root.TraceID, SpanID: id(n), Parent: root.SpanID, Name: s.Place + " " + s.Step, Kind: internalKind, Start: nanos(began), End: nanos(began.Add(seconds(s.Seconds)))}
		one.Attributes = []attribute{text("imbricat.unit", s.Unit), text("imbricat.platform", s.Platform), text("imbricat.step", s.Step), text("imbricat.outcome", s.Outcome), text("imbricat.reason", s.Reason),
			number("imbricat.files", int64(s.Files)), number("imbricat.bytes", s.Bytes), number("imbricat.packed", s.Packed), float("imbricat.spared.seconds", s.Spared), float("imbricat.processor.seconds", s.Processor)}
		one.Status = outcome(s.Outcome != "failed", s.Reason)
		all = append(all, one)
	}
	return all
}

// outcome is a status. The message is told of what went wrong alone.
func outcome(good bool, message string) status {
	if good {
		return status{Code: statusGood}
	}
	return status{Code: statusError, Message: message}
}

func attributes(all map[string]string) (list []attribute) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		list = append(list, text(name, all[name]))
	}
	return list
}

func text(key, v string) attribute { return attribute{key, value{Text: &v}} }

func number(key string, v int64) attribute {
	return attribute{key, value{Number: new(strconv.FormatInt(v, 10))}}
}

func float(key string, v float64) attribute { return attribute{key, value{Real: &v}} }

func nanos(t time.Time) string { return strconv.FormatInt(t.UnixNano(), 10) }

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
