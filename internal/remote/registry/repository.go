package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
)

// Repository is one repository of a registry.
type Repository struct {
	client  *Client
	host    string
	name    string
	mirrors []*Repository // that are read from first
	reason  string        // why tags are written, percent-encoded
}

// Repository names a repository; nothing is asked yet.
func (c *Client) Repository(host, name string) *Repository {
	return &Repository{client: c, host: host, name: name}
}

// Source names a repository that is only read: its mirrors are asked first, in their order. One that fails is left for
// as long as the client lives.
func (c *Client) Source(host, name string) *Repository {
	r := c.Repository(host, name)
	for _, mirror := range c.settings(host).Mirrors {
		at, prefix, _ := strings.Cut(mirror, "/")
		r.mirrors = append(r.mirrors, c.Repository(at, strings.TrimPrefix(prefix+"/"+name, "/")))
	}
	return r
}

// String is HOST/REPOSITORY.
func (r *Repository) String() string { return r.host + "/" + r.name }

// Host is the registry's host.
func (r *Repository) Host() string { return r.host }

// Name is the repository's name at its registry.
func (r *Repository) Name() string { return r.name }

// Parallel is how many blobs are to move at a time; 0 where nobody chose.
func (r *Repository) Parallel() int { return r.client.Parallel(r.host) }

func (r *Repository) request(method, op, path string, want ...int) request {
	actions := "pull"
	switch method {
	case http.MethodGet, http.MethodHead:
	case http.MethodDelete:
		actions = "pull,delete"
	default:
		actions = "pull,push"
	}
	return request{op: op, where: r.String(), host: r.host, repository: r.name, scope: "repository:" + r.name + ":" + actions,
		method: method, url: r.client.baseURL(r.host) + r.name + path, want: want}
}

// fromMirrors tries an act at the mirrors, and then where the content is at home. A mirror that fails in any way but lacking
// what was asked for is left.
func fromMirrors[T any](ctx context.Context, r *Repository, act func(one *Repository) (T, error)) (T, error) {
	for _, mirror := range r.mirrors {
		if r.client.hasLeft(mirror.host) {
			continue
		}
		value, err := act(mirror)
		if err == nil || ctx.Err() != nil {
			return value, err
		}
		var answer *Error
		if !errors.As(err, &answer) || !answer.NotFound() {
			r.client.leave(mirror.host, err)
		}
	}
	return act(r)
}

func (c *Client) hasLeft(host string) bool {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	return c.left[host]
}

func (c *Client) leave(host string, err error) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.left[host] = true
	c.log.Warn("a mirror is left", "host", host, "error", err)
}

// MaxManifest bounds manifests and indexes, in bytes.
const MaxManifest = 4 << 20

// Manifest fetches a manifest or an index by tag or digest, whole and verified. accept lists the media types that the
// caller reads.
func (r *Repository) Manifest(ctx context.Context, identifier string, accept []string) (digest.Descriptor, []byte, error) {
	m, err := r.Tagged(ctx, identifier, accept)
	return m.Descriptor, m.Body, err
}

// Document is a manifest or an index as a registry sent it.
type Document struct {
	Descriptor digest.Descriptor
	Body       []byte
	Pushed     time.Time // when the tag was written; zero where the registry does not tell
}

// Tagged is Manifest, with what the registry tells of when the tag was written.
func (r *Repository) Tagged(ctx context.Context, identifier string, accept []string) (Document, error) {
	return fromMirrors(ctx, r, func(one *Repository) (Document, error) {
		return again(ctx, one.client, func() (Document, error) { return one.document(ctx, identifier, accept) })
	})
}

