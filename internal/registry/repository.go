package registry

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"imbricat/internal/digest"
)

// Repository is one repository of a registry.
type Repository struct {
	client *Client
	host   string
	name   string
}

// Repository names a repository; nothing is asked yet.
func (c *Client) Repository(host, name string) *Repository {
	return &Repository{client: c, host: host, name: name}
}

// String is HOST/REPOSITORY.
func (r *Repository) String() string { return r.host + "/" + r.name }

func (r *Repository) request(method, op, path string, want ...int) request {
	actions := "pull"
	if method != http.MethodGet && method != http.MethodHead {
		actions = "pull,push"
	}
	return request{op: op, where: r.String(), host: r.host, scope: "repository:" + r.name + ":" + actions,
		method: method, url: baseURL(r.host) + r.name + path, want: want}
}

// MaxManifest bounds manifests and indexes, in bytes.
const MaxManifest = 4 << 20

// Manifest fetches a manifest or an index by tag or digest, whole and verified. accept lists the media types that the
// caller reads.
func (r *Repository) Manifest(ctx context.Context, identifier string, accept []string) (digest.Descriptor, []byte, error) {
	q := r.request(http.MethodGet, "fetching the manifest "+identifier, "/manifests/"+identifier, 200)
	q.header = http.Header{"Accept": accept}
	resp, err := r.client.do(ctx, q)
	if err != nil {
		return digest.Descriptor{}, nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, MaxManifest+1))
	if err != nil {
		return digest.Descriptor{}, nil, fmt.Errorf("%s: %s: %w: %w", r, q.op, ErrUnreachable, err)
	}
	if len(body) > MaxManifest {
		return digest.Descriptor{}, nil, fmt.Errorf("%s: %s: it is larger than %d bytes", r, q.op, MaxManifest)
	}
	if err := checkAnswer(resp.Header, body); err != nil {
		return digest.Descriptor{}, nil, fmt.Errorf("%s: %s: %w", r, q.op, err)
	}
	desc := digest.Descriptor{MediaType: mediaTypeOf(resp.Header.Get("Content-Type"), body), Digest: digest.FromBytes(body), Size: int64(len(body))}
	if asked, err := digest.Parse(identifier); err == nil {
		verifier := asked.Verifier()
		verifier.Write(body)
		if !verifier.Verified() {
			return desc, nil, fmt.Errorf("%s: %s: %w: the bytes have the digest %s", r, q.op, digest.ErrMismatch, desc.Digest)
		}
		desc.Digest = asked
	}
	return desc, body, nil
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
	var answer *Error
	if errors.As(err, &answer) && answer.NotFound() {
		return "", false, nil
	}
	if err != nil {
		return "", false, err
	}
	resp.Body.Close()
	d, _ := digest.Parse(resp.Header.Get(digestHeader))
	return d, true, nil
}

// HasBlob tells whether the repository has a blob.
func (r *Repository) HasBlob(ctx context.Context, desc digest.Descriptor) (bool, error) {
	q := r.request(http.MethodHead, "looking for the blob "+string(desc.Digest), "/blobs/"+string(desc.Digest), 200)
	resp, err := r.client.do(ctx, q)
	var answer *Error
	if errors.As(err, &answer) && answer.NotFound() {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	resp.Body.Close()
	return resp.ContentLength < 0 || resp.ContentLength == desc.Size, nil
}

// Blob opens a blob; reading it to the end verifies it.
func (r *Repository) Blob(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	q := r.request(http.MethodGet, "fetching the blob "+string(desc.Digest), "/blobs/"+string(desc.Digest), 200)
	q.header = http.Header{"Accept-Encoding": {"identity"}}
	resp, err := r.client.do(ctx, q)
	if err != nil {
		return nil, err
	}
	return &blobReader{Reader: digest.Verify(resp.Body, desc), Closer: resp.Body, what: r.String() + ": " + q.op}, nil
}

// blobReader says where a broken download came from.
type blobReader struct {
	io.Reader
	io.Closer
	what string
}

func (b *blobReader) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	switch {
	case err == nil || err == io.EOF:
		return n, err
	case errors.Is(err, digest.ErrMismatch):
		return n, fmt.Errorf("%s: %w", b.what, err)
	case errors.Is(err, context.Canceled):
		return n, err
	}
	return n, fmt.Errorf("%s: %w: %w", b.what, ErrUnreachable, err)
}

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
	if target, err := uploadURL(resp, desc); err == nil {
		end := r.request(http.MethodDelete, "ending an upload", "", 204, 202, 200, 404, 405)
		end.url, end.host = target.String(), target.Host
		if resp, err := r.client.authorized(ctx, end); err == nil {
			resp.Body.Close()
		}
	}
	return false, nil
}

