//go:build unix

package prove

import (
	"os"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

func umask(mask int) (before int) { return syscall.Umask(mask) }

// system is a file system.
type system struct {
	device uint64
	free   int64 // bytes
	memory bool  // it lies there
	kind   string
}

func (s system) name() string {
	if s.kind == "" {
		return "another one"
	}
	return s.kind
}

func systemOf(dir string) (s system, err error) {
	info, err := os.Stat(dir)
	if err != nil {
		return s, err
	}
	var stat unix.Statfs_t
	if err := unix.Statfs(dir, &stat); err != nil {
		return s, err
	}
	if known, is := info.Sys().(*syscall.Stat_t); is {
		s.device = uint64(known.Dev)
	}
	s.free, s.kind = int64(stat.Bavail)*int64(stat.Bsize), kindOf(&stat)
	if s.memory = s.kind == "tmpfs"; s.memory {
		s.free = min(s.free, memory())
	}
	return s, nil
}

// machineNames are those by which this machine could be known.
func machineNames() (all []string) {
	if host, err := os.Hostname(); err == nil && len(host) > 2 {
		all = append(all, host)
	}
	var name unix.Utsname
	if unix.Uname(&name) == nil {
		all = append(all, unix.ByteSliceToString(name.Release[:]), strings.TrimSpace(unix.ByteSliceToString(name.Version[:])))
	}
	return all
}
