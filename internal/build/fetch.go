package build

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	"github.com/dustin/go-humanize"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/tree"
)

// fetched is a file from an address, kept in the store as a blob under its checksum.
type fetched struct {
	builder *builder
	desc    digest.Descriptor
}

func (f *fetched) open(ctx context.Context) (io.ReadCloser, error) {
	return f.builder.o.Store.Fetch(ctx, f.desc)
}

// Open gives the file, whatever the path.
func (f *fetched) Open(string) (io.ReadCloser, error) { return f.open(context.Background()) }

// kept gives a file with a checksum that the store has already.
func (b *builder) kept(sum string) (*fetched, bool) {
	d := digest.Digest("sha256:" + sum)
	path, err := b.o.Store.BlobPath(d)
	if err != nil {
		return nil, false
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, false
	}
	desc := digest.Descriptor{Digest: d, Size: info.Size()}
	return &fetched{b, desc}, b.o.Store.Has(desc)
}

// fetchOnce brings a file into the store, unless it is there.
func (b *builder) fetchOnce(ctx context.Context, address, sum string, task event.Task, sink event.Sink) (*fetched, error) {
	ctx = b.whole(ctx)
	got, _, err := b.fetches.do(sum, func() (*fetched, error) {
		if got, here := b.kept(sum); here && !task.Fresh {
			return got, nil
		}
		return b.download(ctx, address, sum, task, sink)
	})
	return got, err
}

// maxFetched bounds what an address may send, in bytes.
var maxFetched int64 = 16 << 30

func (b *builder) download(ctx context.Context, address, sum string, task event.Task, sink event.Sink) (*fetched, error) {
	body, size, err := b.o.Download(ctx, address)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	tooLong := fmt.Errorf("fetching %s: it sends more than %s", address, humanize.IBytes(uint64(maxFetched)))
	if size > maxFetched {
		return nil, tooLong
	}
	sink.Send(event.Started{Task: task, Act: "fetching", Total: max(size, 0)})
	blob, err := b.o.Store.Begin()
	if err != nil {
		return nil, err
	}
	defer blob.Abort()
	hash, progress := sha256.New(), newProgress(sink, task)
	n, err := io.Copy(io.MultiWriter(blob, hash), io.LimitReader(&counted{io.NopCloser(digest.WithContext(ctx, body)), progress}, maxFetched+1))
	if err != nil {
		return nil, fmt.Errorf("fetching %s: %w", address, err)
	}
	if n > maxFetched {
		return nil, tooLong
	}
	got := digest.FromHash(hash)
	if got.Encoded() != sum {
		return nil, fmt.Errorf("fetching %s: %w: its sha256 is %s, and the recipe says %s", address, digest.ErrMismatch, got.Encoded(), sum)
	}
	return &fetched{b, digest.Descriptor{Digest: got, Size: n}}, blob.Commit(got)
}

// fetch lays a file from an address down.
func (b *builder) fetch(ctx context.Context, c *composer, do plan.Fetch, task event.Task, sink event.Sink) error {
	owner, err := b.owner(ctx, c, do.Owner, do.OwnerPos)
	if err != nil {
		return err
	}
	got, err := b.fetchOnce(ctx, do.Address, do.SHA256, task, sink)
	if err != nil {
		return err
	}
	content, err := b.contentOf(ctx, nameIn(do.Address), do.SHA256, got)
	if err != nil {
		return err
	}
	to := inner(do.To)
	if do.To.Folder {
		to = tree.Join(to, nameIn(do.Address))
	}
	return c.add(tree.Entry{Path: to, Kind: tree.File, Mode: do.Mode.Apply(0o644, false), UID: owner.uid, GID: owner.gid,
		Size: got.desc.Size, Content: content}, place{from: got}, nil)
}

// contentOf gives the content's name of a fetched file, from the store's notes where it was read before.
func (b *builder) contentOf(ctx context.Context, name, sum string, got *fetched) (digest.Content, error) {
	question := keyOfText("imbricat content of sha256 1 " + sum)
	if note, found := b.o.Store.Note(question); found {
		content, m, _ := strings.Cut(string(note), " ")
		if content := digest.Content(content); content.Valid() {
			b.mark(content, mark(m))
			return content, nil
		}
	}
	f, err := got.open(ctx)
	if err != nil {
		return "", err
	}
	defer f.Close()
	hash, start := digest.NewContent(), bytes.Buffer{}
	whole := digest.WithContext(ctx, f)
	if _, err := io.Copy(hash, io.TeeReader(io.LimitReader(whole, maxSecret), &start)); err != nil {
		return "", err
	}
	if _, err := io.Copy(hash, whole); err != nil {
		return "", err
	}
	content, m := digest.ContentOf(hash), markOf(name, start.Bytes())
	b.mark(content, m)
	_ = b.o.Store.PutNote(question, []byte(string(content)+" "+string(m)))
	return content, nil
}

// nameIn is the last part of an address's path.
func nameIn(address string) string {
	for i, c := range address {
		if c == '?' || c == '#' {
			address = address[:i]
			break
		}
	}
	if name := path.Base(address); name != "/" && name != "." {
		return name
	}
	return "index"
}
