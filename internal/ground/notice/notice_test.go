package notice

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestPost: a notice is signed over its time and its body, is tried again where that may help and nowhere else, and is the same delivery in
// all tries; it goes to no address that an answer names.
func TestPost(t *testing.T) {
	key := []byte("low water at six")
	for _, c := range []struct {
		name    string
		answers []int // of the tries; the last one holds for all that follow
		tries   int
		wrong   string
	}{
		{"at once", []int{204}, 1, ""},
		{"later", []int{503, 429, 200}, 3, ""},
		{"never", []int{500}, 3, "answers 500"},
		{"refused", []int{403}, 1, "answers 403"},
		{"elsewhere", []int{307}, 1, "answers 307"},
	} {
		t.Run(c.name, func(t *testing.T) {
			seen := map[string]bool{}
			n, strayed := 0, false
			mux := http.NewServeMux()
			mux.HandleFunc("/elsewhere", func(http.ResponseWriter, *http.Request) { strayed = true })
			mux.HandleFunc("/told", func(w http.ResponseWriter, r *http.Request) {
				body, err := io.ReadAll(r.Body)
				require.NoError(t, err)
				require.NoError(t, Verify(key, r.Header, body, time.Now(), time.Minute))
				seen[r.Header.Get(DeliveryHeader)] = true
				w.Header().Set("Location", "/elsewhere")
				w.WriteHeader(c.answers[min(n, len(c.answers)-1)])
				n++
			})
			server := httptest.NewServer(mux)
			defer server.Close()
			d, err := Post(t.Context(), Letter{Address: server.URL + "/told?token=hidden", Key: key, Body: []byte(`{"tide":"low"}`)}, Options{Tries: 3, Within: time.Minute, Wait: time.Millisecond})
			require.Equal(t, c.tries, d.Tries)
			require.Len(t, seen, 1)
			require.False(t, strayed)
			if c.wrong == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.wrong)
			require.NotContains(t, err.Error(), "hidden")
		})
	}
	_, err := Post(t.Context(), Letter{Address: "http://127.0.0.1:1/told?token=hidden"}, Options{Tries: 2, Within: time.Minute, Wait: time.Millisecond})
	require.ErrorContains(t, err, "could not be reached")
	require.NotContains(t, err.Error(), "hidden")
}

// TestVerify: another key, another body, another time and an old notice are none of ours.
func TestVerify(t *testing.T) {
	at := time.Unix(1_780_000_000, 0)
	h := func(stamp string, signature string) http.Header {
		return http.Header{TimeHeader: {stamp}, SignatureHeader: {signature}}
	}
	good := Sign([]byte("key"), at, []byte("body"))
	// As openssl dgst -sha256 -hmac key has it.
	require.Equal(t, "hmac-sha256=0447d6aeaea919c48924c92ed08d25bd7fb716312eaa12b72b9b2d8e403964ea", good)
	for _, c := range []struct {
		key, stamp, body string
		now              time.Time
		wrong            string
	}{
		{"key", "1780000000", "body", at, ""},
		{"key", "1780000000", "body", at.Add(4 * time.Minute), ""},
		{"key", "1780000000", "body", at.Add(6 * time.Minute), "it was signed 6m0s ago"},
		{"key", "1780000000", "body", at.Add(-6 * time.Minute), "it was signed 6m0s ago"},
		{"other", "1780000000", "body", at, "not of this key"},
		{"key", "1780000001", "body", at, "not of this key"},
		{"key", "1780000000", "bodY", at, "not of this key"},
		{"key", "", "body", at, "is no time"},
	} {
		err := Verify([]byte(c.key), h(c.stamp, good), []byte(c.body), c.now, 5*time.Minute)
		if c.wrong == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorContains(t, err, c.wrong)
	}
	for text, good := range map[string]bool{"https://tideline.example/pushed": true, "http://127.0.0.1:80/x": true, "http://[::1]/x": true, "http://tideline.example/x": false, "file:///etc/passwd": false, "tideline": false} {
		require.Equal(t, good, CheckAddress(text) == nil, text)
	}
}
