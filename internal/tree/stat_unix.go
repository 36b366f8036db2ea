//go:build linux || darwin

package tree

import (
	"io/fs"
	"syscall"
)

// system adds what only this kind of system tells of a file.
func (s *Stat) system(info fs.FileInfo) {
	if raw, ok := info.Sys().(*syscall.Stat_t); ok {
		s.Inode = raw.Ino
		s.Change = changeTime(raw)
	}
}
