package layer

import (
	"archive/tar"
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/mikelolasagasti/xz"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Bounds on archives and layers from elsewhere.
const (
	maxEntries  = 1_000_000
	maxUnpacked = 256 << 30 // bytes of one layer's tar, and of the files in it
	// What unpacks to more than bombSize and more than bombRatio times its packed size is no honest archive.
	bombSize  = 8 << 30
	bombRatio = 200
)

// ErrMalformed is wrapped by errors about layers that no correct program makes.
var ErrMalformed = errors.New("not a valid archive")

// Decompress returns the tar in a blob or an archive, whose first bytes tell how it is compressed: gzip, zstd, xz, bzip2 or
// not at all.
func Decompress(r io.Reader) (io.ReadCloser, error) { return decompress(r) }

func decompress(r io.Reader) (*unpacking, error) {
	packed := &counter{}
	b := bufio.NewReaderSize(io.TeeReader(r, packed), 64<<10)
	magic, err := b.Peek(6)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	var plain io.Reader
	closer := func() error { return nil }
	switch {
	case bytes.HasPrefix(magic, []byte{0x1f, 0x8b}):
		plain, err = gzip.NewReader(b)
	case bytes.HasPrefix(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}), skippable(magic):
		var z *zstd.Decoder
		if z, err = zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(128<<20)); err == nil {
			plain, closer = z, func() error { z.Close(); return nil }
		}
	case bytes.HasPrefix(magic, []byte{0xfd, '7', 'z', 'X', 'Z', 0}):
		plain, err = xz.NewReader(b, maxDictionary)
	case bytes.HasPrefix(magic, []byte("BZh")):
		plain = bzip2.NewReader(b)
	default:
		return &unpacking{plain: b, closer: closer, packed: packed, ahead: b, tar: true}, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrMalformed, err)
	}
	return &unpacking{plain: plain, closer: closer, packed: packed, ahead: b}, nil
}

// maxDictionary bounds the memory that an xz archive may ask for, in bytes: that of its highest preset.
const maxDictionary = 64 << 20

// skippable reports whether a zstd stream starts with a frame that carries no content, as some packers write.
func skippable(magic []byte) bool {
	return len(magic) >= 4 && magic[0]&0xf0 == 0x50 && magic[1] == 0x2a && magic[2] == 0x4d && magic[3] == 0x18
}

// unpacking ends with an error where the content grows beyond what honest archives do.
type unpacking struct {
	plain  io.Reader
	closer func() error
	packed *counter
	ahead  *bufio.Reader // of what was read and not unpacked yet
	tar    bool          // nothing grows
	n      int64
}

// taken returns how many bytes of the blob have been unpacked.
func (u *unpacking) taken() int64 { return u.packed.n - int64(u.ahead.Buffered()) }

func (u *unpacking) Read(p []byte) (int, error) {
	n, err := u.plain.Read(p)
	if u.n += int64(n); !u.tar && u.n > bombSize && u.n/bombRatio > u.packed.n {
		return 0, fmt.Errorf("%w: %d bytes unpack to more than %d: a layer that grows so much is refused", ErrMalformed, u.packed.n, u.n)
	}
	return n, err
}

func (u *unpacking) Close() error { return u.closer() }

// Walk calls visit for every entry of a tar, in its order. body gives a file's bytes during the call.
func Walk(r io.Reader, visit func(e *tree.Entry, body io.Reader) error) error {
	return walk(r, false, visit)
}

// WalkTimed is Walk with the entries' times.
func WalkTimed(r io.Reader, visit func(e *tree.Entry, body io.Reader) error) error {
	return walk(r, true, visit)
}

func walk(r io.Reader, times bool, visit func(e *tree.Entry, body io.Reader) error) error {
	t := tar.NewReader(r)
	total := int64(0)
	for count := 0; ; {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return malformed(err)
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			continue
		}
		if count++; count > maxEntries {
			return fmt.Errorf("%w: more than %d entries", ErrMalformed, maxEntries)
		}
		e, err := entry(h)
		if err != nil {
			return malformed(err)
		}
		if times {
			e.Time = h.ModTime.Unix()
		}
		// A sparse file may say that it is larger than anything, in a few bytes.
		if total += e.Size; e.Size > maxUnpacked || total > maxUnpacked {
			return fmt.Errorf("%w: its files have more than %d bytes", ErrMalformed, int64(maxUnpacked))
		}
		if err := visit(e, t); err != nil {
			return err
		}
	}
}

