package layer

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding"
	"encoding/binary"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"runtime"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"imbricat/internal/ground/digest"
)

const gzipLevel = 6

// chunk is a piece of the tar on its way into the blob.
type chunk struct {
	index int
	raw   []byte
	out   []byte
	ready chan struct{} // closed when out is complete
	users sync.WaitGroup
	old   int // number of the chunk of the earlier layer to copy, or -1
}

// compressor writes chunks in their order, compressed in parallel. With Gzip they make one member (RFC 1952) whose
// deflate stream (RFC 1951) is put together from them: each ends in a sync marker, so that the next may follow at a byte
// border. With Zstd each is a frame (RFC 8878); frames that follow each other unpack to what they hold together.
type compressor struct {
	kind     Compression
	pieces   []piece
	table    *Table
	previous *Previous
	offsets  []int64          // of the earlier layer's chunks in its blob
	known    map[[32]byte]int // the earlier layer's chunks
	prefix   int              // so many chunks at the start are the earlier layer's

	free    chan *chunk // bounds memory
	jobs    chan *chunk
	hashes  chan *chunk
	order   chan *chunk
	workers sync.WaitGroup

	// Set by the hashing goroutine, read after hashed is closed.
	hashed   chan struct{}
	tar      hash.Hash
	crc      uint32
	unpacked int64

	// Set by the writing goroutine, read after finished is closed.
	finished chan struct{}
	w        io.Writer
	blob     hash.Hash
	size     int64
	copied   int64
	failure  error
	failed   chan struct{} // closed at the first failure to write
}

func newCompressor(w io.Writer, o Options, pieces []piece) (*compressor, error) {
	n := runtime.GOMAXPROCS(0)
	if o.Compression == "" {
		o.Compression = Gzip
	}
	c := &compressor{
		kind: o.Compression, pieces: pieces, w: w, tar: sha256.New(), blob: sha256.New(),
		table: &Table{Format: o.Compression.Format(), Chunks: make([]Chunk, len(pieces))},
		free:  make(chan *chunk, 2*n+2), jobs: make(chan *chunk, 2*n+2), hashes: make(chan *chunk, 2*n+2),
		order: make(chan *chunk, 2*n+2), finished: make(chan struct{}), hashed: make(chan struct{}), failed: make(chan struct{}),
	}
	if err := c.follow(o.Previous); err != nil {
		return nil, err
	}
	for range cap(c.free) {
		c.free <- &chunk{}
	}
	for range n {
		c.workers.Go(c.compress)
	}
	go c.hash()
	go c.write()
	return c, nil
}

// follow finds what the earlier layer has in common, and takes the hashes over where the common start ends.
func (c *compressor) follow(p *Previous) error {
	if p == nil || p.Table.Format != c.table.Format {
		return nil
	}
	c.previous, c.known = p, make(map[[32]byte]int, len(p.Table.Chunks))
	offset := int64(len(c.head()))
	for i := range p.Table.Chunks {
		c.offsets = append(c.offsets, offset)
		c.known[p.Table.Chunks[i].Key] = i
		offset += p.Table.Chunks[i].Packed
	}
	limit := min(len(c.pieces), len(p.Table.Chunks))
	for c.prefix < limit && c.pieces[c.prefix].key == p.Table.Chunks[c.prefix].Key {
		c.prefix++
	}
	for c.prefix > 0 && c.prefix < len(c.pieces) && c.pieces[c.prefix].offset > 0 {
		c.prefix-- // a file is read from its start
	}
	copy(c.table.Chunks, p.Table.Chunks[:c.prefix])
	for i := range c.prefix {
		c.unpacked += c.table.Chunks[i].Raw
	}
	if c.prefix == 0 {
		return nil
	}
	last := &c.table.Chunks[c.prefix-1]
	c.crc = last.CRC
	for _, resume := range []struct {
		hash  hash.Hash
		state *sha2State
	}{{c.tar, &last.TarState}, {c.blob, &last.BlobState}} {
		if err := resume.hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(resume.state[:]); err != nil {
			return fmt.Errorf("%w: %w", ErrPrevious, err)
		}
	}
	return nil
}

// each makes the bytes of every piece and hands them on. The common start needs none.
func (c *compressor) each(ctx context.Context, fill func(ctx context.Context, p piece, raw *[]byte) error) error {
	for i := range c.pieces {
		var one *chunk
		select {
		case <-c.failed:
			return c.failure
		case <-ctx.Done():
			return ctx.Err()
		case one = <-c.free:
		}
		one.index, one.old, one.ready = i, -1, make(chan struct{})
		one.raw, one.out = one.raw[:0], one.out[:0]
		if i < c.prefix {
			one.old = i
			close(one.ready)
			c.order <- one
			continue
		}
		if err := fill(ctx, c.pieces[i], &one.raw); err != nil {
			return err
		}
		if old, known := c.known[c.pieces[i].key]; known && c.previous.Table.Chunks[old].Raw == int64(len(one.raw)) {
			one.old = old
		}
		one.users.Add(1)
		c.hashes <- one
		if one.old >= 0 {
			close(one.ready)
		} else {
			c.jobs <- one
		}
		c.order <- one
	}
	return nil
}

