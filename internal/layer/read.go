package layer

import (
	"archive/tar"
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"sort"
	"strings"
	"unicode/utf8"

	"crypto/sha256"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"imbricat/internal/digest"
	"imbricat/internal/tree"
)

// Bounds on layers from elsewhere.
const (
	maxEntries  = 5_000_000
	maxUnpacked = 512 << 30 // bytes of one layer's tar
)

// ErrMalformed is wrapped by errors about layers that no correct program makes.
var ErrMalformed = errors.New("malformed layer")

// Decompress gives the tar in a blob, whose first bytes tell how it is compressed.
func Decompress(r io.Reader) (io.ReadCloser, error) {
	b := bufio.NewReaderSize(r, 64<<10)
	magic, err := b.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case bytes.HasPrefix(magic, []byte{0x1f, 0x8b}):
		z, err := gzip.NewReader(b)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
		}
		return z, nil
	case bytes.HasPrefix(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		z, err := zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20))
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
		}
		return z.IOReadCloser(), nil
	}
	return io.NopCloser(b), nil
}

// Walk calls visit for every entry of a tar, in its order. body gives a file's bytes during the call.
func Walk(r io.Reader, visit func(e *tree.Entry, body io.Reader) error) error {
	t := tar.NewReader(r)
	for count := 0; ; {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("%w: %w", ErrMalformed, err)
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			continue
		}
		if count++; count > maxEntries {
			return fmt.Errorf("%w: more than %d entries", ErrMalformed, maxEntries)
		}
		e, err := entry(h)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrMalformed, err)
		}
		if err := visit(e, t); err != nil {
			return err
		}
	}
}

var kinds = map[byte]tree.Kind{
	tar.TypeReg: tree.File, '\x00': tree.File, '7': tree.File, tar.TypeGNUSparse: tree.File,
	tar.TypeDir: tree.Folder, tar.TypeSymlink: tree.Symlink, tar.TypeLink: tree.Hardlink,
	tar.TypeChar: tree.CharDevice, tar.TypeBlock: tree.BlockDevice, tar.TypeFifo: tree.Fifo,
}

func entry(h *tar.Header) (*tree.Entry, error) {
	kind, known := kinds[h.Typeflag]
	if !known {
		return nil, fmt.Errorf("%q is an entry of the unknown type %q", h.Name, h.Typeflag)
	}
	clean, err := tree.CleanPath(h.Name)
	if err != nil {
		return nil, err
	}
	if h.Uid < 0 || h.Gid < 0 || h.Size < 0 {
		return nil, fmt.Errorf("%q has a negative owner or size", h.Name)
	}
	e := &tree.Entry{Path: clean, Kind: kind, Mode: uint32(h.Mode) & 0o7777, UID: h.Uid, GID: h.Gid}
	switch kind {
	case tree.File:
		e.Size = h.Size
	case tree.Symlink:
		if len(h.Linkname) > 4096 {
			return nil, fmt.Errorf("%q is a link of %d bytes", h.Name, len(h.Linkname))
		}
		e.Target, e.Mode = h.Linkname, 0o777
	case tree.Hardlink:
		if e.Target, err = tree.CleanPath(h.Linkname); err != nil {
			return nil, err
		}
	case tree.CharDevice, tree.BlockDevice:
		e.Major, e.Minor = h.Devmajor, h.Devminor
	}
	for name, value := range h.PAXRecords {
		if attribute, found := strings.CutPrefix(name, xattrPrefix); found {
			if e.Xattrs == nil {
				e.Xattrs = map[string]string{}
			}
			e.Xattrs[attribute] = value
		}
	}
	return whiteout(e)
}

// whiteout recognises the names that stand for deletions.
func whiteout(e *tree.Entry) (*tree.Entry, error) {
	name := path.Base(e.Path)
	switch {
	case name == opaqueName:
		return &tree.Entry{Path: tree.Parent(e.Path), Kind: tree.Opaque}, nil
	case strings.HasPrefix(name, whiteoutPrefix+whiteoutPrefix):
		return nil, fmt.Errorf("%q is a mark of an unknown kind", e.Path)
	case strings.HasPrefix(name, whiteoutPrefix):
		hidden := strings.TrimPrefix(name, whiteoutPrefix)
		if hidden == "" || hidden == "." || hidden == ".." {
			return nil, fmt.Errorf("%q deletes nothing that can be named", e.Path)
		}
		return &tree.Entry{Path: tree.Join(tree.Parent(e.Path), hidden), Kind: tree.Whiteout}, nil
	}
	return e, nil
}

// Indexed is what reading a whole layer tells of it.
type Indexed struct {
	Entries  []tree.Entry  `json:"entries"` // sorted by path; of several with one path the last, as an unpacker leaves it
	DiffID   digest.DiffID `json:"diffID"`
	Unpacked int64         `json:"unpacked"` // bytes of the tar
}

// Storable tells whether the index survives being written as JSON, which holds text alone: names that are not UTF-8 are
// rare, and their layers are read again each time.
func (i *Indexed) Storable() bool {
	for n := range i.Entries {
		if !utf8.ValidString(i.Entries[n].Path) || !utf8.ValidString(i.Entries[n].Target) {
			return false
		}
		for name, value := range i.Entries[n].Xattrs {
			if !utf8.ValidString(name) || !utf8.ValidString(value) {
				return false
			}
		}
	}
	return true
}

// Index reads a layer's blob to its end.
func Index(blob io.Reader) (*Indexed, error) {
	plain, err := Decompress(blob)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	all, counted := sha256.New(), &counter{}
	tarred := io.TeeReader(io.LimitReader(plain, maxUnpacked), io.MultiWriter(all, counted))
	out := &Indexed{}
	at := map[string]int{}
	err = Walk(tarred, func(e *tree.Entry, body io.Reader) error {
		if e.Kind == tree.File {
			sum := sha256.New()
			if _, err := io.Copy(sum, body); err != nil {
				return fmt.Errorf("%w: %w", ErrMalformed, err)
			}
			e.Digest = digest.FromHash(sum)
		}
		key := e.Path
		if e.Kind == tree.Whiteout || e.Kind == tree.Opaque {
			key = e.Kind.String() + "\x00" + key
		}
		if i, twice := at[key]; twice {
			out.Entries[i] = *e
			return nil
		}
		at[key] = len(out.Entries)
		out.Entries = append(out.Entries, *e)
		return nil
	})
	if err == nil {
		// What follows the end of the archive counts for the digest.
		_, err = io.Copy(io.Discard, tarred)
	}
	if err != nil {
		return nil, err
	}
	if counted.n >= maxUnpacked {
		return nil, fmt.Errorf("%w: it unpacks to %d bytes or more", ErrMalformed, int64(maxUnpacked))
	}
	sort.SliceStable(out.Entries, func(i, j int) bool { return out.Entries[i].Path < out.Entries[j].Path })
	out.DiffID, out.Unpacked = digest.DiffID(digest.FromHash(all)), counted.n
	return out, nil
}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}
