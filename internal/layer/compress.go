package layer

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"runtime"
	"sync"

	"crypto/sha256"

	"github.com/klauspost/compress/flate"

	"imbricat/internal/digest"
)

// Chunks are compressed apart from each other, so their borders decide the bytes: they depend on the tar alone. One is
// closed where an entry begins once it holds softChunk bytes, and inside a large file at hardChunk.
const (
	softChunk = 512 << 10
	hardChunk = 1 << 20
	level     = 6
)

// chunk is a piece of the tar on its way through compression.
type chunk struct {
	raw   []byte
	out   bytes.Buffer
	ready chan struct{} // closed when out is complete
	users sync.WaitGroup
}

// compressor writes one gzip member (RFC 1952) whose deflate stream (RFC 1951) is put together from chunks that were
// compressed in parallel: each ends in a sync marker, so that the next may follow at a byte border.
type compressor struct {
	current  *chunk
	free     chan *chunk // bounds memory
	jobs     chan *chunk
	hashes   chan *chunk
	order    chan *chunk
	workers  sync.WaitGroup
	finished chan struct{}

	// Set by the hashing goroutine, read after hashed is closed.
	hashed   chan struct{}
	diffID   digest.Digest
	crc      uint32
	unpacked int64

	// Set by the writing goroutine, read after finished is closed.
	w       io.Writer
	digest  digest.Digest
	size    int64
	failure error
	failed  chan struct{} // closed at the first failure to write
}

func newCompressor(w io.Writer) *compressor {
	n := runtime.GOMAXPROCS(0)
	c := &compressor{
		w: w, free: make(chan *chunk, 2*n+2), jobs: make(chan *chunk, 2*n+2), hashes: make(chan *chunk, 2*n+2),
		order: make(chan *chunk, 2*n+2), finished: make(chan struct{}), hashed: make(chan struct{}), failed: make(chan struct{}),
	}
	for range cap(c.free) {
		c.free <- &chunk{}
	}
	for range n {
		c.workers.Go(c.compress)
	}
	go c.hash()
	go c.write()
	return c
}

// Write adds bytes of the tar.
func (c *compressor) Write(p []byte) (int, error) {
	written := len(p)
	for len(p) > 0 {
		if c.current == nil {
			if err := c.next(); err != nil {
				return 0, err
			}
		}
		n := min(len(p), hardChunk-len(c.current.raw))
		c.current.raw = append(c.current.raw, p[:n]...)
		p = p[n:]
		if len(c.current.raw) == hardChunk {
			c.submit()
		}
	}
	return written, nil
}

// Boundary says that an entry begins here.
func (c *compressor) Boundary() error {
	if c.current != nil && len(c.current.raw) >= softChunk {
		c.submit()
	}
	return nil
}

func (c *compressor) next() error {
	select {
	case <-c.failed:
		return c.failure
	case c.current = <-c.free:
	}
	if c.current.raw == nil {
		c.current.raw = make([]byte, 0, hardChunk)
	}
	c.current.raw = c.current.raw[:0]
	c.current.out.Reset()
	c.current.ready = make(chan struct{})
	return nil
}

func (c *compressor) submit() {
	one := c.current
	c.current = nil
	one.users.Add(1)
	c.hashes <- one
	c.jobs <- one
	c.order <- one
}

func (c *compressor) compress() {
	deflater, err := flate.NewWriter(io.Discard, level)
	if err != nil {
		panic(err) // the level is a constant
	}
	for one := range c.jobs {
		deflater.Reset(&one.out)
		// Writing to memory does not fail.
		_, _ = deflater.Write(one.raw)
		_ = deflater.Flush()
		close(one.ready)
	}
}

func (c *compressor) hash() {
	defer close(c.hashed)
	sum := sha256.New()
	for one := range c.hashes {
		sum.Write(one.raw)
		c.crc = crc32.Update(c.crc, crc32.IEEETable, one.raw)
		c.unpacked += int64(len(one.raw))
		one.users.Done()
	}
	c.diffID = digest.FromHash(sum)
}

// gzipHeader has no time and no name, and says that the system is unknown.
var gzipHeader = []byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255}

// lastBlock is an empty stored block with the mark of the last one.
var lastBlock = []byte{1, 0, 0, 0xff, 0xff}

func (c *compressor) write() {
	defer close(c.finished)
	sum := sha256.New()
	put := func(p []byte) {
		if c.failure != nil {
			return
		}
		sum.Write(p)
		c.size += int64(len(p))
		if _, err := c.w.Write(p); err != nil {
			c.failure = err
			close(c.failed)
		}
	}
	put(gzipHeader)
	for one := range c.order {
		<-one.ready
		put(one.out.Bytes())
		one.users.Wait()
		c.free <- one
	}
	<-c.hashed
	trailer := binary.LittleEndian.AppendUint32(append([]byte(nil), lastBlock...), c.crc)
	put(binary.LittleEndian.AppendUint32(trailer, uint32(c.unpacked)))
	c.digest = digest.FromHash(sum)
}

// Close ends the stream and waits for every goroutine.
func (c *compressor) Close() (Packed, error) {
	if c.current != nil {
		c.submit()
	}
	close(c.jobs)
	close(c.hashes)
	close(c.order)
	c.workers.Wait()
	<-c.finished
	return Packed{
		Descriptor: digest.Descriptor{MediaType: MediaType, Digest: c.digest, Size: c.size},
		DiffID:     digest.DiffID(c.diffID),
		Unpacked:   c.unpacked,
	}, c.failure
}
