package sandbox

import (
	"bufio"
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/folder"
	"imbricat/internal/ground/digest"
)

// worker does the work on folders that may belong to ids which only a user namespace may act as.
type worker interface {
	lay(l folder.Laying, in io.Reader) error
	note(r folder.Reading, to string) error
	touched(r folder.Reading, paths []string) ([]folder.Found, error)
	read(r folder.Reading) ([]folder.Found, error)
	mend(r folder.Reading, m folder.Mending) error
	remove(dir string) error
	rename(from, to string) error
	exchange(dir, place string) error
	open(name string) (*os.File, error)
	close() error
}

// local works in this process, which is root.
type local struct{}

func (local) lay(l folder.Laying, in io.Reader) error { return l.Lay(in) }
func (local) note(r folder.Reading, to string) error  { return r.Note(to) }
func (local) touched(r folder.Reading, paths []string) ([]folder.Found, error) {
	return r.Touched(paths)
}
func (local) read(r folder.Reading) ([]folder.Found, error) { return r.Read() }
func (local) mend(r folder.Reading, m folder.Mending) error { return r.Mend(m) }
func (local) remove(dir string) error                       { return removeAll(dir) }
func (local) rename(from, to string) error                  { return os.Rename(from, to) }
func (local) exchange(dir, place string) error              { return exchange(dir, place) }
func (local) open(name string) (*os.File, error)            { return openFile(name) }
func (local) close() error                                  { return nil }

