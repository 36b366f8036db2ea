// Package registry is a client of the OCI distribution specification.
//
// It moves blobs and manifests, goes on where a connection broke, lists and deletes tags, and finds referrers. Plain HTTP is
// spoken to this machine and to hosts that were named alone, everything is verified by digest and size while it streams, and
// a secret is only ever sent to the host that it is for.
package registry

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"sync"
	"syscall"
	"time"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/credential"
)

// Client speaks to registries. It may be used by several goroutines.
type Client struct {
	o       Options
	log     *slog.Logger
	issuers issuers

	mutex      sync.Mutex
	transports map[string]*http.Transport // by host; "" for all that have no settings of their own
	left       map[string]bool            // mirrors that failed
}

// Options configure a client. Zero values are useful.
type Options struct {
	Logins   credential.Source          // nil: none
	Settings func(host string) Settings // nil: none
	Uploads  Uploads                    // nil: uploads are not gone on with by a later run
	Tags     TagMemory                  // nil: nobody wants to know of tags
	Agent    string                     // what the program calls itself
	Wait     time.Duration              // before the first retry; 0: 300 ms
	Patience time.Duration              // over all tries of one request; 0: five minutes
	Stall    time.Duration              // how long no byte may move; 0: a minute
	Log      *slog.Logger               // of requests, at level debug; nil: none
}

// Settings are what a user chose for one registry.
type Settings struct {
	PlainHTTP bool        // HTTP without TLS is spoken to it
	Mirrors   []string    // HOST[/PREFIX] that are asked first when something is pulled, in this order
	TLS       *tls.Config // authorities and a client's certificate; nil: the system's authorities
	Parallel  int         // blobs that move at a time; 0: as whoever moves them likes
	Issuer    string      // SCHEME://HOST of the issuer of tokens that logins may be sent to, besides the registry itself
	Chunk     int64       // bytes of one request of an upload; 0: all in one, and less where the registry wants that
}

// Uploads remembers where uploads stand, so that a later run goes on with them.
type Uploads interface {
	// TakeUpload opens what is remembered of a blob's upload to a repository, HOST/REPOSITORY. It is nil while somebody
	// else works on that upload.
	TakeUpload(repository string, blob digest.Digest) Upload
}

// Upload is what is remembered of one upload.
type Upload interface {
	// Address is where the upload was begun; "" where it was not.
	Address() string
	// Note keeps where it stands.
	Note(address string)
	// Release ends the work on it; what is finished is forgotten.
	Release(finished bool)
}

// ErrUnreachable is wrapped when a registry could not be reached, after retries.
var ErrUnreachable = errors.New("the registry could not be reached")

// ErrRefused is wrapped when the client itself refuses to go on, for it would not be safe.
var ErrRefused = errors.New("refused")

// New makes a client.
func New(o Options) *Client {
	if o.Wait == 0 {
		o.Wait = 300 * time.Millisecond
	}
	if o.Patience == 0 {
		o.Patience = 5 * time.Minute
	}
	if o.Stall == 0 {
		o.Stall = time.Minute
	}
	c := &Client{o: o, log: o.Log, transports: map[string]*http.Transport{}, left: map[string]bool{}}
	if c.log == nil {
		c.log = slog.New(slog.DiscardHandler)
	}
	c.issuers.tokens = map[string]token{}
	return c
}

func (c *Client) settings(host string) Settings {
	if c.o.Settings == nil {
		return Settings{}
	}
	return c.o.Settings(host)
}

// Parallel is how many blobs are to move at a time to or from a host; 0 where nobody chose.
func (c *Client) Parallel(host string) int { return c.settings(host).Parallel }

// transport returns the connections to a host: its own where it has its own authorities or certificate.
func (c *Client) transport(host string) *http.Transport {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	own := c.settings(host).TLS
	if own == nil {
		host = ""
	}
	t := c.transports[host]
	if t == nil {
		t = http.DefaultTransport.(*http.Transport).Clone()
		dialer := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second, Control: checkAddress}
		t.DialContext = dialer.DialContext
		t.MaxIdleConnsPerHost = 32
		t.WriteBufferSize, t.ReadBufferSize = 64<<10, 64<<10
		t.DisableCompression = true
		if own != nil {
			t.TLSClientConfig = own.Clone()
		}
		c.transports[host] = t
	}
	return t
}

