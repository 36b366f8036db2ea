package registry

import (
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/standin"
)

// TestTransport: HTTP/2 is spoken where the registry can, over few connections, with a client's certificate where it wants one,
// and through a proxy.
func TestTransport(t *testing.T) {
	certificates, err := standin.New(standin.Options{})
	require.NoError(t, err)
	own, _, err := certificates.TLS()
	require.NoError(t, err)
	authority, err := x509.ParseCertificate(own.Certificates[0].Certificate[1])
	require.NoError(t, err)
	pool := x509.NewCertPool()
	pool.AddCert(authority)

	var connections atomic.Int64
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, `{"tags":["%d","%d"]}`, r.ProtoMajor, len(r.TLS.PeerCertificates))
	}))
	server.EnableHTTP2 = true
	server.TLS = &tls.Config{Certificates: own.Certificates, ClientAuth: tls.RequestClientCert}
	server.Config.ConnState = func(_ net.Conn, state http.ConnState) {
		if state == http.StateNew {
			connections.Add(1)
		}
	}
	server.StartTLS()
	defer server.Close()
	host := strings.TrimPrefix(server.URL, "https://")
	tags := func(s Settings) []string {
		c := New(Options{Wait: time.Millisecond, Settings: func(string) Settings { return s }})
		var list []string
		for range 5 {
			list, err = c.Repository(host, "a").Tags(t.Context())
			require.NoError(t, err)
		}
		return list
	}
	require.Equal(t, []string{"2", "0"}, tags(Settings{TLS: &tls.Config{RootCAs: pool}}))
	require.Equal(t, []string{"2", "2"}, tags(Settings{TLS: &tls.Config{RootCAs: pool, Certificates: own.Certificates}}))
	require.LessOrEqual(t, connections.Load(), int64(2))

	proxied := 0
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		proxied++
		require.Equal(t, "registry.tideline.example", r.URL.Host)
		fmt.Fprint(w, `{"tags":["through"]}`)
	}))
	defer proxy.Close()
	c := New(Options{Settings: func(string) Settings { return Settings{PlainHTTP: true} }})
	address, err := url.Parse(proxy.URL)
	require.NoError(t, err)
	require.NotNil(t, c.transport("registry.tideline.example").Proxy, "the environment names proxies")
	c.transport("registry.tideline.example").Proxy = http.ProxyURL(address)
	list, err := c.Repository("registry.tideline.example", "a").Tags(t.Context())
	require.NoError(t, err)
	require.Equal(t, []string{"through"}, list)
	require.Equal(t, 1, proxied)
}
