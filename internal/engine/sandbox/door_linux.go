package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/folder"
)

// Door is a way into a command's sandbox while it runs, for whoever started it: files are put there, and its ports are connected to. With an
// address the command has a network device whose packets come out here, in place of a network that is the machine's or a loopback alone;
// with a port, what it connects to there on its loopback comes out here. Where they go is not the sandbox's matter.
type Door struct {
	address netip.Prefix
	port    uint16
	there   *os.File
	begin   func()        // called when the sandbox begins, or will not
	device  chan *os.File // one, when the sandbox is built; closed when there will be none
	accepts chan *os.File // likewise

	mutex sync.Mutex // of requests
	conn  *net.UnixConn
}

// tunnels is the file that makes network devices.
const tunnels = "/dev/net/tun"

// deviceName is what the command's network device is called.
const deviceName = "tide0"

// largestPacket is what the device sends at once, in bytes: each is a system call or two, and no wire bounds it.
const largestPacket = 32 << 10

// NewDoor makes a door for one command: Spec.Door. The caller closes it when the command has ended. Without an address it has no device.
func NewDoor(address netip.Prefix) (*Door, error) {
	conn, there, err := socketPair(unix.SOCK_SEQPACKET)
	if err != nil {
		return nil, err
	}
	begun := make(chan struct{})
	d := &Door{address: address, there: there, begin: sync.OnceFunc(func() { close(begun) }), device: make(chan *os.File, 1), accepts: make(chan *os.File, 1), conn: conn}
	d.mutex.Lock() // these come before any answer
	if !address.IsValid() {
		close(d.device)
	}
	go func() {
		defer d.mutex.Unlock()
		<-begun
		if address.IsValid() {
			d.first(d.device)
		}
		if d.port != 0 {
			d.first(d.accepts)
		} else {
			close(d.accepts)
		}
	}()
	return d, nil
}

// Listen has the command find a port on its loopback, whose connections Listener accepts. It is called before the command runs.
func (d *Door) Listen(port uint16) { d.port = port }

// first receives one of the files that come by themselves.
func (d *Door) first(to chan *os.File) {
	defer close(to)
	if _, files, err := d.receive(); err == nil && len(files) == 1 {
		to <- files[0]
	}
}

// handOver closes the end that the sandbox has now.
func (d *Door) handOver() {
	d.there.Close()
	d.begin()
}

// Close closes it.
func (d *Door) Close() {
	d.there.Close()
	d.conn.Close()
	d.begin()
}

// Device returns the device when the sandbox has been built: each read and write is one packet of IP. The caller closes it. Where there
// will be none it returns net.ErrClosed.
func (d *Door) Device(ctx context.Context) (*os.File, error) { return wait(ctx, d.device) }

// Listener returns what accepts the command's connections when the sandbox has been built. The caller closes it. Where there will be none
// it returns net.ErrClosed.
func (d *Door) Listener(ctx context.Context) (net.Listener, error) {
	file, err := wait(ctx, d.accepts)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return net.FileListener(file)
}

