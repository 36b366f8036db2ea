package registry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"imbricat/internal/ground/digest"
)

// Mount has the registry take a blob over from another of its repositories, and tells whether it did. A registry that does
// not know how, or does not let us, is no error.
func (r *Repository) Mount(ctx context.Context, desc digest.Descriptor, from string) (bool, error) {
	q := r.request(http.MethodPost, "mounting the blob "+string(desc.Digest)+" from "+from, "/blobs/uploads/", 201, 202)
	q.scope += " repository:" + from + ":pull"
	q.url += "?" + url.Values{"mount": {string(desc.Digest)}, "from": {from}}.Encode()
	resp, err := r.client.do(ctx, q)
	var answer *Error
	if errors.As(err, &answer) && !answer.Temporary() {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	resp.Body.Close()
	if resp.StatusCode == http.StatusCreated {
		return true, nil
	}
	// The registry began an upload instead, which nobody goes on with.
	r.giveUp(ctx, resp)
	return false, nil
}

// giveUp ends an upload that an answer has begun. It is no matter where that does not work.
func (r *Repository) giveUp(ctx context.Context, resp *http.Response) {
	target, err := r.client.uploadURL(resp)
	if err != nil {
		return
	}
	end := r.request(http.MethodPost, "ending an upload", "", 204, 202, 200, 404, 405)
	end.method, end.url, end.host = http.MethodDelete, target.String(), target.Host
	if resp, err := r.client.authorized(ctx, end); err == nil {
		resp.Body.Close()
	}
}

// Opener opens a blob's bytes from one of them on. It may be called several times.
type Opener func(from int64) (io.ReadCloser, error)

const (
	// rememberFrom is the size in bytes of blobs whose uploads a later run goes on with.
	rememberFrom = 1 << 20
	// smallChunk is what one request takes where the registry found a whole blob too large, in bytes.
	smallChunk = 16 << 20
	// pushingBlob begins what messages say of an upload.
	pushingBlob = "pushing the blob "
)

// upload is a blob on its way to a registry.
type upload struct {
	*Repository
	desc   digest.Descriptor
	open   Opener
	op     string
	target *url.URL // nil: not begun
	at     int64    // bytes that the registry has
	chunk  int64    // of one request; 0: all in one
	gone   bool     // on with what came before: should that be wrong, it is begun anew
	kept   Upload   // for a later run; nil: nothing is kept
}

// PutBlob uploads a blob. What a broken connection, or an earlier run, has sent already is not sent again.
func (r *Repository) PutBlob(ctx context.Context, desc digest.Descriptor, open Opener) (err error) {
	u := &upload{Repository: r, desc: desc, open: open, op: pushingBlob + string(desc.Digest), chunk: r.client.settings(r.host).Chunk}
	u.recall(ctx)
	if u.kept != nil {
		defer func() { u.kept.Release(err == nil) }()
	}
	_, err = again(ctx, r.client, func() (struct{}, error) {
		before := u.at
		err := u.try(ctx)
		// As long as bytes arrive there is no reason to despair.
		for passes(err) && ctx.Err() == nil && u.resume(ctx) && u.at > before {
			before = u.at
			err = u.try(ctx)
		}
		return struct{}{}, err
	})
	return err
}

// recall finds an upload of the blob that an earlier run began.
func (u *upload) recall(ctx context.Context) {
	if u.client.o.Uploads == nil || u.desc.Size < rememberFrom {
		return
	}
	if u.kept = u.client.o.Uploads.TakeUpload(u.String(), u.desc.Digest); u.kept == nil {
		return
	}
	address, err := url.Parse(u.kept.Address())
	if err != nil || address.Host == "" {
		return
	}
	home, err := url.Parse(u.client.baseURL(u.host))
	if err != nil || u.client.checkTarget(home, address) != nil {
		return
	}
	u.target = address
	u.resume(ctx)
}

// note keeps where the upload stands for a later run; nil forgets it.
func (u *upload) note(target *url.URL) {
	switch {
	case u.kept == nil:
	case target == nil:
		u.kept.Note("")
	default:
		u.kept.Note(target.String())
	}
}

// resume asks the registry how much it has, and tells whether the upload can be gone on with; else it begins anew.
func (u *upload) resume(ctx context.Context) bool {
	if u.target == nil {
		return false
	}
	q := u.request(http.MethodPost, u.op+": asking how far it came", "", 204, 200, 202)
	q.method, q.url, q.host = http.MethodGet, u.target.String(), u.target.Host
	resp, err := u.client.do(ctx, q)
	if err != nil {
		u.target, u.at = nil, 0
		return false
	}
	resp.Body.Close()
	at, known := rangeEnd(resp.Header.Get("Range"))
	if next, err := u.client.uploadURL(resp); err == nil {
		u.target = next
	}
	if !known || at > u.desc.Size {
		u.target, u.at = nil, 0
		return false
	}
	u.at, u.gone = at, true
	return true
}

// try goes on from where the upload stands to its end.
func (u *upload) try(ctx context.Context) error {
	if u.target == nil {
		if err := u.begin(ctx); err != nil {
			return err
		}
	}
	for u.chunk > 0 && u.desc.Size-u.at > u.chunk {
		if err := u.send(ctx, http.MethodPatch, u.chunk); err != nil {
			return u.judge(err)
		}
	}
	return u.judge(u.send(ctx, http.MethodPut, u.desc.Size-u.at))
}

// judge turns answers that mean "not like this" into another way.
func (u *upload) judge(err error) error {
	var answer *Error
	if !errors.As(err, &answer) {
		return err
	}
	switch {
	case answer.Status == http.StatusRequestEntityTooLarge && (u.chunk == 0 || u.chunk > smallChunk):
		u.chunk = smallChunk
		if least, err := strconv.ParseInt(answer.header.Get(chunkLeastHeader), 10, 64); err == nil && least > u.chunk && least < 1<<32 {
			u.chunk = least
		}
		u.target, u.at = nil, 0
		return &Error{Op: answer.Op, Where: answer.Where, Status: http.StatusRequestTimeout, Words: answer.Words} // once more, in pieces
	case u.gone && answer.Status == http.StatusRequestedRangeNotSatisfiable:
		// What was on its way when the connection broke arrived after we had asked: we ask again.
		return &Error{Op: answer.Op, Where: answer.Where, Status: http.StatusRequestTimeout, Words: answer.Words}
	case u.gone && (answer.Status == http.StatusBadRequest || answer.NotFound()):
		// The registry stands elsewhere than it said, or has forgotten the upload.
		u.target, u.at, u.gone = nil, 0, false
		return &Error{Op: answer.Op, Where: answer.Where, Status: http.StatusRequestTimeout, Words: answer.Words}
	}
	if !answer.Temporary() {
		u.note(nil)
	}
	return err
}

func (u *upload) begin(ctx context.Context) error {
	resp, err := u.client.authorized(ctx, u.request(http.MethodPost, u.op, "/blobs/uploads/", 202))
	if err != nil {
		return err
	}
	resp.Body.Close()
	if u.target, err = u.client.uploadURL(resp); err != nil {
		return fmt.Errorf("%s: %s: %w", u, u.op, err)
	}
	u.at = 0
	if least, err := strconv.ParseInt(resp.Header.Get(chunkLeastHeader), 10, 64); err == nil && u.chunk > 0 && least > u.chunk && least < 1<<32 {
		u.chunk = least
	}
	u.note(u.target)
	return nil
}

// send sends so many bytes, with PUT the last ones.
func (u *upload) send(ctx context.Context, method string, size int64) error {
	q := u.request(http.MethodPost, u.op, "", 202)
	target := *u.target
	if q.method = method; method == http.MethodPut {
		q.want = []int{201}
		query := target.Query()
		query.Set("digest", string(u.desc.Digest))
		target.RawQuery = query.Encode()
	}
	q.url, q.host, q.bulk = target.String(), target.Host, true
	q.header = http.Header{"Content-Type": {"application/octet-stream"}}
	if at := u.at; size > 0 && (u.gone || at > 0 || size < u.desc.Size) {
		q.header.Set("Content-Range", fmt.Sprintf("%d-%d", at, at+size-1))
	}
	at := u.at
	q.size, q.body = size, func() (io.ReadCloser, error) {
		in, err := u.open(at)
		if err != nil || at+size == u.desc.Size {
			return in, err
		}
		return &part{io.LimitReader(in, size), in}, nil
	}
	resp, err := u.client.authorized(ctx, q)
	if err != nil {
		return err
	}
	resp.Body.Close()
	if method == http.MethodPut {
		return nil
	}
	if u.target, err = u.client.uploadURL(resp); err != nil {
		return fmt.Errorf("%s: %s: %w", u, u.op, err)
	}
	if has, known := rangeEnd(resp.Header.Get("Range")); known && has > 0 && has != u.at+size {
		return fmt.Errorf("%s: %s: the registry has %d bytes, and was sent %d", u, u.op, has, u.at+size)
	}
	u.at += size
	u.note(u.target)
	return nil
}

type part struct {
	io.Reader
	io.Closer
}

// uploadURL is where the registry wants the bytes.
func (c *Client) uploadURL(resp *http.Response) (*url.URL, error) {
	location := resp.Header.Get("Location")
	if location == "" {
		return nil, errors.New("the registry does not say where to upload to")
	}
	target, err := resp.Request.URL.Parse(location)
	if err == nil {
		err = c.checkTarget(resp.Request.URL, target)
	}
	if err != nil {
		return nil, fmt.Errorf("the registry's place for the upload: %w", err)
	}
	return target, nil
}
