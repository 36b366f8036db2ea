//go:build !linux

package sandbox

import (
	"context"
	"net"
	"net/netip"
	"os"

	"imbricat/internal/content/tree"
)

// Door is nothing on this system.
type Door struct{}

// NewDoor says that there is no sandbox here.
func NewDoor(netip.Prefix) (*Door, error) { return nil, unable() }

// Close does nothing on this system.
func (*Door) Close() {}

// Device returns none on this system.
func (*Door) Device(context.Context) (*os.File, error) { return nil, unable() }

// Listen does nothing on this system.
func (*Door) Listen(uint16) {}

// Listener says that there is no sandbox here.
func (*Door) Listener(context.Context) (net.Listener, error) { return nil, unable() }

// Put puts nothing on this system.
func (*Door) Put(tree.Entry, *os.File) error { return unable() }

// Remove removes nothing on this system.
func (*Door) Remove(string) error { return unable() }

// Dial reaches nothing on this system.
func (*Door) Dial(uint16) (net.Conn, error) { return nil, unable() }