func openFile(name string) (*os.File, error) {
	return os.OpenFile(name, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
}

func exchange(dir, place string) error {
	err := unix.Renameat2(unix.AT_FDCWD, dir, unix.AT_FDCWD, place, unix.RENAME_EXCHANGE)
	switch {
	case errors.Is(err, unix.ENOENT):
		return os.Rename(dir, place)
	case errors.Is(err, unix.EINVAL): // a file system that cannot
		before := dir + ".before"
		if err := os.Rename(place, before); err != nil {
			return err
		}
		if err := os.Rename(dir, place); err != nil {
			return errors.Join(err, os.Rename(before, place))
		}
		return nil
	case err != nil:
		return fmt.Errorf("exchanging %s: %w", place, err)
	}
	return nil
}

// removeAll removes a folder of which some folders may be closed even to their owner.
func removeAll(dir string) error {
	if err := os.RemoveAll(dir); err == nil || os.Geteuid() == 0 {
		return err
	}
	_ = filepath.WalkDir(dir, func(path string, d fs.DirEntry, _ error) error {
		if d != nil && d.IsDir() {
			_ = os.Chmod(path, 0o700)
		}
		return nil
	})
	return os.RemoveAll(dir)
}

// helper works in a process of its own inside a user namespace. Calls and what streams in go to it one after the other over
// a socket, and answers come back there; files that it opens come over another.
type helper struct {
	mutex sync.Mutex
	calls *net.UnixConn
	in    *gob.Decoder
	out   *gob.Encoder

	filesMutex sync.Mutex
	files      *net.UnixConn
	child      *child
}

// call is what is asked of a helper; Op says which of the others counts.
type call struct {
	Op      string // lay, note, touched, read, mend, remove, rename, exchange
	Laying  folder.Laying
	Reading folder.Reading
	Name    string
	To      string
	Mending folder.Mending
	Paths   []string
}

// answer is what a helper says. Found comes in parts, the last of which is marked.
type answer struct {
	Err   string
	Errno int
	Other bool // the error is about contents that are not what they are to be
	Found []folder.Found
	Last  bool
}

func (a answer) err() error {
	switch {
	case a.Other:
		return fmt.Errorf("%s: %w", strings.TrimSuffix(a.Err, ": "+digest.ErrMismatch.Error()), digest.ErrMismatch)
	case a.Errno != 0:
		return fmt.Errorf("%s: %w", a.Err, unix.Errno(a.Errno))
	case a.Err != "":
		return errors.New(a.Err)
	}
	return nil
}

// startHelper starts the helper in a namespace with the given ids.
func startHelper(ctx context.Context, ids idMap) (*helper, error) {
	callsHere, callsThere, err := socketPair(unix.SOCK_STREAM)
	if err != nil {
		return nil, err
	}
	defer callsThere.Close()
	filesHere, filesThere, err := socketPair(unix.SOCK_SEQPACKET)
	if err != nil {
		callsHere.Close()
		return nil, err
	}
	defer filesThere.Close()
	c, err := startChild(ctx, childOptions{role: roleHelper, ids: ids, files: []*os.File{callsThere, filesThere}})
	if err != nil {
		callsHere.Close()
		filesHere.Close()
		return nil, err
	}
	h := &helper{calls: callsHere, files: filesHere, child: c}
	h.in, h.out = gob.NewDecoder(bufio.NewReader(h.calls)), gob.NewEncoder(h.calls)
	return h, nil
}

// socketPair returns our end and the one that a child inherits.
func socketPair(kind int) (*net.UnixConn, *os.File, error) {
	pair, err := unix.Socketpair(unix.AF_UNIX, kind|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	here, there := os.NewFile(uintptr(pair[0]), "helper"), os.NewFile(uintptr(pair[1]), "helper")
	defer here.Close()
	conn, err := net.FileConn(here)
	if err != nil {
		there.Close()
		return nil, nil, err
	}
	return conn.(*net.UnixConn), there, nil
}

func (h *helper) close() error {
	err := errors.Join(h.calls.Close(), h.files.Close())
	h.child.wait()
	return err
}

// ask sends a call and, where there is one, what streams in after it; the answer's parts are gathered.
func (h *helper) ask(c call, in io.Reader) ([]folder.Found, error) {
	h.mutex.Lock()
	defer h.mutex.Unlock()
	if err := h.out.Encode(c); err != nil {
		return nil, fmt.Errorf("asking the helper: %w", err)
	}
	sent := make(chan error, 1)
	if in == nil {
		sent <- nil
	} else {
		go func() { sent <- h.stream(in) }()
	}
	var all []folder.Found
	var result error
	for {
		var a answer
		if err := h.in.Decode(&a); err != nil {
			return nil, fmt.Errorf("hearing the helper: %w", err)
		}
		all = append(all, a.Found...)
		if result = a.err(); a.Last {
			break
		}
	}
	if err := <-sent; err != nil {
		return nil, err
	}
	return all, result
}

// stream sends bytes in pieces; an empty one ends them. A reader that fails ends them early, which the helper notices.
func (h *helper) stream(in io.Reader) error {
	buffer := make([]byte, 256<<10)
	for {
		n, err := in.Read(buffer)
		if n > 0 {
			if sendErr := h.out.Encode(buffer[:n]); sendErr != nil {
				return sendErr
			}
		}
		if err != nil {
			if sendErr := h.out.Encode([]byte{}); sendErr != nil {
				return sendErr
			}
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
	}
}

func (h *helper) lay(l folder.Laying, in io.Reader) error {
	_, err := h.ask(call{Op: "lay", Laying: l}, in)
	return err
}

func (h *helper) note(r folder.Reading, to string) error {
	_, err := h.ask(call{Op: "note", Reading: r, Name: to}, nil)
	return err
}

func (h *helper) touched(r folder.Reading, paths []string) ([]folder.Found, error) {
	return h.ask(call{Op: "touched", Reading: r, Paths: paths}, nil)
}

func (h *helper) read(r folder.Reading) ([]folder.Found, error) {
	return h.ask(call{Op: "read", Reading: r}, nil)
}

func (h *helper) mend(r folder.Reading, m folder.Mending) error {
	_, err := h.ask(call{Op: "mend", Reading: r, Mending: m}, nil)
	return err
}

func (h *helper) remove(dir string) error {
	_, err := h.ask(call{Op: "remove", Name: dir}, nil)
	return err
}

// rename moves a folder. It may belong to an id of the namespace, which alone may move it.
func (h *helper) rename(from, to string) error {
	_, err := h.ask(call{Op: "rename", Name: from, To: to}, nil)
	return err
}

func (h *helper) exchange(dir, place string) error {
	_, err := h.ask(call{Op: "exchange", Name: dir, To: place}, nil)
	return err
}

// open has the helper open a file and takes it over.
func (h *helper) open(name string) (*os.File, error) {
	h.filesMutex.Lock()
	defer h.filesMutex.Unlock()
	if _, err := h.files.Write([]byte(name)); err != nil {
		return nil, fmt.Errorf("asking the helper: %w", err)
	}
	text, rights := make([]byte, 512), make([]byte, unix.CmsgSpace(4))
	n, rightsN, _, _, err := h.files.ReadMsgUnix(text, rights)
	if err != nil {
		return nil, fmt.Errorf("hearing the helper: %w", err)
	}
	if rightsN == 0 {
		return nil, fmt.Errorf("opening %s: %s", name, text[:n])
	}
	messages, err := unix.ParseSocketControlMessage(rights[:rightsN])
	if err != nil || len(messages) != 1 {
		return nil, fmt.Errorf("hearing the helper: %w", errors.Join(err, folder.ErrTruncated))
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 1 {
		return nil, fmt.Errorf("hearing the helper: %w", errors.Join(err, folder.ErrTruncated))
	}
	unix.CloseOnExec(fds[0])
	return os.NewFile(uintptr(fds[0]), name), nil
}

// serveFiles opens files for the caller until it hangs up.
func serveFiles(conn int) {
	name := make([]byte, 8192)
	for {
		n, err := unix.Read(conn, name)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return
		}
		f, err := openFile(string(name[:n]))
		if err != nil {
			text := err.Error()
			err = unix.Sendmsg(conn, []byte(text[:min(len(text), 500)]), nil, nil, 0)
		} else {
			err = unix.Sendmsg(conn, []byte{'.'}, unix.UnixRights(int(f.Fd())), nil, 0)
			f.Close()
		}
		if err != nil {
			return
		}
	}
}

// serve is the helper's own side.
func serve(conn io.ReadWriter) error {
	in, out := gob.NewDecoder(bufio.NewReader(conn)), gob.NewEncoder(conn)
	for {
		var c call
		if err := in.Decode(&c); err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		found, err := serveOne(c, &pieces{in: in})
		for len(found) > 1000 {
			if err := out.Encode(answer{Found: found[:1000]}); err != nil {
				return err
			}
			found = found[1000:]
		}
		last := answer{Found: found, Last: true}
		if err != nil {
			last.Err, last.Other = err.Error(), errors.Is(err, digest.ErrMismatch)
			var number unix.Errno
			if errors.As(err, &number) {
				last.Errno = int(number)
			}
		}
		if err := out.Encode(last); err != nil {
			return err
		}
	}
}

func serveOne(c call, in *pieces) ([]folder.Found, error) {
	switch c.Op {
	case "lay":
		err := c.Laying.Lay(in)
		// What is left of the stream must not be taken for a call.
		if _, restErr := io.Copy(io.Discard, in); err == nil {
			err = restErr
		}
		return nil, err
	case "note":
		return nil, c.Reading.Note(c.Name)
	case "touched":
		return c.Reading.Touched(c.Paths)
	case "read":
		return c.Reading.Read()
	case "mend":
		return nil, c.Reading.Mend(c.Mending)
	case "remove":
		return nil, removeAll(c.Name)
	case "exchange":
		return nil, exchange(c.Name, c.To)
	case "rename":
		return nil, os.Rename(c.Name, c.To)
	}
	return nil, fmt.Errorf("the helper knows no %q", c.Op)
}

// pieces reads what stream sent.
type pieces struct {
	in   *gob.Decoder
	rest []byte
	end  bool
}

func (p *pieces) Read(b []byte) (int, error) {
	for len(p.rest) == 0 {
		if p.end {
			return 0, io.EOF
		}
		var piece []byte
		if err := p.in.Decode(&piece); err != nil {
			return 0, err
		}
		p.rest, p.end = piece, len(piece) == 0
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}
