package build

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/ignore"
	"imbricat/internal/layer"
	"imbricat/internal/plan"
	"imbricat/internal/tree"
)

// archive is a file that holds others.
type archive struct {
	name  string // for messages
	id    string // names its bytes
	open  func(ctx context.Context) (io.ReadCloser, error)
	limit int64
	file  string // of the project; empty: from an address
	// spread are patterns of archives in it that become folders with what they hold.
	spread []string
}

// key names what is read of an archive.
func (a *archive) key() string {
	if len(a.spread) == 0 {
		return a.id
	}
	return fmt.Sprintf("%s spread %q", a.id, a.spread)
}

// unpack lays down what an archive holds.
func (b *builder) unpack(ctx context.Context, c *composer, do plan.Unpack, task event.Task, sink event.Sink) error {
	from, err := b.archiveOf(ctx, do, task, sink)
	if err != nil {
		return err
	}
	contents, _, err := b.archives.do(fmt.Sprintf("%s %d", from.key(), from.limit), func() (*packedContents, error) { return b.readArchive(b.whole(ctx), from) })
	if err != nil {
		return err
	}
	a, err := b.accessOf(ctx, c, do.Owner, do.OwnerPos, do.Mode)
	if err != nil {
		return err
	}
	to := inner(do.To)
	top := tree.Entry{Path: to, Kind: tree.Folder, Mode: 0o755}
	a.adopt(&top)
	if err := c.addFolder(top, false); err != nil {
		return err
	}
	return layArchive(c, do, a, contents)
}

// layArchive lays the entries of an archive down below the step's destination.
func layArchive(c *composer, do plan.Unpack, a access, contents *packedContents) error {
	matcher, laid := ignore.New(do.LeaveOut...), 0
	linked := map[string]bool{}
	for i := range contents.entries {
		if e := &contents.entries[i]; e.Kind == tree.Hardlink {
			linked[e.Target] = true
		}
	}
	for i := range contents.entries {
		e := contents.entries[i]
		where := e.Path
		name, kept := strip(e.Path, do.Strip)
		if !kept || matcher.MatchAll(name, e.Kind == tree.Folder) {
			continue
		}
		laid++
		e.Path = tree.Join(inner(do.To), name)
		if name == "" {
			continue // the top of the archive is the destination itself
		}
		if e.Kind == tree.Hardlink {
			target, found := slices.BinarySearchFunc(contents.entries, e.Target, func(e tree.Entry, p string) int { return strings.Compare(e.Path, p) })
			if !found || contents.entries[target].Kind != tree.File {
				return fmt.Errorf("%s: the hard link %q leads to %q, which is no file of it", contents.name, where, e.Target)
			}
			path := e.Path
			where = e.Target
			e = contents.entries[target]
			e.Path = path
		}
		var twin any
		if e.Kind == tree.File && linked[where] {
			twin = place{contents, where}
		}
		a.adopt(&e)
		var err error
		switch e.Kind {
		case tree.Folder:
			err = c.addFolder(e, a.given())
		case tree.CharDevice, tree.BlockDevice:
			return fmt.Errorf("%s holds the device %q; leave it out with leave-out: [%q]", contents.name, where, "/"+name)
		case tree.Whiteout, tree.Opaque:
			return fmt.Errorf("%s is a layer of an image, with a mark for a deletion at %q: take its files with take", contents.name, where)
		default:
			err = c.add(e, place{contents, where}, twin)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", contents.name, err)
		}
	}
	if laid == 0 && len(contents.entries) > 0 {
		return fmt.Errorf("nothing of %s is left when %d leading elements are dropped", contents.name, do.Strip)
	}
	return nil
}

// strip drops leading elements of a path, and tells whether anything is left.
func strip(p string, n int) (string, bool) {
	for range n {
		_, rest, deeper := strings.Cut(p, "/")
		if !deeper {
			return "", false
		}
		p = rest
	}
	return p, true
}

// archiveOf finds the archive of a step, and fetches it where it comes from an address.
func (b *builder) archiveOf(ctx context.Context, do plan.Unpack, task event.Task, sink event.Sink) (*archive, error) {
	if do.Address != "" {
		got, err := b.fetchOnce(ctx, do.Address, do.SHA256, task, sink)
		if err != nil {
			return nil, err
		}
		return &archive{name: do.Address, id: do.SHA256, open: got.open, limit: do.AtMost, spread: do.Spread}, nil
	}
	got, err := b.pick(plan.Copy{}, do.From)
	if err == nil {
		err = got.read(ctx, b, task, sink)
	}
	if err != nil {
		return nil, err
	}
	open := func(context.Context) (io.ReadCloser, error) { return got.contents.Open(do.From) }
	if do.SHA256 != "" {
		if err := checkSum(ctx, do.From, do.SHA256, open); err != nil {
			return nil, err
		}
	}
	return &archive{name: do.From, id: string(got.files.known[do.From].Content), open: open, limit: do.AtMost, file: do.From, spread: do.Spread}, nil
}

