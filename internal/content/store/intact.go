package store

import (
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"imbricat/internal/ground/digest"
)

// A blob that was written here, or read through, has a modification time that its digest tells. Whoever writes to the file
// moves that, so the next who needs the blob compares its bytes with its name once more. When it was used is its access time.

// markOf is the modification time of a blob that is known to be what its name says. It is a full even second, which every
// file system can keep, in the past.
func markOf(d digest.Digest) time.Time {
	h := fnv.New32a()
	_, _ = io.WriteString(h, string(d))
	return time.Unix(946684800+2*int64(h.Sum32()>>8), 0)
}

// mark marks a blob whose bytes are known to be right. Failing to costs that it is read once more.
func mark(path string, d digest.Digest) { _ = os.Chtimes(path, time.Now(), markOf(d)) }

// relyOnBlob marks a blob as used now and reports whether it is there and what its name says.
func (s *Store) relyOnBlob(path string, d digest.Digest) bool {
	info, err := os.Stat(path)
	if err == nil && !info.ModTime().Equal(markOf(d)) && !s.intact(path, d, info) {
		return false
	}
	return s.relyAt(path, time.Time{})
}

// intact reads a blob whose file was written to since it was known to be right, and removes it where it is not.
func (s *Store) intact(path string, d digest.Digest, found fs.FileInfo) bool {
	if known, is := s.proven.Load(d); is && os.SameFile(known.(fs.FileInfo), found) && known.(fs.FileInfo).ModTime().Equal(found.ModTime()) {
		return true // where it may not be marked
	}
	f, err := os.Open(path)
	if err != nil {
		return errors.Is(err, fs.ErrPermission) // whoever needs its bytes is told
	}
	defer f.Close()
	verifier := d.Verifier()
	if _, err := io.Copy(verifier, f); err != nil {
		s.spoilt.Store(d, fmt.Sprintf("cannot be read (%s): it is made or brought again", err))
		return false // and it stays: another time it may be read
	}
	if verifier.Verified() {
		if now, err := f.Stat(); err == nil && now.ModTime().Equal(found.ModTime()) {
			s.proven.Store(d, found)
			mark(path, d)
		}
		return true
	}
	// Another process may have put the right one there meanwhile.
	if now, err := os.Stat(path); err == nil && os.SameFile(now, found) {
		what := "was changed after it was written: it cannot be removed, and is not used"
		if os.Remove(path) == nil {
			what = "was changed after it was written: it is removed, to be made or brought again"
		}
		s.spoilt.Store(d, what)
	}
	return false
}

// Spoilt tells, once, of the blobs that were found to hold other bytes than their names say, in sentences.
func (s *Store) Spoilt() (all []string) {
	s.spoilt.Range(func(d, what any) bool {
		if _, untold := s.spoilt.LoadAndDelete(d); untold {
			all = append(all, fmt.Sprintf("the blob %s of the store %s", d, what))
		}
		return true
	})
	slices.Sort(all)
	return all
}
