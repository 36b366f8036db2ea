// Package network joins commands that run in sandboxes of their own to a network: each has an address, finds the others by their names,
// and reaches nothing else. The packets of each go through the process that runs it, from its network device to the socket of
// the one that they are for; a port of this machine can lead to a port of one. It runs no commands and prints nothing.
package network

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/ground/files"
)

// The addresses of every network. Nobody else sees them, so networks can have the same.
var (
	addresses = netip.MustParsePrefix("10.77.0.0/24")
	namer     = netip.MustParseAddr("10.77.0.1") // answers questions for names
)

const (
	first = 2 // number of the first member, the last byte of its address
	last  = 254
)

// Member is one command of a network, for as long as its process lives.
type Member struct {
	Name    string
	Address netip.Addr
	dir     string // of the network
	number  int
	lock    *flock.Flock
	socket  *net.UnixConn // packets for it come in here
	folder  *os.File      // dir, for names that are short enough
}

// Prefix is the member's address with how much of it all members have in common.
func (m *Member) Prefix() netip.Prefix { return netip.PrefixFrom(m.Address, addresses.Bits()) }

// Nameserver is where the names of members are asked for.
func Nameserver() netip.Addr { return namer }

// NameTakenError is that a member of a network has a name already.
type NameTakenError struct{ Name string }

func (e *NameTakenError) Error() string { return fmt.Sprintf("%q is in that network already", e.Name) }

// Join makes a member of the network whose folder is dir, with a name (empty: none, so that the others cannot find it). A name that
// another member has is a *NameTakenError.
func Join(ctx context.Context, dir, name string) (*Member, error) {
	all, err := claim(ctx, filepath.Dir(dir))
	if err != nil {
		return nil, err
	}
	defer all.Close()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	names, err := living(dir, true)
	if err != nil {
		return nil, err
	}
	for _, other := range names {
		if other == name && name != "" {
			return nil, &NameTakenError{name}
		}
	}
	for number := first; number <= last; number++ {
		if _, taken := names[number]; !taken {
			m := &Member{Name: name, Address: addressOf(number), dir: dir, number: number}
			if err := m.begin(); err != nil {
				m.Leave()
				return nil, err
			}
			return m, nil
		}
	}
	return nil, fmt.Errorf("the network is full: it has %d commands", len(names))
}

// claim waits until nobody else makes or removes networks, or joins one.
func claim(ctx context.Context, networks string) (*flock.Flock, error) {
	if err := os.MkdirAll(networks, 0o700); err != nil {
		return nil, err
	}
	all := flock.New(filepath.Join(networks, "lock"))
	if _, err := all.TryLockContext(ctx, 10*time.Millisecond); err != nil {
		all.Close()
		return nil, err
	}
	return all, nil
}

func addressOf(number int) netip.Addr {
	bytes := addresses.Addr().As4()
	bytes[3] = byte(number)
	return netip.AddrFrom4(bytes)
}

// living returns the names of the members whose processes live, by their numbers. With clean, whoever has the network's lock removes what
// the others left.
func living(dir string, clean bool) (map[int]string, error) {
	found, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	names := map[int]string{}
	for _, one := range found {
		stem, is := strings.CutSuffix(one.Name(), ".lock")
		number, err := strconv.Atoi(stem)
		if !is || err != nil || number < first || number > last {
			continue
		}
		m := &Member{dir: dir, number: number}
		lock := flock.New(m.path("lock"), flock.SetFlag(os.O_RDONLY))
		free, err := lock.TryLock()
		switch {
		case err != nil: // it left just now
		case !free:
			text, _ := os.ReadFile(m.path("name")) // one that has no name yet, or any more, is there all the same
			names[number] = string(text)
		case clean:
			m.remove()
		}
		lock.Close()
	}
	return names, nil
}

// Sweep removes what members left in the networks below a folder whose processes are gone, and networks without members.
func Sweep(ctx context.Context, networks string) error {
	if _, err := os.Stat(networks); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	all, err := claim(ctx, networks)
	if err != nil {
		return err
	}
	defer all.Close()
	found, err := os.ReadDir(networks)
	for _, one := range found {
		if dir := filepath.Join(networks, one.Name()); one.IsDir() {
			names, livingErr := living(dir, true)
			if livingErr == nil && len(names) == 0 {
				livingErr = os.RemoveAll(dir)
			}
			err = errors.Join(err, livingErr)
		}
	}
	return err
}

func (m *Member) path(kind string) string {
	return filepath.Join(m.dir, strconv.Itoa(m.number)+"."+kind)
}

// begin takes the member's place. What a killed one left there goes.
func (m *Member) begin() (err error) {
	m.lock = flock.New(m.path("lock"))
	if held, err := m.lock.TryLock(); err != nil || !held {
		return errors.Join(err, fmt.Errorf("%s belongs to another process", m.path("lock")))
	}
	if m.folder, err = os.Open(m.dir); err != nil {
		return err
	}
	if err := os.Remove(m.path("sock")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if m.socket, err = net.ListenUnixgram("unixgram", m.near(m.number)); err != nil {
		return err
	}
	_ = m.socket.SetReadBuffer(4 << 20) // as much as the machine allows
	return files.Replace(m.path("name"), []byte(m.Name), 0o600)
}

// near names a member's socket, however long the path of the network's folder is: the kernel takes about a hundred bytes.
func (m *Member) near(number int) *net.UnixAddr {
	return &net.UnixAddr{Net: "unixgram", Name: fmt.Sprintf("/proc/self/fd/%d/%d.sock", m.folder.Fd(), number)}
}

// Leave gives the place up.
func (m *Member) Leave() {
	if m.socket != nil {
		m.socket.Close()
	}
	m.remove()
	if m.folder != nil {
		m.folder.Close()
	}
	m.lock.Close()
}

// remove removes what a member has in the folder, its lock last. What stays is removed by whoever comes next.
func (m *Member) remove() {
	for _, kind := range []string{"sock", "name", "lock"} {
		_ = os.Remove(m.path(kind))
	}
}
