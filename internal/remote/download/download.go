// Package download gets files from addresses on the network, with retries.
//
// It checks nothing of what it is given but the answer's status: callers hold the bytes against a checksum. It sends no
// credentials.
package download

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Times that bound a download.
const (
	attempts  = 5
	firstWait = 300 * time.Millisecond
	answer    = 30 * time.Second // until the answer's head
	stall     = 60 * time.Second // without a byte of the body
)

// Error is an answer that is no file.
type Error struct {
	Address string
	Status  int // of HTTP
}

func (e *Error) Error() string {
	return fmt.Sprintf("fetching %s: the server answers %d %s", e.Address, e.Status, http.StatusText(e.Status))
}

// Denied reports whether the server refuses.
func (e *Error) Denied() bool {
	return e.Status == http.StatusUnauthorized || e.Status == http.StatusForbidden
}

// Temporary reports whether trying later may help.
func (e *Error) Temporary() bool {
	return e.Status >= 500 || e.Status == http.StatusTooManyRequests || e.Status == http.StatusRequestTimeout
}

// ErrUnreachable is wrapped where no answer came, after retries.
var ErrUnreachable = errors.New("cannot be reached")

// Client gets files. The zero value is ready.
type Client struct {
	Agent string // of the request's head
	http  http.Client
}

// New makes a client; proxies come from the environment.
func New(agent string) *Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = answer
	transport.DialContext = (&net.Dialer{Timeout: 15 * time.Second}).DialContext
	return &Client{Agent: agent, http: http.Client{Transport: transport}}
}

// Get returns what an address holds, with its size in bytes or -1. What may pass is tried again until the answer begins; a
// body that breaks off is an error of its reader.
func (c *Client) Get(ctx context.Context, address string) (io.ReadCloser, int64, error) {
	wait := backoff.NewExponentialBackOff()
	wait.InitialInterval = firstWait
	answer, err := backoff.Retry(ctx, func() (*http.Response, error) { return c.once(ctx, address) },
		backoff.WithBackOff(wait), backoff.WithMaxTries(attempts))
	if err != nil {
		return nil, 0, err
	}
	return &body{ReadCloser: answer.Body, timer: time.AfterFunc(stall, func() { answer.Body.Close() })}, answer.ContentLength, nil
}

func (c *Client) once(ctx context.Context, address string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, backoff.Permanent(err)
	}
	request.Header.Set("User-Agent", c.Agent)
	// The checksum is of the file as it lies there.
	request.Header.Set("Accept-Encoding", "identity")
	answer, err := c.http.Do(request)
	if err != nil {
		if ctx.Err() != nil {
			return nil, backoff.Permanent(ctx.Err())
		}
		var cause *url.Error
		if errors.As(err, &cause) {
			err = cause.Err
		}
		return nil, fmt.Errorf("fetching %s: the server %w: %w", address, ErrUnreachable, err)
	}
	if answer.StatusCode == http.StatusOK {
		return answer, nil
	}
	answer.Body.Close()
	refused := &Error{address, answer.StatusCode}
	if !refused.Temporary() {
		return nil, backoff.Permanent(refused)
	}
	return nil, refused
}

// body is closed when no byte comes for long, which ends its reader with an error.
type body struct {
	io.ReadCloser
	timer *time.Timer
}

func (b *body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	b.timer.Reset(stall)
	return n, err
}

func (b *body) Close() error {
	b.timer.Stop()
	return b.ReadCloser.Close()
}
