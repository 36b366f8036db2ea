// Package relay lets a command in a network of its own reach some hosts of the machine's network, and tells what it reached. To the
// command it is a proxy of HTTP (RFC 9110, sections 7.7 and 9.3.6): other connections are made by CONNECT, and what passes through these
// is neither looked at nor changed.
//
// It never connects to what lies on the builder alone: its loopback, and addresses that are valid on one link.
package relay

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httputil"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/net/http/httpproxy"
	"golang.org/x/net/netutil"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/hosts"
)

// Bounds of what one command may use of this program.
const (
	mostConnections = 200 // at once; more of them wait
	longestHead     = 64 << 10
	dialTime        = 30 * time.Second
	headTime        = time.Minute // until the head of a request has come
)

// Relay is a proxy that runs. Several goroutines may use it at once.
type Relay struct {
	list    hosts.List
	own     func(port uint16) (net.Conn, error)
	proxy   func(*url.URL) (*url.URL, error) // of this machine for an address; nil: none
	dial    func(ctx context.Context, network, address string) (net.Conn, error)
	onward  [3]*http.Transport
	running context.Context // until Close: a command may end its half of a connection and still wait for the answer
	stop    context.CancelFunc
	server  *http.Server
	forward httputil.ReverseProxy
	served  sync.WaitGroup

	mutex   sync.Mutex // of what follows
	closed  bool
	tunnels map[net.Conn]bool
	reached []store.Reached
}

// The ways onward.
const (
	direct  = iota // without a proxy
	proxied        // through one of the machine's
	itself         // to the command
)

// Start serves connections that a listener accepts, until Close. Own connects to a port of the command itself, for programs that ask the
// relay for that too. The machine's own proxies count, as its environment names them.
func Start(l net.Listener, list hosts.List, own func(port uint16) (net.Conn, error)) *Relay {
	r := &Relay{list: list, own: own, tunnels: map[net.Conn]bool{}}
	r.running, r.stop = context.WithCancel(context.Background())
	r.proxy, r.dial = httpproxy.FromEnvironment().ProxyFunc(), (&net.Dialer{Timeout: dialTime, Control: notOwn}).DialContext
	for i := range r.onward {
		r.onward[i] = &http.Transport{DisableCompression: true, IdleConnTimeout: headTime}
	}
	r.onward[direct].DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		return r.dial(ctx, network, address)
	}
	r.onward[itself].DialContext = func(_ context.Context, _, address string) (net.Conn, error) {
		return r.inside(address[strings.LastIndexByte(address, ':')+1:])
	}
	r.onward[proxied].Proxy = func(q *http.Request) (*url.URL, error) { return r.proxy(q.URL) }
	silent := slog.NewLogLogger(slog.DiscardHandler, slog.LevelError) // of connections that break, which the command sees itself
	r.forward = httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) { p.Out.URL.RawQuery = p.In.URL.RawQuery }, FlushInterval: -1, ErrorLog: silent, Transport: r, ModifyResponse: r.brings, ErrorHandler: r.broke}
	r.server = &http.Server{Handler: http.HandlerFunc(r.serve), ReadHeaderTimeout: headTime, MaxHeaderBytes: longestHead, ErrorLog: silent}
	r.served.Go(func() { _ = r.server.Serve(netutil.LimitListener(l, mostConnections)) }) // it ends with Close
	return r
}

// Close ends all connections, and returns what was reached.
func (r *Relay) Close() []store.Reached {
	r.mutex.Lock()
	r.closed = true
	for c := range r.tunnels {
		c.Close()
	}
	r.mutex.Unlock()
	r.stop()
	r.server.Close()
	r.served.Wait()
	for _, t := range r.onward {
		t.CloseIdleConnections()
	}
	r.mutex.Lock()
	defer r.mutex.Unlock()
	return r.reached
}

func (r *Relay) note(one store.Reached) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	one.Times = 1
	r.reached = store.AddReached(r.reached, one)
}

// serve does what a request asks for.
func (r *Relay) serve(w http.ResponseWriter, q *http.Request) {
	if !r.begin() {
		return
	}
	defer r.served.Done()
	port := strconv.Itoa(hosts.HTTP)
	switch {
	case q.Method == http.MethodConnect:
		port = ""
	case q.URL.Scheme != "http" || q.URL.Host == "":
		http.Error(w, "imbricat: this is a proxy: it takes requests for http addresses, and CONNECT HOST:PORT", http.StatusBadRequest)
		return
	}
	host, number, to, err := target(q.URL.Host, port)
	if err != nil {
		http.Error(w, "imbricat: "+err.Error(), http.StatusBadRequest)
		return
	}
	toItself := hosts.Itself(host)
	if !toItself && !r.list.Allows(host, number) {
		r.note(store.Reached{To: to, Problem: store.NotListed})
		http.Error(w, fmt.Sprintf("imbricat: %s is not in the network: list of this step", to), http.StatusForbidden)
		return
	}
	if q.Method == http.MethodConnect {
		r.tunnel(w, to, toItself)
		return
	}
	r.forward.ServeHTTP(w, q.WithContext(r.running))
}

// begin reports whether the relay still runs, and has Close wait then.
func (r *Relay) begin() bool {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if !r.closed {
		r.served.Add(1)
	}
	return !r.closed
}

// target reads HOST:PORT. Without a port it takes the one that is given, if there is one.
func target(text, otherwise string) (host string, number int, to string, err error) {
	host, port, err := net.SplitHostPort(text)
	if err != nil && otherwise != "" {
		host, port, err = net.SplitHostPort(net.JoinHostPort(strings.Trim(text, "[]"), otherwise))
	}
	if err == nil {
		number, err = strconv.Atoi(port)
	}
	if err != nil || host == "" || number < 1 || number > 65535 {
		return "", 0, "", fmt.Errorf("%.200q is not HOST:PORT", text)
	}
	host = hosts.Name(host)
	return host, number, net.JoinHostPort(host, strconv.Itoa(number)), nil
}