// byHost sends each request, those after a redirect too, over the connections to its own host: a client's certificate is for
// one registry alone.
type byHost struct{ client *Client }

func (b byHost) RoundTrip(r *http.Request) (*http.Response, error) {
	return b.client.transport(r.URL.Host).RoundTrip(r)
}

// checkAddress refuses addresses at which no registry is: those of the link, where clouds tell machines their secrets.
func checkAddress(_, address string, _ syscall.RawConn) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return err
	}
	if ip := net.ParseIP(host); ip != nil && (ip.IsLinkLocalUnicast() || ip.IsMulticast()) {
		return fmt.Errorf("%w: %s is not an address of a registry", ErrRefused, host)
	}
	return nil
}

// plain reports whether plain HTTP may be spoken to a host.
func (c *Client) plain(host string) bool { return Loopback(host) || c.settings(host).PlainHTTP }

func (c *Client) baseURL(host string) string {
	scheme := "https"
	if s := c.settings(host); s.PlainHTTP || Loopback(host) && s.TLS == nil {
		scheme = "http"
	}
	return scheme + "://" + host + "/v2/"
}

// checkRedirect follows a registry to where it keeps its blobs, without taking the secret along.
func (c *Client) checkRedirect(req *http.Request, via []*http.Request) error {
	if len(via) >= 6 {
		return errors.New("more than 5 redirects")
	}
	if err := c.checkTarget(via[0].URL, req.URL); err != nil {
		return fmt.Errorf("the registry redirects: %w", err)
	}
	if req.URL.Host != via[0].URL.Host {
		req.Header.Del("Authorization")
	}
	return nil
}

// checkTarget makes sure that a registry may send us to an address: not from TLS to plain HTTP, not from elsewhere to this
// machine, and nowhere but to what speaks HTTP.
func (c *Client) checkTarget(from, to *url.URL) error {
	switch {
	case to.Scheme != "https" && (to.Scheme != "http" || !c.plain(to.Host)):
		return fmt.Errorf("%w: %s://%s is neither HTTPS nor a host that plain HTTP is allowed for", ErrRefused, to.Scheme, to.Host)
	case from.Scheme == "https" && to.Scheme != "https":
		return fmt.Errorf("%w: %s://%s comes down from HTTPS to plain HTTP", ErrRefused, to.Scheme, to.Host)
	case Loopback(to.Host) && !Loopback(from.Host):
		return fmt.Errorf("%w: %s is this machine itself", ErrRefused, to.Host)
	}
	return nil
}

// request is one exchange, in a form that can be tried again.
type request struct {
	op         string // for messages
	where      string // HOST/REPOSITORY, for messages
	host       string
	repository string // whose login is used
	scope      string // of a token, such as repository:tides/gauge:pull
	method     string
	url        string
	header     http.Header
	body       func() (io.ReadCloser, error) // nil: none
	size       int64
	bulk       bool  // what moves may be large, so the time that it takes has no bound as long as something moves
	want       []int // accepted statuses
}

func (c *Client) send(ctx context.Context, r request, auth string) (*http.Response, error) {
	ctx, alarm := c.alarm(ctx, r)
	resp, err := c.exchange(ctx, r, auth, alarm)
	if err != nil {
		return nil, alarm.end(err)
	}
	resp.Body = &livelyBody{resp.Body, alarm}
	return resp, nil
}

func (c *Client) exchange(ctx context.Context, r request, auth string, alarm *alarm) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, r.method, r.url, nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %s: %w", r.where, r.op, err)
	}
	for name, values := range r.header {
		req.Header[name] = values
	}
	req.Header.Set("User-Agent", c.o.Agent)
	if auth != "" {
		req.Header.Set("Authorization", auth)
	}
	source, err := r.attach(req, alarm)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	client := http.Client{Transport: byHost{c}, CheckRedirect: c.checkRedirect}
	resp, err := client.Do(req)
	switch {
	case err != nil && source != nil && source.failure() != nil:
		return nil, fmt.Errorf("%s: %s: %w", r.where, r.op, source.failure())
	case errors.Is(err, ErrRefused):
		return nil, fmt.Errorf("%s: %s: %w", r.where, r.op, bare(err))
	case err != nil:
		c.log.Debug("registry", "method", r.method, "url", shown(req.URL), "error", bare(err), "took", time.Since(began))
		return nil, fmt.Errorf("%s: %s: %w: %w", r.where, r.op, ErrUnreachable, bare(err))
	}
	c.log.Debug("registry", "method", r.method, "url", shown(req.URL), "status", resp.StatusCode, "took", time.Since(began))
	return resp, nil
}

