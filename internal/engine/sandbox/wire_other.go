//go:build !linux

package sandbox

import (
	"context"
	"net"
	"net/netip"
	"os"
)

// Wire is nothing on this system.
type Wire struct{}

// NewWire says that there is no sandbox here.
func NewWire(netip.Prefix) (*Wire, error) { return nil, unable() }

// Close does nothing on this system.
func (*Wire) Close() {}

// Device returns none on this system.
func (*Wire) Device(context.Context) (*os.File, error) { return nil, unable() }

// Dial reaches nothing on this system.
func (*Wire) Dial(uint16) (net.Conn, error) { return nil, unable() }
