package files

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// ErrNotRegular is that a path names something else than a file: reading a pipe would never end.
var ErrNotRegular = errors.New("it is not a file")

// OpenRegular opens a file for reading, and nothing else: a pipe is not waited for.
func OpenRegular(path string) (*os.File, error) {
	return regular(os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0))
}

// OpenRegularIn is OpenRegular of a file with slashes in its name below a folder, which links do not lead out of.
func OpenRegularIn(dir, name string) (*os.File, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	f, err := regular(root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|syscall.O_NONBLOCK, 0))
	return f, Outside(err)
}

// ErrOutside is that a path leads out of the folder that it is to stay in.
var ErrOutside = errors.New("it leads out of the folder")

// Outside returns an error of an os.Root in our words, where it is that a path leads out: the package os has no value for it.
func Outside(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) && at.Err.Error() == "path escapes from parent" {
		return ErrOutside
	}
	return err
}

func regular(f *os.File, err error) (*os.File, error) {
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, cmp.Or(err, ErrNotRegular)
	}
	return f, nil
}
