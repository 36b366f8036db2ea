package network

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/net/dns/dnsmessage"
)

// join makes a member, whose packets go to and come from the connection that it returns.
func join(t *testing.T, dir, name string) (*Member, net.Conn) {
	m, err := Join(context.Background(), dir, name)
	require.NoError(t, err)
	device, ours := packetPipe(t)
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- m.Carry(ctx, device) }()
	t.Cleanup(func() {
		cancel()
		require.NoError(t, <-done)
		m.Leave()
	})
	return m, ours
}

// packetPipe is a pipe that keeps packets apart.
func packetPipe(t *testing.T) (a, b net.Conn) {
	dir := t.TempDir()
	var ends [2]*net.UnixConn
	for i := range ends {
		own, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Net: "unixgram", Name: filepath.Join(dir, string(rune('a'+i)))})
		require.NoError(t, err)
		ends[i] = own
	}
	return &toward{ends[0], ends[1].LocalAddr()}, &toward{ends[1], ends[0].LocalAddr()}
}

type toward struct {
	*net.UnixConn
	to net.Addr
}

func (c *toward) Write(p []byte) (int, error) { return c.WriteTo(p, c.to) }

func packet(from, to netip.Addr, protocol byte, body string) []byte {
	p := make([]byte, ipHeader, ipHeader+len(body))
	p[0], p[8], p[9] = 0x45, 64, protocol
	a, b := from.As4(), to.As4()
	copy(p[12:], a[:])
	copy(p[16:], b[:])
	binary.BigEndian.PutUint16(p[2:], uint16(ipHeader+len(body)))
	return append(p, body...)
}

func next(t *testing.T, c net.Conn) []byte {
	buffer := make([]byte, mostPacket)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
	n, err := c.Read(buffer)
	require.NoError(t, err)
	return buffer[:n]
}

// question asks for a name, as a packet.
func question(t testing.TB, from netip.Addr, name string, kind dnsmessage.Type) []byte {
	text, err := (&dnsmessage.Message{Header: dnsmessage.Header{ID: 77, RecursionDesired: true},
		Questions: []dnsmessage.Question{{Name: dnsmessage.MustNewName(name), Type: kind, Class: dnsmessage.ClassINET}}}).Pack()
	require.NoError(t, err)
	udp := make([]byte, udpHeader)
	binary.BigEndian.PutUint16(udp, 4242)
	binary.BigEndian.PutUint16(udp[2:], 53)
	binary.BigEndian.PutUint16(udp[4:], uint16(udpHeader+len(text)))
	return packet(from, namer, 17, string(udp)+string(text))
}

// TestPackets: each gets what is for it, from whom it says, and nobody speaks in the name of another.
func TestPackets(t *testing.T) {
	dir := filepath.Join(t.TempDir(), strings.Repeat("long", 40), "tides") // longer than the name of a socket may be
	gauge, atGauge := join(t, dir, "gauge")
	bulletin, atBulletin := join(t, dir, "bulletin")
	_, atThird := join(t, dir, "")
	require.NotEqual(t, gauge.Address, bulletin.Address)

	for _, lost := range [][]byte{{}, {0x60, 1, 2}, []byte(strings.Repeat("x", 40)), packet(bulletin.Address, bulletin.Address, 6, "to itself"), packet(bulletin.Address, gauge.Address, 6, "spoofed"),
		packet(gauge.Address, addressOf(200), 6, "to nobody"), packet(gauge.Address, netip.MustParseAddr("192.0.2.1"), 6, "out"), packet(gauge.Address, namer, 6, "no question")} {
		if len(lost) > 0 {
			_, err := atGauge.Write(lost)
			require.NoError(t, err)
		}
	}
	large := packet(gauge.Address, bulletin.Address, 6, strings.Repeat("tide", 8000))
	_, err := atGauge.Write(large)
	require.NoError(t, err)
	require.Equal(t, large, next(t, atBulletin), "the first that arrives")
	back := packet(bulletin.Address, gauge.Address, 6, "back")
	_, err = atBulletin.Write(back)
	require.NoError(t, err)
	require.Equal(t, back, next(t, atGauge))
	// Who can write to the socket of another one gets nothing in that is not for it.
	stranger, err := net.DialUnix("unixgram", nil, bulletin.near(bulletin.number))
	require.NoError(t, err)
	for _, wrong := range [][]byte{packet(netip.MustParseAddr("127.0.0.1"), bulletin.Address, 6, "from outside"), packet(gauge.Address, gauge.Address, 6, "for another"), {1}} {
		_, err = stranger.Write(wrong)
		require.NoError(t, err)
	}
	_, err = atGauge.Write(large)
	require.NoError(t, err)
	require.Equal(t, large, next(t, atBulletin))

	ask := func(c net.Conn, from netip.Addr, name string, kind dnsmessage.Type) dnsmessage.Message {
		_, err := c.Write(question(t, from, name, kind))
		require.NoError(t, err)
		answer := next(t, c)
		require.Zero(t, checksum(answer[:ipHeader]), "the sum over a header with its checksum is nothing")
		require.EqualValues(t, len(answer), binary.BigEndian.Uint16(answer[2:]))
		source, to, fit := ends(answer)
		require.True(t, fit)
		require.Equal(t, []netip.Addr{namer, from}, []netip.Addr{source, to})
		require.EqualValues(t, []uint16{53, 4242}, []uint16{binary.BigEndian.Uint16(answer[ipHeader:]), binary.BigEndian.Uint16(answer[ipHeader+2:])})
		require.EqualValues(t, len(answer)-ipHeader, binary.BigEndian.Uint16(answer[ipHeader+4:]))
		var m dnsmessage.Message
		require.NoError(t, m.Unpack(answer[ipHeader+udpHeader:]))
		require.EqualValues(t, 77, m.ID)
		require.True(t, m.Response)
		return m
	}
	found := ask(atGauge, gauge.Address, "Bulletin.", dnsmessage.TypeA)
	require.Equal(t, bulletin.Address.As4(), found.Answers[0].Body.(*dnsmessage.AResource).A)
	require.Equal(t, gauge.Address.As4(), ask(atGauge, gauge.Address, "gauge.", dnsmessage.TypeA).Answers[0].Body.(*dnsmessage.AResource).A)
	six := ask(atGauge, gauge.Address, "bulletin.", dnsmessage.TypeAAAA)
	require.Empty(t, six.Answers)
	require.Equal(t, dnsmessage.RCodeSuccess, six.RCode, "it is there, and has no address of that kind")
	require.Equal(t, dnsmessage.RCodeNameError, ask(atGauge, gauge.Address, "harbour.", dnsmessage.TypeA).RCode)
	_, err = atThird.Write(question(t, gauge.Address, "gauge.", dnsmessage.TypeA)) // in the name of another one
	require.NoError(t, err)
	require.NoError(t, atThird.SetReadDeadline(time.Now().Add(100*time.Millisecond)))
	_, err = atThird.Read(make([]byte, 1))
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
}

