package sandbox

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strconv"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/folder"
)

// Wire is a network device of a command whose packets go to whoever made it, in place of a network that is the machine's or a loopback
// alone. The command has the wire's address; where packets go is not the sandbox's matter.
type Wire struct {
	address netip.Prefix
	there   *os.File
	device  chan *os.File // one, when the sandbox is built; closed when there will be none

	mutex sync.Mutex // of requests
	conn  *net.UnixConn
}

// tunnels is the file that makes network devices.
const tunnels = "/dev/net/tun"

// deviceName is what the command's network device is called.
const deviceName = "tide0"

// largestPacket is what the device sends at once, in bytes: each is a system call or two, and no wire bounds it.
const largestPacket = 32 << 10

// NewWire makes a wire for one command: Spec.Wire. The caller closes it when the command has ended.
func NewWire(address netip.Prefix) (*Wire, error) {
	conn, there, err := socketPair(unix.SOCK_SEQPACKET)
	if err != nil {
		return nil, err
	}
	w := &Wire{address: address, there: there, device: make(chan *os.File, 1), conn: conn}
	w.mutex.Lock() // the device comes before any answer
	go func() {
		defer w.mutex.Unlock()
		defer close(w.device)
		if _, files, err := w.receive(); err == nil && len(files) == 1 {
			w.device <- files[0]
		}
	}()
	return w, nil
}

// handOver closes the end that the sandbox has now.
func (w *Wire) handOver() { w.there.Close() }

// Close ends the wire.
func (w *Wire) Close() {
	w.there.Close()
	w.conn.Close()
}

// Device returns the device when the sandbox has been built: each read and write is one packet of IP. The caller closes it. Where there
// will be none it returns net.ErrClosed.
func (w *Wire) Device(ctx context.Context) (*os.File, error) {
	select {
	case device, is := <-w.device:
		if !is {
			return nil, net.ErrClosed
		}
		return device, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// receive takes one message with the files that come with it.
func (w *Wire) receive() (text []byte, files []*os.File, err error) {
	text, rights := make([]byte, 512), make([]byte, unix.CmsgSpace(4))
	n, rightsN, _, _, err := w.conn.ReadMsgUnix(text, rights)
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

// Dial connects to a TCP port of the command, from inside its sandbox.
func (w *Wire) Dial(port uint16) (net.Conn, error) {
	w.mutex.Lock()
	defer w.mutex.Unlock()
	if err := w.conn.SetDeadline(time.Now().Add(2 * dialTime)); err != nil {
		return nil, err
	}
	if _, err := w.conn.Write(binary.BigEndian.AppendUint16(nil, port)); err != nil {
		return nil, err
	}
	text, files, err := w.receive()
	if err != nil {
		return nil, err
	}
	if len(files) != 1 {
		return nil, errors.New(string(text))
	}
	defer files[0].Close()
	return net.FileConn(files[0])
}

// wire makes the device of a network that is new, and gives it to the wire's other end.
func wire(at netip.Prefix) error {
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
	return unix.Sendmsg(fdWire, []byte{'d'}, unix.UnixRights(device), nil, 0)
}

// dialOut connects to ports of the command for the wire's other end, until that is closed.
func (o *initOrders) dialOut() {
	for {
		asked := make([]byte, 2)
		n, _, err := unix.Recvfrom(fdWire, asked, 0)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n != len(asked) {
			return
		}
		if err := o.connect(int(binary.BigEndian.Uint16(asked))); err != nil {
			_ = unix.Sendmsg(fdWire, []byte("e: "+err.Error()), nil, nil, 0) // the other end may be gone
		}
	}
}

// connect makes a connection and gives it away. What listens at the wire's own address alone is found too.
func (o *initOrders) connect(port int) error {
	d := net.Dialer{Timeout: dialTime / 2}
	conn, err := d.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		conn, err = d.Dial("tcp", net.JoinHostPort(o.Spec.Joined.Addr().String(), strconv.Itoa(port)))
	}
	if err != nil {
		return err
	}
	defer conn.Close()
	file, err := conn.(*net.TCPConn).File()
	if err != nil {
		return err
	}
	defer file.Close()
	return unix.Sendmsg(fdWire, []byte{'c'}, unix.UnixRights(int(file.Fd())), nil, 0)
}
