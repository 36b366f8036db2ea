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
		return time.Unix(s.Atimespec.Unix())
	}
	return info.ModTime()
}

// openUnused opens a file so that reading it is no use of it, as far as that can be had here.
func openUnused(path string) (*os.File, error) { return os.Open(path) }