func wait(ctx context.Context, for_ chan *os.File) (*os.File, error) {
	select {
	case file, is := <-for_:
		if !is {
			return nil, net.ErrClosed
		}
		return file, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// receive takes one message with the files that come with it.
func (d *Door) receive() (text []byte, files []*os.File, err error) {
	text, rights := make([]byte, 512), make([]byte, unix.CmsgSpace(4))
	n, rightsN, _, _, err := d.conn.ReadMsgUnix(text, rights)
	if err != nil {
		return nil, nil, err
	}
	if n == 0 {
		return nil, nil, net.ErrClosed
	}
	if rightsN > 0 {
		messages, err := unix.ParseSocketControlMessage(rights[:rightsN])
		if err != nil || len(messages) != 1 {
			return nil, nil, errors.Join(err, folder.ErrTruncated)
		}
		fds, err := unix.ParseUnixRights(&messages[0])
		if err != nil {
			return nil, nil, err
		}
		for _, fd := range fds {
			unix.CloseOnExec(fd)
			_ = unix.SetNonblock(fd, true) // so that closing ends a read
			files = append(files, os.NewFile(uintptr(fd), "given"))
		}
	}
	return text[:n], files, nil
}

// dialTime bounds how long a connection into a sandbox may take to be made.
const dialTime = 10 * time.Second

// entering is what the sandbox's first process is asked for through a door: one of its fields.
type entering struct {
	Port   uint16      `json:",omitempty"`
	Put    *tree.Entry `json:",omitempty"` // with the file's bytes as a descriptor
	Remove string      `json:",omitempty"`
}

// ask asks for something, and returns the file that comes back, if any.
func (d *Door) ask(e entering, with *os.File) (*os.File, error) {
	text, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	var rights []byte
	if with != nil {
		rights = unix.UnixRights(int(with.Fd()))
	}
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if err := d.conn.SetDeadline(time.Now().Add(2 * dialTime)); err != nil {
		return nil, err
	}
	if _, _, err := d.conn.WriteMsgUnix(text, rights, nil); err != nil {
		return nil, err
	}
	text, files, err := d.receive()
	switch {
	case err != nil:
		return nil, err
	case len(files) == 1:
		return files[0], nil
	case string(text) == "done":
		return nil, nil
	}
	return nil, errors.New(string(text))
}

// Dial connects to a TCP port of the command, from inside its sandbox.
func (d *Door) Dial(port uint16) (net.Conn, error) {
	file, err := d.ask(entering{Port: port}, nil)
	if err != nil {
		return nil, err
	}
	if file == nil {
		return nil, net.ErrClosed
	}
	defer file.Close()
	return net.FileConn(file)
}

// Put puts a file (its bytes are those of content), a folder or a link where the command sees it, in place of what is there; a file and a
// link come as one act.
func (d *Door) Put(e tree.Entry, content *os.File) error {
	_, err := d.ask(entering{Put: &e}, content)
	return err
}

// Remove removes a file, a link or an empty folder that the command sees. What is not there is removed.
func (d *Door) Remove(path string) error {
	_, err := d.ask(entering{Remove: path}, nil)
	return err
}

// device makes the device of a network that is new, and gives it to the door's other end.
func device(at netip.Prefix) error {
	if !at.IsValid() {
		return nil
	}
	return refused("tun", "making a network device", plug(at))
}

func plug(at netip.Prefix) error {
	device, err := unix.Open(tunnels, unix.O_RDWR|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("opening %s: %w", tunnels, err)
	}
	defer unix.Close(device) // whoever it is given to has it
	request, err := unix.NewIfreq(deviceName)
	if err != nil {
		return err
	}
	request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(device, unix.TUNSETIFF, request); err != nil {
		return err
	}
	control, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(control)
	mask := net.CIDRMask(at.Bits(), 32)
	for _, set := range []struct {
		call uint
		to   func(r *unix.Ifreq) error
	}{
		{unix.SIOCSIFADDR, func(r *unix.Ifreq) error { return r.SetInet4Addr(at.Addr().AsSlice()) }},
		{unix.SIOCSIFNETMASK, func(r *unix.Ifreq) error { return r.SetInet4Addr(mask) }},
		{unix.SIOCSIFMTU, func(r *unix.Ifreq) error { r.SetUint32(largestPacket); return nil }},
		{unix.SIOCSIFFLAGS, func(r *unix.Ifreq) error { r.SetUint16(unix.IFF_UP | unix.IFF_RUNNING); return nil }},
	} {
		request, err := unix.NewIfreq(deviceName)
		if err == nil {
			err = set.to(request)
		}
		if err == nil {
			err = unix.IoctlIfreq(control, set.call, request)
		}
		if err != nil {
			return err
		}
	}
	return unix.Sendmsg(fdDoor, []byte{'d'}, unix.UnixRights(device), nil, 0)
}

// listen listens where the command finds what the door's other end does for it, and gives the listener there.
func (o *initOrders) listen() error {
	if o.Spec.Port == 0 {
		return nil
	}
	listener, err := net.Listen("tcp4", net.JoinHostPort("127.0.0.1", strconv.Itoa(int(o.Spec.Port))))
	if err != nil {
		return err
	}
	defer listener.Close()
	return handOut('l', listener.(*net.TCPListener))
}

// handOut gives what a socket is to the door's other end.
func handOut(what byte, socket interface{ File() (*os.File, error) }) error {
	file, err := socket.File()
	if err != nil {
		return err
	}
	defer file.Close()
	return unix.Sendmsg(fdDoor, []byte{what}, unix.UnixRights(int(file.Fd())), nil, 0)
}

// admit does what is asked for at the door, until its other end is closed.
func (o *initOrders) admit() {
	text, rights := make([]byte, 16<<10), make([]byte, unix.CmsgSpace(4))
	for {
		n, rightsN, _, _, err := unix.Recvmsg(fdDoor, text, rights, unix.MSG_CMSG_CLOEXEC)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return
		}
		var with *os.File
		if files, err := filesOf(rights[:rightsN]); err == nil && len(files) == 1 {
			with = files[0]
		}
		var e entering
		if err = json.Unmarshal(text[:n], &e); err == nil {
			err = o.enter(e, with)
		}
		if with != nil {
			with.Close()
		}
		if err != nil {
			_ = unix.Sendmsg(fdDoor, []byte(err.Error()), nil, nil, 0) // the other end may be gone
		}
	}
}

func (o *initOrders) enter(e entering, with *os.File) (err error) {
	switch {
	case e.Port != 0:
		return o.connect(int(e.Port))
	case e.Put != nil:
		err = putInside(e.Put, with)
	case e.Remove != "":
		err = removeInside(e.Remove)
	default:
		err = unix.EINVAL
	}
	if err == nil {
		err = unix.Sendmsg(fdDoor, []byte("done"), nil, nil, 0)
	}
	return err
}

// parentInside opens the folder of a path of the sandbox. The command may have put a link on the way, which is not followed: this process
// may do more than the command.
func parentInside(path string) (fd int, name string, err error) {
	if path, err = tree.CleanPath(path); err != nil || path == "" {
		return -1, "", errors.Join(err, unix.EINVAL)
	}
	fd, err = unix.Openat2(unix.AT_FDCWD, "/"+tree.Parent(path), &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_XDEV})
	return fd, path[strings.LastIndexByte(path, '/')+1:], err
}

