package standin

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"imbricat/internal/ground/digest"
)

// beginUpload makes an empty upload and gives its name.
func (s *storage) beginUpload() (string, error) {
	random := make([]byte, 16)
	rand.Read(random)
	id := hex.EncodeToString(random)
	f, err := s.files.OpenFile(s.uploadPath(id), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return "", err
	}
	return id, f.Close()
}

func (s *storage) uploadPath(id string) string { return filepath.Join("uploads", id) }

// validUpload keeps names of uploads from being paths.
func validUpload(id string) bool {
	return len(id) == 32 && strings.Trim(id, "0123456789abcdef") == ""
}

// lock lets one request at a time work on an upload.
func (s *storage) lock(id string) func() {
	s.mutex.Lock()
	m := s.locks[id]
	if m == nil {
		m = &sync.Mutex{}
		s.locks[id] = m
	}
	s.mutex.Unlock()
	m.Lock()
	return m.Unlock
}

func (s *storage) forget(id string) {
	s.mutex.Lock()
	delete(s.locks, id)
	s.mutex.Unlock()
}

// appendUpload adds bytes at the end and gives the size after that. What came before a connection broke stays.
func (s *storage) appendUpload(id string, r io.Reader) (int64, error) {
	f, err := s.files.OpenFile(s.uploadPath(id), os.O_WRONLY|os.O_APPEND, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if _, err := f.Seek(0, io.SeekEnd); err != nil {
		return 0, err
	}
	if _, err := io.Copy(f, r); err != nil {
		if errors.Is(err, syscall.ENOSPC) {
			_ = s.files.Remove(s.uploadPath(id)) // others need the room
		}
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// finishUpload turns an upload into a blob where its bytes have the digest.
func (s *storage) finishUpload(id, repository string, d digest.Digest) (matches bool, err error) {
	f, err := s.files.OpenFile(s.uploadPath(id), os.O_RDWR, 0)
	if err != nil {
		return false, err
	}
	defer f.Close()
	verifier := d.Verifier()
	if _, err := io.Copy(verifier, f); err != nil {
		return false, err
	}
	if !verifier.Verified() {
		return false, nil
	}
	s.links.RLock()
	defer s.links.RUnlock()
	if err := s.install(f, s.blobPath(d)); err != nil {
		return true, err
	}
	return true, s.write(s.link(repository, "_blobs", linkName(d)), nil)
}

// beginUpload answers POST: a whole blob, a blob that another repository has, or the start of an upload.
func (x *exchange) beginUpload() error {
	if x.r.Method != http.MethodPost {
		return x.unsupported()
	}
	if err := x.may(push); err != nil {
		return err
	}
	query := x.r.URL.Query()
	if mount := query.Get("mount"); mount != "" {
		d, err := parseDigest(mount)
		if err != nil {
			return err
		}
		if mounted, err := x.mount(d, query.Get("from")); err != nil || mounted {
			return err
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

// mount takes a blob over from another repository that the caller may pull from; without a name, from any.
func (x *exchange) mount(d digest.Digest, from string) (bool, error) {
	if from == "" {
		from = x.storage.holder(d, func(one string) bool { return x.server.permit(x.who, one, pull) == nil })
	}
	if !nameForm.MatchString(from) || x.server.permit(x.who, from, pull) != nil || !x.storage.exists(from, "_blobs", d) {
		return false, nil
	}
	if err := x.checkQuota("_blobs", d, x.storage.size(d)); err != nil {
		return false, err
	}
	if err := x.storage.linkBlob(x.repository, d); err != nil {
		return false, nil
	}
	x.note(Event{What: "mount", Digest: d, From: from})
	return true, x.created("blobs", d)
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
	if err := x.may(push); err != nil {
		return err
	}
	unknown := refuse(http.StatusNotFound, "BLOB_UPLOAD_UNKNOWN", "there is no such upload")
	if !validUpload(id) {
		return unknown
	}
	defer x.storage.lock(id)()
	info, err := x.storage.files.Stat(x.storage.uploadPath(id))
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
		return x.storage.files.Remove(x.storage.uploadPath(id))
	case http.MethodPatch:
		if err := x.checkRange(info.Size()); err != nil {
			return err
		}
		size, err := x.storage.appendUpload(id, x.r.Body)
		if err != nil {
			return broken(err)
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

// broken is a request whose body could not be read to its end.
func broken(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) {
		return refuse(http.StatusBadRequest, "BLOB_UPLOAD_INVALID", "the connection broke in the middle of the bytes")
	}
	return err
}

// checkRange makes sure that a chunk follows on what is there, and is as long as it says.
func (x *exchange) checkRange(size int64) error {
	text := x.r.Header.Get("Content-Range")
	if text == "" {
		return nil
	}
	first, last, whole := strings.Cut(strings.TrimPrefix(text, "bytes "), "-")
	start, err := strconv.ParseInt(first, 10, 64)
	if err != nil || !whole || start < 0 {
		return refuse(http.StatusBadRequest, "BLOB_UPLOAD_INVALID", "the range of the chunk is malformed")
	}
	if start != size {
		x.w.Header().Set("Location", x.r.URL.Path)
		x.w.Header().Set("Range", fmt.Sprintf("0-%d", max(size-1, 0)))
		return refuse(http.StatusRequestedRangeNotSatisfiable, "BLOB_UPLOAD_INVALID", fmt.Sprintf("the next byte is %d", size))
	}
	last, _, _ = strings.Cut(last, "/")
	if end, err := strconv.ParseInt(last, 10, 64); err != nil || x.r.ContentLength > 0 && end-start+1 != x.r.ContentLength {
		return refuse(http.StatusBadRequest, "BLOB_UPLOAD_INVALID", "the range of the chunk does not fit its length")
	}
	return nil
}

// finish takes the rest of an upload and keeps it as a blob.
func (x *exchange) finish(id string) error {
	d, err := parseDigest(x.r.URL.Query().Get("digest"))
	if err != nil {
		return err
	}
	size, err := x.storage.appendUpload(id, x.r.Body)
	if err != nil {
		return broken(err) // what came stays, and can be gone on with
	}
	defer x.storage.forget(id)
	discard := func() { _ = x.storage.files.Remove(x.storage.uploadPath(id)) }
	if err := x.checkQuota("_blobs", d, size); err != nil {
		discard()
		return err
	}
	matches, err := x.storage.finishUpload(id, x.repository, d)
	if err != nil {
		return err
	}
	if !matches {
		discard()
		return refuse(http.StatusBadRequest, "DIGEST_INVALID", "the bytes have another digest")
	}
	x.note(Event{What: "upload", Digest: d, Bytes: size})
	return x.created("blobs", d)
}
