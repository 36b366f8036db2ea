package folder

import (
	"bufio"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Small files are gathered into batches, each of which one goroutine writes; larger ones are written as they come.
const (
	batchSize  = 256 << 10
	batchFiles = 128
)

// writer makes the files of a tree, on all cores.
type writer struct {
	Laying
	root    int // of the tree
	entries []tree.Entry
	came    []bool // files that were in the stream
	good    []bool // those whose contents are what their entries tell

	batches chan *batch
	free    chan *batch
	pending sync.WaitGroup // batches that are not written yet

	mutex sync.Mutex
	err   error // of a batch
}

// batch is some files with their contents.
type batch struct {
	bytes []byte
	files []batched
}

type batched struct{ index, begin, end int }

// files writes the files as they come. Of one that comes more than once, as in archives, the last stays; all must have
// the contents that their entries tell.
func (l Laying) files(entries []tree.Entry, r *bufio.Reader) error {
	root, err := unix.Open(l.Dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("laying down %s: %w", l.Dir, err)
	}
	defer unix.Close(root)
	cores := runtime.GOMAXPROCS(0)
	w := &writer{Laying: l, root: root, entries: entries, came: make([]bool, len(entries)), good: make([]bool, len(entries)),
		batches: make(chan *batch), free: make(chan *batch, 2*cores)}
	for range cap(w.free) {
		w.free <- &batch{}
	}
	var workers sync.WaitGroup
	for range cores {
		workers.Go(w.work)
	}
	err = w.read(r)
	close(w.batches)
	workers.Wait()
	if err = errors.Join(err, w.err); err != nil {
		return err
	}
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File && !w.good[i] {
			return fmt.Errorf("laying down /%s: %w", e.Path, digest.ErrMismatch)
		}
	}
	return nil
}

// read takes the stream apart until its end.
func (w *writer) read(r *bufio.Reader) error {
	one := <-w.free
	buffer, sum := make([]byte, batchSize), digest.NewContent()
	flush := func() {
		if len(one.files) > 0 {
			w.pending.Add(1)
			w.batches <- one
			one = <-w.free
			one.bytes, one.files = one.bytes[:0], one.files[:0]
		}
	}
	for !w.failed() {
		i, err := ReadNumber(r)
		if err == nil && i == EndOfFiles {
			flush()
			return nil
		}
		size, sizeErr := ReadNumber(r)
		if err = errors.Join(err, sizeErr); err != nil {
			return fmt.Errorf("laying down %s: %w", w.Dir, err)
		}
		if i >= uint64(len(w.entries)) || w.entries[i].Kind != tree.File {
			return fmt.Errorf("laying down %s: entry %d is not a file", w.Dir, i)
		}
		e := &w.entries[i]
		if w.came[i] {
			flush()
			w.pending.Wait() // the last one counts
			// It may be a file that its owner must not write to.
			if err := unix.Unlinkat(w.root, e.Path, 0); err != nil && !errors.Is(err, unix.ENOENT) {
				return fmt.Errorf("laying down /%s: %w", e.Path, err)
			}
		}
		w.came[i] = true
		if _, there := w.there[e.Path]; there {
			_, err = io.CopyN(io.Discard, r, int64(size))
			w.good[i] = true
		} else if size > batchSize {
			err = w.stream(int(i), io.LimitReader(r, int64(size)), sum, buffer)
		} else {
			if len(one.bytes)+int(size) > batchSize || len(one.files) == batchFiles {
				flush()
			}
			begin := len(one.bytes)
			one.bytes = slices.Grow(one.bytes, int(size))[:begin+int(size)]
			one.files = append(one.files, batched{int(i), begin, len(one.bytes)})
			_, err = io.ReadFull(r, one.bytes[begin:])
		}
		if err != nil {
			return fmt.Errorf("laying down /%s: %w", e.Path, err)
		}
	}
	return nil
}

// work writes batches until there are no more.
func (w *writer) work() {
	sum := digest.NewContent()
	for one := range w.batches {
		for _, file := range one.files {
			if err := w.write(file.index, one.bytes[file.begin:file.end], sum); err != nil {
				w.fail(fmt.Errorf("laying down /%s: %w", w.entries[file.index].Path, err))
				break
			}
		}
		w.free <- one
		w.pending.Done()
	}
}

func (w *writer) fail(err error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if w.err == nil {
		w.err = err
	}
}

func (w *writer) failed() bool {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	return w.err != nil
}

// open makes a file, or empties the one that is there.
func (w *writer) open(i int) (int, error) {
	return unix.Openat(w.root, w.entries[i].Path, unix.O_CREAT|unix.O_TRUNC|unix.O_WRONLY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
}

// write makes a small file.
func (w *writer) write(i int, content []byte, sum hash.Hash) error {
	fd, err := w.open(i)
	if err != nil {
		return err
	}
	for rest := content; len(rest) > 0 && err == nil; {
		var n int
		if n, err = unix.Write(fd, rest); errors.Is(err, unix.EINTR) {
			n, err = max(n, 0), nil
		}
		rest = rest[max(n, 0):]
	}
	if err == nil {
		err = w.dress(openFile(fd), &w.entries[i])
	}
	if closeErr := unix.Close(fd); err == nil {
		err = closeErr
	}
	sum.Reset()
	sum.Write(content)
	w.good[i] = digest.ContentOf(sum) == w.entries[i].Content
	return err
}

// stream makes a large file.
func (w *writer) stream(i int, from io.Reader, sum hash.Hash, buffer []byte) error {
	fd, err := w.open(i)
	if err != nil {
		return err
	}
	f := os.NewFile(uintptr(fd), w.entries[i].Path)
	sum.Reset()
	_, err = io.CopyBuffer(struct{ io.Writer }{io.MultiWriter(f, sum)}, struct{ io.Reader }{from}, buffer)
	if err == nil {
		err = w.dress(openFile(fd), &w.entries[i])
	}
	if closeErr := f.Close(); err == nil {
		err = closeErr
	}
	w.good[i] = digest.ContentOf(sum) == w.entries[i].Content
	return err
}
