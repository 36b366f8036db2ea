// Package registry is a client of the OCI distribution specification.
//
// It moves blobs and manifests and lists tags. Plain HTTP is spoken to this machine alone, everything is verified by
// digest and size, and a secret is only ever sent to the host that asked for it.
package registry

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"imbricat/internal/credential"
)

// Logins finds the login for a registry host.
type Logins interface {
	Find(host string) (credential.Login, error)
}

// Client speaks to registries. It may be used by several goroutines.
type Client struct {
	http   *http.Client
	logins Logins
	agent  string
	log    *slog.Logger
	// wait is the first pause before a request is tried again.
	wait time.Duration

	mutex sync.Mutex
	auth  map[string]string // HOST + scope → Authorization header
}

// Options configure a client. Zero values are useful.
type Options struct {
	Logins Logins        // nil: none
	Agent  string        // what the program calls itself
	Wait   time.Duration // before the first retry; 0: 300 ms
	Log    *slog.Logger  // of requests, at level debug; nil: none
}

// ErrUnreachable is wrapped when a registry could not be reached, after retries.
var ErrUnreachable = errors.New("the registry could not be reached")

// New makes a client.
func New(o Options) *Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.DialContext = (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}).DialContext
	transport.ResponseHeaderTimeout = 2 * time.Minute
	transport.MaxIdleConnsPerHost = 16
	c := &Client{logins: o.Logins, agent: o.Agent, wait: o.Wait, auth: map[string]string{}}
	if c.wait == 0 {
		c.wait = 300 * time.Millisecond
	}
	if c.log = o.Log; c.log == nil {
		c.log = slog.New(slog.DiscardHandler)
	}
	c.http = &http.Client{Transport: transport, CheckRedirect: checkRedirect}
	return c
}

// checkRedirect follows a registry to where it keeps its blobs, without taking the secret along.
func checkRedirect(req *http.Request, via []*http.Request) error {
	if len(via) >= 6 {
		return errors.New("more than 5 redirects")
	}
	if err := checkScheme(req.URL); err != nil {
		return fmt.Errorf("the registry redirects: %w", err)
	}
	if via[0].URL.Scheme == "https" && req.URL.Scheme != "https" {
		return errors.New("the registry redirects from HTTPS to plain HTTP")
	}
	if req.URL.Host != via[0].URL.Host {
		req.Header.Del("Authorization")
	}
	return nil
}

func checkScheme(u *url.URL) error {
	if u.Scheme == "https" || u.Scheme == "http" && Loopback(u.Host) {
		return nil
	}
	return fmt.Errorf("%s://%s is neither HTTPS nor on this machine", u.Scheme, u.Host)
}

// request is one exchange, in a form that can be tried again.
type request struct {
	op     string // for messages
	where  string // HOST/REPOSITORY, for messages
	host   string
	scope  string // of a token, such as repository:tides/gauge:pull
	method string
	url    string
	header http.Header
	body   func() (io.ReadCloser, error) // nil: none
	size   int64
	want   []int // accepted statuses
}

// do sends a request until there is an answer that counts. The caller closes the answer's body.
func (c *Client) do(ctx context.Context, r request) (*http.Response, error) {
	return again(ctx, c, func() (*http.Response, error) { return c.authorized(ctx, r) })
}

// again tries an act until it succeeds, fails for good, or has failed four times, with growing waits.
func again[T any](ctx context.Context, c *Client, act func() (T, error)) (T, error) {
	policy := backoff.NewExponentialBackOff()
	policy.InitialInterval = c.wait
	value, err := backoff.Retry(ctx, func() (T, error) {
		value, err := act()
		return value, permanence(ctx, err)
	}, backoff.WithBackOff(policy), backoff.WithMaxTries(4))
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		err = permanent.Unwrap()
	}
	return value, err
}

// permanence marks errors that another try does not mend.
func permanence(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return backoff.Permanent(ctx.Err())
	}
	var answer *Error
	if errors.As(err, &answer) {
		if answer.Temporary() {
			return err
		}
		return backoff.Permanent(err)
	}
	if errors.Is(err, ErrUnreachable) {
		return err
	}
	return backoff.Permanent(err)
}

// authorized sends a request, and again with credentials where the registry asks for them.
func (c *Client) authorized(ctx context.Context, r request) (*http.Response, error) {
	key := r.host + " " + r.scope
	c.mutex.Lock()
	header := c.auth[key]
	c.mutex.Unlock()
	resp, err := c.send(ctx, r, header)
	if err != nil || resp.StatusCode != http.StatusUnauthorized {
		return c.judge(r, resp, err)
	}
	challenges := ParseChallenges(resp.Header.Values("WWW-Authenticate"))
	refused := c.failure(r, resp)
	header, err = c.answer(ctx, r, challenges)
	if err != nil {
		return nil, err
	}
	if header == "" {
		return nil, refused
	}
	resp, err = c.send(ctx, r, header)
	if err == nil && resp.StatusCode != http.StatusUnauthorized {
		c.mutex.Lock()
		c.auth[key] = header
		c.mutex.Unlock()
	}
	return c.judge(r, resp, err)
}