// malformed marks an error of a reader, unless it is the end of the caller's patience.
func malformed(err error) error {
	if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ErrMalformed) || errors.Is(err, digest.ErrMismatch) {
		return err
	}
	return fmt.Errorf("%w: %w", ErrMalformed, Plain(err))
}

// Plain puts an error of a library that reads archives into words of our own, where it is one that archives give again and again.
func Plain(err error) error {
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return errors.New("it ends in the middle")
	case errors.Is(err, tar.ErrHeader):
		return errors.New("it has what is not a header of tar")
	case errors.Is(err, zip.ErrFormat):
		return errors.New("its list of files is not that of a zip")
	case errors.Is(err, zip.ErrChecksum), errors.Is(err, gzip.ErrChecksum), errors.Is(err, gzip.ErrHeader):
		return errors.New("its compressed data is damaged")
	}
	return err
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
	Entries  []tree.Entry // sorted by path; of several with one path the last, as an unpacker leaves it
	DiffID   digest.DiffID
	Unpacked int64 // bytes of the tar
}

const indexHead = "imbricat index 2"

// Encode writes an index as text: a head with the diffID and the size, then a line for each entry.
func (i *Indexed) Encode() []byte {
	head := fmt.Sprintf("%s %s %d\n", indexHead, i.DiffID, i.Unpacked)
	return append([]byte(head), tree.EncodeEntries(i.Entries)...)
}

// DecodeIndex reads what Encode wrote.
func DecodeIndex(text []byte) (*Indexed, error) {
	head, rest, _ := strings.Cut(string(text), "\n")
	i := &Indexed{}
	if n, err := fmt.Sscanf(head, indexHead+" %s %d", &i.DiffID, &i.Unpacked); n != 2 || err != nil {
		return nil, fmt.Errorf("%q is not a head of an index", head)
	}
	var err error
	i.Entries, err = tree.DecodeEntries(rest)
	return i, err
}

// Index reads a layer's blob to its end. Times of entries are left out: in what others packed they tell nothing that counts.
func Index(blob io.Reader) (*Indexed, error) { return index(blob, false, nil) }

// IndexTimed is Index of a layer that was packed here: entries have the times that they were packed with.
func IndexTimed(blob io.Reader) (*Indexed, error) { return index(blob, true, nil) }

// Untimed is an index without times.
func (i *Indexed) Untimed() *Indexed {
	plain := *i
	plain.Entries = slices.Clone(i.Entries)
	for n := range plain.Entries {
		plain.Entries[n].Time = 0
	}
	return &plain
}

func index(blob io.Reader, times bool, w *weigher) (*Indexed, error) {
	plain, err := decompress(blob)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	all, counted := sha256.New(), &counter{}
	passed := io.MultiWriter(all, counted)
	if w != nil {
		w.plain, w.counted = plain, counted
		passed = counted
	}
	tarred := io.TeeReader(io.LimitReader(plain, maxUnpacked), passed)
	out, sum, buffer := &Indexed{}, digest.NewContent(), make([]byte, 128<<10)
	at := map[string]int{}
	err = walk(tarred, times, func(e *tree.Entry, body io.Reader) error {
		if e.Time == Epoch.Unix() {
			e.Time = 0
		}
		if e.Kind == tree.File {
			sum.Reset()
			if err := w.show(e, io.TeeReader(body, sum)); err != nil {
				return malformed(err)
			}
			if _, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{body}, buffer); err != nil {
				return malformed(err)
			}
			e.Content = digest.ContentOf(sum)
		}
		key := e.Path
		if e.Kind == tree.Whiteout || e.Kind == tree.Opaque {
			key = e.Kind.String() + "\x00" + key
		}
		if i, twice := at[key]; twice {
			w.add(e, i)
			out.Entries[i] = *e
			return nil
		}
		w.add(e, len(out.Entries))
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
	w.sort(out)
	if out.Unpacked = counted.n; w == nil {
		out.DiffID = digest.DiffID(digest.FromHash(all))
	}
	return out, nil
}

type counter struct{ n int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	return len(p), nil
}
