package relay

import (
	"bufio"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"time"

	"golang.org/x/net/proxy"
)

// ports are those of proxies whose addresses name none.
var ports = map[string]string{"http": "80", "https": "443", "socks5": "1080", "socks5h": "1080"}

// through connects to HOST:PORT through a proxy.
func through(ctx context.Context, by *url.URL, to string) (net.Conn, error) {
	port := by.Port()
	if port == "" {
		port = ports[by.Scheme]
	}
	at, plain := net.JoinHostPort(by.Hostname(), port), &net.Dialer{Timeout: dialTime}
	switch by.Scheme {
	case "socks5", "socks5h":
		var auth *proxy.Auth
		if by.User != nil {
			password, _ := by.User.Password()
			auth = &proxy.Auth{User: by.User.Username(), Password: password}
		}
		d, err := proxy.SOCKS5("tcp", at, auth, plain)
		if err != nil {
			return nil, err
		}
		return d.(proxy.ContextDialer).DialContext(ctx, "tcp", to)
	case "http":
		conn, err := plain.DialContext(ctx, "tcp", at)
		if err != nil {
			return nil, err
		}
		return asked(ctx, conn, by, to)
	case "https":
		conn, err := (&tls.Dialer{NetDialer: plain}).DialContext(ctx, "tcp", at)
		if err != nil {
			return nil, err
		}
		return asked(ctx, conn, by, to)
	}
	return nil, fmt.Errorf("proxies of the scheme %q are unknown", by.Scheme)
}

// asked asks a proxy for a connection. It ends with the context.
func asked(ctx context.Context, conn net.Conn, by *url.URL, to string) (_ net.Conn, err error) {
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer func() {
		if stop(); err != nil {
			conn.Close()
		}
	}()
	if err := conn.SetDeadline(time.Now().Add(dialTime)); err != nil {
		return nil, err
	}
	q := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: to}, Host: to, Header: http.Header{}}
	if u := by.User; u != nil {
		password, _ := u.Password()
		q.SetBasicAuth(u.Username(), password)
		q.Header = http.Header{"Proxy-Authorization": q.Header["Authorization"]}
	}
	if err := q.Write(conn); err != nil {
		return nil, err
	}
	reader := bufio.NewReader(conn)
	a, err := http.ReadResponse(reader, q)
	if err != nil {
		return nil, err
	}
	if a.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %s", a.Status)
	}
	if err := conn.SetDeadline(time.Time{}); err != nil {
		return nil, err
	}
	return &begun{conn, reader}, nil
}

// begun is a connection of which some has been read ahead.
type begun struct {
	net.Conn
	reader *bufio.Reader
}

// Read implements io.Reader.
func (b *begun) Read(p []byte) (int, error) { return b.reader.Read(p) }

// CloseWrite tells the other end that nothing more comes.
func (b *begun) CloseWrite() error {
	closeWrite(b.Conn)
	return nil
}
