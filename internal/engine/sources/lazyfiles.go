package sources

import (
	"errors"
	"fmt"
	"io"
	"sync"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
)

// Contents gives files of the project folder and notices those that changed since their digest was taken.
type Contents struct {
	files byPath
	held  *held

	mutex  sync.Mutex
	opener *tree.Opener
}

// Open opens a file by its path in the project folder.
func (s *Contents) Open(p string) (io.ReadCloser, error) {
	if body, is := s.held.take(p); is {
		return body, nil
	}
	s.mutex.Lock()
	f, stat, err := s.opener.Open(p)
	s.mutex.Unlock()
	if err != nil {
		return nil, err
	}
	if stat != s.files.of(p).Stat {
		f.Close()
		return nil, fmt.Errorf("%s %w; build again when nothing writes to it", p, layer.ErrChanged)
	}
	return &steadyFile{f, p, stat}, nil
}

// steadyFile tells when it is closed whether the file changed while it was open.
type steadyFile struct {
	*tree.SourceFile
	path string
	stat tree.Stat
}

// Close closes the file.
func (f *steadyFile) Close() error {
	after, statErr := f.Stat()
	err := f.SourceFile.Close()
	if statErr == nil && after != f.stat {
		return fmt.Errorf("%s %w; build again when nothing writes to it", f.path, layer.ErrChanged)
	}
	return errors.Join(statErr, err)
}
