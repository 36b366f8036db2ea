package compose

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

	"imbricat/internal/census"
	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/filetree"
	"imbricat/internal/plan"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// Fetched is a file from an address, kept in the store as a blob under its checksum.
type Fetched struct {
	store *store.Store
	desc  digest.Descriptor
}

func (f *Fetched) open(ctx context.Context) (io.ReadCloser, error) {
	return f.store.Fetch(ctx, f.desc)
}

// Open gives the file, whatever the path.
func (f *Fetched) Open(string) (io.ReadCloser, error) { return f.open(context.Background()) }

// Downloader gets what addresses hold.
type Downloader interface {
	// Download gives what an address holds, with its size in bytes or -1.
	Download(ctx context.Context, address string) (io.ReadCloser, int64, error)
}

// Fetcher brings files from addresses into the store.
type Fetcher struct {
	Store *store.Store
	From  Downloader
}

// Kept gives a file with a checksum that the store has already.
func (f *Fetcher) Kept(sum string) (*Fetched, bool) {
	d := digest.Digest("sha256:" + sum)
	path, err := f.Store.BlobPath(d)
	if err != nil {
		return nil, false
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, false
	}
	desc := digest.Descriptor{Digest: d, Size: info.Size()}
	return &Fetched{f.Store, desc}, f.Store.Has(desc)
}

// maxFetched bounds what an address may send, in bytes.
var maxFetched int64 = 16 << 30

// Fetch brings a file into the store.
func (f *Fetcher) Fetch(ctx context.Context, address, sum string, tell event.Reporter) (*Fetched, error) {
	body, size, err := f.From.Download(ctx, address)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	tooLong := fmt.Errorf("fetching %s: it sends more than %s", address, humanize.IBytes(uint64(maxFetched)))
	if size > maxFetched {
		return nil, tooLong
	}
	tell.Started("fetching", max(size, 0))
	blob, err := f.Store.Begin()
	if err != nil {
		return nil, err
	}
	defer blob.Abort()
	hash := sha256.New()
	n, err := io.Copy(io.MultiWriter(blob, hash), io.LimitReader(tell.Progress().Reader(io.NopCloser(digest.WithContext(ctx, body))), maxFetched+1))
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
	return &Fetched{f.Store, digest.Descriptor{Digest: got, Size: n}}, blob.Commit(got)
}

type fetchStep struct{ plan.Fetch }

// Lay lays a file from an address down.
func (do fetchStep) Lay(ctx context.Context, c *Composer) error {
	owner, err := c.owner(ctx, do.Owner, do.OwnerPos)
	if err != nil {
		return err
	}
	got := c.inputs.Files[do.SHA256]
	content, err := c.contentOf(ctx, nameIn(do.Address), do.SHA256, got)
	if err != nil {
		return err
	}
	to := inner(do.To)
	if do.To.Folder {
		to = tree.Join(to, nameIn(do.Address))
	}
	return c.add(tree.Entry{Path: to, Kind: tree.File, Mode: do.Mode.Apply(0o644, false), UID: owner.UID, GID: owner.GID,
		Size: got.desc.Size, Content: content}, filetree.Place{From: got}, nil)
}

// contentOf gives the content's name of a fetched file, from the store's notes where it was read before.
func (c *Composer) contentOf(ctx context.Context, name, sum string, got *Fetched) (digest.Content, error) {
	question := keyOf("imbricat content of sha256 1 " + sum)
	if note, found := c.Store.Note(question); found {
		content, m, _ := strings.Cut(string(note), " ")
		if content := digest.Content(content); content.Valid() {
			c.Marks.Note(content, census.Mark(m))
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
	if _, err := io.Copy(hash, io.TeeReader(io.LimitReader(whole, census.MaxSecret), &start)); err != nil {
		return "", err
	}
	if _, err := io.Copy(hash, whole); err != nil {
		return "", err
	}
	content, m := digest.ContentOf(hash), census.MarkOf(name, start.Bytes())
	c.Marks.Note(content, m)
	_ = c.Store.PutNote(question, []byte(string(content)+" "+string(m)))
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
