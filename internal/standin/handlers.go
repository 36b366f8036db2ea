package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/digest"
)

func parseDigest(text string) (digest.Digest, error) {
	d, err := digest.Parse(text)
	if err != nil {
		return "", refuse(http.StatusBadRequest, "DIGEST_INVALID", "the digest is malformed")
	}
	return d, nil
}

// blob answers GET and HEAD of a blob, ranges included.
func (x *exchange) blob(text string) error {
	if x.r.Method != http.MethodGet && x.r.Method != http.MethodHead {
		return x.unsupported()
	}
	d, err := parseDigest(text)
	if err != nil {
		return err
	}
	if !x.storage.exists(x.repository, "_blobs", d) {
		return refuse(http.StatusNotFound, "BLOB_UNKNOWN", "the repository has no such blob")
	}
	f, err := os.Open(x.storage.blobPath(d))
	if err != nil {
		return err
	}
	defer f.Close()
	x.w.Header().Set("Content-Type", "application/octet-stream")
	x.w.Header().Set(digestHeader, string(d))
	http.ServeContent(x.w, x.r, "", time.Time{}, f)
	return nil
}

// beginUpload answers POST: a whole blob, a blob that another repository has, or the start of an upload.
func (x *exchange) beginUpload() error {
	if x.r.Method != http.MethodPost {
		return x.unsupported()
	}
	query := x.r.URL.Query()
	if mount := query.Get("mount"); mount != "" {
		d, err := parseDigest(mount)
		if err != nil {
			return err
		}
		if from := query.Get("from"); nameForm.MatchString(from) && x.storage.exists(from, "_blobs", d) {
			if err := x.storage.linkBlob(x.repository, d); err != nil {
				return err
			}
			return x.created("blobs", d)
		}
	}
	id, err := x.storage.beginUpload()
	if err != nil {
		return err
	}
	if query.Get("digest") != "" {
		return x.finish(id)
	}
	return x.uploadState(id, 0, http.StatusAccepted)
}

func (x *exchange) created(kind string, d digest.Digest) error {
	x.w.Header().Set("Location", "/v2/"+x.repository+"/"+kind+"/"+string(d))
	x.w.Header().Set(digestHeader, string(d))
	x.w.WriteHeader(http.StatusCreated)
	return nil
}

// uploadState tells where an upload stands.
func (x *exchange) uploadState(id string, size int64, status int) error {
	x.w.Header().Set("Location", "/v2/"+x.repository+"/blobs/uploads/"+id)
	x.w.Header().Set("Range", fmt.Sprintf("0-%d", max(size-1, 0)))
	x.w.WriteHeader(status)
	return nil
}

// upload answers what is asked of an upload under way.
func (x *exchange) upload(id string) error {
	unknown := refuse(http.StatusNotFound, "BLOB_UPLOAD_UNKNOWN", "there is no such upload")
	if !validUpload(id) {
		return unknown
	}
	defer x.storage.lock(id)()
	info, err := os.Stat(x.storage.uploadPath(id))
	if errors.Is(err, fs.ErrNotExist) {
		x.storage.forget(id)
		return unknown
	}
	if err != nil {
		return err
	}
	switch x.r.Method {
	case http.MethodGet:
		return x.uploadState(id, info.Size(), http.StatusNoContent)
	case http.MethodDelete:
		x.storage.forget(id)
		x.w.WriteHeader(http.StatusNoContent)
		return os.Remove(x.storage.uploadPath(id))
	case http.MethodPatch:
		if err := x.checkRange(info.Size()); err != nil {
			return err
		}
		size, err := x.storage.appendUpload(id, x.r.Body)
		if err != nil {
			return err
		}
		return x.uploadState(id, size, http.StatusAccepted)
	case http.MethodPut:
		if err := x.checkRange(info.Size()); err != nil {
			return err
		}
		return x.finish(id)
	}
	return x.unsupported()
}

// checkRange makes sure that a chunk follows on what is there.
func (x *exchange) checkRange(size int64) error {
	text := x.r.Header.Get("Content-Range")
	if text == "" {
		return nil
	}
	first, _, _ := strings.Cut(strings.TrimPrefix(text, "bytes "), "-")
	start, err := strconv.ParseInt(first, 10, 64)
	if err != nil || start != size {
		return refuse(http.StatusRequestedRangeNotSatisfiable, "BLOB_UPLOAD_INVALID", fmt.Sprintf("the next byte is %d", size))
	}
	return nil
}

// finish takes the rest of an upload and keeps it as a blob.
func (x *exchange) finish(id string) error {
	d, err := parseDigest(x.r.URL.Query().Get("digest"))
	if err != nil {
		return err
	}
	if _, err := x.storage.appendUpload(id, x.r.Body); err != nil {
		return err
	}
	defer x.storage.forget(id)
	matches, err := x.storage.finishUpload(id, x.repository, d)
	if err != nil {
		return err
	}
	if !matches {
		os.Remove(x.storage.uploadPath(id))
		return refuse(http.StatusBadRequest, "DIGEST_INVALID", "the bytes have another digest")
	}
	return x.created("blobs", d)
}

// maxManifest bounds manifests and indexes, in bytes.
const maxManifest = 4 << 20

