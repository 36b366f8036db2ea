package relay

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/hosts"
)

// started is a relay, and a client that goes through it.
func started(t *testing.T, list ...string) (*Relay, *http.Client, *url.URL) {
	t.Helper()
	parsed, err := hosts.ParseList(list)
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) { _, _ = io.WriteString(w, "inside: "+q.Host) }))
	t.Cleanup(own.Close)
	r := Start(l, parsed, func(port uint16) (net.Conn, error) {
		if port == 1 {
			return nil, errors.New("nobody listens there")
		}
		return net.Dial("tcp", own.Listener.Addr().String())
	})
	at := &url.URL{Scheme: "http", Host: l.Addr().String()}
	client := &http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(at), TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}}
	t.Cleanup(client.CloseIdleConnections)
	t.Cleanup(func() { r.Close() })
	return r, client, at
}

// named has a relay take all names for the loopback of the test, as no builder does.
func (r *Relay) named() {
	r.dial = func(ctx context.Context, network, address string) (net.Conn, error) {
		_, port, _ := net.SplitHostPort(address)
		return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port)
	}
}

func get(t *testing.T, c *http.Client, address string) (int, string) {
	t.Helper()
	a, err := c.Get(address)
	if err != nil {
		return 0, err.Error()
	}
	defer a.Body.Close()
	text, err := io.ReadAll(a.Body)
	require.NoError(t, err)
	return a.StatusCode, string(text)
}

// port is that of an address.
func port(address string) string { return address[strings.LastIndexByte(address, ':')+1:] }

func TestRelay(t *testing.T) {
	index := func(w http.ResponseWriter, q *http.Request) {
		switch {
		case q.Header.Get("Proxy-Authorization") != "" || q.Header.Get("X-Forwarded-For") != "":
			w.WriteHeader(http.StatusTeapot)
		case q.URL.Path == "/long":
			for range 3 {
				_, _ = io.WriteString(w, "tide\n")
				w.(http.Flusher).Flush()
			}
		case q.URL.Path == "/moved":
			http.Redirect(w, q, "http://elsewhere.example:9/", http.StatusFound)
		default:
			fmt.Fprintf(w, "%s %s", q.Host, q.URL.RequestURI())
		}
	}
	clear, sealed := httptest.NewServer(http.HandlerFunc(index)), httptest.NewTLSServer(http.HandlerFunc(index))
	defer clear.Close()
	defer sealed.Close()
	open, tls := "index.tideline.example:"+port(clear.URL), "index.tideline.example:"+port(sealed.URL)
	r, client, at := started(t, open, tls, "*.mirror.example:1")
	r.named()

	status, text := get(t, client, "http://keeper:password@"+open+"/a?token=s3cret;x&b")
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, open+" /a?token=s3cret;x&b", text, "the request is as it was")
	for range 2 {
		_, text = get(t, client, "http://"+open+"/long")
		require.Equal(t, "tide\ntide\ntide\n", text)
	}
	status, _ = get(t, client, "http://"+open+"/moved")
	require.Equal(t, http.StatusForbidden, status, "where an answer leads is asked for anew")
	_, text = get(t, client, "https://"+tls+"/a")
	require.Equal(t, tls+" /a", text)
	_, text = get(t, client, "https://elsewhere.example/")
	require.Contains(t, text, "Forbidden")
	status, text = get(t, client, "http://index.tideline.example/")
	require.Equal(t, http.StatusForbidden, status)
	require.Contains(t, text, "index.tideline.example:80 is not in the network: list of this step")
	status, _ = get(t, client, "http://x.mirror.example:1/")
	require.Equal(t, http.StatusBadGateway, status)

	// The command itself is in no list, and in no record. A client that knows no exceptions asks for it too.
	require.Contains(t, answer(t, at, "GET http://127.0.0.1:8080/ HTTP/1.1\r\nHost: x"), " 200 ")
	require.Contains(t, answer(t, at, "CONNECT LOCALHOST:8080 HTTP/1.1\r\nHost: x"), " 200 ")
	require.Contains(t, answer(t, at, "GET http://[::1]:1/ HTTP/1.1\r\nHost: x"), " 502 ")
	require.Contains(t, answer(t, at, "CONNECT [::1]:1 HTTP/1.1\r\nHost: x"), " 502 ")
	// A client may end its half of the connection.
	half, err := net.Dial("tcp", at.Host)
	require.NoError(t, err)
	defer half.Close()
	_, err = fmt.Fprintf(half, "CONNECT %s HTTP/1.1\r\nHost: x\r\n\r\nGET /half HTTP/1.0\r\n\r\n", open)
	require.NoError(t, err)
	require.NoError(t, half.(*net.TCPConn).CloseWrite())
	all, err := io.ReadAll(half)
	require.NoError(t, err)
	require.Contains(t, string(all), "200 Connected")
	require.Contains(t, string(all), "/half")

	// What no client sends.
	for _, wrong := range []string{"GET / HTTP/1.1\r\nHost: " + open, "GET ftp://" + open + "/ HTTP/1.1\r\nHost: x", "CONNECT index.tideline.example HTTP/1.1\r\nHost: x", "CONNECT :443 HTTP/1.1\r\nHost: x",
		"CONNECT index.tideline.example:99999 HTTP/1.1\r\nHost: x", "GET /%zz HTTP/1.1\r\nHost: x"} {
		require.Contains(t, answer(t, at, wrong), " 400 ", wrong)
	}
	require.Contains(t, answer(t, at, "CONNECT evil.example:443 HTTP/1.1\r\nHost: "+tls), " 403 ", "the head's host is no matter")
	require.Contains(t, answer(t, at, "GET http://evil.example/ HTTP/1.1\r\nHost: "+open), " 403 ")
	require.Contains(t, answer(t, at, "GET http://"+open+"/ HTTP/1.1\r\nX: "+strings.Repeat("x", longestHead+8192)), " 431 ")

	reached := r.Close()
	for i := range reached {
		if reached[i].To == tls || reached[i].To == open {
			require.NotZero(t, reached[i].Bytes)
			reached[i].Bytes = 0
		}
	}
	long := strings.Repeat("tide\n", 3)
	moved := `<a href="http://elsewhere.example:9/">Found</a>.` + "\n\n"
	first := open + " /a?token=s3cret;x&b"
	require.ElementsMatch(t, []store.Reached{
		{To: "elsewhere.example:443", Times: 1, Problem: store.NotListed},
		{To: "elsewhere.example:9", Times: 1, Problem: store.NotListed},
		{To: "evil.example:443", Times: 1, Problem: store.NotListed},
		{To: "evil.example:80", Times: 1, Problem: store.NotListed},
		{To: "http://" + open + "/a", Times: 1, Bytes: int64(len(first)), Status: 200, Content: digest.FromBytes([]byte(first))},
		{To: "http://" + open + "/long", Times: 2, Bytes: 2 * int64(len(long)), Status: 200, Content: digest.FromBytes([]byte(long))},
		{To: "http://" + open + "/moved", Times: 1, Bytes: int64(len(moved)), Status: 302, Content: digest.FromBytes([]byte(moved))},
		{To: "http://x.mirror.example:1/", Times: 1, Problem: store.Unreachable},
		{To: "index.tideline.example:80", Times: 1, Problem: store.NotListed},
		{To: min(open, tls), Times: 1},
		{To: max(open, tls), Times: 1},
	}, reached)
	require.NotContains(t, fmt.Sprint(reached), "s3cret")
	require.NotContains(t, fmt.Sprint(reached), "password")
}