// shown is an address without what may be a secret: signatures stand in queries.
func shown(u *url.URL) string {
	bare := *u
	bare.User, bare.RawQuery = nil, ""
	return bare.String()
}

// attach gives a request its body.
func (r *request) attach(req *http.Request, alarm *alarm) (*sourceReader, error) {
	if r.body == nil {
		return nil, nil
	}
	opened, err := r.body()
	if err != nil {
		return nil, err
	}
	source := &sourceReader{ReadCloser: opened, alarm: alarm}
	req.Body, req.ContentLength, req.GetBody = source, r.size, r.body
	if r.size == 0 {
		req.Body.Close()
		req.Body = http.NoBody
	}
	return source, nil
}

// sourceReader remembers when what is sent could not be read: that is no fault of the registry.
type sourceReader struct {
	io.ReadCloser
	alarm *alarm
	mutex sync.Mutex
	err   error
}

func (s *sourceReader) Read(p []byte) (int, error) {
	s.alarm.putOff()
	n, err := s.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		s.mutex.Lock()
		s.err = err
		s.mutex.Unlock()
	}
	return n, err
}

func (s *sourceReader) failure() error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.err
}

// alarm ends an exchange in which no byte has moved for a while.
type alarm struct {
	timer  *time.Timer
	whole  *time.Timer // bounds an exchange of small documents as a whole; nil: nothing does
	after  time.Duration
	answer time.Duration // what the registry may take for its answer: it verifies what it was sent, and may copy it
	cancel context.CancelCauseFunc
	ctx    context.Context
}

// slowest is how fast a registry has to be at least when it verifies an upload, in bytes a second.
const slowest = 10 << 20

func (c *Client) alarm(ctx context.Context, r request) (context.Context, *alarm) {
	ctx, cancel := context.WithCancelCause(ctx)
	a := &alarm{after: c.o.Stall, answer: c.o.Stall + 2*time.Minute + time.Duration(r.size/slowest)*time.Second, cancel: cancel, ctx: ctx}
	a.timer = time.AfterFunc(a.answer, func() { cancel(fmt.Errorf("%w: no byte moved for a long time", ErrUnreachable)) })
	if !r.bulk {
		a.whole = time.AfterFunc(c.o.Patience, func() { cancel(fmt.Errorf("%w: the answer was not whole after %s", ErrUnreachable, c.o.Patience)) })
	}
	return ctx, a
}

func (a *alarm) putOff() { a.timer.Reset(a.answer) }

// moved is putOff while an answer's body comes: there is nothing that a registry needs time for.
func (a *alarm) moved() { a.timer.Reset(a.after) }

// end stops the alarm, and says so where it was what broke the exchange.
func (a *alarm) end(err error) error {
	a.timer.Stop()
	if a.whole != nil {
		a.whole.Stop()
	}
	if cause := context.Cause(a.ctx); err != nil && errors.Is(cause, ErrUnreachable) {
		err = cause
	}
	a.cancel(nil)
	return err
}

// livelyBody is an answer's body under an alarm.
type livelyBody struct {
	io.ReadCloser
	alarm *alarm
}

func (l *livelyBody) Read(p []byte) (int, error) {
	l.alarm.moved()
	n, err := l.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		if cause := context.Cause(l.alarm.ctx); errors.Is(cause, ErrUnreachable) {
			err = cause
		}
	}
	return n, err
}

func (l *livelyBody) Close() error {
	err := l.ReadCloser.Close()
	_ = l.alarm.end(nil)
	return err
}

// bare drops the address from an error; the message names the operation and the place already.
func bare(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}
