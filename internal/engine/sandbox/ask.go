package sandbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"strconv"
	"time"

	"imbricat/internal/ground/poll"
)

// Ask is a question to what listens at a port of 127.0.0.1.
type Ask struct {
	Port   int
	At     string // an address that leads to the port; empty: the port itself
	Get    string // path of an HTTP request; empty: a connection is enough
	Status int    // that the answer must have
	Within time.Duration
}

// Address is where the question goes.
func (a *Ask) Address() string {
	if a.At != "" {
		return a.At
	}
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(a.Port))
}

// Wait asks until there is the answer. The error tells what was there last when the time was over.
func (a *Ask) Wait(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, a.Within)
	defer cancel()
	last := errors.New("nothing listens")
	err := poll.Until(ctx, 50*time.Millisecond, func() (bool, error) {
		err := a.once(ctx)
		if err != nil && ctx.Err() == nil {
			last = err
		}
		return err == nil, nil
	})
	if err != nil {
		return fmt.Errorf("no answer at %s within %s: %w", a.Address()+a.Get, a.Within, last)
	}
	return nil
}

// heardOut bounds how long an answer with the right status is read on.
const heardOut = 250 * time.Millisecond

func (a *Ask) once(ctx context.Context) error {
	if a.Get == "" {
		var d net.Dialer
		conn, err := d.DialContext(ctx, "tcp", a.Address())
		if err == nil {
			conn.Close()
		}
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+a.Address()+a.Get, nil)
	if err != nil {
		return err
	}
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := client.Do(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	// The status is all that counts. A server is heard out where that takes little; some answers have no end.
	enough := time.AfterFunc(heardOut, func() { answer.Body.Close() })
	defer enough.Stop()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<20))
	if answer.StatusCode != a.Status {
		return fmt.Errorf("it answers with status %d, not %d", answer.StatusCode, a.Status)
	}
	return nil
}
