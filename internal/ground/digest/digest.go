// Package digest holds the identities of content: what a blob, an unpacked layer or a step's inputs are called.
//
// It gives each kind of identity its own type, so that one is never taken for another, and readers that check content
// against them. It never touches files or the network.
package digest

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"strings"

	// The algorithms that godigest looks up by name.
	_ "crypto/sha256"
	_ "crypto/sha512"

	godigest "github.com/opencontainers/go-digest"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/zeebo/blake3"
)

// Digest names a blob by its stored bytes, as "sha256:" and 64 hexadecimal digits.
type Digest = godigest.Digest

// Descriptor points at a blob: media type, digest, size in bytes.
type Descriptor = v1.Descriptor

// DiffID names a layer by the bytes of its uncompressed tar, whatever the compression of the blob that carries it.
type DiffID string

// Digest returns the DiffID in the form that checks content.
func (d DiffID) Digest() Digest { return Digest(d) }

// Key names a step's result by everything that decides its bytes.
type Key string

// Content names a file's bytes as 64 hexadecimal digits of their BLAKE3 hash (256 bits). It is another hash than that of
// blobs because every file of a project goes through it once more, and it is several times as fast where the processor
// has no instructions for SHA-256. It never leaves Imbricat's own files.
type Content string

// NewContent is a hash for ContentOf.
func NewContent() hash.Hash { return blake3.New() }

// ContentOf is what was written to a hash of NewContent.
func ContentOf(h hash.Hash) Content { return Content(hex.EncodeToString(h.Sum(nil))) }

// ContentBytes is the content that some bytes are.
func ContentBytes(data []byte) Content {
	sum := blake3.Sum256(data)
	return Content(hex.EncodeToString(sum[:]))
}

// Valid reports whether the text has the form of a content's name.
func (c Content) Valid() bool {
	return len(c) == 64 && strings.Trim(string(c), "0123456789abcdef") == ""
}

// ErrMismatch is wrapped by every error that says that content is not what its digest or size promised.
var ErrMismatch = errors.New("content does not match")

// Parse reads a digest and refuses unknown algorithms and malformed hexadecimal.
func Parse(text string) (Digest, error) {
	d := Digest(text)
	if err := d.Validate(); err != nil {
		return "", fmt.Errorf("%q is not a digest: want sha256: and 64 hexadecimal digits", text)
	}
	return d, nil
}

// FromBytes is the SHA-256 digest of data.
func FromBytes(data []byte) Digest { return godigest.FromBytes(data) }

// FromHash is the digest of what was written to a SHA-256 hash.
func FromHash(h hash.Hash) Digest { return Digest("sha256:" + hex.EncodeToString(h.Sum(nil))) }

// Short is the digest's first 12 hexadecimal digits, for people.
func Short(d Digest) string {
	_, text, found := strings.Cut(string(d), ":")
	if !found {
		return string(d)
	}
	return text[:min(12, len(text))]
}

// Verify returns a reader of r that ends with ErrMismatch unless r has exactly the descriptor's size and digest. It
// never gives more than that size, so an endless source is bounded, and never all of that size where the digest is wrong.
func Verify(r io.Reader, want Descriptor) io.Reader {
	if v, is := r.(Verifying); is && v.Verifies(want) {
		return r // each byte is hashed once
	}
	if err := want.Digest.Validate(); err != nil {
		return failing{fmt.Errorf("%q: %w", want.Digest, err)}
	}
	return &verifier{r: r, want: want, left: want.Size, check: want.Digest.Verifier()}
}

// Verifying is a reader that may do by itself what Verify does.
type Verifying interface {
	// Verifies reports whether the reader, from where it is now, ends with ErrMismatch unless it has a descriptor's size and digest.
	Verifies(want Descriptor) bool
}

// Verifies reports whether the reader in r verifies, for readers that are made of others.
func Verifies(r io.Reader, want Descriptor) bool {
	v, is := r.(Verifying)
	return is && v.Verifies(want)
}

type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

type verifier struct {
	r     io.Reader
	want  Descriptor
	left  int64
	check godigest.Verifier
	done  error
}

// Verifies implements Verifying. What was begun to be read is not whole any more.
func (v *verifier) Verifies(want Descriptor) bool {
	return v.done == nil && v.left == v.want.Size && v.want.Digest == want.Digest && v.want.Size == want.Size
}

func (v *verifier) Read(p []byte) (int, error) {
	if v.done != nil {
		return 0, v.done
	}
	// One byte more than is left shows a source that is too long.
	if int64(len(p)) > v.left+1 {
		p = p[:v.left+1]
	}
	n, err := v.r.Read(p)
	if int64(n) > v.left {
		v.done = fmt.Errorf("%s: %w: more than the %d bytes announced", v.want.Digest, ErrMismatch, v.want.Size)
		return 0, v.done
	}
	v.left -= int64(n)
	_, _ = v.check.Write(p[:n]) // a hash takes everything
	if n > 0 && v.left == 0 && !v.check.Verified() {
		// The last bytes are held back: whoever counts them never takes wrong content for whole.
		v.done = v.end()
		return 0, v.done
	}
	if err == io.EOF {
		err = v.end()
	}
	if err != nil {
		v.done = err
	}
	return n, err
}

func (v *verifier) end() error {
	if v.left > 0 {
		return fmt.Errorf("%s: %w: %d of %d bytes are missing", v.want.Digest, ErrMismatch, v.left, v.want.Size)
	}
	if !v.check.Verified() {
		return fmt.Errorf("%s: %w: the bytes have another digest", v.want.Digest, ErrMismatch)
	}
	return io.EOF
}

// WithContext is r until the context ends; then reading gives the context's error.
func WithContext(ctx context.Context, r io.Reader) io.Reader { return &cancellable{ctx, r} }

type cancellable struct {
	ctx context.Context
	r   io.Reader
}

func (c *cancellable) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// ReadAll reads a small document (a manifest, a config) whole and checks it. Documents above limit bytes are refused
// before anything is read.
func ReadAll(r io.Reader, want Descriptor, limit int64) ([]byte, error) {
	if want.Size < 0 || want.Size > limit {
		return nil, fmt.Errorf("%s: %d bytes is more than the %d that such a document may have", want.Digest, want.Size, limit)
	}
	return io.ReadAll(Verify(r, want))
}
