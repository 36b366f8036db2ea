// Package layer turns a file tree into a deterministic tar with parallel compression, and reads layers of any origin.
//
// The same entries and contents give the same bytes on every machine with any number of cores, and whether or not the
// chunks of an earlier layer were copied. Times are given by constants and never asked for; nothing here knows images
// or stores.
package layer

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Epoch is the one time that every file of a layer has, unless its entry says otherwise.
var Epoch = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// Compression is how a layer's tar is stored.
type Compression string

// The compressions that Pack makes. The zero value is Gzip.
const (
	Gzip Compression = "gzip"
	Zstd Compression = "zstd"
	None Compression = "none"
)

// TreeFormat names everything that decides a layer's tar besides its tree; change it whenever the tar may change.
const TreeFormat = "imbricat-tree-2"

// KeyOf names a tree by everything that decides its tar, and nothing else. Entries are sorted by path.
func KeyOf(entries []tree.Entry) digest.Key {
	sum := digest.NewContent()
	fmt.Fprintf(sum, "%s\n", TreeFormat)
	var line []byte
	for i := range entries {
		line = entries[i].AppendLine(line[:0])
		sum.Write(line)
	}
	return digest.Key(digest.ContentOf(sum))
}

// RecordKey names the layer that a tree becomes when it is packed: the tree, and how it is packed.
func RecordKey(tree digest.Key, c Compression) digest.Key {
	return digest.Key(digest.ContentBytes([]byte(string(tree) + "\n" + c.Format() + "\n")))
}

// IsRecordKey reports whether a key names a layer of a tree, however it is packed.
func IsRecordKey(key, tree digest.Key) bool {
	for _, c := range []Compression{Gzip, Zstd, None} {
		if RecordKey(tree, c) == key {
			return true
		}
	}
	return false
}

// Format names the packer with its version, level and chunk size: everything that decides a layer's bytes besides its
// tar. It is part of every layer's key. Change it whenever the bytes may change, as with a new compression library.
func (c Compression) Format() string {
	switch c {
	case Zstd:
		return "imbricat-pack-2 zstd level=2 chunk=512KiB..1MiB"
	case None:
		return "imbricat-pack-2 none"
	}
	return "imbricat-pack-2 gzip level=6 chunk=512KiB..1MiB"
}

// MediaType is that of the layers that Pack makes.
func (c Compression) MediaType() string {
	switch c {
	case Zstd:
		return v1.MediaTypeImageLayerZstd
	case None:
		return v1.MediaTypeImageLayer
	}
	return v1.MediaTypeImageLayerGzip
}

// Packed describes a layer that was made.
type Packed struct {
	Descriptor digest.Descriptor // of the compressed blob
	DiffID     digest.DiffID
	Unpacked   int64  // bytes of the tar
	Table      *Table // of the chunks, for packing a similar tree later
	Copied     int64  // bytes of the blob that came from the earlier layer
}

// Options say how a layer is packed.
type Options struct {
	Compression Compression
	Previous    *Previous // a layer that may have chunks in common, or nil
}

// ErrChanged is wrapped when a file is not what it was when its tree was made.
var ErrChanged = errors.New("changed while it was read")

// Open gives the bytes of a file. It is called at most once for a file, in the order of the entries.
type Open func(*tree.Entry) (io.ReadCloser, error)

// Pack writes the entries (sorted by path, parents before children) as a compressed tar to w. The error wraps
// ErrPrevious where the earlier layer is not what its table says; packing without it is the way on.
func Pack(ctx context.Context, w io.Writer, entries []tree.Entry, open Open, o Options) (Packed, error) {
	if err := checkNames(entries); err != nil {
		return Packed{}, err
	}
	pieces := cut(entries)
	c, err := newCompressor(w, o, pieces)
	if err != nil {
		return Packed{}, err
	}
	p := &producer{entries: entries, open: open}
	err = c.each(ctx, p.fill)
	p.close()
	packed, closeErr := c.Close()
	if err == nil {
		err = closeErr
	}
	return packed, err
}

