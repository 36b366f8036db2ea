// Package files writes whole files so that nobody ever sees half of one. It knows nothing of what is in them.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Replace writes a file as one act: whoever reads it meanwhile, or after a crash, finds what was there before or all of the new.
func Replace(name string, content []byte, mode fs.FileMode) error {
	return Write(name, mode, func(out io.Writer) error {
		_, err := out.Write(content)
		return err
	})
}

// Write is Replace with what an act writes. A device, a pipe or the like is written into: a file in its place would do harm.
func Write(name string, mode fs.FileMode, act func(out io.Writer) error) error {
	if special(name) {
		return into(name, act)
	}
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	defer os.Remove(f.Name())
	err = act(f)
	err = errors.Join(err, f.Chmod(mode), f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}

// special reports whether a name stands for something that is neither a file nor a folder, or for what a process has open, such as
// /dev/stdout.
func special(name string) bool {
	if target, err := os.Readlink(name); err == nil && strings.HasPrefix(target, "/proc/") {
		return true
	}
	info, err := os.Stat(name)
	return err == nil && !info.Mode().IsRegular() && !info.IsDir()
}

func into(name string, act func(out io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_WRONLY, 0)
	if err == nil {
		err = errors.Join(act(f), f.Close())
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}

// Append adds lines to a file, which several writers may share.
func Append(name, lines string) error {
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		_, err = f.WriteString(lines)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return nil
}
