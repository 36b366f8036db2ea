package registry

import (
	"context"
	"crypto/tls"
	"errors"
	"net/http"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Bounds of trying again.
const (
	tries       = 5
	maxWait     = 20 * time.Second
	maxToldWait = time.Minute // what a registry may ask us to wait
)

// do sends a request until there is an answer that counts. The caller closes the answer's body.
func (c *Client) do(ctx context.Context, r request) (*http.Response, error) {
	return again(ctx, c, func() (*http.Response, error) { return c.authorized(ctx, r) })
}

// again tries an act until it succeeds, fails for good, or has failed too often or too long, with growing, jittered waits.
func again[T any](ctx context.Context, c *Client, act func() (T, error)) (T, error) {
	policy := backoff.NewExponentialBackOff()
	policy.InitialInterval, policy.MaxInterval, policy.Multiplier = c.o.Wait, maxWait, 2
	value, err := backoff.Retry(ctx, func() (T, error) {
		value, err := act()
		return value, permanence(ctx, err)
	}, backoff.WithBackOff(policy), backoff.WithMaxTries(tries), backoff.WithMaxElapsedTime(c.o.Patience))
	return value, unwrapped(err)
}

// unwrapped gives the error that an act ended with, without what was added for trying again.
func unwrapped(err error) error {
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		return permanent.Unwrap()
	}
	if told, is := err.(*toldToWait); is {
		return told.error
	}
	return err
}

// toldToWait is an error with the time that the registry wants to be left alone.
type toldToWait struct {
	error
	wait *backoff.RetryAfterError
}

func (t *toldToWait) Unwrap() []error { return []error{t.error, t.wait} }

// permanence marks errors that another try does not mend.
func permanence(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return backoff.Permanent(context.Cause(ctx))
	}
	if !passes(err) {
		return backoff.Permanent(err)
	}
	var answer *Error
	if errors.As(err, &answer) && answer.Wait > 0 {
		return &toldToWait{err, &backoff.RetryAfterError{Duration: min(answer.Wait, maxToldWait)}}
	}
	return err
}

// passes reports whether the same act may succeed later.
func passes(err error) bool {
	var answer *Error
	if errors.As(err, &answer) {
		return answer.Temporary()
	}
	var untrusted *tls.CertificateVerificationError
	return errors.Is(err, ErrUnreachable) && !errors.As(err, &untrusted)
}

// retryAfter reads the header of that name (RFC 9110, 10.2.3): seconds, or a date.
func retryAfter(h http.Header) time.Duration {
	text := h.Get("Retry-After")
	if seconds, err := strconv.Atoi(text); err == nil && seconds >= 0 {
		return min(time.Duration(seconds)*time.Second, time.Hour)
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(0, min(time.Until(at), time.Hour))
	}
	return 0
}
