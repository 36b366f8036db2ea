package compose

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/ignore"
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

const archiveNote = "imbricat archive note 1"

// readArchive finds what an archive holds, from the store's notes where it was read before.
func (t *Tools) readArchive(ctx context.Context, from *archive) (*filetree.Archive, error) {
	walk := func(ctx context.Context, visit func(string, io.Reader) error) error {
		return walkArchive(ctx, from, t.Store.TemporaryFolder, func(e *tree.Entry, body io.Reader) error {
			if e.Kind != tree.File {
				return nil
			}
			return visit(e.Path, body)
		})
	}
	question := keyOf(archiveNote + " " + from.key())
	if note, found := t.Store.Note(question); found {
		if entries, err := t.decodeArchive(string(note), from.limit); err == nil {
			return t.archiveOf(from, entries, walk), nil
		}
	}
	entries, note, err := t.indexArchive(ctx, from)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", from.name, err)
	}
	_ = t.Store.PutNote(question, note)
	return t.archiveOf(from, entries, walk), nil
}

func (t *Tools) archiveOf(from *archive, entries []tree.Entry, walk filetree.Walk) *filetree.Archive {
	var file []string
	if from.file != "" {
		file = []string{from.file}
	}
	return t.Scratch.Archive(from.name, entries, file, walk)
}

// decodeArchive reads a note of indexArchive. An archive that is larger than the recipe now allows is read again, for
// its error.
func (t *Tools) decodeArchive(note string, limit int64) ([]tree.Entry, error) {
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
		t.Marks.Note(digest.Content(content), census.Class(m))
	}
	return entries, err
}

var errTooLarge = errors.New("too large")

// indexArchive reads an archive to its end. Of several entries with one path the last one counts.
func (t *Tools) indexArchive(ctx context.Context, from *archive) ([]tree.Entry, []byte, error) {
	at, entries, total := map[string]int{}, []tree.Entry{}, int64(0)
	marked := []byte{}
	sum, buffer := digest.NewContent(), make([]byte, 128<<10)
	err := walkArchive(ctx, from, t.Store.TemporaryFolder, func(e *tree.Entry, body io.Reader) error {
		if total += e.Size; total > from.limit {
			return fmt.Errorf("it unpacks to more than %d bytes: allow more with at-most: where that is right", from.limit)
		}
		if e.Kind == tree.File {
			n, err := io.ReadFull(body, buffer)
			m := census.ClassOf(e.Path, buffer[:n])
			sum.Reset()
			sum.Write(buffer[:n])
			if err == nil {
				_, err = io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{body}, buffer)
			}
			if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
				return fmt.Errorf("%w: %w", layer.ErrMalformed, layer.Plain(err))
			}
			if e.Content = digest.ContentOf(sum); m != "" {
				t.Marks.Note(e.Content, m)
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
