package standin

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"
)

// Faults are what a stand-in does wrong on purpose. A rate is a chance from 0 to 1 for each request.
type Faults struct {
	Latency    time.Duration   // before every answer
	Bandwidth  int64           // bytes in a second, each way and for each request; 0: no bound
	Status     map[int]float64 // answers with an HTTP status, by rate
	RetryAfter time.Duration   // what 429 and 503 tell to wait
	Break      float64         // rate of connections that break
	BreakAfter int64           // at most so many bytes into a body; 0: 64 KiB
	Wrong      float64         // rate of blobs and manifests with a wrong byte
	Expired    float64         // rate of tokens that are taken for expired
	Seed       uint64
}

// ParseFaults reads faults such as "latency=50ms,bandwidth=1MB,503=0.1,break=0.2,break-after=4096,wrong=0.05,expired=0.1".
func ParseFaults(text string) (Faults, error) {
	f := Faults{Status: map[int]float64{}}
	for _, one := range splitWords(text) {
		name, value, _ := strings.Cut(one, "=")
		var err error
		switch name {
		case "latency":
			f.Latency, err = time.ParseDuration(value)
		case "retry-after":
			f.RetryAfter, err = time.ParseDuration(value)
		case "bandwidth":
			f.Bandwidth, err = parseSize(value)
		case "break-after":
			f.BreakAfter, err = parseSize(value)
		case "break":
			f.Break, err = parseRate(value)
		case "wrong":
			f.Wrong, err = parseRate(value)
		case "expired":
			f.Expired, err = parseRate(value)
		case "seed":
			f.Seed, err = strconv.ParseUint(value, 10, 64)
		default:
			status, bad := strconv.Atoi(name)
			if bad != nil || status < 400 || status > 599 {
				return f, fmt.Errorf("a fault %q is not known: latency, bandwidth, a status such as 503, retry-after, break, break-after, wrong, expired, seed", name)
			}
			f.Status[status], err = parseRate(value)
		}
		if err != nil {
			return f, fmt.Errorf("the fault %s: %q cannot be read", name, value)
		}
	}
	return f, nil
}

func parseSize(text string) (int64, error) {
	n, err := humanize.ParseBytes(text)
	return int64(n), err
}

func parseRate(text string) (float64, error) {
	rate, err := strconv.ParseFloat(text, 64)
	if err == nil && (rate < 0 || rate > 1) {
		err = strconv.ErrRange
	}
	return rate, err
}

// faults decides by chance, in a sequence that the seed fixes.
type faults struct {
	Faults
	mutex  sync.Mutex
	random *rand.Rand
}

func newFaults(f Faults) *faults {
	if f.BreakAfter == 0 {
		f.BreakAfter = 64 << 10
	}
	return &faults{Faults: f, random: rand.New(rand.NewPCG(f.Seed, 1))}
}

func (f *faults) chance(rate float64) bool {
	if rate == 0 {
		return false
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.random.Float64() < rate
}

func (f *faults) upTo(n int64) int64 {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	return f.random.Int64N(n + 1)
}

func (f *faults) expired() bool { return f.chance(f.Expired) }

// spoil puts faults around an exchange. Without a request a fault has answered; finish comes after the answer.
func (f *faults) spoil(w http.ResponseWriter, r *http.Request) (http.ResponseWriter, *http.Request, func()) {
	finish := func() {}
	if !strings.HasPrefix(r.URL.Path, "/v2/") {
		return w, r, finish
	}
	time.Sleep(f.Latency)
	for status := 400; status < 600 && len(f.Status) > 0; status++ { // in an order that is always the same
		if rate, named := f.Status[status]; named && f.chance(rate) {
			if f.RetryAfter > 0 {
				w.Header().Set("Retry-After", strconv.Itoa(int((f.RetryAfter+time.Second-1)/time.Second)))
			}
			writeProblem(w, refuse(status, "UNKNOWN", "a fault on purpose"))
			return w, nil, finish
		}
	}
	if f.Bandwidth > 0 {
		r.Body = &slowReader{r.Body, f.Bandwidth}
		w = &slowWriter{w, f.Bandwidth}
	}
	if f.chance(f.Break) {
		cut := &cut{left: f.upTo(f.BreakAfter)}
		r.Body, w = &cutReader{r.Body, cut}, &cutWriter{w, cut}
		finish = func() {
			if cut.off {
				panic(http.ErrAbortHandler)
			}
		}
	}
	if r.Method == http.MethodGet && f.chance(f.Wrong) {
		w = &wrongWriter{ResponseWriter: w, at: f.upTo(f.BreakAfter)}
	}
	return w, r, finish
}

// cut counts the bytes until a connection breaks.
type cut struct {
	left int64
	off  bool
}

type cutReader struct {
	io.ReadCloser
	cut *cut
}

func (c *cutReader) Read(p []byte) (int, error) {
	if c.cut.off || c.cut.left == 0 && len(p) > 0 {
		// A body that is at its end has nothing to break.
		var one [1]byte
		if n, err := c.ReadCloser.Read(one[:]); n == 0 && err == io.EOF {
			return 0, err
		}
		c.cut.off = true
		return 0, io.ErrUnexpectedEOF
	}
	n, err := c.ReadCloser.Read(p[:min(int64(len(p)), c.cut.left)])
	c.cut.left -= int64(n)
	return n, err
}

type cutWriter struct {
	http.ResponseWriter
	cut *cut
}

func (c *cutWriter) Write(p []byte) (int, error) {
	if c.cut.off {
		panic(http.ErrAbortHandler) // what broke while it came gets no answer
	}
	if int64(len(p)) <= c.cut.left {
		n, err := c.ResponseWriter.Write(p)
		c.cut.left -= int64(n)
		return n, err
	}
	_, _ = c.ResponseWriter.Write(p[:c.cut.left])
	if flusher, ok := c.ResponseWriter.(http.Flusher); ok {
		flusher.Flush()
	}
	panic(http.ErrAbortHandler)
}

// wrongWriter changes one byte.
type wrongWriter struct {
	http.ResponseWriter
	at int64
}

func (w *wrongWriter) Write(p []byte) (int, error) {
	at := w.at
	if w.at -= int64(len(p)); at < 0 || at >= int64(len(p)) {
		return w.ResponseWriter.Write(p)
	}
	spoiled := append([]byte{}, p...)
	spoiled[at] ^= 0x20
	return w.ResponseWriter.Write(spoiled)
}

type slowReader struct {
	io.ReadCloser
	rate int64
}

func (s *slowReader) Read(p []byte) (int, error) {
	n, err := s.ReadCloser.Read(p[:min(len(p), 16<<10)])
	time.Sleep(time.Duration(n) * time.Second / time.Duration(s.rate))
	return n, err
}

type slowWriter struct {
	http.ResponseWriter
	rate int64
}

func (s *slowWriter) Write(p []byte) (int, error) {
	time.Sleep(time.Duration(len(p)) * time.Second / time.Duration(s.rate))
	return s.ResponseWriter.Write(p)
}
