package changes

import (
	"io/fs"
	"syscall"

	"golang.org/x/sys/unix"
)

// silentSystems are file systems where others change files and this machine's system is not told.
var silentSystems = map[int64]string{
	unix.NFS_SUPER_MAGIC: "NFS", unix.SMB_SUPER_MAGIC: "SMB", unix.CIFS_SUPER_MAGIC: "SMB", unix.SMB2_SUPER_MAGIC: "SMB", unix.V9FS_MAGIC: "9P",
	unix.FUSE_SUPER_MAGIC: "FUSE", unix.AFS_FS_MAGIC: "AFS", unix.CEPH_SUPER_MAGIC: "Ceph", 0x786f4256: "a shared folder", 0xbacbacbc: "a shared folder",
}

// silent tells why the system does not tell of all changes in a folder; empty: it does.
func silent(dir string) string {
	var s unix.Statfs_t
	if unix.Statfs(dir, &s) != nil {
		return ""
	}
	if name, is := silentSystems[int64(uint32(s.Type))]; is {
		return dir + " is on " + name + ", which does not tell of all changes"
	}
	return ""
}

// identity is what else tells that a file has not changed.
func identity(info fs.FileInfo) any {
	if s, is := info.Sys().(*syscall.Stat_t); is {
		return [3]int64{int64(s.Ino), s.Ctim.Sec, s.Ctim.Nsec}
	}
	return nil
}