func (r *Repository) document(ctx context.Context, identifier string, accept []string) (Document, error) {
	q := r.request(http.MethodGet, fetching(identifier), "/manifests/"+identifier, 200)
	q.header = http.Header{"Accept": accept}
	resp, err := r.client.authorized(ctx, q)
	if err != nil {
		return Document{}, err
	}
	defer resp.Body.Close()
	body, err := r.readAll(q, resp, MaxManifest)
	if err != nil {
		return Document{}, err
	}
	if err := checkAnswer(resp.Header, body); err != nil {
		return Document{}, fmt.Errorf("%s: %s: %w", r, q.op, err)
	}
	d := Document{Descriptor: digest.Descriptor{MediaType: mediaTypeOf(resp.Header.Get("Content-Type"), body), Digest: digest.FromBytes(body), Size: int64(len(body))}, Body: body}
	d.Pushed, _ = http.ParseTime(resp.Header.Get("Last-Modified"))
	if asked, err := digest.Parse(identifier); err == nil {
		verifier := asked.Verifier()
		_, _ = verifier.Write(body)
		if !verifier.Verified() {
			return d, fmt.Errorf("%s: %s: %w: the bytes have the digest %s", r, q.op, digest.ErrMismatch, d.Descriptor.Digest)
		}
		d.Descriptor.Digest = asked
	} else if r.client.o.Tags != nil {
		r.client.o.Tags.Saw(r.String(), identifier, d.Descriptor.Digest)
	}
	return d, nil
}

// readAll reads an answer of bounded size.
func (r *Repository) readAll(q request, resp *http.Response, most int64) ([]byte, error) {
	body, err := io.ReadAll(io.LimitReader(resp.Body, most+1))
	switch {
	case errors.Is(err, ErrUnreachable):
		return nil, fmt.Errorf("%s: %s: %w", r, q.op, err)
	case err != nil:
		return nil, fmt.Errorf("%s: %s: %w: %w", r, q.op, ErrUnreachable, err)
	case int64(len(body)) > most:
		return nil, fmt.Errorf("%s: %s: it is larger than %d bytes", r, q.op, most)
	}
	return body, nil
}

// mediaTypeOf trusts what the document says of itself before the header.
func mediaTypeOf(header string, body []byte) string {
	var document struct {
		MediaType string `json:"mediaType"`
	}
	if json.Unmarshal(body, &document) == nil && document.MediaType != "" {
		return document.MediaType
	}
	mediaType, _, _ := strings.Cut(header, ";")
	return strings.TrimSpace(mediaType)
}

