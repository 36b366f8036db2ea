package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"

	"imbricat/internal/ground/digest"
)

// HasBlob reports whether the repository has a blob.
func (r *Repository) HasBlob(ctx context.Context, desc digest.Descriptor) (bool, error) {
	q := r.request(http.MethodHead, "looking for the blob "+string(desc.Digest), "/blobs/"+string(desc.Digest), 200)
	resp, err := r.client.do(ctx, q)
	if missing(err) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	resp.Body.Close()
	return resp.ContentLength < 0 || resp.ContentLength == desc.Size, nil
}

// Blob opens a blob; reading it to the end verifies it. Where the connection breaks it is gone on with.
func (r *Repository) Blob(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	return fromMirrors(ctx, r, func(one *Repository) (io.ReadCloser, error) {
		d, err := one.download(ctx, desc, 0)
		if err != nil {
			return nil, err
		}
		if one != r {
			d.other = r // bytes are bytes: what a mirror breaks off comes from home
		}
		return &blobReader{Reader: digest.Verify(d, desc), Closer: d, what: r.String() + ": " + d.op()}, nil
	})
}

// BlobFrom opens the rest of a blob after its first bytes. It is not verified.
func (r *Repository) BlobFrom(ctx context.Context, desc digest.Descriptor, from int64) (io.ReadCloser, error) {
	d, err := r.download(ctx, desc, from)
	if err != nil {
		return nil, err
	}
	return d, nil
}

// download is a blob on its way.
type download struct {
	ctx   context.Context
	from  *Repository
	other *Repository // to turn to when from fails; nil: none
	desc  digest.Descriptor
	body  io.ReadCloser
	at    int64 // bytes read so far
	fails int   // in a row, without a byte between
}

func (r *Repository) download(ctx context.Context, desc digest.Descriptor, at int64) (*download, error) {
	d := &download{ctx: ctx, from: r, desc: desc, at: at}
	return d, d.open()
}

func (d *download) op() string { return "fetching the blob " + string(d.desc.Digest) }

// open asks for the bytes from where we are on.
func (d *download) open() error {
	q := d.from.request(http.MethodGet, d.op(), "/blobs/"+string(d.desc.Digest), 200)
	q.header, q.bulk = http.Header{"Accept-Encoding": {"identity"}}, true
	if d.at > 0 {
		q.header.Set("Range", fmt.Sprintf("bytes=%d-%d", d.at, max(d.at, d.desc.Size-1)))
		q.want = []int{200, 206}
	}
	resp, err := d.from.client.do(d.ctx, q)
	if err != nil {
		return err
	}
	if resp.StatusCode == http.StatusPartialContent {
		if start, ok := rangeStart(resp.Header.Get("Content-Range")); !ok || start != d.at {
			resp.Body.Close()
			return fmt.Errorf("%s: %s: the registry sends another part than it was asked for", d.from, d.op())
		}
	} else if d.at > 0 {
		// It knows no parts.
		if _, err := io.CopyN(io.Discard, resp.Body, d.at); err != nil {
			resp.Body.Close()
			return fmt.Errorf("%s: %s: %w: %w", d.from, d.op(), ErrUnreachable, err)
		}
	}
	d.body = resp.Body
	return nil
}

// Read goes on where a connection broke, until it breaks too often without a byte between.
func (d *download) Read(p []byte) (int, error) {
	for {
		if d.body == nil {
			if err := d.open(); err != nil {
				if !d.turn(err) {
					return 0, err
				}
				continue
			}
		}
		n, err := d.body.Read(p)
		if d.at += int64(n); n > 0 {
			d.fails = 0
		}
		switch {
		case err == nil, err == io.EOF && d.at >= d.desc.Size, n > 0:
			if n > 0 && err != nil && !(err == io.EOF && d.at >= d.desc.Size) {
				d.Close()
				err = nil
			}
			return n, err
		case d.ctx.Err() != nil:
			return n, context.Cause(d.ctx)
		}
		d.Close()
		if d.fails++; d.fails >= tries {
			return 0, fmt.Errorf("%w: the connection broke %d times: %w", ErrUnreachable, d.fails, err)
		}
	}
}

// turn goes on at another place where there is one.
func (d *download) turn(err error) bool {
	if d.other == nil || d.ctx.Err() != nil {
		return false
	}
	d.from.client.leave(d.from.host, err)
	d.from, d.other = d.other, nil
	return true
}

// Close ends the exchange that is under way.
func (d *download) Close() error {
	if d.body == nil {
		return nil
	}
	err := d.body.Close()
	d.body = nil
	return err
}

// blobReader says where a broken download came from.
type blobReader struct {
	io.Reader
	io.Closer
	what string
}

// Verifies implements digest.Verifying.
func (b *blobReader) Verifies(want digest.Descriptor) bool { return digest.Verifies(b.Reader, want) }

func (b *blobReader) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	var answer *Error
	switch {
	case err == nil || err == io.EOF:
		return n, err
	case errors.Is(err, digest.ErrMismatch):
		return n, fmt.Errorf("%s: %w", b.what, err)
	case errors.Is(err, context.Canceled), errors.As(err, &answer), errors.Is(err, ErrUnreachable):
		return n, err
	}
	return n, fmt.Errorf("%s: %w: %w", b.what, ErrUnreachable, err)
}

// Blobs is the repository as something that blobs are fetched from.
func (r *Repository) Blobs() BlobFetcher { return BlobFetcher{r} }

// BlobFetcher fetches blobs.
type BlobFetcher struct{ repository *Repository }

// Fetch opens a blob; reading it to the end verifies it.
func (b BlobFetcher) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	return b.repository.Blob(ctx, desc)
}
