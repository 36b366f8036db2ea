package prove

import "golang.org/x/sys/unix"

// kindOf names a file system by the number that the kernel tells.
func kindOf(s *unix.Statfs_t) string {
	return map[int64]string{unix.EXT4_SUPER_MAGIC: "ext4", unix.TMPFS_MAGIC: "tmpfs", unix.XFS_SUPER_MAGIC: "xfs", unix.BTRFS_SUPER_MAGIC: "btrfs", unix.OVERLAYFS_SUPER_MAGIC: "overlay"}[int64(s.Type)]
}
