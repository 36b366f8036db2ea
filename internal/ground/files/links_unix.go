//go:build unix

package files

import (
	"io/fs"
	"syscall"
)

// LinkID tells files of a machine apart that have several names; the zero value is of a file with one.
func LinkID(info fs.FileInfo) (id [2]uint64) {
	if stat, is := info.Sys().(*syscall.Stat_t); is && stat.Nlink > 1 {
		id = [2]uint64{uint64(stat.Dev), stat.Ino}
	}
	return id
}