func checkSum(ctx context.Context, name, want string, open func(context.Context) (io.ReadCloser, error)) error {
	f, err := open(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, digest.WithContext(ctx, f)); err != nil {
		return fmt.Errorf("reading %s: %w", name, err)
	}
	if got := digest.FromHash(sum).Encoded(); got != want {
		return fmt.Errorf("%s: %w: its sha256 is %s, and the recipe says %s", name, digest.ErrMismatch, got, want)
	}
	return nil
}

const archiveNote = "imbricat archive note 1"

// readArchive finds what an archive holds, from the store's notes where it was read before.
func (b *builder) readArchive(ctx context.Context, from *archive) (*packedContents, error) {
	walk := func(ctx context.Context, visit func(string, io.Reader) error) error {
		return walkArchive(ctx, from, b.o.Store.TemporaryFolder, func(e *tree.Entry, body io.Reader) error {
			if e.Kind != tree.File {
				return nil
			}
			return visit(e.Path, body)
		})
	}
	question := keyOfText(archiveNote + " " + from.key())
	if note, found := b.o.Store.Note(question); found {
		if entries, err := b.decodeArchive(string(note), from.limit); err == nil {
			return b.packedFrom(from, entries, walk), nil
		}
	}
	entries, note, err := b.indexArchive(ctx, from)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from.name, err)
	}
	_ = b.o.Store.PutNote(question, note)
	return b.packedFrom(from, entries, walk), nil
}

func (b *builder) packedFrom(from *archive, entries []tree.Entry, walk func(context.Context, func(string, io.Reader) error) error) *packedContents {
	contents := b.packed(from.name, entries, walk)
	if from.file != "" {
		contents.sources = []string{from.file}
	}
	return contents
}

// decodeArchive reads a note of indexArchive. An archive that is larger than the recipe now allows is read again, for
// its error.
func (b *builder) decodeArchive(note string, limit int64) ([]tree.Entry, error) {
	marked, lines, _ := strings.Cut(note, "\n\n")
	entries, err := tree.DecodeEntries(lines)
	total := int64(0)
	for i := range entries {
		total += entries[i].Size
	}
	if err == nil && total > limit {
		err = errTooLarge
	}
	for line := range strings.Lines(marked) {
		content, m, _ := strings.Cut(strings.TrimSpace(line), " ")
		b.mark(digest.Content(content), mark(m))
	}
	return entries, err
}

var errTooLarge = errors.New("too large")

// indexArchive reads an archive to its end. Of several entries with one path the last one counts.
func (b *builder) indexArchive(ctx context.Context, from *archive) ([]tree.Entry, []byte, error) {
	at, entries, total := map[string]int{}, []tree.Entry{}, int64(0)
	marked := []byte{}
	sum, buffer := digest.NewContent(), make([]byte, 128<<10)
	err := walkArchive(ctx, from, b.o.Store.TemporaryFolder, func(e *tree.Entry, body io.Reader) error {
		if total += e.Size; total > from.limit {
			return fmt.Errorf("it unpacks to more than %d bytes: allow more with at-most: where that is right", from.limit)
		}
		if e.Kind == tree.File {
			n, err := io.ReadFull(body, buffer)
			m := markOf(e.Path, buffer[:n])
			sum.Reset()
			sum.Write(buffer[:n])
			if err == nil {
				_, err = io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{body}, buffer)
			}
			if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
				return fmt.Errorf("%w: %w", layer.ErrMalformed, err)
			}
			if e.Content = digest.ContentOf(sum); m != "" {
				b.mark(e.Content, m)
				marked = fmt.Appendf(marked, "%s %s\n", e.Content, m)
			}
		}
		if i, twice := at[e.Path]; twice {
			entries[i] = *e
			return nil
		}
		at[e.Path] = len(entries)
		entries = append(entries, *e)
		return nil
	})
	slices.SortFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	return entries, append(append(marked, '\n', '\n'), tree.EncodeEntries(entries)...), err
}

// mostNested is how deep archives in archives are spread out.
const mostNested = 4

