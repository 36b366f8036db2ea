package standin

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
)

// subjectHeader tells the client that the registry knows what refers to what; tagHeader which tags were written.
const (
	subjectHeader = "OCI-Subject"
	filterHeader  = "OCI-Filters-Applied"
	tagHeader     = "OCI-Tag"
)

func parseDigest(text string) (digest.Digest, error) {
	d, err := digest.Parse(text)
	if err != nil {
		return "", refuse(http.StatusBadRequest, "DIGEST_INVALID", "the digest is malformed")
	}
	return d, nil
}

// blob answers GET and HEAD of a blob, ranges included, and DELETE.
func (x *exchange) blob(text string) error {
	d, err := parseDigest(text)
	if err != nil {
		return err
	}
	unknown := refuse(http.StatusNotFound, "BLOB_UNKNOWN", "the repository has no such blob")
	switch x.r.Method {
	case http.MethodGet, http.MethodHead:
		if err := x.may(pull); err != nil {
			return err
		}
	case http.MethodDelete:
		if err := x.may(remove); err != nil {
			return err
		}
		if x.storage.files.Remove(x.storage.link(x.repository, "_blobs", linkName(d))) != nil {
			return unknown
		}
		x.note(Event{What: "delete", Digest: d})
		x.w.WriteHeader(http.StatusAccepted)
		return nil
	default:
		return x.unsupported()
	}
	if !x.storage.exists(x.repository, "_blobs", d) {
		return unknown
	}
	f, err := x.storage.files.Open(x.storage.blobPath(d))
	if errors.Is(err, fs.ErrNotExist) {
		return unknown
	}
	if err != nil {
		return err
	}
	defer f.Close()
	x.w.Header().Set("Content-Type", "application/octet-stream")
	x.w.Header().Set(digestHeader, string(d))
	x.w.Header().Set("ETag", strconv.Quote(string(d)))
	http.ServeContent(x.w, x.r, "", time.Time{}, f)
	return nil
}

// maxManifest bounds manifests and indexes, in bytes.
const maxManifest = 4 << 20

// manifest answers GET, HEAD, PUT and DELETE of a manifest or an index.
func (x *exchange) manifest(identifier string) error {
	switch x.r.Method {
	case http.MethodGet, http.MethodHead:
		return x.getManifest(identifier)
	case http.MethodPut:
		return x.putManifest(identifier)
	case http.MethodDelete:
		return x.deleteManifest(identifier)
	}
	return x.unsupported()
}

// named finds the digest that a tag or a digest in an address stands for.
func (x *exchange) named(identifier string) (d digest.Digest, tag string, err error) {
	unknown := refuse(http.StatusNotFound, "MANIFEST_UNKNOWN", "the repository has no manifest "+identifier)
	if strings.Contains(identifier, ":") {
		d, err = parseDigest(identifier)
		return d, "", err
	}
	if !isTag(identifier) {
		return "", "", unknown
	}
	if d, err = x.storage.tag(x.repository, identifier); err != nil {
		return "", "", unknown
	}
	return d, identifier, nil
}

func (x *exchange) getManifest(identifier string) error {
	if err := x.may(pull); err != nil {
		return err
	}
	d, tag, err := x.named(identifier)
	if err != nil {
		return err
	}
	mediaType, body, err := x.storage.manifest(x.repository, d)
	if errors.Is(err, fs.ErrNotExist) {
		return refuse(http.StatusNotFound, "MANIFEST_UNKNOWN", "the repository has no manifest "+identifier)
	}
	if err != nil {
		return err
	}
	x.w.Header().Set("Content-Type", mediaType)
	x.w.Header().Set(digestHeader, string(d))
	x.w.Header().Set("ETag", strconv.Quote(string(d)))
	x.w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	if tag != "" {
		x.w.Header().Set("Last-Modified", x.storage.tagged(x.repository, tag).UTC().Format(http.TimeFormat))
	}
	if x.r.Method == http.MethodGet {
		x.note(Event{What: "pull", Digest: d, Tag: tag})
		_, err = x.w.Write(body)
	}
	return err
}

