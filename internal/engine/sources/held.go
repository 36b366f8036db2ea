package sources

import (
	"bytes"
	"io"
	"sync"
	"sync/atomic"
)

const (
	// mostHeld bounds how many bytes of small files a build holds in memory, from the moment that they were hashed until they are packed.
	mostHeld = 32 << 20
	// smallFile is the size up to which a file is held: to open it again takes longer than its bytes do.
	smallFile = 8 << 10
	slabSize  = 256 << 10
)

// held are small files as they were when they were hashed, by path.
type held struct {
	room  *atomic.Int64 // that the build has left, in bytes
	mutex sync.Mutex
	files map[string][]byte
}

// slab holds files for one goroutine, many in one piece of memory.
type slab struct {
	held *held
	free []byte
}

// hold keeps a small file while there is room.
func (s *slab) hold(path string, content []byte) {
	if len(content) > smallFile {
		return
	}
	if s.held.room.Add(-int64(len(content))) < 0 {
		s.held.room.Add(int64(len(content)))
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
	h.room.Add(int64(len(content)))
	return io.NopCloser(bytes.NewReader(content)), is
}