// checkNames refuses names that would be read as deletions, and more entries than Walk takes back.
func checkNames(entries []tree.Entry) error {
	if len(entries) > maxEntries {
		return fmt.Errorf("a layer of %d entries is more than the %d that are taken", len(entries), maxEntries)
	}
	for i := range entries {
		e := &entries[i]
		if e.Kind != tree.Whiteout && strings.HasPrefix(e.Path[strings.LastIndexByte(e.Path, '/')+1:], whiteoutPrefix) {
			return fmt.Errorf("/%s cannot be in a layer: names that begin with %s stand for deletions there", e.Path, whiteoutPrefix)
		}
	}
	return nil
}

// producer makes the bytes of the tar, one piece after the other.
type producer struct {
	entries []tree.Entry
	open    Open
	body    io.ReadCloser // of a file that goes on in the next piece
}

// fill appends a piece of the tar to raw.
func (p *producer) fill(ctx context.Context, one piece, raw *[]byte) error {
	if one.end {
		*raw = append(append(*raw, padding[:]...), padding[:]...)
		return nil
	}
	if one.part {
		return p.part(one, raw)
	}
	for i := one.first; i < one.last; i++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := p.entry(&p.entries[i], raw); err != nil {
			return fmt.Errorf("packing /%s: %w", p.entries[i].Path, err)
		}
	}
	return nil
}

// entry appends an entry with its bytes and its padding.
func (p *producer) entry(e *tree.Entry, raw *[]byte) (err error) {
	if *raw, err = appendHeader(*raw, e); err != nil || e.Kind != tree.File || e.Size == 0 {
		return err
	}
	body, err := p.open(e)
	if err != nil {
		return err
	}
	err = p.copy(raw, e, body, e.Size)
	// Closing tells whether the file changed meanwhile.
	if closeErr := body.Close(); err == nil {
		err = closeErr
	}
	pad(raw, e)
	return err
}

// pad fills the last block of a file.
func pad(raw *[]byte, e *tree.Entry) { *raw = append(*raw, padding[:-e.Size&(blockSize-1)]...) }

var padding [blockSize]byte

// part appends a stretch of a large file, with its header before the first and its padding after the last.
func (p *producer) part(one piece, raw *[]byte) error {
	e := &p.entries[one.first]
	err := func() (err error) {
		if one.offset == 0 {
			if *raw, err = appendHeader(*raw, e); err != nil {
				return err
			}
			if p.body, err = p.open(e); err != nil {
				return err
			}
		}
		if err := p.copy(raw, e, p.body, one.length); err != nil {
			return err
		}
		if one.offset+one.length < e.Size {
			return nil
		}
		pad(raw, e)
		body := p.body
		p.body = nil
		return body.Close()
	}()
	if err != nil {
		return fmt.Errorf("packing /%s: %w", e.Path, err)
	}
	return nil
}

// copy appends so many bytes of a file.
func (p *producer) copy(raw *[]byte, e *tree.Entry, body io.Reader, size int64) error {
	start := len(*raw)
	*raw = slices.Grow(*raw, int(size))[:start+int(size)]
	_, err := io.ReadFull(body, (*raw)[start:])
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = fmt.Errorf("it %w: it has fewer than its %d bytes", ErrChanged, e.Size)
	}
	return err
}

func (p *producer) close() {
	if p.body != nil {
		p.body.Close()
	}
}

// appender is a writer to a slice.
type appender struct{ to *[]byte }

func (a *appender) Write(p []byte) (int, error) {
	*a.to = append(*a.to, p...)
	return len(p), nil
}

const (
	whiteoutPrefix = ".wh."
	opaqueName     = ".wh..wh..opq"
	xattrPrefix    = "SCHILY.xattr."
)
