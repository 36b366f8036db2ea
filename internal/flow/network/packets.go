package network

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"strings"

	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/sync/errgroup"
)

// mostPacket is more bytes than a packet has.
const mostPacket = 64 << 10

// Carry carries packets between a command's network device and the other members, until the context or the device ends. Device closes the
// device when that is closed.
func (m *Member) Carry(ctx context.Context, device io.ReadWriteCloser) error {
	out, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Net: "unixgram"})
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	stop := context.AfterFunc(ctx, func() {
		device.Close()
		out.Close()
		m.socket.Close()
	})
	defer stop()
	group.Go(func() error { return m.send(device, out) })
	group.Go(func() error { return m.receive(device) })
	err = group.Wait()
	out.Close()
	if errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) || ctx.Err() != nil {
		return nil
	}
	return err
}

// send sends the command's packets to those whose address they name.
func (m *Member) send(device io.ReadWriter, out *net.UnixConn) error {
	buffer := make([]byte, mostPacket)
	for {
		n, err := device.Read(buffer)
		if err != nil {
			return ended(err)
		}
		packet := buffer[:n]
		from, to, fit := ends(packet)
		switch {
		case !fit || from != m.Address: // a command speaks for itself alone
		case to == namer:
			if answer := m.answer(packet); answer != nil {
				if _, err := device.Write(answer); err != nil {
					return ended(err)
				}
			}
		case addresses.Contains(to) && to != m.Address:
			bytes := to.As4()
			_, _ = out.WriteToUnix(packet, m.near(int(bytes[3]))) // nobody may be there, and a packet may be lost
		}
	}
}

// receive gives the command what others send it.
func (m *Member) receive(device io.Writer) error {
	buffer := make([]byte, mostPacket)
	for {
		n, err := m.socket.Read(buffer)
		if err != nil {
			return ended(err)
		}
		if from, to, fit := ends(buffer[:n]); !fit || to != m.Address || !addresses.Contains(from) {
			continue
		}
		if _, err := device.Write(buffer[:n]); err != nil {
			return ended(err)
		}
	}
}

// ended is an error that ends the other direction too.
func ended(err error) error {
	if err == nil {
		return io.EOF
	}
	return err
}

// Lengths of headers, in bytes (RFC 791, RFC 768).
const (
	ipHeader  = 20
	udpHeader = 8
)

// ends returns the addresses of a packet of IPv4.
func ends(packet []byte) (from, to netip.Addr, fit bool) {
	if len(packet) < ipHeader || packet[0]>>4 != 4 {
		return from, to, false
	}
	return netip.AddrFrom4([4]byte(packet[12:16])), netip.AddrFrom4([4]byte(packet[16:20])), true
}

// answer is the answer to a packet that asks for a name, or nil where it asks for none.
func (m *Member) answer(packet []byte) []byte {
	header := int(packet[0]&0xf) * 4
	if header < ipHeader || packet[9] != 17 || len(packet) < header+udpHeader || binary.BigEndian.Uint16(packet[6:])&0x3fff != 0 {
		return nil // no UDP, or a part of a packet
	}
	udp := packet[header:]
	length := int(binary.BigEndian.Uint16(udp[4:]))
	if binary.BigEndian.Uint16(udp[2:]) != 53 || length < udpHeader || length > len(udp) {
		return nil
	}
	text, err := m.resolve(udp[udpHeader:length])
	if err != nil {
		return nil
	}
	out := make([]byte, ipHeader+udpHeader, ipHeader+udpHeader+len(text))
	out[0], out[8], out[9] = 0x45, 64, 17 // version and header length, time to live, UDP
	copy(out[12:16], packet[16:20])
	copy(out[16:20], packet[12:16])
	binary.BigEndian.PutUint16(out[2:], uint16(cap(out)))
	binary.BigEndian.PutUint16(out[10:], checksum(out[:ipHeader]))
	copy(out[ipHeader:], udp[2:4])   // from its port
	copy(out[ipHeader+2:], udp[0:2]) // to where it came from
	binary.BigEndian.PutUint16(out[ipHeader+4:], uint16(udpHeader+len(text)))
	return append(out, text...) // a checksum of 0 is none, which IPv4 allows
}

// checksum is that of a header of IPv4 (RFC 1071).
func checksum(header []byte) uint16 {
	var sum uint32
	for i := 0; i < len(header); i += 2 {
		sum += uint32(binary.BigEndian.Uint16(header[i:]))
	}
	for sum>>16 != 0 {
		sum = sum&0xffff + sum>>16
	}
	return ^uint16(sum)
}

// resolve answers a question of the domain name system (RFC 1035): members' names have one address each, and nothing else is known.
func (m *Member) resolve(question []byte) ([]byte, error) {
	var p dnsmessage.Parser
	head, err := p.Start(question)
	if err != nil {
		return nil, err
	}
	asked, err := p.Question()
	if err != nil || head.Response {
		return nil, errors.Join(err, errors.New("no question"))
	}
	answer := dnsmessage.Message{Header: dnsmessage.Header{ID: head.ID, Response: true, OpCode: head.OpCode, RecursionDesired: head.RecursionDesired, RecursionAvailable: true},
		Questions: []dnsmessage.Question{asked}}
	address, known := m.find(strings.TrimSuffix(asked.Name.String(), "."))
	switch {
	case !known:
		answer.RCode = dnsmessage.RCodeNameError
	case asked.Type == dnsmessage.TypeA && asked.Class == dnsmessage.ClassINET:
		answer.Answers = []dnsmessage.Resource{{Header: dnsmessage.ResourceHeader{Name: asked.Name, Type: asked.Type, Class: asked.Class},
			Body: &dnsmessage.AResource{A: address.As4()}}}
	}
	return answer.Pack()
}

// find returns the address of a member by its name.
func (m *Member) find(name string) (netip.Addr, bool) {
	if name == "" {
		return netip.Addr{}, false
	}
	names, err := living(m.dir, false)
	if err != nil {
		return netip.Addr{}, false
	}
	for number, other := range names {
		if strings.EqualFold(name, other) {
			return addressOf(number), true
		}
	}
	return netip.Addr{}, false
}
