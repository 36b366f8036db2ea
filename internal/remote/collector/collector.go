// Package collector sends traces to a collector of the OpenTelemetry protocol over HTTP, as the environment variables say that the protocol's
// specification names. It knows nothing of what it sends.
package collector

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Settings say where a collector is, and how it is spoken to.
type Settings struct {
	Endpoint string // of traces
	Headers  http.Header
	Gzip     bool
	Timeout  time.Duration // of one try
	// What is sent is said to be of.
	Service    string
	Attributes map[string]string
}

// ErrNone is that the environment names no collector.
var ErrNone = errors.New("no collector is named: set OTEL_EXPORTER_OTLP_ENDPOINT, such as http://127.0.0.1:4318")

// defaultTimeout bounds a try, as the specification has it.
const defaultTimeout = 10 * time.Second

// tracesPath is where a collector takes traces, below its address.
const tracesPath = "v1/traces"

// FromEnvironment reads the variables OTEL_EXPORTER_OTLP_… (those of traces before the general ones), OTEL_SERVICE_NAME and
// OTEL_RESOURCE_ATTRIBUTES.
func FromEnvironment(lookup func(name string) string) (s Settings, err error) {
	value := func(name string) (text, from string) {
		from = "OTEL_EXPORTER_OTLP_TRACES_" + name
		if text = strings.TrimSpace(lookup(from)); text == "" {
			from = "OTEL_EXPORTER_OTLP_" + name
			text = strings.TrimSpace(lookup(from))
		}
		return text, from
	}
	endpoint, from := value("ENDPOINT")
	if endpoint == "" {
		return s, ErrNone
	}
	u, err := url.Parse(endpoint)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return s, fmt.Errorf("%s is no http or https address", from)
	}
	if from == "OTEL_EXPORTER_OTLP_ENDPOINT" {
		u = u.JoinPath(tracesPath)
	}
	s.Endpoint, s.Timeout, s.Headers, s.Attributes = u.String(), defaultTimeout, http.Header{}, map[string]string{}
	if protocol, from := value("PROTOCOL"); protocol == "grpc" {
		return s, fmt.Errorf("%s is grpc: traces are sent as http/json, so name a collector's address for HTTP (often port 4318) and that", from)
	}
	if text, from := value("TIMEOUT"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n <= 0 {
			return s, fmt.Errorf("%s is not a number of milliseconds", from)
		}
		s.Timeout = time.Duration(n) * time.Millisecond
	}
	switch text, from := value("COMPRESSION"); text {
	case "", "none":
	case "gzip":
		s.Gzip = true
	default:
		return s, fmt.Errorf("%s is neither gzip nor none", from)
	}
	headers, from := value("HEADERS")
	err = pairs(headers, func(name, value string) { s.Headers.Add(name, value) })
	if err != nil {
		return s, fmt.Errorf("%s: %w", from, err)
	}
	if err := pairs(lookup("OTEL_RESOURCE_ATTRIBUTES"), func(name, value string) { s.Attributes[name] = value }); err != nil {
		return s, fmt.Errorf("OTEL_RESOURCE_ATTRIBUTES: %w", err)
	}
	s.Service = s.Attributes["service.name"]
	if name := lookup("OTEL_SERVICE_NAME"); name != "" {
		s.Service = name
	}
	delete(s.Attributes, "service.name")
	return s, nil
}

// pairs reads NAME=VALUE,… with values as addresses have them. What is wrong is not repeated: it may be secret.
func pairs(text string, add func(name, value string)) error {
	for part := range strings.SplitSeq(text, ",") {
		if strings.TrimSpace(part) == "" {
			continue
		}
		name, value, found := strings.Cut(part, "=")
		value, err := url.PathUnescape(strings.TrimSpace(value))
		if name = strings.TrimSpace(name); !found || name == "" || err != nil {
			return errors.New("it is not NAME=VALUE,NAME=VALUE")
		}
		add(name, value)
	}
	return nil
}

// Bounds of sending.
const (
	mostTries   = 5
	mostWait    = time.Minute // of all tries
	largestBody = 1 << 20     // of an answer
)

// Send sends traces as JSON, again where the collector says that this may help. Rejected is how many spans it did not take, and why.
func (s Settings) Send(ctx context.Context, traces []byte) (rejected int, why string, err error) {
	body := traces
	if s.Gzip {
		var packed bytes.Buffer
		w := gzip.NewWriter(&packed)
		if _, err := w.Write(traces); err != nil {
			return 0, "", err
		}
		if err := w.Close(); err != nil {
			return 0, "", err
		}
		body = packed.Bytes()
	}
	answer, err := backoff.Retry(ctx, func() ([]byte, error) { return s.once(ctx, body) },
		backoff.WithBackOff(backoff.NewExponentialBackOff()), backoff.WithMaxTries(mostTries), backoff.WithMaxElapsedTime(mostWait))
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		err = permanent.Unwrap()
	}
	if err != nil {
		return 0, "", fmt.Errorf("sending traces: %w", err)
	}
	var told struct {
		Partial struct {
			Rejected json.RawMessage `json:"rejectedSpans"` // a number, or a text of one
			Message  string          `json:"errorMessage"`
		} `json:"partialSuccess"`
	}
	if json.Unmarshal(answer, &told) == nil { // what is no such document tells nothing
		rejected, _ = strconv.Atoi(strings.Trim(string(told.Partial.Rejected), `"`))
	}
	return rejected, told.Partial.Message, nil
}

// place is the collector's address without what may be secret in it.
func (s Settings) place() string {
	u, err := url.Parse(s.Endpoint)
	if err != nil {
		return "the collector"
	}
	u.User, u.RawQuery = nil, ""
	return u.String()
}

func (s Settings) once(ctx context.Context, body []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, s.Timeout)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodPost, s.Endpoint, bytes.NewReader(body))
	if err != nil {
		return nil, backoff.Permanent(errors.New("the collector's address cannot be used"))
	}
	maps.Copy(q.Header, s.Headers)
	q.Header.Set("Content-Type", "application/json")
	if s.Gzip {
		q.Header.Set("Content-Encoding", "gzip")
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	a, err := client.Do(q)
	if err != nil {
		var told *url.Error
		if errors.As(err, &told) {
			err = told.Err // the rest repeats the address
		}
		return nil, fmt.Errorf("%s: %w", s.place(), err)
	}
	defer a.Body.Close()
	text, err := io.ReadAll(io.LimitReader(a.Body, largestBody))
	switch {
	case a.StatusCode/100 == 2:
		return text, err
	case a.StatusCode == http.StatusTooManyRequests || a.StatusCode == http.StatusBadGateway || a.StatusCode == http.StatusServiceUnavailable || a.StatusCode == http.StatusGatewayTimeout:
		if wait, err := strconv.Atoi(a.Header.Get("Retry-After")); err == nil && wait >= 0 && time.Duration(wait)*time.Second <= mostWait {
			return nil, fmt.Errorf("%s answers %d: %w", s.place(), a.StatusCode, &backoff.RetryAfterError{Duration: time.Duration(wait) * time.Second})
		}
		return nil, fmt.Errorf("%s answers %d %s", s.place(), a.StatusCode, http.StatusText(a.StatusCode))
	}
	return nil, backoff.Permanent(fmt.Errorf("%s answers %d %s", s.place(), a.StatusCode, http.StatusText(a.StatusCode)))
}
