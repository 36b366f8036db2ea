package sandbox

import (
	"context"
	"crypto/md5"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
)

// How long something is waited for, and how often it is looked at.
const (
	waits = 30 * time.Second
	pause = 10 * time.Millisecond
)

// TestDoor: what is put through a door is seen by the command as one act, with its owner and mode; a link that the command makes on the way is
// not followed; ports of the command can be connected to.
func TestDoor(t *testing.T) {
	for name, o := range kinds() {
		t.Run(name, func(t *testing.T) {
			b := newBench(t, o)
			door, err := NewDoor(netip.Prefix{})
			require.NoError(t, err)
			_, err = door.Device(context.Background())
			require.Error(t, err, "it has none")
			type end struct {
				out string
				err error
			}
			ended := make(chan end, 1)
			line := `cd /tmp; b=/bin/busybox; $b mkdir real; $b ln -s /etc/motd target; $b ln -s real link
				while [ ! -e end ]; do $b sleep 0.01; done
				$b md5sum < file; $b stat -c '%a %u:%g' file folder; $b readlink put; $b cat target; $b cat /etc/motd; $b ls real; [ -e gone ] || echo gone`
			go func() {
				_, out, _, err := b.run(context.Background(), line, func(s *Spec) { s.Door = door })
				ended <- end{out, err}
			}()
			content := func(text string) *os.File {
				name := filepath.Join(t.TempDir(), "content")
				require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
				f, err := os.Open(name)
				require.NoError(t, err)
				t.Cleanup(func() { f.Close() })
				return f
			}
			require.NoError(t, door.Put(tree.Entry{Path: "tmp/gone", Kind: tree.File, Mode: 0o644}, content("x")), "the command may begin later")
			require.Eventually(t, func() bool {
				return door.Put(tree.Entry{Path: "tmp/real/x", Kind: tree.File, Mode: 0o644}, content("x")) == nil
			}, waits, pause)
			require.Eventually(t, func() bool {
				return strings.Contains(errorOf(door.Put(tree.Entry{Path: "tmp/link/y", Kind: tree.File, Mode: 0o644}, content("y"))), "symbolic links")
			}, waits, pause)
			large := strings.Repeat("tide", 1<<20)
			require.NoError(t, door.Put(tree.Entry{Path: "tmp/file", Kind: tree.File, Mode: 0o644}, content("first")))
			require.NoError(t, door.Put(tree.Entry{Path: "tmp/file", Kind: tree.File, Mode: 0o4751}, content(large)))
			require.NoError(t, door.Put(tree.Entry{Path: "tmp/folder", Kind: tree.Folder, Mode: 0o750}, nil))
			require.NoError(t, door.Put(tree.Entry{Path: "tmp/put", Kind: tree.Symlink, Target: "file"}, nil))
			require.Eventually(t, func() bool {
				return door.Put(tree.Entry{Path: "tmp/target", Kind: tree.File, Mode: 0o644}, content("its own")) == nil
			}, waits, pause)
			require.NoError(t, door.Remove("tmp/gone"))
			require.NoError(t, door.Remove("tmp/nothing/there"))
			for _, wrong := range []tree.Entry{{Path: "../x", Kind: tree.File}, {Path: "", Kind: tree.Folder}, {Path: "tmp/none/x", Kind: tree.File}, {Path: "tmp/pipe", Kind: tree.Fifo}, {Path: "tmp/folder/..", Kind: tree.File}} {
				require.Error(t, door.Put(wrong, content("x")), wrong.Path)
			}
			require.Error(t, door.Put(tree.Entry{Path: "tmp/none", Kind: tree.File}, nil), "a file without bytes")
			_, err = door.Dial(1)
			require.ErrorContains(t, err, "refused")
			require.NoError(t, door.Put(tree.Entry{Path: "tmp/end", Kind: tree.File, Mode: 0o644}, content("")))
			e := <-ended
			require.NoError(t, e.err)
			require.Equal(t, fmt.Sprintf("%x  -\n4751 0:0\n750 0:0\nfile\nits owntidesx\ngone\n", md5.Sum([]byte(large))), e.out)
			door.Close()
			require.Error(t, door.Remove("tmp/x"))
		})
	}
}