// Host is the registry's host.
func (r *Repository) Host() string { return r.host }

// Name is the repository's name at its registry.
func (r *Repository) Name() string { return r.name }

// PutBlob uploads a blob in one piece. open is called again when the upload is tried again.
func (r *Repository) PutBlob(ctx context.Context, desc digest.Descriptor, open func() (io.ReadCloser, error)) error {
	// A broken upload leaves bytes behind, so another try begins a new one.
	_, err := again(ctx, r.client, func() (struct{}, error) { return struct{}{}, r.putBlob(ctx, desc, open) })
	return err
}

func (r *Repository) putBlob(ctx context.Context, desc digest.Descriptor, open func() (io.ReadCloser, error)) error {
	op := "pushing the blob " + string(desc.Digest)
	begin := r.request(http.MethodPost, op, "/blobs/uploads/", 202)
	resp, err := r.client.authorized(ctx, begin)
	if err != nil {
		return err
	}
	resp.Body.Close()
	target, err := uploadURL(resp, desc)
	if err != nil {
		return fmt.Errorf("%s: %s: %w", r, op, err)
	}
	put := r.request(http.MethodPut, op, "", 201)
	put.url, put.host = target.String(), target.Host
	put.header = http.Header{"Content-Type": {"application/octet-stream"}}
	put.body, put.size = open, desc.Size
	if resp, err = r.client.authorized(ctx, put); err != nil {
		return err
	}
	return resp.Body.Close()
}

// uploadURL is where the registry wants the bytes, with the digest added.
func uploadURL(resp *http.Response, desc digest.Descriptor) (*url.URL, error) {
	location := resp.Header.Get("Location")
	if location == "" {
		return nil, errors.New("the registry does not say where to upload to")
	}
	target, err := resp.Request.URL.Parse(location)
	if err != nil {
		return nil, fmt.Errorf("the registry's place for the upload: %w", err)
	}
	if err := checkScheme(target); err != nil {
		return nil, fmt.Errorf("the registry's place for the upload: %w", err)
	}
	query := target.Query()
	query.Set("digest", string(desc.Digest))
	target.RawQuery = query.Encode()
	return target, nil
}

// PutManifest stores a manifest or an index under a tag or its digest.
func (r *Repository) PutManifest(ctx context.Context, identifier, mediaType string, body []byte) error {
	q := r.request(http.MethodPut, "pushing the manifest "+identifier, "/manifests/"+identifier, 201)
	q.header = http.Header{"Content-Type": {mediaType}}
	q.body = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	q.size = int64(len(body))
	resp, err := r.client.do(ctx, q)
	if err != nil {
		return err
	}
	resp.Body.Close()
	if said := resp.Header.Get(digestHeader); said != "" && said != string(digest.FromBytes(body)) {
		return fmt.Errorf("%s: %s: %w: the registry stored it as %s", r, q.op, digest.ErrMismatch, printable(said))
	}
	return nil
}

// Bounds on a list of tags.
const (
	maxPages = 1000
	maxTags  = 1_000_000
)

// Tags lists the repository's tags, in the registry's order.
func (r *Repository) Tags(ctx context.Context) ([]string, error) {
	q := r.request(http.MethodGet, "listing tags", "/tags/list", 200)
	var all []string
	for range maxPages {
		resp, err := r.client.do(ctx, q)
		if err != nil {
			return nil, err
		}
		var page struct {
			Tags []string `json:"tags"`
		}
		err = json.NewDecoder(io.LimitReader(resp.Body, 32<<20)).Decode(&page)
		resp.Body.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: listing tags: the answer is no list: %w", r, err)
		}
		if all = append(all, page.Tags...); len(all) > maxTags {
			return nil, fmt.Errorf("%s: listing tags: more than %d", r, maxTags)
		}
		next, err := nextPage(resp.Request.URL, resp.Header.Values("Link"))
		if err != nil {
			return nil, fmt.Errorf("%s: listing tags: %w", r, err)
		}
		if next == "" || len(page.Tags) == 0 {
			return all, nil
		}
		q.url = next
	}
	return nil, fmt.Errorf("%s: listing tags: more than %d pages", r, maxPages)
}
