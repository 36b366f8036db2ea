package prove

import (
	"errors"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"

	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/files"
)

// folderName begins the names of the folders in which all is made again, lockName is a file there that is locked as long as somebody works in it.
const (
	folderName = "imbricat-verify-"
	lockName   = "lock"
)

// ownFolder makes a folder to work in, and has others leave it alone until it is released.
func ownFolder(in string) (dir string, release func(), err error) {
	if dir, err = os.MkdirTemp(in, folderName); err != nil {
		return "", nil, err
	}
	lock := flock.New(filepath.Join(dir, lockName))
	if err := lock.Lock(); err != nil {
		return "", nil, errors.Join(err, os.RemoveAll(dir))
	}
	return dir, func() { lock.Close() }, nil
}

// removeFolder removes a folder, with what commands left there that may belong to others.
func removeFolder(box *sandbox.Box, dir string) {
	_ = box.Remove(filepath.Join(dir, "store"))
	_ = os.RemoveAll(dir)
}

// sweep removes what was left by programs that were killed. A folder without a lock is one that is being made.
func sweep(box *sandbox.Box, folders []string) {
	for _, folder := range folders {
		left, _ := filepath.Glob(filepath.Join(folder, folderName+"*"))
		for _, dir := range left {
			info, err := os.Lstat(dir)
			if err != nil || !info.IsDir() || !files.Trusted(info) {
				continue
			}
			if _, err := os.Lstat(filepath.Join(dir, lockName)); err != nil {
				continue
			}
			lock := flock.New(filepath.Join(dir, lockName), flock.SetFlag(os.O_RDWR))
			if free, err := lock.TryLock(); err == nil && free {
				removeFolder(box, dir)
				lock.Close()
			}
		}
	}
}
