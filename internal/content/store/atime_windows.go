package store

import (
	"io/fs"
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