// answer returns the first line of what comes back for a head.
func answer(t *testing.T, at *url.URL, head string) string {
	t.Helper()
	c, err := net.Dial("tcp", at.Host)
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(30*time.Second)))
	go func() { _, _ = io.WriteString(c, head+"\r\n\r\n") }() // a head that is too long is not read to its end
	line, err := bufio.NewReader(c).ReadString('\n')
	require.NoError(t, err)
	return line
}

// TestBuilderItself: a listed name that leads to the builder's loopback is not followed there.
func TestBuilderItself(t *testing.T) {
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "own") }))
	defer own.Close()
	for _, address := range []string{"127.0.0.1:80", "[::1]:80", "[::ffff:127.0.0.1]:80", "0.0.0.0:80", "[::]:80", "169.254.169.254:80", "[fe80::1]:80", "224.0.0.1:80"} {
		require.ErrorContains(t, notOwn("tcp", address, nil), "the builder's own", address)
	}
	require.NoError(t, notOwn("tcp", "192.0.2.1:80", nil))
	r, client, _ := started(t, "index.tideline.example:"+port(own.URL))
	guarded := r.dial
	r.dial = func(ctx context.Context, network, _ string) (net.Conn, error) {
		return guarded(ctx, network, "127.0.0.1:"+port(own.URL))
	}
	status, text := get(t, client, "http://index.tideline.example:"+port(own.URL)+"/")
	require.Equal(t, http.StatusBadGateway, status)
	require.Contains(t, text, "the builder's own")
	_, text = get(t, client, "https://index.tideline.example:"+port(own.URL)+"/")
	require.Contains(t, text, "Bad Gateway")
}