// TestDoorOfNetwork: packets of the command come out of the door, and nothing else is reached; a chroot can have none.
func TestDoorOfNetwork(t *testing.T) {
	if tun, err := os.OpenFile(tunnels, os.O_RDWR, 0); err == nil {
		tun.Close()
	} else if os.Getenv("CI") == "" {
		t.Skip("there is no /dev/net/tun for this user")
	}
	b := newBench(t, Options{})
	door, err := NewDoor(netip.MustParsePrefix("10.77.0.9/24"))
	require.NoError(t, err)
	defer door.Close()
	ended := make(chan string, 1)
	go func() {
		_, out, _, err := b.run(context.Background(), "b=/bin/busybox; $b nc -w 1 10.77.0.8 99 < /dev/null; $b nc -w 1 192.0.2.1 99 < /dev/null; $b nc -l -p 7070", func(s *Spec) { s.Door = door })
		ended <- out + errorOf(err)
	}()
	device, err := door.Device(context.Background())
	require.NoError(t, err)
	defer device.Close()
	packet := make([]byte, 1<<16)
	for {
		n, err := device.Read(packet)
		require.NoError(t, err)
		if packet[0]>>4 != 4 {
			continue
		}
		require.Equal(t, []byte{10, 77, 0, 9, 10, 77, 0, 8}, packet[12:20])
		require.Greater(t, n, 40)
		require.EqualValues(t, []byte{6, 0, 99}, []byte{packet[9], packet[22], packet[23]}, "TCP, to that port")
		break
	}
	var conn io.ReadWriteCloser
	require.Eventually(t, func() bool {
		conn, err = door.Dial(7070)
		return err == nil
	}, waits, pause)
	_, err = conn.Write([]byte("from outside\n"))
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	out := <-ended
	require.Contains(t, out, "from outside")
	require.Contains(t, out, "nreachable")

	requireNoneInChroot(t, netip.MustParsePrefix("10.77.0.9/24"), 0)
}

// requireNoneInChroot: a chroot, which shares the machine's network, is refused what needs one of its own.
func requireNoneInChroot(t *testing.T, address netip.Prefix, port uint16) {
	if os.Geteuid() != 0 {
		return
	}
	door, err := NewDoor(address)
	require.NoError(t, err)
	door.Listen(port)
	defer door.Close()
	_, _, _, err = newBench(t, Options{Kind: Chroot}).run(context.Background(), "true", func(s *Spec) { s.Door = door })
	var unable *UnableError
	require.ErrorAs(t, err, &unable)
}

// TestDoorListens: what a command connects to on its loopback comes out of the door, from its very start, while its other ports and other
// ways stay shut; the door still answers.
func TestDoorListens(t *testing.T) {
	const port = 47113
	b := newBench(t, Options{})
	door, err := NewDoor(netip.Prefix{})
	require.NoError(t, err)
	door.Listen(port)
	defer door.Close()
	ended := make(chan string, 1)
	go func() {
		_, out, _, err := b.run(context.Background(), "b=/bin/busybox; echo asks | $b nc 127.0.0.1 47113; $b nc -w 1 192.0.2.1 47113 < /dev/null; cat /tmp/put", func(s *Spec) { s.Door = door })
		ended <- out + errorOf(err)
	}()
	listener, err := door.Listener(context.Background())
	require.NoError(t, err)
	defer listener.Close()
	conn, err := listener.Accept()
	require.NoError(t, err)
	asked := make([]byte, 5)
	_, err = io.ReadFull(conn, asked)
	require.NoError(t, err)
	name := filepath.Join(t.TempDir(), "content")
	require.NoError(t, os.WriteFile(name, []byte("and put"), 0o600))
	content, err := os.Open(name)
	require.NoError(t, err)
	defer content.Close()
	require.NoError(t, door.Put(tree.Entry{Path: "tmp/put", Kind: tree.File, Mode: 0o644}, content))
	_, err = conn.Write([]byte("answers\n"))
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	out := <-ended
	require.Contains(t, out, "answers")
	require.Contains(t, out, "nreachable")
	require.Contains(t, out, "and put")
	outside, err := net.DialTimeout("tcp", "127.0.0.1:47113", time.Second)
	if err == nil {
		outside.Close()
	}
	require.Error(t, err, "the machine's own loopback has no such port")
	requireNoneInChroot(t, netip.Prefix{}, port)
}

func errorOf(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}
