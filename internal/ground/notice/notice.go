// Package notice tells an address of something by an HTTP POST, signed so that the receiver knows who sent it and when.
//
// The signature is an HMAC (RFC 2104) with SHA-256 over the time in seconds since 1970, a line feed, and the body. It follows no redirection,
// keeps no queue, and never decides what is worth telling.
package notice

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/cenkalti/backoff/v5"
)

// Headers of a notice.
const (
	TimeHeader      = "Imbricat-Time"      // when it was sent, in seconds since 1970
	SignatureHeader = "Imbricat-Signature" // hmac-sha256=HEX; absent where there is no key
	DeliveryHeader  = "Imbricat-Delivery"  // the same in all tries of one notice
)

const scheme = "hmac-sha256="

// Sign returns the signature of a body that is sent at a time.
func Sign(key []byte, at time.Time, body []byte) string {
	m := hmac.New(sha256.New, key)
	fmt.Fprintf(m, "%d\n", at.Unix())
	m.Write(body)
	return scheme + hex.EncodeToString(m.Sum(nil))
}

// Verify reports whether a notice was signed with a key, and not longer ago than within. The error says what is wrong.
func Verify(key []byte, h http.Header, body []byte, now time.Time, within time.Duration) error {
	seconds, err := strconv.ParseInt(h.Get(TimeHeader), 10, 64)
	if err != nil {
		return fmt.Errorf("the header %s is no time", TimeHeader)
	}
	at := time.Unix(seconds, 0)
	if !hmac.Equal([]byte(h.Get(SignatureHeader)), []byte(Sign(key, at, body))) {
		return errors.New("the signature is not of this key")
	}
	if age := now.Sub(at).Abs(); age > within {
		return fmt.Errorf("it was signed %s ago", age.Round(time.Second))
	}
	return nil
}

// CheckAddress reports whether notices may go to an address: https, or http on this machine.
func CheckAddress(text string) error {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" {
		return fmt.Errorf("%q is no address: write https://HOST/PATH", text)
	}
	local := u.Hostname() == "localhost" || net.ParseIP(u.Hostname()).IsLoopback()
	if u.Scheme != "https" && (u.Scheme != "http" || !local) {
		return fmt.Errorf("%s: notices go to https addresses, and to http ones on this machine alone", Plain(text))
	}
	return nil
}

// Plain is an address without what may be secret in it: its user and its query.
func Plain(text string) string {
	u, err := url.Parse(text)
	if err != nil {
		return "the address"
	}
	u.User, u.RawQuery, u.Fragment = nil, "", ""
	return u.String()
}

// Letter is a notice that is to be sent.
type Letter struct {
	Address string
	Key     []byte // none: it is not signed
	Body    []byte // JSON
}

// Options bound how hard it is tried.
type Options struct {
	Agent  string // how the request names this program; empty: as Go does
	Tries  uint
	Within time.Duration // all of them
	// Wait is how long it waits before the second try; 0: half a second. It grows from there.
	Wait time.Duration
}

// Delivery is what became of a letter.
type Delivery struct {
	ID     string
	Tries  int
	Status int // of the last answer; 0: there was none
}

// each bounds one try.
const each = 10 * time.Second

// Post sends a letter, again where the receiver could not be reached or says that it may work later. The error is that of the last try.
func Post(ctx context.Context, l Letter, o Options) (Delivery, error) {
	d := Delivery{ID: rand.Text()}
	client := &http.Client{Timeout: each, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	wait := backoff.NewExponentialBackOff()
	if o.Wait > 0 {
		wait.InitialInterval = o.Wait
	}
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		d.Tries++
		return struct{}{}, d.once(ctx, client, l, o.Agent)
	}, backoff.WithBackOff(wait), backoff.WithMaxTries(o.Tries), backoff.WithMaxElapsedTime(o.Within))
	var permanent *backoff.PermanentError
	if errors.As(err, &permanent) {
		err = permanent.Unwrap()
	}
	return d, err
}

func (d *Delivery) once(ctx context.Context, client *http.Client, l Letter, agent string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, l.Address, bytes.NewReader(l.Body))
	if err != nil {
		return backoff.Permanent(errors.New(Plain(l.Address) + " is no address"))
	}
	now := time.Now()
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set(DeliveryHeader, d.ID)
	r.Header.Set(TimeHeader, strconv.FormatInt(now.Unix(), 10))
	if len(l.Key) > 0 {
		r.Header.Set(SignatureHeader, Sign(l.Key, now, l.Body))
	}
	if agent != "" {
		r.Header.Set("User-Agent", agent)
	}
	resp, err := client.Do(r)
	var failed *url.Error
	if errors.As(err, &failed) {
		err = failed.Err // without the address, which may hold a secret
	}
	if err != nil {
		return fmt.Errorf("%s could not be reached: %w", Plain(l.Address), err)
	}
	resp.Body.Close()
	d.Status = resp.StatusCode
	if d.Status >= 200 && d.Status < 300 {
		return nil
	}
	err = fmt.Errorf("%s answers %s", Plain(l.Address), resp.Status)
	if d.Status >= 500 || d.Status == http.StatusTooManyRequests || d.Status == http.StatusRequestTimeout {
		return err
	}
	return backoff.Permanent(err)
}
