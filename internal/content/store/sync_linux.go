package store

import (
	"os"

	"golang.org/x/sys/unix"
)

// syncFileSystem writes everything that the file system of a folder has not written yet.
func syncFileSystem(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return unix.Syncfs(int(f.Fd()))
}
