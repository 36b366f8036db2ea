//go:build !linux

package background

import (
	"context"
	"errors"
	"os"

	"imbricat/internal/content/tree"
)

// Serve takes nothing in on this system, where no command runs.
func (b *Try) Serve(context.Context, Inside) error { return nil }

// Live is nothing on this system.
type Live struct{}

// Enter opens no way in on this system.
func (b *Try) Enter() (*Live, error) { return nil, errors.ErrUnsupported }

// Close does nothing on this system.
func (*Live) Close() {}

// Put puts nothing on this system.
func (*Live) Put(tree.Entry, *os.File) error { return errors.ErrUnsupported }

// Remove removes nothing on this system.
func (*Live) Remove(string) error { return errors.ErrUnsupported }