// putInside lays an entry down. Its name is another one until it is complete.
func putInside(e *tree.Entry, with *os.File) error {
	folder, name, err := parentInside(e.Path)
	if err != nil {
		return fmt.Errorf("/%s: its folder: %w", e.Path, err)
	}
	defer unix.Close(folder)
	passing := fmt.Sprintf(".imbricat-%d", time.Now().UnixNano())
	switch {
	case e.Kind == tree.Folder:
		return folderInside(folder, name, e)
	case e.Kind == tree.Symlink:
		if err = unix.Symlinkat(e.Target, folder, passing); err == nil {
			err = unix.Fchownat(folder, passing, e.UID, e.GID, unix.AT_SYMLINK_NOFOLLOW)
		}
	case e.Kind == tree.File && with != nil:
		err = fill(folder, passing, e, with)
	default:
		return unix.EINVAL
	}
	if err == nil {
		err = unix.Renameat(folder, passing, folder, name)
	}
	if err != nil {
		_ = unix.Unlinkat(folder, passing, 0)
		return fmt.Errorf("/%s: %w", e.Path, err)
	}
	return nil
}

// folderInside makes a folder, or gives one that is there its owner and mode.
func folderInside(in int, name string, e *tree.Entry) error {
	if err := unix.Mkdirat(in, name, 0o700); err != nil && !errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("/%s: %w", e.Path, err)
	}
	fd, err := unix.Openat(in, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err == nil {
		err = errors.Join(unix.Fchown(fd, e.UID, e.GID), unix.Fchmod(fd, e.Mode), unix.Close(fd))
	}
	if err != nil {
		return fmt.Errorf("/%s: %w", e.Path, err)
	}
	return nil
}

// fill makes a file of the bytes of another one.
func fill(folder int, name string, e *tree.Entry, from *os.File) error {
	fd, err := unix.Openat(folder, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return err
	}
	to := os.NewFile(uintptr(fd), name)
	_, err = io.Copy(to, struct{ io.Reader }{from})
	if err == nil { // the owner first: changing it takes bits of the mode away
		err = errors.Join(unix.Fchown(fd, e.UID, e.GID), unix.Fchmod(fd, e.Mode))
	}
	return errors.Join(err, to.Close())
}

// removeInside removes a file, a link or an empty folder.
func removeInside(path string) error {
	folder, name, err := parentInside(path)
	if errors.Is(err, unix.ENOENT) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("/%s: its folder: %w", path, err)
	}
	defer unix.Close(folder)
	if err = unix.Unlinkat(folder, name, 0); errors.Is(err, unix.EISDIR) {
		err = unix.Unlinkat(folder, name, unix.AT_REMOVEDIR)
	}
	if err != nil && !errors.Is(err, unix.ENOENT) {
		return fmt.Errorf("/%s: %w", path, err)
	}
	return nil
}

// connect makes a connection and gives it away. What listens at the command's own address alone is found too.
func (o *initOrders) connect(port int) error {
	d := net.Dialer{Timeout: dialTime / 2}
	conn, err := d.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil && o.Spec.Joined.IsValid() {
		conn, err = d.Dial("tcp", net.JoinHostPort(o.Spec.Joined.Addr().String(), strconv.Itoa(port)))
	}
	if err != nil {
		return err
	}
	defer conn.Close()
	return handOut('c', conn.(*net.TCPConn))
}
