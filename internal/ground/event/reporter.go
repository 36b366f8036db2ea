package event

import (
	"io"
	"sync"
	"time"
)

// Reporter tells of one task.
type Reporter struct {
	Sink Sink
	Task Task
}

// Started says that the task goes on to an act that moves total bytes; 0 is unknown.
func (r Reporter) Started(act string, total int64) {
	r.Sink.Send(Started{Task: r.Task, Act: act, Total: total})
}

// Progress returns what counts bytes of the act that goes on.
func (r Reporter) Progress() *Counter { return &Counter{reporter: r} }

// Counter reports how far an act is, at most some times a second. Several goroutines may add to it.
type Counter struct {
	reporter Reporter
	mutex    sync.Mutex
	done     int64
	last     time.Time
}

// Add adds bytes.
func (c *Counter) Add(n int64) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.done += n
	if now := time.Now(); now.Sub(c.last) > 100*time.Millisecond {
		c.last = now
		c.reporter.Sink.Send(Progress{Task: c.reporter.Task, Done: c.done})
	}
}

// Reader counts what is read of body.
func (c *Counter) Reader(body io.ReadCloser) io.ReadCloser { return &counted{body, c} }

type counted struct {
	io.ReadCloser
	counter *Counter
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.counter.Add(int64(n))
	return n, err
}
