//go:build !linux

package store

import "errors"

// syncFileSystem is Linux's alone, as commands are.
func syncFileSystem(string) error { return errors.ErrUnsupported }