// TestProxy: what the machine's environment names as its proxies is asked, also where these are on its loopback.
func TestProxy(t *testing.T) {
	clear, sealed := httptest.NewServer(http.HandlerFunc(said)), httptest.NewTLSServer(http.HandlerFunc(said))
	defer clear.Close()
	defer sealed.Close()
	far, _, _ := started(t, "*.tideline.example:"+port(clear.URL), "*.tideline.example:"+port(sealed.URL))
	far.named()
	machines := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.Header.Get("Proxy-Authorization") != "Basic a2VlcGVyOnR3byB3b3Jkcw==" {
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
		far.serve(w, q)
	}))
	defer machines.Close()
	address := "127.0.0.1:" + port(machines.URL)
	for proxy, works := range map[string]bool{"http://keeper:two%20words@" + address: true, "http://" + address: false, "socks5://" + socks(t): true, "gopher://" + address: false} {
		t.Run(proxy, func(t *testing.T) {
			t.Setenv("HTTP_PROXY", proxy)
			t.Setenv("HTTPS_PROXY", proxy)
			r, client, _ := started(t, "index.tideline.example:"+port(clear.URL), "index.tideline.example:"+port(sealed.URL))
			r.dial = func(context.Context, string, string) (net.Conn, error) {
				return nil, errors.New("not through the proxy")
			}
			_, text := get(t, client, "http://index.tideline.example:"+port(clear.URL)+"/")
			_, second := get(t, client, "https://index.tideline.example:"+port(sealed.URL)+"/")
			require.Equal(t, works, text == "said", text)
			require.Equal(t, works, second == "said", second)
			status, _ := get(t, client, "http://other.tideline.example:"+port(clear.URL)+"/")
			require.Equal(t, http.StatusForbidden, status, "what the proxy would let pass")
		})
	}
}

func said(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, "said") }

// socks is the address of a proxy that speaks SOCKS 5 (RFC 1928) and takes all names for the loopback of the test.
func socks(t *testing.T) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	serve := func(c net.Conn) {
		defer c.Close()
		head := make([]byte, 2)
		_, _ = io.ReadFull(c, head)
		_, _ = io.ReadFull(c, make([]byte, head[1]))
		_, _ = c.Write([]byte{5, 0})
		request := make([]byte, 5)
		_, _ = io.ReadFull(c, request)
		name := make([]byte, int(request[4])+2)
		_, _ = io.ReadFull(c, name)
		there, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", binary.BigEndian.Uint16(name[len(name)-2:])))
		if err != nil {
			return
		}
		defer there.Close()
		_, _ = c.Write([]byte{5, 0, 0, 1, 0, 0, 0, 0, 0, 0})
		go func() { _, _ = io.Copy(there, c) }()
		_, _ = io.Copy(c, there)
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return l.Addr().String()
}

// TestBroken: what does not come whole has no digest, and neither has what holds nothing.
func TestBroken(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if q.URL.Path == "/none" {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Content-Length", "10")
		_, _ = io.WriteString(w, "tide")
	}))
	defer server.Close()
	at := "index.tideline.example:" + port(server.URL)
	r, client, _ := started(t, at)
	r.named()
	a, err := client.Get("http://" + at + "/short")
	require.NoError(t, err)
	_, err = io.ReadAll(a.Body)
	require.Error(t, err, "the command sees that it did not come whole")
	require.NoError(t, a.Body.Close())
	status, _ := get(t, client, "http://"+at+"/none")
	require.Equal(t, http.StatusNoContent, status)
	require.Equal(t, []store.Reached{{To: "http://" + at + "/none", Times: 1, Status: 204}, {To: "http://" + at + "/short", Times: 1, Bytes: 4, Status: 200}}, r.Close())
}

// TestSilentProxy: a proxy of the machine that never answers holds up nobody whose command has ended.
func TestSilentProxy(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	t.Setenv("HTTPS_PROXY", "http://"+l.Addr().String())
	r, _, at := started(t, "index.tideline.example")
	c, err := net.Dial("tcp", at.Host)
	require.NoError(t, err)
	defer c.Close()
	_, err = io.WriteString(c, "CONNECT index.tideline.example:443 HTTP/1.1\r\nHost: x\r\n\r\n")
	require.NoError(t, err)
	held, err := l.Accept()
	require.NoError(t, err)
	defer held.Close()
	_, err = held.Read(make([]byte, 1))
	require.NoError(t, err, "it was asked")
	closed := make(chan struct{})
	go func() { r.Close(); close(closed) }()
	select {
	case <-closed:
	case <-time.After(dialTime / 2):
		t.Fatal("the relay waits for the proxy")
	}
}

// TestEnds: closing ends what still runs, and tells of it.
func TestEnds(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	r, _, at := started(t, "silent.example:"+port(l.Addr().String()))
	r.named()
	c, err := net.Dial("tcp", at.Host)
	require.NoError(t, err)
	defer c.Close()
	_, err = fmt.Fprintf(c, "CONNECT silent.example:%s HTTP/1.1\r\nHost: x\r\n\r\n", port(l.Addr().String()))
	require.NoError(t, err)
	there, err := l.Accept()
	require.NoError(t, err)
	defer there.Close()
	_, err = io.WriteString(there, "banner")
	require.NoError(t, err)
	head := make([]byte, len("HTTP/1.1 200 Connected\r\n\r\nbanner"))
	_, err = io.ReadFull(c, head)
	require.NoError(t, err)
	require.Equal(t, "HTTP/1.1 200 Connected\r\n\r\nbanner", string(head))
	reached := r.Close()
	require.Equal(t, []store.Reached{{To: "silent.example:" + port(l.Addr().String()), Times: 1, Bytes: 6}}, reached)
	_, err = c.Read(head)
	require.Error(t, err)
}