func (c *compressor) compress() {
	pack, end := c.packer()
	defer end()
	for one := range c.jobs {
		one.out = pack(one.out, one.raw)
		close(one.ready)
	}
}

// packer returns a function that appends the packed form of some bytes to a slice, and one that ends it.
func (c *compressor) packer() (pack func(out, raw []byte) []byte, end func()) {
	switch c.kind {
	case None:
		return func(out, raw []byte) []byte { return append(out, raw...) }, func() {}
	case Zstd:
		encoder := encoders.Get().(*zstd.Encoder)
		return func(out, raw []byte) []byte { return encoder.EncodeAll(raw, out) }, func() { encoders.Put(encoder) }
	}
	deflater := deflaters.Get().(*flate.Writer)
	return func(out, raw []byte) []byte {
		deflater.Reset(&appender{&out})
		// Writing to memory does not fail.
		_, _ = deflater.Write(raw)
		_ = deflater.Flush()
		return out
	}, func() { deflaters.Put(deflater) }
}

// zstdWindow is what an encoder remembers, in bytes: more than a chunk has.
const zstdWindow = 2 * maxPiece

// Encoders have some megabytes each, and serve one layer after the other.
var (
	encoders = sync.Pool{New: func() any {
		encoder, err := zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1), zstd.WithEncoderLevel(zstd.SpeedDefault), zstd.WithWindowSize(zstdWindow), zstd.WithLowerEncoderMem(true))
		if err != nil {
			panic(err) // the options are constants
		}
		return encoder
	}}
	deflaters = sync.Pool{New: func() any {
		deflater, err := flate.NewWriter(io.Discard, gzipLevel)
		if err != nil {
			panic(err) // the level is a constant
		}
		return deflater
	}}
)

func (c *compressor) hash() {
	defer close(c.hashed)
	for one := range c.hashes {
		c.tar.Write(one.raw)
		c.crc = crc32.Update(c.crc, crc32.IEEETable, one.raw)
		c.unpacked += int64(len(one.raw))
		entry := &c.table.Chunks[one.index]
		entry.Raw, entry.CRC = int64(len(one.raw)), c.crc
		entry.TarState = stateOf(c.tar)
		one.users.Done()
	}
}

func stateOf(h hash.Hash) (state sha2State) {
	// The hash appends to a slice in memory; it does not fail.
	_, _ = h.(encoding.BinaryAppender).AppendBinary(state[:0])
	return state
}

// gzipHeader has no time and no name, and says that the system is unknown.
var gzipHeader = []byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 255}

// lastBlock is an empty stored block with the mark of the last one.
var lastBlock = []byte{1, 0, 0, 0xff, 0xff}

func (c *compressor) head() []byte {
	if c.kind == Gzip {
		return gzipHeader
	}
	return nil
}

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

func (c *compressor) write() {
	defer close(c.finished)
	if c.prefix == 0 {
		c.blob.Write(c.head())
	}
	c.put(c.head())
	for one := range c.order {
		<-one.ready
		c.writeChunk(one)
		one.users.Wait()
		c.free <- one
	}
	<-c.hashed
	if c.kind == Gzip {
		trailer := binary.LittleEndian.AppendUint32(bytes.Clone(lastBlock), c.crc)
		trailer = binary.LittleEndian.AppendUint32(trailer, uint32(c.unpacked))
		c.blob.Write(trailer)
		c.put(trailer)
	}
}

func (c *compressor) writeChunk(one *chunk) {
	if c.failure != nil {
		return
	}
	if one.old >= 0 {
		old := &c.previous.Table.Chunks[one.old]
		one.out = append(one.out[:0], make([]byte, old.Packed)...)
		if _, err := c.previous.Blob.ReadAt(one.out, c.offsets[one.old]); err != nil {
			c.fail(fmt.Errorf("%w: %w", ErrPrevious, err))
			return
		}
		if crc32.Checksum(one.out, castagnoli) != old.Check {
			c.fail(fmt.Errorf("%w: a chunk of it has another checksum", ErrPrevious))
			return
		}
		c.copied += old.Packed
	}
	if one.index >= c.prefix {
		c.blob.Write(one.out)
		entry := &c.table.Chunks[one.index]
		entry.Key, entry.Packed = c.pieces[one.index].key, int64(len(one.out))
		entry.Check = crc32.Checksum(one.out, castagnoli)
		entry.BlobState = stateOf(c.blob)
	}
	c.put(one.out)
}

func (c *compressor) put(p []byte) {
	if c.failure != nil {
		return
	}
	c.size += int64(len(p))
	if _, err := c.w.Write(p); err != nil {
		c.fail(err)
	}
}

func (c *compressor) fail(err error) {
	c.failure = err
	close(c.failed)
}

// Close ends the stream and waits for every goroutine.
func (c *compressor) Close() (Packed, error) {
	close(c.jobs)
	close(c.hashes)
	close(c.order)
	c.workers.Wait()
	<-c.finished
	return Packed{
		Descriptor: digest.Descriptor{MediaType: c.kind.MediaType(), Digest: digest.FromHash(c.blob), Size: c.size},
		DiffID:     digest.DiffID(digest.FromHash(c.tar)),
		Unpacked:   c.unpacked, Table: c.table, Copied: c.copied,
	}, c.failure
}