func (c *Client) judge(r request, resp *http.Response, err error) (*http.Response, error) {
	if err != nil {
		return nil, err
	}
	for _, status := range r.want {
		if resp.StatusCode == status {
			return resp, nil
		}
	}
	return nil, c.failure(r, resp)
}

// failure reads a bounded part of an answer into an error, and closes it.
func (c *Client) failure(r request, resp *http.Response) *Error {
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	resp.Body.Close()
	return &Error{Op: r.op, Where: r.where, Status: resp.StatusCode, Words: words(body)}
}

func (c *Client) send(ctx context.Context, r request, auth string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, r.method, r.url, nil)
	if err != nil {
		return nil, fmt.Errorf("%s: %s: %w", r.where, r.op, err)
	}
	for name, values := range r.header {
		req.Header[name] = values
	}
	req.Header.Set("User-Agent", c.agent)
	if auth != "" {
		req.Header.Set("Authorization", auth)
	}
	var source *sourceReader
	if r.body != nil {
		opened, err := r.body()
		if err != nil {
			return nil, err
		}
		source = &sourceReader{ReadCloser: opened}
		req.Body = source
		req.ContentLength, req.GetBody = r.size, r.body
		if r.size == 0 {
			req.Body.Close()
			req.Body = http.NoBody
		}
	}
	began := time.Now()
	resp, err := c.http.Do(req)
	if err != nil && source != nil && source.failure() != nil {
		return nil, fmt.Errorf("%s: %s: %w", r.where, r.op, source.failure())
	}
	if err != nil {
		c.log.Debug("registry", "method", r.method, "url", req.URL.Redacted(), "error", bare(err), "took", time.Since(began))
		return nil, fmt.Errorf("%s: %s: %w: %w", r.where, r.op, ErrUnreachable, bare(err))
	}
	c.log.Debug("registry", "method", r.method, "url", req.URL.Redacted(), "status", resp.StatusCode, "took", time.Since(began))
	return resp, nil
}

// sourceReader remembers when what is sent could not be read: that is no fault of the registry.
type sourceReader struct {
	io.ReadCloser
	mutex sync.Mutex
	err   error
}

func (s *sourceReader) Read(p []byte) (int, error) {
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

// bare drops the address from an error; the message names the operation and the place already.
func bare(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// answer makes the Authorization header for the first challenge that can be met.
func (c *Client) answer(ctx context.Context, r request, challenges []Challenge) (string, error) {
	var login credential.Login
	if c.logins != nil {
		var err error
		if login, err = c.logins.Find(r.host); err != nil {
			return "", err
		}
	}
	for _, challenge := range challenges {
		switch challenge.Scheme {
		case "bearer":
			return c.token(ctx, r, challenge, login)
		case "basic":
			if login.Given() {
				return basic(login), nil
			}
		}
	}
	return "", nil
}

func basic(l credential.Login) string {
	return "Basic " + base64.StdEncoding.EncodeToString([]byte(l.User+":"+l.Secret.Reveal()))
}

// token asks the issuer that a challenge names for a token, with the login where there is one, else as anybody.
func (c *Client) token(ctx context.Context, r request, challenge Challenge, login credential.Login) (string, error) {
	realm, err := url.Parse(challenge.Params["realm"])
	if err != nil || realm.Host == "" {
		return "", fmt.Errorf("%s: the registry's challenge names no issuer of tokens", r.where)
	}
	if err := checkScheme(realm); err != nil {
		return "", fmt.Errorf("%s: the registry's issuer of tokens: %w", r.where, err)
	}
	query := realm.Query()
	if service := challenge.Params["service"]; service != "" {
		query.Set("service", service)
	}
	scope := challenge.Params["scope"]
	if r.scope != "" {
		scope = r.scope
	}
	if scope != "" {
		for one := range strings.FieldsSeq(scope) {
			query.Add("scope", one)
		}
	}
	realm.RawQuery = query.Encode()
	ask := request{op: "asking for a token", where: r.where, host: realm.Host, method: http.MethodGet, url: realm.String(), want: []int{200}}
	header := ""
	if login.Given() {
		header = basic(login)
	}
	resp, err := c.send(ctx, ask, header)
	if resp, err = c.judge(ask, resp, err); err != nil {
		return "", err
	}
	defer resp.Body.Close()
	var answer struct {
		Token       string `json:"token"`
		AccessToken string `json:"access_token"`
	}
	if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(&answer); err != nil {
		return "", fmt.Errorf("%s: asking for a token: the answer is no JSON: %w", r.where, err)
	}
	if answer.Token == "" {
		answer.Token = answer.AccessToken
	}
	if answer.Token == "" || strings.ContainsAny(answer.Token, "\r\n") {
		return "", fmt.Errorf("%s: asking for a token: the answer holds none", r.where)
	}
	return "Bearer " + answer.Token, nil
}

// Ping asks a registry whether it is one and takes the login that the client has for it. asked tells whether the
// registry wanted one: where anybody may come in, a login is not checked.
func (c *Client) Ping(ctx context.Context, host string) (asked bool, err error) {
	r := request{op: "logging in", where: host, host: host, method: http.MethodGet, url: baseURL(host), want: []int{200}}
	resp, err := c.do(ctx, r)
	if err != nil {
		return false, err
	}
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.auth[r.host+" "+r.scope] != "", resp.Body.Close()
}
