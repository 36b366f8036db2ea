package compose

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"

	"github.com/dustin/go-humanize"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// Fetched is a file from an address, kept in the store as a blob under its checksum.
type Fetched struct {
	store *store.Store
	desc  digest.Descriptor
}

func (f *Fetched) open(ctx context.Context) (io.ReadCloser, error) {
	return f.store.Fetch(ctx, f.desc)
}

// Open returns the file, whatever the path.
func (f *Fetched) Open(string) (io.ReadCloser, error) { return f.open(context.Background()) }

// Downloader gets what addresses hold.
type Downloader interface {
	// Download returns what an address holds, with its size in bytes or -1.
	Download(ctx context.Context, address string) (io.ReadCloser, int64, error)
}

// Fetcher brings files from addresses into the store.
type Fetcher struct {
	Store *store.Store
	From  Downloader
}

// Kept returns a file with a checksum that the store has already.
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