func (x *exchange) putManifest(identifier string) error {
	if err := x.may(push); err != nil {
		return err
	}
	body, err := io.ReadAll(io.LimitReader(x.r.Body, maxManifest+1))
	if err != nil {
		return broken(err)
	}
	if len(body) > maxManifest {
		return refuse(http.StatusRequestEntityTooLarge, "MANIFEST_INVALID", "the manifest is too large")
	}
	mediaType, _, _ := strings.Cut(x.r.Header.Get("Content-Type"), ";")
	parts, err := x.checkManifest(mediaType, body)
	if err != nil {
		return err
	}
	d, tags := digest.FromBytes(body), x.r.URL.Query()["tag"]
	if strings.Contains(identifier, ":") {
		if d, err = parseDigest(identifier); err != nil {
			return err
		}
		if v := d.Verifier(); !verified(v, body) {
			return refuse(http.StatusBadRequest, "DIGEST_INVALID", "the manifest has another digest")
		}
	} else {
		tags = append([]string{identifier}, tags...)
	}
	// Tags of one repository are written by one request at a time, or two could both find a fixed one free.
	defer x.storage.lock("tags of " + x.repository)()
	if err := x.checkTags(tags, d); err != nil {
		return err
	}
	if err := x.checkQuota("_manifests", d, int64(len(body))); err != nil {
		return err
	}
	if err := x.keepManifest(parts, digest.Descriptor{MediaType: mediaType, Digest: d, Size: int64(len(body))}, body); err != nil {
		return err
	}
	for _, tag := range tags {
		if err := x.storage.putTag(x.repository, tag, d); err != nil {
			return err
		}
		x.w.Header().Add(tagHeader, tag)
		x.note(Event{What: "push", Digest: d, Tag: tag, Bytes: int64(len(body)), Why: reasonOf(x.r)})
	}
	if len(tags) == 0 {
		x.note(Event{What: "push", Digest: d, Bytes: int64(len(body))})
	}
	return x.created("manifests", d)
}

// checkTags refuses tags that are malformed, too many, or fixed on another digest.
func (x *exchange) checkTags(tags []string, d digest.Digest) error {
	if len(tags) > 100 {
		return refuse(http.StatusRequestURITooLong, "TAG_INVALID", "more than 100 tags at once")
	}
	rights := x.server.rightsOf(x.repository)
	for _, tag := range tags {
		if !isTag(tag) {
			return refuse(http.StatusBadRequest, "TAG_INVALID", "the tag is invalid")
		}
		old, err := x.storage.tag(x.repository, tag)
		if err == nil && old != d && matchesAny(rights.Fixed, tag) {
			return refuse(http.StatusForbidden, "DENIED", "the tag "+tag+" is fixed on "+string(old)+" and does not move")
		}
	}
	return nil
}

// keepManifest stores a manifest, and what it refers to.
func (x *exchange) keepManifest(parts parts, desc digest.Descriptor, body []byte) error {
	if err := x.storage.putManifest(x.repository, desc.Digest, desc.MediaType, body); err != nil || parts.Subject == nil {
		return err
	}
	desc.Annotations, desc.ArtifactType = parts.Annotations, parts.ArtifactType
	if desc.ArtifactType == "" && parts.Config != nil {
		desc.ArtifactType = parts.Config.MediaType
	}
	x.w.Header().Set(subjectHeader, string(parts.Subject.Digest))
	return x.storage.noteReferrer(x.repository, parts.Subject.Digest, desc)
}

func (x *exchange) deleteManifest(identifier string) error {
	if err := x.may(remove); err != nil {
		return err
	}
	defer x.storage.lock("tags of " + x.repository)()
	d, tag, err := x.named(identifier)
	if err != nil {
		return err
	}
	rights := x.server.rightsOf(x.repository)
	doomed := []string{tag}
	if tag == "" {
		doomed = nil
		tags, err := x.storage.tags(x.repository)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, one := range tags {
			if on, err := x.storage.tag(x.repository, one); err == nil && on == d {
				doomed = append(doomed, one)
			}
		}
	}
	if i := slices.IndexFunc(doomed, func(one string) bool { return matchesAny(rights.Fixed, one) }); i >= 0 {
		return refuse(http.StatusForbidden, "DENIED", "the tag "+doomed[i]+" is fixed and is not deleted")
	}
	if tag != "" {
		err = x.storage.files.Remove(x.storage.link(x.repository, "_tags", tag))
	} else {
		err = x.storage.dropManifest(x.repository, d)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return refuse(http.StatusNotFound, "MANIFEST_UNKNOWN", "the repository has no manifest "+identifier)
	}
	if err != nil {
		return err
	}
	x.note(Event{What: "delete", Digest: d, Tag: tag})
	x.w.WriteHeader(http.StatusAccepted)
	return nil
}

