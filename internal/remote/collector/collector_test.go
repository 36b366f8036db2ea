package collector

import (
	"compress/gzip"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func environment(all map[string]string) func(string) string {
	return func(name string) string { return all[name] }
}

func TestFromEnvironment(t *testing.T) {
	_, err := FromEnvironment(environment(nil))
	require.ErrorIs(t, err, ErrNone)
	s, err := FromEnvironment(environment(map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": "https://collector.tideline.example/otlp", "OTEL_EXPORTER_OTLP_HEADERS": "authorization=Basic%20a2V5, x-tenant=tides",
		"OTEL_RESOURCE_ATTRIBUTES": "service.name=other,deployment.environment=harbour%2C%20north", "OTEL_SERVICE_NAME": "tideline", "OTEL_EXPORTER_OTLP_TIMEOUT": "250", "OTEL_EXPORTER_OTLP_COMPRESSION": "gzip", "OTEL_EXPORTER_OTLP_PROTOCOL": "http/protobuf"}))
	require.NoError(t, err)
	require.Equal(t, Settings{Endpoint: "https://collector.tideline.example/otlp/v1/traces", Headers: http.Header{"Authorization": {"Basic a2V5"}, "X-Tenant": {"tides"}}, Gzip: true, Timeout: 250 * time.Millisecond,
		Service: "tideline", Attributes: map[string]string{"deployment.environment": "harbour, north"}}, s)
	s, err = FromEnvironment(environment(map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": "http://other.example", "OTEL_EXPORTER_OTLP_TRACES_ENDPOINT": "http://collector.tideline.example:4318/own", "OTEL_EXPORTER_OTLP_TRACES_TIMEOUT": "1", "OTEL_EXPORTER_OTLP_TIMEOUT": "9"}))
	require.NoError(t, err)
	require.Equal(t, "http://collector.tideline.example:4318/own", s.Endpoint, "the address of traces is taken as it is")
	require.Equal(t, time.Millisecond, s.Timeout)
	for name, wrong := range map[string]string{"ENDPOINT": "collector:4318", "PROTOCOL": "grpc", "TIMEOUT": "soon", "COMPRESSION": "xz", "HEADERS": "s3cret"} {
		_, err := FromEnvironment(environment(map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": "http://collector.tideline.example", "OTEL_EXPORTER_OTLP_TRACES_" + name: wrong}))
		require.ErrorContains(t, err, "OTEL_EXPORTER_OTLP_TRACES_"+name)
		require.NotContains(t, err.Error(), "s3cret")
	}
	_, err = FromEnvironment(environment(map[string]string{"OTEL_EXPORTER_OTLP_ENDPOINT": "http://collector.tideline.example", "OTEL_RESOURCE_ATTRIBUTES": "=x"}))
	require.ErrorContains(t, err, "OTEL_RESOURCE_ATTRIBUTES")
}

// TestSend: what may work later is tried again; what is wrong is not, and is not sent elsewhere.
func TestSend(t *testing.T) {
	var answers []int
	var got []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		var body io.Reader = q.Body
		if q.Header.Get("Content-Encoding") == "gzip" {
			unpacked, err := gzip.NewReader(q.Body)
			if err != nil {
				w.WriteHeader(http.StatusBadRequest)
				return
			}
			body = unpacked
		}
		text, _ := io.ReadAll(body)
		got = append(got, q.Header.Get("Content-Type")+" "+q.Header.Get("X-Tenant")+" "+string(text))
		answer := answers[0]
		if answers = answers[1:]; answer == http.StatusTooManyRequests {
			w.Header().Set("Retry-After", "0")
		}
		w.Header().Set("Location", "http://elsewhere.example/")
		w.WriteHeader(answer)
		_, _ = io.WriteString(w, `{"partialSuccess": {"rejectedSpans": "2", "errorMessage": "too old"}}`)
	}))
	defer server.Close()
	for _, packed := range []bool{false, true} {
		s := Settings{Endpoint: server.URL + "/v1/traces?key=s3cret", Headers: http.Header{"X-Tenant": {"tides"}}, Gzip: packed, Timeout: time.Minute}
		answers, got = []int{503, 429, 200}, nil
		rejected, why, err := s.Send(context.Background(), []byte(`{"x": 1}`))
		require.NoError(t, err)
		require.Equal(t, 2, rejected)
		require.Equal(t, "too old", why)
		require.Equal(t, []string{`application/json tides {"x": 1}`, `application/json tides {"x": 1}`, `application/json tides {"x": 1}`}, got)
		for _, final := range []int{400, 302, 500} {
			answers, got = []int{final, 200}, nil
			_, _, err = s.Send(context.Background(), []byte(`{}`))
			require.ErrorContains(t, err, "answers")
			require.NotContains(t, err.Error(), "s3cret")
			require.Len(t, got, 1)
		}
	}
	server.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
	defer cancel()
	_, _, err := Settings{Endpoint: server.URL + "/?key=s3cret", Timeout: time.Second}.Send(ctx, nil)
	require.Error(t, err)
	require.NotContains(t, err.Error(), "s3cret")
}
