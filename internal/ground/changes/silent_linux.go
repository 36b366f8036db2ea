package changes

import (
	"io/fs"
	"syscall"
	"time"

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

// identity is when a file changed last, and what else tells that it has not changed.
func identity(info fs.FileInfo) (time.Time, any) {
	s, is := info.Sys().(*syscall.Stat_t)
	if !is {
		return info.ModTime(), nil
	}
	last := time.Unix(s.Ctim.Unix())
	if info.ModTime().After(last) {
		last = info.ModTime()
	}
	return last, [2]int64{int64(s.Ino), info.ModTime().UnixNano()}
}
