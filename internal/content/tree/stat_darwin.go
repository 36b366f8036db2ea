package tree

import (
	"io/fs"
	"syscall"
)

// system adds what only this kind of system tells of a file.
func (s *Stat) system(info fs.FileInfo) {
	if raw, ok := info.Sys().(*syscall.Stat_t); ok {
		s.Inode, s.Change = raw.Ino, raw.Ctimespec.Nano()
	}
}

func twinOf(info fs.FileInfo) FileID {
	if raw, ok := info.Sys().(*syscall.Stat_t); ok && raw.Nlink > 1 {
		return FileID{uint64(raw.Dev), raw.Ino}
	}
	return FileID{}
}