func (x *exchange) created(kind string, d digest.Digest) error {
	x.w.Header().Set("Location", "/v2/"+x.repository+"/"+kind+"/"+string(d))
	x.w.Header().Set(digestHeader, string(d))
	x.w.WriteHeader(http.StatusCreated)
	return nil
}

func verified(v interface {
	io.Writer
	Verified() bool
}, body []byte) bool {
	_, err := v.Write(body)
	return err == nil && v.Verified()
}

// parts is what the registry looks at in manifests and indexes; the rest of a document is the client's.
type parts struct {
	MediaType    string              `json:"mediaType"`
	ArtifactType string              `json:"artifactType"`
	Manifests    []digest.Descriptor `json:"manifests"`
	Config       *digest.Descriptor  `json:"config"`
	Layers       []digest.Descriptor `json:"layers"`
	Subject      *digest.Descriptor  `json:"subject"`
	Annotations  map[string]string   `json:"annotations"`
}

func readParts(body []byte) (p parts) {
	_ = json.Unmarshal(body, &p)
	return p
}

// blobs lists the config and the layers that a registry is to have. Layers that may not be distributed are elsewhere.
func (p parts) blobs() []digest.Descriptor {
	list := slices.DeleteFunc(slices.Clone(p.Layers), func(d digest.Descriptor) bool { return undistributed[d.MediaType] })
	if p.Config != nil {
		list = append(list, *p.Config)
	}
	return list
}

// checkManifest makes sure that a manifest is one, and that everything it lists is there.
func (x *exchange) checkManifest(mediaType string, body []byte) (parts, error) {
	var p parts
	invalid := func(message string) (parts, error) {
		return p, refuse(http.StatusBadRequest, "MANIFEST_INVALID", message)
	}
	switch known := mediaType == v1.MediaTypeImageManifest || mediaType == v1.MediaTypeImageIndex || oldTypes[mediaType]; {
	case !known:
		return invalid("the media type " + strconv.Quote(mediaType) + " is unknown")
	case json.Unmarshal(body, &p) != nil:
		return invalid("the manifest is not JSON")
	case p.MediaType != "" && p.MediaType != mediaType:
		return invalid("the manifest says that it is of another media type than its header")
	case p.Subject != nil && p.Subject.Digest.Validate() != nil:
		return invalid("the digest of the subject is malformed")
	}
	for kind, list := range map[string][]digest.Descriptor{"_blobs": p.blobs(), "_manifests": p.Manifests} {
		for _, desc := range list {
			if desc.Digest.Validate() != nil {
				return invalid("a digest in the manifest is malformed")
			}
			if !x.storage.exists(x.repository, kind, desc.Digest) {
				return p, refuse(http.StatusNotFound, "MANIFEST_BLOB_UNKNOWN", "the repository lacks "+string(desc.Digest))
			}
			if size := x.storage.size(desc.Digest); size != desc.Size {
				return invalid("the manifest gives " + string(desc.Digest) + " another size than it has")
			}
		}
	}
	return p, nil
}

// referrers answers which manifests have a digest for their subject.
func (x *exchange) referrers(text string) error {
	if x.r.Method != http.MethodGet {
		return x.unsupported()
	}
	if err := x.may(pull); err != nil {
		return err
	}
	subject, err := parseDigest(text)
	if err != nil {
		return err
	}
	list, err := x.storage.referrers(x.repository, subject)
	if err != nil {
		return err
	}
	if kind := x.r.URL.Query().Get("artifactType"); kind != "" {
		list = slices.DeleteFunc(list, func(d digest.Descriptor) bool { return d.ArtifactType != kind })
		x.w.Header().Set(filterHeader, "artifactType")
	}
	index := v1.Index{MediaType: v1.MediaTypeImageIndex, Manifests: list}
	index.SchemaVersion = 2
	x.w.Header().Set("Content-Type", v1.MediaTypeImageIndex)
	return json.NewEncoder(x.w).Encode(index)
}

// listTags answers the list of tags, in pages where the client asks for them.
func (x *exchange) listTags() error {
	if x.r.Method != http.MethodGet && x.r.Method != http.MethodHead {
		return x.unsupported()
	}
	if err := x.may(pull); err != nil {
		return err
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
			return refuse(http.StatusBadRequest, "PAGINATION_NUMBER_INVALID", "n is not a number")
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