// HasManifest asks for a manifest's digest by tag or digest, and tells whether it is there.
func (r *Repository) HasManifest(ctx context.Context, identifier string, accept []string) (digest.Digest, bool, error) {
	q := r.request(http.MethodHead, "looking for the manifest "+identifier, "/manifests/"+identifier, 200)
	q.header = http.Header{"Accept": accept}
	resp, err := r.client.do(ctx, q)
	if missing(err) {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	resp.Body.Close()
	d, err := digest.Parse(resp.Header.Get(digestHeader))
	if err == nil {
		return d, true, nil
	}
	// The header is optional in the specification.
	desc, _, err := r.Manifest(ctx, identifier, accept)
	if missing(err) {
		return "", false, nil
	}
	return desc.Digest, err == nil, err
}

// missing reports whether an error is a registry's answer that something is not there.
func missing(err error) bool {
	var answer *Error
	return errors.As(err, &answer) && answer.NotFound()
}

// PutManifest stores a manifest or an index under a tag or its digest. Where it refers to a subject and the registry keeps
// no list of referrers, the tag that stands for the list is brought up to date.
func (r *Repository) PutManifest(ctx context.Context, identifier, mediaType string, body []byte) error {
	q := r.request(http.MethodPut, "pushing the manifest "+identifier, "/manifests/"+identifier, 201)
	q.header = http.Header{"Content-Type": {mediaType}}
	if r.reason != "" {
		q.header.Set(ReasonHeader, r.reason)
	}
	q.body = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	q.size = int64(len(body))
	resp, err := r.client.do(ctx, q)
	if err != nil {
		return err
	}
	resp.Body.Close()
	said, err := digest.Parse(resp.Header.Get(digestHeader))
	if err == nil {
		if v := said.Verifier(); true {
			_, _ = v.Write(body)
			if !v.Verified() {
				return fmt.Errorf("%s: %s: %w: the registry stored it as %s", r, q.op, digest.ErrMismatch, said)
			}
		}
	}
	if _, err := digest.Parse(identifier); err != nil && r.client.o.Tags != nil {
		r.client.o.Tags.Wrote(r.String(), identifier, digest.FromBytes(body))
	}
	return r.noteReferrer(ctx, mediaType, body, resp.Header.Get(subjectHeader) != "")
}

// Delete removes a manifest with its tags by a digest, or a tag alone. A registry that does not know how gives an *Error
// that is Unsupported.
func (r *Repository) Delete(ctx context.Context, identifier string) error {
	return r.remove(ctx, "deleting "+identifier, "/manifests/"+identifier)
}

// DeleteBlob removes a blob from the repository.
func (r *Repository) DeleteBlob(ctx context.Context, d digest.Digest) error {
	return r.remove(ctx, "deleting the blob "+string(d), "/blobs/"+string(d))
}

func (r *Repository) remove(ctx context.Context, op, path string) error {
	resp, err := r.client.do(ctx, r.request(http.MethodDelete, op, path, 202, 200, 204))
	if err != nil {
		return err
	}
	return resp.Body.Close()
}

// Bounds on a list of tags.
const (
	maxPages = 1000
	maxTags  = 1_000_000
	maxPage  = 8 << 20 // bytes
	maxList  = 128 << 20
)

// Tags lists the repository's tags, in the registry's order.
func (r *Repository) Tags(ctx context.Context) ([]string, error) {
	var all []string
	err := r.pages(ctx, "listing tags", "/tags/list", maxPage, func(body []byte, _ http.Header) (int, error) {
		var page struct {
			Tags []string `json:"tags"`
		}
		if err := json.Unmarshal(body, &page); err != nil {
			return 0, fmt.Errorf("the answer is not a list: %w", err)
		}
		if all = append(all, page.Tags...); len(all) > maxTags {
			return 0, fmt.Errorf("more than %d", maxTags)
		}
		return len(page.Tags), nil
	})
	return all, err
}

// pages reads a list that comes in pages; read takes one and tells how much was in it.
func (r *Repository) pages(ctx context.Context, op, path string, most int64, read func(body []byte, h http.Header) (int, error)) error {
	q := r.request(http.MethodGet, op, path, 200)
	seen, total := map[string]bool{}, int64(0)
	for range maxPages {
		seen[q.url] = true
		resp, err := r.client.do(ctx, q)
		if err != nil {
			return err
		}
		body, err := r.readAll(q, resp, most)
		resp.Body.Close()
		if err != nil {
			return err
		}
		if total += int64(len(body)); total > maxList {
			return fmt.Errorf("%s: %s: the pages have more than %d bytes", r, op, maxList)
		}
		n, err := read(body, resp.Header)
		var next string
		if err == nil {
			next, err = nextPage(resp.Request.URL, resp.Header.Values("Link"))
		}
		if err != nil {
			return fmt.Errorf("%s: %s: %w", r, op, err)
		}
		if next == "" || n == 0 {
			return nil
		}
		if seen[next] {
			return fmt.Errorf("%s: %s: the registry's pages repeat", r, op)
		}
		q.url = next
	}
	return fmt.Errorf("%s: %s: more than %d pages", r, op, maxPages)
}

// MayPush asks whether the client may push, by beginning an upload and giving it up.
func (r *Repository) MayPush(ctx context.Context) error {
	resp, err := r.client.do(ctx, r.request(http.MethodPost, "asking for the right to push", "/blobs/uploads/", 202))
	if err != nil {
		return err
	}
	resp.Body.Close()
	r.giveUp(ctx, resp)
	return nil
}

// fetching says what is fetched: a tag or a digest.
func fetching(identifier string) string {
	if strings.Contains(identifier, ":") {
		return "fetching " + identifier
	}
	return "fetching tag " + identifier
}
