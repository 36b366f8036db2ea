package standin

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io/fs"
	"slices"
	"sync"
	"time"

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
	return appendLine(j.files, eventsFile, text)
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

// Keeper is who does what the registry's own commands do. No user is called so: names have no blanks.
const Keeper = "the keeper"

// byKeeper notes what the keeper did.
func (s *Server) byKeeper(e Event) {
	e.Who = Keeper
	s.record(e)
}

func (s *Server) record(e Event) {
	e.Time = time.Now().UTC()
	if err := s.journal.add(e); err != nil {
		s.complain(err)
	}
	if e.What != "push" {
		return
	}
	for _, to := range append(slices.Clone(s.rulesNow().Notify), s.o.Notify...) {
		if err := s.post.add(to, e); err != nil {
			s.complain(err)
		}
	}
}
