package store

import (
	"io/fs"
	"os"
	"syscall"
	"time"
)

// accessed is when a file was read, or marked as used.
func accessed(info fs.FileInfo) time.Time {
	if d, ok := info.Sys().(*syscall.Win32FileAttributeData); ok {
		return time.Unix(0, d.LastAccessTime.Nanoseconds())
	}
	return info.ModTime()
}

// openUnused opens a file so that reading it is no use of it, as far as that can be had here.
func openUnused(path string) (*os.File, error) { return os.Open(path) }