// TestMembers: names are taken once, places of those that are gone are free again, and nothing stays of networks that nobody is in.
func TestMembers(t *testing.T) {
	networks := t.TempDir()
	dir := filepath.Join(networks, "tides")
	ctx := context.Background()
	first, err := Join(ctx, dir, "gauge")
	require.NoError(t, err)
	var taken *NameTakenError
	_, err = Join(ctx, dir, "gauge")
	require.ErrorAs(t, err, &taken)
	elsewhere, err := Join(ctx, filepath.Join(networks, "harbour"), "gauge")
	require.NoError(t, err)
	elsewhere.Leave()
	// One that is killed lets go of its lock and leaves its files.
	killed, err := Join(ctx, dir, "bulletin")
	require.NoError(t, err)
	require.NoError(t, killed.lock.Close())
	killed.socket.Close()
	_, known := first.find("bulletin")
	require.False(t, known)
	require.NoError(t, Sweep(ctx, networks))
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	require.Len(t, left, 3, "of the one that lives: %s", left)
	again, err := Join(ctx, dir, "bulletin")
	require.NoError(t, err)
	require.Equal(t, killed.Address, again.Address)
	address, known := first.find("bulletin")
	require.True(t, known)
	require.Equal(t, again.Address, address)

	require.NoError(t, Sweep(ctx, networks))
	require.DirExists(t, dir)
	require.NoDirExists(t, filepath.Join(networks, "harbour"))
	again.Leave()
	first.Leave()
	require.NoError(t, Sweep(ctx, networks))
	require.NoDirExists(t, dir)
	require.NoError(t, Sweep(ctx, filepath.Join(networks, "nothing")))

	var all []*Member
	for range last - first.number + 1 {
		m, err := Join(ctx, dir, "")
		require.NoError(t, err)
		all = append(all, m)
	}
	_, err = Join(ctx, dir, "")
	require.ErrorContains(t, err, "full")
	for _, m := range all {
		m.Leave()
	}
}

// TestRelay: bytes go both ways, each to its end; connections end with the relay; where nothing listens inside they end at once.
func TestRelay(t *testing.T) {
	inside, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer inside.Close()
	go func() {
		for {
			c, err := inside.Accept()
			if err != nil {
				return
			}
			go func() {
				text, _ := io.ReadAll(c)
				_, _ = c.Write([]byte(strings.ToUpper(string(text))))
				c.Close()
			}()
		}
	}()
	outside, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	ended := make(chan struct{})
	up := make(chan struct{})
	go func() {
		Relay(ctx, outside, func() (net.Conn, error) {
			select {
			case <-up:
				return net.Dial("tcp", inside.Addr().String())
			default:
				return nil, io.EOF
			}
		})
		close(ended)
	}()
	dial := func() *net.TCPConn {
		c, err := net.Dial("tcp", outside.Addr().String())
		require.NoError(t, err)
		require.NoError(t, c.SetDeadline(time.Now().Add(time.Minute)))
		return c.(*net.TCPConn)
	}
	text, _ := io.ReadAll(dial())
	require.Empty(t, text)
	close(up)
	c := dial()
	_, err = c.Write([]byte(strings.Repeat("tide", 100000)))
	require.NoError(t, err)
	require.NoError(t, c.CloseWrite())
	text, err = io.ReadAll(c)
	require.NoError(t, err)
	require.Equal(t, strings.Repeat("TIDE", 100000), string(text))
	held := dial()
	cancel()
	_, err = io.ReadAll(held)
	<-ended
	if err != nil {
		require.ErrorContains(t, err, "reset")
	}
}

// FuzzPacket: whatever a command sends, and whoever writes to the sockets, nothing breaks.
func FuzzPacket(f *testing.F) {
	dir := filepath.Join(f.TempDir(), "tides")
	m, err := Join(context.Background(), dir, "gauge")
	require.NoError(f, err)
	f.Cleanup(m.Leave)
	f.Add([]byte{})
	f.Add([]byte(strings.Repeat("E", 60)))
	f.Add(question(f, m.Address, "gauge.", dnsmessage.TypeA))
	f.Fuzz(func(t *testing.T, p []byte) {
		if _, _, fit := ends(p); !fit {
			return
		}
		if answer := m.answer(p); answer != nil {
			require.Zero(t, checksum(answer[:ipHeader]))
			require.EqualValues(t, len(answer), binary.BigEndian.Uint16(answer[2:]))
		}
	})
}
