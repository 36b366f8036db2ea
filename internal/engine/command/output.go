package command

import (
	"bytes"
	"fmt"
	"slices"
	"sync"

	"imbricat/internal/ground/event"
	"imbricat/internal/ground/redact"
)

// Bounds on what a command prints, in bytes: of the beginning and of the end that are kept, and of one line as it is shown.
const (
	keptBeginning = 4 << 20
	keptEnd       = 4 << 20
	longestLine   = 64 << 10
)

// outputCapture takes what a command prints: it covers secrets, shows lines as they come, and keeps them within bounds.
type outputCapture struct {
	tell    event.Reporter
	secrets *redact.Redactor // in what is printed

	mutex     sync.Mutex
	line      []byte
	beginning []byte
	end       []byte // a ring once it is full
	at        int
	dropped   int64
}

// Write takes output. Lines are passed on whole, so that a secret is found however it was written.
func (p *outputCapture) Write(text []byte) (int, error) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	whole := bytes.LastIndexByte(text, '\n') + 1
	if p.line = append(p.line, text[:whole]...); whole > 0 {
		p.pass(true)
	}
	if p.line = append(p.line, text[whole:]...); len(p.line) > longestLine {
		p.pass(false)
	}
	return len(text), nil
}

// pass hands lines on. Of one without an end in sight as much stays back as a secret may need.
func (p *outputCapture) pass(whole bool) {
	p.line = p.secrets.Bytes(p.line)
	back := 0
	if longest := p.secrets.Longest(); !whole && longest > 0 {
		back = min(longest-1, len(p.line))
	}
	out := p.line[:len(p.line)-back]
	p.keep(out)
	p.tell.Sink.Send(event.Output{Task: p.tell.Task, Text: string(out)})
	p.line = append(p.line[:0], p.line[len(p.line)-back:]...)
}

func (p *outputCapture) keep(text []byte) {
	if room := keptBeginning - len(p.beginning); room > 0 {
		n := min(room, len(text))
		p.beginning, text = append(p.beginning, text[:n]...), text[n:]
	}
	for len(text) > 0 {
		if len(p.end) < keptEnd {
			n := min(keptEnd-len(p.end), len(text))
			p.end, text = append(p.end, text[:n]...), text[n:]
			continue
		}
		n := copy(p.end[p.at:], text)
		p.dropped += int64(n)
		p.at, text = (p.at+n)%keptEnd, text[n:]
	}
}

// Close passes on what has no end of line.
func (p *outputCapture) Close() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if len(p.line) > 0 {
		p.pass(true)
	}
}

// All returns what is kept.
func (p *outputCapture) All() []byte {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	out := slices.Clone(p.beginning)
	if p.dropped > 0 {
		out = fmt.Appendf(out, "\n… %d bytes are left out here …\n", p.dropped)
	}
	return append(append(out, p.end[p.at:]...), p.end[:p.at]...)
}