// plain is an address without what may be secret in it.
func plain(u *url.URL) string {
	own := *u
	own.User, own.RawQuery, own.Fragment, own.RawFragment = nil, "", "", ""
	return own.String()
}

// notOwn refuses to connect to what lies on this machine alone, whatever name led there.
func notOwn(_, address string, _ syscall.RawConn) error {
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return err
	}
	if ip := at.Addr().Unmap(); ip.IsLoopback() || ip.IsUnspecified() || ip.IsLinkLocalUnicast() || ip.IsMulticast() {
		return fmt.Errorf("it leads to %s, which is the builder's own: a step does not reach that", ip)
	}
	return nil
}

// RoundTrip implements http.RoundTripper for what the relay passes on.
func (r *Relay) RoundTrip(q *http.Request) (*http.Response, error) {
	proxy, err := r.proxy(q.URL)
	switch {
	case hosts.Itself(q.URL.Hostname()):
		return r.onward[itself].RoundTrip(q)
	case err != nil:
		return nil, err
	case proxy != nil: // which the machine's owner has named: it may be on the machine's loopback
		return r.onward[proxied].RoundTrip(q)
	}
	return r.onward[direct].RoundTrip(q)
}

// brings notes what an answer brings.
func (r *Relay) brings(a *http.Response) error {
	one := store.Reached{To: plain(a.Request.URL), Status: a.StatusCode}
	if hosts.Itself(a.Request.URL.Hostname()) {
		return nil
	}
	if a.StatusCode == http.StatusSwitchingProtocols {
		r.note(one)
		return nil
	}
	a.Body = &body{ReadCloser: a.Body, hash: sha256.New(), one: one, note: r.note, none: a.Request.Method == http.MethodHead || a.ContentLength == 0}
	return nil
}

// broke answers a request that nothing came of.
func (r *Relay) broke(w http.ResponseWriter, q *http.Request, err error) {
	if r.running.Err() != nil {
		return // the command has ended
	}
	if !hosts.Itself(q.URL.Hostname()) {
		r.note(store.Reached{To: plain(q.URL), Problem: store.Unreachable})
	}
	http.Error(w, "imbricat: "+err.Error(), http.StatusBadGateway)
}

// body is what an answer brings. Its digest is told when it has come whole.
type body struct {
	io.ReadCloser
	hash hash.Hash
	one  store.Reached
	note func(store.Reached)
	none bool // there is nothing to have a digest of
	told bool
}

// Read implements io.Reader.
func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.hash.Write(p[:n])
	b.one.Bytes += int64(n)
	if errors.Is(err, io.EOF) {
		if !b.none {
			b.one.Content = digest.FromHash(b.hash)
		}
		b.tell()
	}
	return n, err
}

// Close implements io.Closer.
func (b *body) Close() error {
	b.tell()
	return b.ReadCloser.Close()
}

func (b *body) tell() {
	if !b.told {
		b.told = true
		b.note(b.one)
	}
}

// tunnel connects a command with a port of a host.
func (r *Relay) tunnel(w http.ResponseWriter, to string, toItself bool) {
	note := r.note
	if toItself {
		note = func(store.Reached) {}
	}
	there, err := r.connect(r.running, to)
	if err != nil {
		note(store.Reached{To: to, Problem: store.Unreachable})
		http.Error(w, "imbricat: "+err.Error(), http.StatusBadGateway)
		return
	}
	defer there.Close()
	here, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		http.Error(w, "imbricat: "+err.Error(), http.StatusInternalServerError)
		return
	}
	defer here.Close()
	if !r.hold(here, there) {
		return
	}
	defer r.release(here, there)
	one := store.Reached{To: to}
	defer func() { note(one) }()
	if _, err := io.WriteString(here, "HTTP/1.1 200 Connected\r\n\r\n"); err != nil {
		return
	}
	var sent sync.WaitGroup
	sent.Go(func() {
		_, _ = io.Copy(there, buffered) // of a connection that breaks the command sees the end
		closeWrite(there)
	})
	one.Bytes, _ = io.Copy(here, there)
	closeWrite(here)
	sent.Wait()
}

// inside connects to a port of the command.
func (r *Relay) inside(port string) (net.Conn, error) {
	number, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, err
	}
	return r.own(uint16(number))
}

// closeWrite tells the other end that nothing more comes.
func closeWrite(c net.Conn) {
	if half, is := c.(interface{ CloseWrite() error }); !is || half.CloseWrite() != nil {
		c.Close()
	}
}

// hold has connections end with the relay. It reports whether the relay still runs.
func (r *Relay) hold(all ...net.Conn) bool {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for _, c := range all {
		r.tunnels[c] = true
	}
	return !r.closed
}

func (r *Relay) release(all ...net.Conn) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	for _, c := range all {
		delete(r.tunnels, c)
	}
}

// connect makes a connection, through the machine's proxy where it has one.
func (r *Relay) connect(ctx context.Context, to string) (net.Conn, error) {
	proxy, err := r.proxy(&url.URL{Scheme: "https", Host: to})
	host, port, _ := net.SplitHostPort(to) // as target put them together
	switch {
	case hosts.Itself(host):
		return r.inside(port)
	case err != nil:
		return nil, fmt.Errorf("the builder's proxy: %w", err)
	case proxy == nil:
		return r.dial(ctx, "tcp", to)
	}
	conn, err := through(ctx, proxy, to)
	if err != nil {
		return nil, fmt.Errorf("through the builder's proxy %s: %w", proxy.Host, err)
	}
	return conn, nil
}
