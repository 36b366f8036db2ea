package filetree

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"sync/atomic"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Walk visits the files of an archive in its order, by their names there.
type Walk func(ctx context.Context, visit func(path string, body io.Reader) error) error

// Scratch makes archives, which unpack what is wanted of them into temporary folders until it is closed.
type Scratch struct {
	temporary func() (string, error)
	mutex     sync.Mutex
	made      []*Archive
}

// NewScratch makes a scratch that gets folders from temporary.
func NewScratch(temporary func() (string, error)) *Scratch { return &Scratch{temporary: temporary} }

// Folder makes a temporary folder. Whoever asks for it removes it.
func (s *Scratch) Folder() (string, error) { return s.temporary() }

// Close removes what was unpacked.
func (s *Scratch) Close() {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, a := range s.made {
		if a.folder != "" {
			os.RemoveAll(a.folder)
		}
	}
}

// Archive gives the files of a layer or an archive. What is compressed has no random access, so the files that are
// wanted are unpacked in one pass into a temporary folder.
type Archive struct {
	Name    string // for messages
	Entries []tree.Entry
	Sources []string // the archive itself, where it is a file of the project
	walk    Walk
	blob    func(ctx context.Context) (io.ReadCloser, error) // of a layer
	scratch *Scratch

	elsewhere atomic.Pointer[tree.Contents] // gives the files without unpacking

	mutex  sync.Mutex
	folder string
	files  map[string]string // path in the archive → unpacked file
}

// Archive makes an archive that holds entries and is read by walk.
func (s *Scratch) Archive(name string, entries []tree.Entry, sources []string, walk Walk) *Archive {
	a := &Archive{Name: name, Entries: entries, Sources: sources, walk: walk, scratch: s, files: map[string]string{}}
	s.mutex.Lock()
	defer s.mutex.Unlock()
	s.made = append(s.made, a)
	return a
}

// Layer makes an archive of a layer, whose blob is fetched when it is needed.
func (s *Scratch) Layer(name string, entries []tree.Entry, blob func(ctx context.Context) (io.ReadCloser, error)) *Archive {
	a := s.Archive(name, entries, nil, func(ctx context.Context, visit func(string, io.Reader) error) error {
		return walkBlob(ctx, blob, func(e *tree.Entry, body io.Reader) error {
			if e.Kind != tree.File {
				return nil
			}
			return visit(e.Path, body)
		})
	})
	a.blob = blob
	return a
}

func walkBlob(ctx context.Context, blob func(ctx context.Context) (io.ReadCloser, error), visit func(e *tree.Entry, body io.Reader) error) error {
	body, err := blob(ctx)
	if err != nil {
		return err
	}
	defer body.Close()
	plain, err := layer.Decompress(digest.WithContext(ctx, body))
	if err != nil {
		return err
	}
	defer plain.Close()
	return layer.Walk(plain, visit)
}

// Offer tells of contents that have the archive's files under their own paths, and need no unpacking.
func (l *Archive) Offer(from tree.Contents) { l.elsewhere.CompareAndSwap(nil, &from) }

// Walk visits every file.
func (l *Archive) Walk(ctx context.Context, visit func(path string, body io.Reader) error) error {
	return l.walk(ctx, visit)
}

// Prepare unpacks files.
func (l *Archive) Prepare(ctx context.Context, paths []string) error {
	if l.elsewhere.Load() != nil {
		return nil
	}
	l.mutex.Lock()
	defer l.mutex.Unlock()
	wanted := map[string]bool{}
	for _, p := range paths {
		if l.files[p] == "" {
			wanted[p] = true
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	if l.folder == "" {
		folder, err := l.scratch.Folder()
		if err != nil {
			return err
		}
		l.folder = folder
	}
	contents := map[string]digest.Content{}
	for i := range l.Entries {
		contents[l.Entries[i].Path] = l.Entries[i].Content
	}
	err := l.walk(ctx, func(path string, body io.Reader) error {
		if !wanted[path] {
			return ctx.Err()
		}
		return l.unpack(path, contents[path], body)
	})
	if err != nil {
		return fmt.Errorf("%s: %w", l.Name, err)
	}
	return nil
}

func (l *Archive) unpack(p string, want digest.Content, body io.Reader) error {
	name := filepath.Join(l.folder, strconv.Itoa(len(l.files)))
	f, err := os.OpenFile(name, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("unpacking /%s: %w", p, err)
	}
	sum := digest.NewContent()
	_, err = io.Copy(io.MultiWriter(f, sum), body)
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	if err != nil {
		return fmt.Errorf("unpacking /%s: %w", p, err)
	}
	if digest.ContentOf(sum) == want {
		l.files[p] = name
	}
	// Another digest is an earlier entry of the same path, which a later one replaces.
	return nil
}

// Open returns an unpacked file.
func (l *Archive) Open(p string) (io.ReadCloser, error) {
	if elsewhere := l.elsewhere.Load(); elsewhere != nil {
		return (*elsewhere).Open(p)
	}
	l.mutex.Lock()
	name := l.files[p]
	l.mutex.Unlock()
	if name == "" {
		return nil, fmt.Errorf("%s has no file /%s with the contents that its index tells: %w", l.Name, p, digest.ErrMismatch)
	}
	return os.Open(name)
}

// feed returns the files of a layer in the order of its archive, and what is borrowed from below.
func (l *Archive) feed(ctx context.Context, entries []tree.Entry, borrowed map[string]*tree.Node) Feed {
	return func(put Put) error {
		at := map[string]int{}
		for i := range entries {
			if entries[i].Kind == tree.File {
				at[entries[i].Path] = i
			}
		}
		for p, n := range borrowed {
			i, wanted := at[p]
			if n.Kind != tree.File || !wanted {
				continue
			}
			if err := Prepare(ctx, n.From, n.At); err != nil {
				return err
			}
			if err := putFile(put, i, n.From, n.At); err != nil {
				return err
			}
			delete(at, p)
		}
		return walkBlob(ctx, l.blob, func(e *tree.Entry, body io.Reader) error {
			if i, wanted := at[e.Path]; wanted && e.Kind == tree.File {
				return put(i, e.Size, body)
			}
			return nil
		})
	}
}
