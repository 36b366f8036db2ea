package store

import (
	"io/fs"
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
