package sandbox

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// SignalNamed reads a signal as an image names it, such as SIGTERM, TERM or 15; what names none is SIGTERM.
func SignalNamed(name string) os.Signal {
	if n, err := strconv.Atoi(name); err == nil && n > 0 && n < 65 {
		return unix.Signal(n)
	}
	if n := unix.SignalNum("SIG" + strings.TrimPrefix(strings.ToUpper(name), "SIG")); n != 0 {
		return n
	}
	return unix.SIGTERM
}

// placeInside puts what a sandbox with namespaces would mount into the copy that a chroot works on: folders are moved in
// and files written, until Finish.
func (b *Box) placeInside(s *Spec) error {
	root := filepath.Join(s.Work, "root")
	dev := filepath.Join(root, "dev")
	for name, number := range map[string]uint64{"null": unix.Mkdev(1, 3), "zero": unix.Mkdev(1, 5), "full": unix.Mkdev(1, 7), "random": unix.Mkdev(1, 8),
		"urandom": unix.Mkdev(1, 9), "tty": unix.Mkdev(5, 0)} {
		name = filepath.Join(dev, name)
		if err := unix.Mknod(name, unix.S_IFCHR|0o666, int(number)); err == nil {
			_ = os.Chmod(name, 0o666)
		}
	}
	for _, m := range s.Mounts {
		at, err := within(root, m.At)
		if err != nil {
			return err
		}
		info, err := os.Stat(m.From)
		if err != nil || !info.IsDir() {
			return fmt.Errorf("%s cannot be shown inside without mounts", m.From)
		}
		if err := os.Remove(at); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("%s is not empty in the view, and a chroot cannot cover it: %w", m.At, err)
		}
		if err := os.Rename(m.From, at); err != nil {
			return err
		}
		s.undo = append(s.undo, func() { _ = os.Rename(at, m.From) })
	}
	for _, f := range append(append([]Secret{}, s.Files...), s.Secrets...) {
		at, err := within(root, f.At)
		if err != nil {
			return err
		}
		s.undo = append(s.undo, func() { _ = os.Remove(at) })
		_ = os.Remove(at)
		if err := os.WriteFile(at, f.Content, 0o600); err != nil {
			return err
		}
		if err := errors.Join(os.Chown(at, f.UID, f.GID), os.Chmod(at, os.FileMode(f.Mode))); err != nil {
			return err
		}
	}
	return nil
}

// within gives a path of the root, of which no part may be a link.
func within(root, path string) (string, error) {
	at := root
	for part := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		at = filepath.Join(at, part)
		if info, err := os.Lstat(at); err == nil && info.Mode()&os.ModeSymlink != 0 {
			return "", fmt.Errorf("%s goes through a link in the view, which a chroot cannot follow safely", path)
		}
	}
	return at, nil
}