// manifest answers GET, HEAD and PUT of a manifest or an index.
func (x *exchange) manifest(identifier string) error {
	switch x.r.Method {
	case http.MethodGet, http.MethodHead:
		return x.getManifest(identifier)
	case http.MethodPut:
		return x.putManifest(identifier)
	}
	return x.unsupported()
}

func (x *exchange) getManifest(identifier string) error {
	unknown := refuse(http.StatusNotFound, "MANIFEST_UNKNOWN", "the repository has no manifest "+identifier)
	var d digest.Digest
	var err error
	if strings.Contains(identifier, ":") {
		if d, err = parseDigest(identifier); err != nil {
			return err
		}
	} else if !tagForm.MatchString(identifier) {
		return unknown
	} else if d, err = x.storage.tag(x.repository, identifier); err != nil {
		return unknown
	}
	mediaType, body, err := x.storage.manifest(x.repository, d)
	if errors.Is(err, fs.ErrNotExist) {
		return unknown
	}
	if err != nil {
		return err
	}
	x.w.Header().Set("Content-Type", mediaType)
	x.w.Header().Set(digestHeader, string(d))
	x.w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	if x.r.Method == http.MethodGet {
		_, err = x.w.Write(body)
	}
	return err
}

func (x *exchange) putManifest(identifier string) error {
	body, err := io.ReadAll(io.LimitReader(x.r.Body, maxManifest+1))
	if err != nil {
		return err
	}
	if len(body) > maxManifest {
		return refuse(http.StatusRequestEntityTooLarge, "MANIFEST_INVALID", "the manifest is too large")
	}
	mediaType, _, _ := strings.Cut(x.r.Header.Get("Content-Type"), ";")
	if err := x.checkManifest(mediaType, body); err != nil {
		return err
	}
	d := digest.FromBytes(body)
	tag := ""
	if strings.Contains(identifier, ":") {
		if d, err = parseDigest(identifier); err != nil {
			return err
		}
		if verifier := d.Verifier(); !verified(verifier, body) {
			return refuse(http.StatusBadRequest, "DIGEST_INVALID", "the manifest has another digest")
		}
	} else if tag = identifier; !tagForm.MatchString(tag) {
		return refuse(http.StatusBadRequest, "TAG_INVALID", "the tag is invalid")
	}
	if err := x.storage.putManifest(x.repository, d, mediaType, body); err != nil {
		return err
	}
	if tag != "" {
		if err := x.storage.putTag(x.repository, tag, d); err != nil {
			return err
		}
	}
	return x.created("manifests", d)
}

func verified(v interface {
	io.Writer
	Verified() bool
}, body []byte) bool {
	_, err := v.Write(body)
	return err == nil && v.Verified()
}

// checkManifest makes sure that a manifest is one, and that everything it lists is there.
func (x *exchange) checkManifest(mediaType string, body []byte) error {
	var both struct {
		MediaType string              `json:"mediaType"`
		Manifests []digest.Descriptor `json:"manifests"`
		Config    *digest.Descriptor  `json:"config"`
		Layers    []digest.Descriptor `json:"layers"`
	}
	invalid := func(message string) error { return refuse(http.StatusBadRequest, "MANIFEST_INVALID", message) }
	switch known := mediaType == v1.MediaTypeImageManifest || mediaType == v1.MediaTypeImageIndex || oldTypes[mediaType]; {
	case !known:
		return invalid("the media type " + strconv.Quote(mediaType) + " is unknown")
	case json.Unmarshal(body, &both) != nil:
		return invalid("the manifest is no JSON")
	case both.MediaType != "" && both.MediaType != mediaType:
		return invalid("the manifest says that it is of another media type than its header")
	}
	blobs := both.Layers
	if both.Config != nil {
		blobs = append(blobs, *both.Config)
	}
	for kind, list := range map[string][]digest.Descriptor{"_blobs": blobs, "_manifests": both.Manifests} {
		for _, desc := range list {
			if desc.Digest.Validate() != nil {
				return invalid("a digest in the manifest is malformed")
			}
			if !x.storage.exists(x.repository, kind, desc.Digest) {
				return refuse(http.StatusNotFound, "MANIFEST_BLOB_UNKNOWN", "the repository lacks "+string(desc.Digest))
			}
		}
	}
	return nil
}

// tags answers the list of tags, in pages where the client asks for them.
func (x *exchange) tags() error {
	if x.r.Method != http.MethodGet {
		return x.unsupported()
	}
	all, err := x.storage.tags(x.repository)
	if errors.Is(err, fs.ErrNotExist) {
		return refuse(http.StatusNotFound, "NAME_UNKNOWN", "there is no repository "+x.repository)
	}
	if err != nil {
		return err
	}
	query := x.r.URL.Query()
	if last := query.Get("last"); last != "" {
		for len(all) > 0 && all[0] <= last {
			all = all[1:]
		}
	}
	if text := query.Get("n"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			return refuse(http.StatusBadRequest, "PAGINATION_NUMBER_INVALID", "n is no number")
		}
		if n < len(all) {
			if all = all[:n]; n > 0 {
				next := url.Values{"n": {text}, "last": {all[n-1]}}
				x.w.Header().Set("Link", "</v2/"+x.repository+"/tags/list?"+next.Encode()+`>; rel="next"`)
			}
		}
	}
	x.w.Header().Set("Content-Type", "application/json")
	return json.NewEncoder(x.w).Encode(map[string]any{"name": x.repository, "tags": all})
}
