package standin

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/spf13/afero"
	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/notice"
)

// Notify is an address that is told of pushes.
type Notify struct {
	To  string `yaml:"to"`
	Key string `yaml:"key"` // file with what signs what it is told, in the folder of the stand-in or absolute; empty: it is not signed
}

// UnmarshalYAML takes an address alone too.
func (n *Notify) UnmarshalYAML(node *yaml.Node) error {
	if node.Kind == yaml.ScalarNode {
		n.To = node.Value
	} else {
		type plain Notify
		if err := node.Decode((*plain)(n)); err != nil {
			return err
		}
	}
	return notice.CheckAddress(n.To)
}

// Notice is a push that an address was told of, or is still to be.
type Notice struct {
	ID      int       `json:"id"`
	Time    time.Time `json:"time"`  // of what is said here
	To      string    `json:"to"`    // with its query, which is not shown to anybody but the keeper
	State   string    `json:"state"` // waiting, told or failed
	Signed  bool      `json:"signed"`
	Tries   int       `json:"tries"`
	Status  int       `json:"status,omitempty"` // of the last answer
	Why     string    `json:"why,omitempty"`    // it failed
	Event   Event     `json:"event"`
	KeyFile string    `json:"keyFile,omitempty"`
}

// States of a notice.
const (
	noticeWaiting = "waiting"
	noticeTold    = "told"
	noticeFailed  = "failed"
)

// noticesFile holds what became of notices, a line each time that something did. When it is full it becomes the old one.
const (
	noticesFile    = "notices.jsonl"
	oldNoticesFile = "notices.old.jsonl"
	maxNotices     = 4 << 20 // bytes of one file
)

// post is what has notices sent, one after the other to each address.
type post struct {
	files afero.Fs
	dir   string
	tries uint
	wait  time.Duration

	mutex sync.Mutex
	last  int                     // number of a notice
	boxes map[string]chan *Notice // by address
	serve func(chan *Notice)      // begins to send what is in a box; nil: nobody does yet
}

// boxSize bounds how many notices wait for one address.
const boxSize = 1000

// within bounds how long it is tried to tell one address of one thing.
const within = 10 * time.Minute

// load reads what was told until now, and what is still to be: a stand-in that was killed goes on with that. What is older than an hour is
// of no use to anybody.
func (p *post) load() error {
	list, err := p.list()
	for i := range list {
		p.last = max(p.last, list[i].ID)
		if list[i].State == noticeWaiting && time.Since(list[i].Event.Time) < time.Hour {
			err = errors.Join(err, p.queue(&list[i]))
		}
	}
	return err
}

// list returns what became of each notice last, in their order. A line that a kill cut off is left out.
func (p *post) list() ([]Notice, error) {
	at := map[int]int{}
	var all []Notice
	for _, name := range []string{oldNoticesFile, noticesFile} {
		text, err := afero.ReadFile(p.files, name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		lines := bufio.NewScanner(bytes.NewReader(text))
		lines.Buffer(nil, maxNotices)
		for lines.Scan() {
			var n Notice
			if json.Unmarshal(lines.Bytes(), &n) != nil {
				continue
			}
			if i, known := at[n.ID]; known {
				all[i] = n
				continue
			}
			at[n.ID] = len(all)
			all = append(all, n)
		}
	}
	return all, nil
}

// write notes what became of a notice.
func (p *post) write(n *Notice) error {
	n.Time = time.Now().UTC()
	text, err := json.Marshal(n)
	if err != nil {
		return err
	}
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if info, err := p.files.Stat(noticesFile); err == nil && info.Size() > maxNotices {
		if err := p.files.Rename(noticesFile, oldNoticesFile); err != nil {
			return err
		}
	}
	return appendLine(p.files, noticesFile, text)
}

func appendLine(files afero.Fs, name string, text []byte) error {
	f, err := files.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	_, err = f.Write(append(text, '\n'))
	return errors.Join(err, f.Close())
}

// add has an address told of an event.
func (p *post) add(to Notify, e Event) error {
	p.mutex.Lock()
	p.last++
	n := &Notice{ID: p.last, To: to.To, KeyFile: to.Key, Signed: to.Key != "", State: noticeWaiting, Event: e}
	p.mutex.Unlock()
	if err := p.write(n); err != nil {
		return err
	}
	return p.queue(n)
}

func (p *post) queue(n *Notice) error {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	box := p.boxes[n.To]
	if box == nil {
		box = make(chan *Notice, boxSize)
		if p.boxes[n.To] = box; p.serve != nil {
			p.serve(box)
		}
	}
	select {
	case box <- n:
		return nil
	default:
		return fmt.Errorf("too many notices are waiting; %s is not told of %s", notice.Plain(n.To), n.Event.Digest)
	}
}

// deliver sends notices until the context ends. Addresses do not wait for one another.
func (s *Server) deliver(ctx context.Context) {
	p := s.post
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.serve = func(box chan *Notice) { go s.serveBox(ctx, box) }
	for _, box := range p.boxes {
		p.serve(box)
	}
}

func (s *Server) serveBox(ctx context.Context, box chan *Notice) {
	for {
		select {
		case <-ctx.Done():
			return
		case n := <-box:
			s.tell(ctx, n)
		}
	}
}

// tell sends one notice, and notes what became of it. One that a stop interrupts waits for the next start.
func (s *Server) tell(ctx context.Context, n *Notice) {
	body, err := json.Marshal(n.Event)
	l := notice.Letter{Address: n.To, Body: body}
	if err == nil && n.KeyFile != "" {
		l.Key, err = s.post.key(n.KeyFile)
	}
	if err == nil {
		var d notice.Delivery
		d, err = notice.Post(ctx, l, notice.Options{Agent: "imbricat-standin", Tries: s.post.tries, Within: within, Wait: s.post.wait})
		n.Tries, n.Status = d.Tries, d.Status
	}
	if ctx.Err() != nil {
		return
	}
	if n.State = noticeTold; err != nil {
		n.State, n.Why = noticeFailed, err.Error()
		s.complain(fmt.Errorf("telling of a push: %w", err))
	}
	if err := s.post.write(n); err != nil {
		s.complain(err)
	}
}

// key reads what signs notices.
func (p *post) key(name string) ([]byte, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(p.dir, name)
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("the key of the notice: %w", err)
	}
	if text = bytes.TrimRight(text, "\r\n"); len(text) == 0 {
		return nil, fmt.Errorf("the key of the notice: %s is empty", name)
	}
	return text, nil
}

// Notices lists the last of those whom pushes were told to, the newest last.
func (s *Server) Notices(most int) ([]Notice, error) {
	list, err := s.post.list()
	return list[max(0, len(list)-most):], err
}
