package standin

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/spf13/afero"

	"imbricat/internal/ground/digest"
)

// Event is something that happened: who did what, when, to which digest.
type Event struct {
	Time       time.Time     `json:"time"`
	Who        string        `json:"who,omitempty"` // a user; none: nobody in particular
	What       string        `json:"what"`          // pull, push, upload, mount, delete, refused, create, open, close, clean
	Repository string        `json:"repository,omitempty"`
	Tag        string        `json:"tag,omitempty"`
	Digest     digest.Digest `json:"digest,omitempty"`
	Bytes      int64         `json:"bytes,omitempty"`
	From       string        `json:"from,omitempty"` // of a mount
	Why        string        `json:"why,omitempty"`  // of a refusal, or as whoever pushes says
}

// eventsFile holds events as JSON lines; when it is full it becomes the old one.
const (
	eventsFile    = "events.jsonl"
	oldEventsFile = "events.old.jsonl"
	maxEvents     = 8 << 20 // bytes of one file
)

// journal is the list of events.
type journal struct {
	files afero.Fs
	mutex sync.Mutex
}

func (j *journal) add(e Event) error {
	if e.Time.IsZero() {
		e.Time = time.Now().UTC()
	}
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	j.mutex.Lock()
	defer j.mutex.Unlock()
	if info, err := j.files.Stat(eventsFile); err == nil && info.Size() > maxEvents {
		if err := j.files.Rename(eventsFile, oldEventsFile); err != nil {
			return err
		}
	}
	f, err := j.files.OpenFile(eventsFile, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(append(text, '\n'))
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	return err
}

// list returns the last events that pass a test, the newest last. A line that a kill cut off is left out.
func (j *journal) list(most int, want func(Event) bool) ([]Event, error) {
	var all []Event
	for _, name := range []string{oldEventsFile, eventsFile} {
		text, err := afero.ReadFile(j.files, name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
			var e Event
			if json.Unmarshal(lines.Bytes(), &e) == nil && want(e) {
				all = append(all, e)
			}
		}
	}
	return all[max(0, len(all)-most):], nil
}

// note records what an exchange did, and tells those who want to know of pushes.
func (x *exchange) note(e Event) {
	e.Who, e.Repository = x.who.user, x.repository
	x.server.record(e)
}

func (s *Server) record(e Event) {
	e.Time = time.Now().UTC()
	if err := s.journal.add(e); err != nil {
		s.complain(err)
	}
	if e.What != "push" {
		return
	}
	for _, address := range append(s.rulesNow().Notify, s.o.Notify...) {
		select {
		case s.mail <- letter{address, e}:
		default:
			s.complain(fmt.Errorf("too many notifications are waiting; %s is not told of %s", address, e.Digest))
		}
	}
}

// letter is a notification on its way.
type letter struct {
	address string
	event   Event
}

// deliver sends notifications one after the other until the context ends.
func (s *Server) deliver(ctx context.Context) {
	client := &http.Client{Timeout: 10 * time.Second}
	for {
		select {
		case <-ctx.Done():
			return
		case one := <-s.mail:
			if _, err := backoff.Retry(ctx, func() (struct{}, error) { return struct{}{}, tell(ctx, client, one) }, backoff.WithMaxTries(3)); err != nil {
				s.complain(fmt.Errorf("telling %s of a push: %w", one.address, err))
			}
		}
	}
}

func tell(ctx context.Context, client *http.Client, one letter) error {
	text, err := json.Marshal(one.event)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, one.address, bytes.NewReader(text))
	if err != nil {
		return backoff.Permanent(err)
	}
	r.Header.Set("Content-Type", "application/json")
	resp, err := client.Do(r)
	if err != nil {
		return err
	}
	resp.Body.Close()
	if resp.StatusCode >= 300 {
		return fmt.Errorf("it answers %s", resp.Status)
	}
	return nil
}
