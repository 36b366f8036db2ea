//go:build unix && !linux

package prove

import "golang.org/x/sys/unix"

func kindOf(*unix.Statfs_t) string { return "" }

func memory() int64 { return 0 }
