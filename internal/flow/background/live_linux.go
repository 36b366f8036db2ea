package background

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"sync"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
)

// A process in the background takes files in for its command: each message at the socket "live" of its folder is a change, with a
// descriptor where it is a file, and each is answered.

// change is a path that the command is to see otherwise.
type change struct {
	Put    *tree.Entry `json:",omitempty"`
	Remove string      `json:",omitempty"`
}

// near names the socket, however long the path of the folder is: the kernel takes about a hundred bytes.
func near(folder *os.File) *net.UnixAddr {
	return &net.UnixAddr{Net: "unixpacket", Name: fmt.Sprintf("/proc/self/fd/%d/live", folder.Fd())}
}

// Serve takes files in until the context ends.
func (b *Try) Serve(ctx context.Context, in Inside) error {
	folder, err := os.Open(b.dir)
	if err != nil {
		return err
	}
	defer folder.Close()
	if err := os.Remove(b.Path("live")); err != nil && !errors.Is(err, fs.ErrNotExist) { // of a process before
		return err
	}
	listener, err := net.ListenUnix("unixpacket", near(folder))
	if err != nil {
		return fmt.Errorf("taking files in: %w", err)
	}
	var all sync.WaitGroup
	defer all.Wait()
	stop := context.AfterFunc(ctx, func() { listener.Close() })
	defer stop()
	for {
		conn, err := listener.AcceptUnix()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		all.Go(func() {
			defer conn.Close()
			done := context.AfterFunc(ctx, func() { conn.Close() })
			defer done()
			for serve(conn, in) == nil {
			}
		})
	}
}

// serve does one change. The error is of a connection that is over.
func serve(conn *net.UnixConn, in Inside) error {
	text, rights := make([]byte, 16<<10), make([]byte, unix.CmsgSpace(4))
	n, rightsN, _, _, err := conn.ReadMsgUnix(text, rights)
	if err != nil || n == 0 {
		return errors.Join(err, net.ErrClosed)
	}
	content, err := fileIn(rights[:rightsN])
	if content != nil {
		defer content.Close()
	}
	var c change
	if err == nil {
		err = json.Unmarshal(text[:n], &c)
	}
	switch {
	case err != nil:
	case c.Put != nil:
		err = in.Put(*c.Put, content)
	default:
		err = in.Remove(c.Remove)
	}
	answer := []byte("done")
	if err != nil {
		answer = []byte(err.Error())
	}
	_, err = conn.Write(answer)
	return err
}

// fileIn takes the descriptor of a message; nil where it has none.
func fileIn(control []byte) (*os.File, error) {
	messages, err := unix.ParseSocketControlMessage(control)
	if err != nil || len(messages) == 0 {
		return nil, err
	}
	fds, err := unix.ParseUnixRights(&messages[0])
	if err != nil || len(fds) != 1 {
		return nil, errors.Join(err, unix.EINVAL)
	}
	unix.CloseOnExec(fds[0])
	return os.NewFile(uintptr(fds[0]), "given"), nil
}

// Live is a way into a command that runs in the background.
type Live struct{ conn *net.UnixConn }

// Enter opens a way in. The caller closes it.
func (b *Try) Enter() (*Live, error) {
	folder, err := os.Open(b.dir)
	if err != nil {
		return nil, err
	}
	defer folder.Close()
	conn, err := net.DialUnix("unixpacket", nil, near(folder))
	if err != nil {
		return nil, fmt.Errorf("%s takes no files in: %w", b.Name, err)
	}
	return &Live{conn}, nil
}

// Close closes the way.
func (l *Live) Close() { l.conn.Close() }

// Put puts a file (with its bytes), a folder or a link where the command sees it.
func (l *Live) Put(e tree.Entry, content *os.File) error {
	var rights []byte
	if content != nil {
		rights = unix.UnixRights(int(content.Fd()))
	}
	return l.ask(change{Put: &e}, rights)
}

// Remove removes a file, a link or an empty folder that the command sees.
func (l *Live) Remove(path string) error { return l.ask(change{Remove: path}, nil) }

func (l *Live) ask(c change, rights []byte) error {
	text, err := json.Marshal(c)
	if err != nil {
		return err
	}
	if _, _, err := l.conn.WriteMsgUnix(text, rights, nil); err != nil {
		return err
	}
	answer := make([]byte, 16<<10)
	n, err := l.conn.Read(answer)
	switch {
	case err != nil:
		return err
	case string(answer[:n]) != "done":
		return errors.New(string(answer[:n]))
	}
	return nil
}
