package local

import (
	"errors"
	"fmt"
	"hash"
	"io"
	"path/filepath"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
)

// mend tells what to do where an unpacked tree is not what was unpacked.
const mend = "`imbricat store check --repair` removes the tree"

// snapshotContents gives files of an unpacked tree, and notices those that were changed there.
type snapshotContents struct {
	box      *sandbox.Box
	dir      string
	contents map[string]digest.Content
}

func contentsIn(box *sandbox.Box, dir string, entries []tree.Entry) *snapshotContents {
	s := &snapshotContents{box, dir, map[string]digest.Content{}}
	for i := range entries {
		if entries[i].Kind == tree.File {
			s.contents[entries[i].Path] = entries[i].Content
		}
	}
	return s
}

// Open opens a file by its path in the tree.
func (s *snapshotContents) Open(p string) (io.ReadCloser, error) {
	f, err := s.box.OpenFile(filepath.Join(s.dir, filepath.FromSlash(p)))
	if err != nil {
		return nil, fmt.Errorf("reading an unpacked tree: %w; %s", err, mend)
	}
	return &checkedFile{f, digest.NewContent(), s.contents[p], p}, nil
}

// checkedFile tells at its end whether it has the contents that it is to have.
type checkedFile struct {
	io.ReadCloser
	sum  hash.Hash
	want digest.Content
	path string
}

func (c *checkedFile) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.sum.Write(p[:n])
	return n, err
}

// Close closes the file. One that was not read to its end is read now.
func (c *checkedFile) Close() error {
	_, err := io.Copy(c.sum, c.ReadCloser)
	if err == nil && digest.ContentOf(c.sum) != c.want {
		err = fmt.Errorf("/%s of an unpacked tree was changed: %w; %s", c.path, digest.ErrMismatch, mend)
	}
	return errors.Join(err, c.ReadCloser.Close())
}
