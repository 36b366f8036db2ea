package store

import (
	"io/fs"
	"os"
	"syscall"
	"time"
)

// accessed is when a file was read, or marked as used.
func accessed(info fs.FileInfo) time.Time {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(s.Atim.Unix())
	}
	return info.ModTime()
}

// openUnused opens a file so that reading it is no use of it.
func openUnused(path string) (*os.File, error) {
	if f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOATIME, 0); err == nil {
		return f, nil
	}
	return os.Open(path) // it belongs to somebody else
}
