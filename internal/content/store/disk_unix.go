//go:build linux || darwin

package store

import (
	"io/fs"
	"syscall"
)

// diskSize is what a file takes on the disk, in bytes.
func diskSize(info fs.FileInfo) int64 {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return s.Blocks * 512
	}
	return info.Size()
}
