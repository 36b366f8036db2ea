// Package notify tells addresses what a run did: those that the recipe names, and those of the user's settings. What cannot be told is
// written down, and never makes a run fail.
package notify

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/ground/notice"
	"imbricat/internal/ground/redact"
	"imbricat/internal/output/receipt"
)

// Target is an address that is told of runs.
type Target struct {
	To string
	On []string // outcomes
	// Key returns what signs what it is told; nil: it is not signed.
	Key func(ctx context.Context) ([]byte, error)
}

// Bounds of telling one address.
const (
	tries  = 4
	within = 30 * time.Second
)

// Tell tells all targets at once what a run did, and notes in its receipt what became of that. Steps are left out of what they are told.
func Tell(ctx context.Context, agent string, targets []Target, r *receipt.Receipt, secrets *redact.Redactor) error {
	targets = slices.DeleteFunc(slices.Clone(targets), func(t Target) bool { return t.To == "" || !slices.Contains(t.On, r.Outcome) })
	if len(targets) == 0 {
		return nil
	}
	short := *r
	short.Steps, short.Notified = nil, nil
	body, err := json.Marshal(&short)
	if err != nil {
		return err
	}
	notified := make([]receipt.Notified, len(targets))
	var all errgroup.Group
	for i, t := range targets {
		all.Go(func() error {
			notified[i] = tell(ctx, agent, t, body)
			notified[i].Error = secrets.Text(notified[i].Error)
			return nil
		})
	}
	err = all.Wait()
	r.Notified = append(r.Notified, notified...)
	return err
}

func tell(ctx context.Context, agent string, t Target, body []byte) receipt.Notified {
	n := receipt.Notified{To: notice.Plain(t.To)}
	l := notice.Letter{Address: t.To, Body: body}
	if t.Key != nil {
		key, err := t.Key(ctx)
		if key = bytes.TrimRight(key, "\r\n"); err == nil && len(key) == 0 {
			err = fmt.Errorf("the secret that is to sign it is empty")
		}
		if err != nil {
			n.Error = err.Error()
			return n
		}
		l.Key, n.Signed = key, true
	}
	d, err := notice.Post(ctx, l, notice.Options{Agent: agent, Tries: tries, Within: within})
	n.Delivery, n.Tries, n.Status = d.ID, d.Tries, d.Status
	if err != nil {
		n.Error = err.Error()
	}
	return n
}
