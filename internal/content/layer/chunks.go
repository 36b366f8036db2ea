package layer

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"

	"github.com/zeebo/blake3"

	"imbricat/internal/content/tree"
)

// The tar is cut into pieces that are compressed apart from each other, so their borders decide the bytes: they depend
// on the entries alone. A border before an entry is chosen by the entry's own name and size, as content-defined chunking
// does, so that a change moves no border but those beside it. A large file has pieces of its own.
const (
	minPiece  = 512 << 10 // bytes of the tar; below, no border is made
	maxPiece  = 1 << 20   // above, one is made before the next entry; also what a piece of a large file holds
	blockSize = 512       // of a tar
)

// piece is a stretch of the tar.
type piece struct {
	first, last int // entries, the last excluded
	part        bool
	offset      int64 // part: within the body of the one entry
	length      int64 // part: bytes of the body
	end         bool  // the blocks that end the archive
	key         [32]byte
}

// cut divides the tar of some entries and gives each piece its key, from which its bytes follow.
func cut(entries []tree.Entry) []piece {
	c := &cutter{hash: blake3.New()}
	size := int64(0)
	begin := 0
	flush := func(i int) {
		if i > begin {
			c.add(piece{first: begin, last: i})
		}
		begin, size = i, 0
	}
	for i := range entries {
		e := &entries[i]
		length := blockSize + (e.Size+blockSize-1)&^(blockSize-1)
		large := e.Size >= maxPiece
		if large || size >= minPiece && (size+length > maxPiece || border(e.Path, length)) {
			flush(i)
		}
		c.line = e.AppendLine(c.line[:0])
		c.hash.Write(c.line)
		size += length
		if !large {
			continue
		}
		line := bytes.Clone(c.line)
		c.hash.Reset()
		for offset := int64(0); offset < e.Size; offset += maxPiece {
			c.hash.Write(binary.LittleEndian.AppendUint64(slices.Clone(line), uint64(offset)))
			c.add(piece{first: i, last: i + 1, part: true, offset: offset, length: min(maxPiece, e.Size-offset)})
		}
		begin, size = i+1, 0
	}
	flush(len(entries))
	c.hash.Write([]byte("end"))
	c.add(piece{first: len(entries), last: len(entries), end: true})
	return c.pieces
}

// cutter gathers pieces; hash holds the lines of the entries since the last one.
type cutter struct {
	hash   *blake3.Hasher
	line   []byte
	pieces []piece
}

func (c *cutter) add(p piece) {
	c.hash.Sum(p.key[:0])
	c.hash.Reset()
	c.pieces = append(c.pieces, p)
}

// border reports whether a piece begins at an entry. The chance grows with the entry's length, so that pieces have about
// the same size whatever the files' is.
func border(path string, length int64) bool {
	const expected = 256 << 10 // bytes until a border, above minPiece
	h := uint64(14695981039346656037)
	for i := range len(path) {
		h = (h ^ uint64(path[i])) * 1099511628211
	}
	h ^= h >> 29
	h *= 0x9e3779b97f4a7c15
	return h>>40 < uint64(length)*(1<<24)/expected
}

// Chunk is a piece as it stands in a blob, with what is needed to copy it or to go on behind it.
type Chunk struct {
	Key       [32]byte
	Raw       int64     // bytes of the tar
	Packed    int64     // bytes of the blob
	CRC       uint32    // CRC-32 of the tar up to and with the chunk
	Check     uint32    // CRC-32C of the chunk's own packed bytes
	TarState  sha2State // of the tar's SHA-256 behind the chunk
	BlobState sha2State // of the blob's
}

// sha2State is a SHA-256 that can be gone on with, as crypto/sha256 writes it.
type sha2State [108]byte

// Table lists the chunks of a blob. What stands before the first and after the last follows from the format.
type Table struct {
	Format string
	Chunks []Chunk
}

// Previous is an earlier layer, of which chunks may be copied.
type Previous struct {
	Table *Table
	Blob  io.ReaderAt
}

// ErrPrevious is wrapped where an earlier layer's blob is not what its table says.
var ErrPrevious = errors.New("the earlier layer is damaged")

const tableHead = "imbricat chunks 1\n"

// maxChunks bounds a table, so that a damaged one is refused.
const maxChunks = 1 << 22

// Encode writes a table: a head, the format, the number of chunks, the chunks, and a hash over all.
func (t *Table) Encode() []byte {
	var out bytes.Buffer
	out.WriteString(tableHead + t.Format + "\n")
	// Writing to memory does not fail.
	_ = binary.Write(&out, binary.LittleEndian, uint32(len(t.Chunks)))
	_ = binary.Write(&out, binary.LittleEndian, t.Chunks)
	sum := blake3.Sum256(out.Bytes())
	out.Write(sum[:])
	return out.Bytes()
}

// DecodeTable reads what Encode wrote. A table that is damaged in any way is refused.
func DecodeTable(data []byte) (*Table, error) {
	if len(data) < 32 {
		return nil, fmt.Errorf("%w: its table is too short", ErrPrevious)
	}
	body, sum := data[:len(data)-32], data[len(data)-32:]
	if got := blake3.Sum256(body); !bytes.Equal(got[:], sum) {
		return nil, fmt.Errorf("%w: its table has another checksum", ErrPrevious)
	}
	rest, found := bytes.CutPrefix(body, []byte(tableHead))
	format, rest, ended := bytes.Cut(rest, []byte("\n"))
	if !found || !ended || len(rest) < 4 {
		return nil, fmt.Errorf("%w: its table has another form", ErrPrevious)
	}
	n := binary.LittleEndian.Uint32(rest)
	if n > maxChunks || int(n)*binary.Size(Chunk{}) != len(rest)-4 {
		return nil, fmt.Errorf("%w: its table has another length", ErrPrevious)
	}
	t := &Table{Format: string(format), Chunks: make([]Chunk, n)}
	return t, binary.Read(bytes.NewReader(rest[4:]), binary.LittleEndian, t.Chunks)
}