// walkArchive visits the entries of an archive. Archives in it that are to be spread out are visited as folders.
func walkArchive(ctx context.Context, from *archive, temporary func() (string, error), visit func(*tree.Entry, io.Reader) error) error {
	if len(from.spread) == 0 {
		return walkPlain(ctx, from, temporary, visit)
	}
	spread := ignore.New(from.spread...)
	var within func(above string, depth int) func(e *tree.Entry, body io.Reader) error
	within = func(above string, depth int) func(e *tree.Entry, body io.Reader) error {
		return func(e *tree.Entry, body io.Reader) error {
			if above != "" {
				if e.Path = tree.Join(above, e.Path); e.Kind == tree.Hardlink {
					e.Target = tree.Join(above, e.Target)
				}
			}
			if e.Kind != tree.File || depth == mostNested || !spread.Match(e.Path, false) {
				return visit(e, body)
			}
			at := e.Path
			if e.Size > from.limit {
				return fmt.Errorf("spreading out %q: it has more than %d bytes: allow more with at-most: where that is right", at, from.limit)
			}
			if err := visit(&tree.Entry{Path: at, Kind: tree.Folder, Mode: 0o755, UID: e.UID, GID: e.GID}, strings.NewReader("")); err != nil {
				return err
			}
			inner := &archive{name: at, limit: from.limit, open: func(context.Context) (io.ReadCloser, error) {
				return io.NopCloser(io.LimitReader(body, from.limit)), nil
			}}
			if err := walkPlain(ctx, inner, temporary, within(at, depth+1)); err != nil {
				return fmt.Errorf("spreading out %q: %w", at, err)
			}
			return nil
		}
	}
	return walkPlain(ctx, from, temporary, within("", 0))
}

// walkPlain visits the entries of an archive, whose first bytes tell what it is.
func walkPlain(ctx context.Context, from *archive, temporary func() (string, error), visit func(*tree.Entry, io.Reader) error) error {
	f, err := from.open(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	head := make([]byte, 4)
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return err
	}
	whole := digest.WithContext(ctx, io.MultiReader(bytes.NewReader(head[:n]), f))
	if bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06")) {
		return walkZip(ctx, whole, temporary, visit)
	}
	plain, err := layer.Decompress(whole)
	if err != nil {
		return err
	}
	defer plain.Close()
	return layer.Walk(plain, func(e *tree.Entry, body io.Reader) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		return visit(e, body)
	})
}

// maxZipEntries bounds what the list at the end of a zip archive may hold.
const maxZipEntries = 1_000_000

// walkZip visits the entries of a zip archive. Its list is at the end, so it is put into a file first.
func walkZip(ctx context.Context, r io.Reader, temporary func() (string, error), visit func(*tree.Entry, io.Reader) error) error {
	folder, err := temporary()
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	f, err := os.Create(path.Join(folder, "archive.zip"))
	if err != nil {
		return err
	}
	defer f.Close()
	size, err := io.Copy(f, r)
	if err != nil {
		return err
	}
	z, err := zip.NewReader(f, size)
	if err != nil {
		return fmt.Errorf("%w: %w", layer.ErrMalformed, err)
	}
	if len(z.File) > maxZipEntries {
		return fmt.Errorf("%w: more than %d entries", layer.ErrMalformed, maxZipEntries)
	}
	for _, one := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := zipEntry(one, visit); err != nil {
			return err
		}
	}
	return nil
}

// Systems that zip archives are made on and that have permissions.
const (
	unixZip   = 3
	darwinZip = 19
)

func zipEntry(one *zip.File, visit func(*tree.Entry, io.Reader) error) error {
	clean, err := tree.CleanPath(strings.ReplaceAll(one.Name, "\\", "/"))
	if err != nil {
		return fmt.Errorf("%w: %w", layer.ErrMalformed, err)
	}
	if one.UncompressedSize64 > 1<<62 {
		return fmt.Errorf("%w: %q says that it has %d bytes", layer.ErrMalformed, one.Name, one.UncompressedSize64)
	}
	mode := one.Mode()
	e := &tree.Entry{Path: clean, Kind: tree.File, Mode: uint32(mode.Perm()), Size: int64(one.UncompressedSize64)}
	if system := one.CreatorVersion >> 8; system != unixZip && system != darwinZip || e.Mode == 0 {
		if e.Mode = 0o644; mode.IsDir() {
			e.Mode = 0o755
		}
	}
	switch {
	case mode.IsDir():
		e.Kind, e.Size = tree.Folder, 0
	case mode&fs.ModeSymlink != 0:
		e.Kind, e.Mode = tree.Symlink, 0o777
	case !mode.IsRegular():
		return fmt.Errorf("%w: %q is neither a file nor a folder nor a link", layer.ErrMalformed, one.Name)
	}
	body, err := one.Open()
	if err != nil {
		return fmt.Errorf("%w: %q: %w", layer.ErrMalformed, one.Name, err)
	}
	defer body.Close()
	if e.Kind == tree.Symlink {
		target, err := io.ReadAll(io.LimitReader(body, 4097))
		if err != nil || len(target) > 4096 {
			return fmt.Errorf("%w: %q is a link that cannot be read", layer.ErrMalformed, one.Name)
		}
		e.Target, e.Size = string(target), 0
	}
	return visit(e, body)
}
