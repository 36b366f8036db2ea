package prove

import (
	"fmt"
	"os"
	"strings"

	"golang.org/x/sys/unix"
)

// kindOf names a file system by the number that the kernel tells.
func kindOf(s *unix.Statfs_t) string {
	return map[int64]string{unix.EXT4_SUPER_MAGIC: "ext4", unix.TMPFS_MAGIC: "tmpfs", unix.XFS_SUPER_MAGIC: "xfs", unix.BTRFS_SUPER_MAGIC: "btrfs", unix.OVERLAYFS_SUPER_MAGIC: "overlay"}[int64(s.Type)]
}

// memory returns how many bytes programs can still have; 0: that is not told.
func memory() (bytes int64) {
	text, err := os.ReadFile("/proc/meminfo")
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, is := strings.CutPrefix(line, "MemAvailable:"); is {
			_, _ = fmt.Sscan(rest, &bytes)
		}
	}
	return bytes << 10
}
