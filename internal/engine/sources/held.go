package sources

import (
	"bytes"
	"io"
	"sync"
	"sync/atomic"
)

const (
	// mostHeld bounds what small files of one selection are held in memory from the moment that they were hashed until they are packed, in
	// bytes.
	mostHeld = 32 << 20
	// smallFile is the size up to which a file is held: to open it again takes longer than its bytes do.
	smallFile = 8 << 10
	slabSize  = 256 << 10
)

// held are small files as they were when they were hashed, by path.
type held struct {
	room  atomic.Int64 // left, in bytes
	mutex sync.Mutex
	files map[string][]byte
}

func newHeld(files int) *held {
	h := &held{files: make(map[string][]byte, files)}
	h.room.Store(mostHeld)
	return h
}

// slab holds files for one goroutine, many in one piece of memory.
type slab struct {
	held *held
	free []byte
}

// hold keeps a small file while there is room.
func (s *slab) hold(path string, content []byte) {
	if len(content) > smallFile || s.held.room.Add(-int64(len(content))) < 0 {
		return
	}
	if len(s.free) < len(content) {
		s.free = make([]byte, slabSize)
	}
	n := copy(s.free, content)
	s.held.mutex.Lock()
	s.held.files[path] = s.free[:n:n]
	s.held.mutex.Unlock()
	s.free = s.free[n:]
}

// take returns a file that is held, once: who reads it again opens it.
func (h *held) take(path string) (io.ReadCloser, bool) {
	h.mutex.Lock()
	content, is := h.files[path]
	delete(h.files, path)
	h.mutex.Unlock()
	return io.NopCloser(bytes.NewReader(content)), is
}
