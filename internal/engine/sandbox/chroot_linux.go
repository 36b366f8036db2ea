package sandbox

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
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
// and files written, until Finish. A command may move and replace what it likes meanwhile, so all is taken back by the
// folders that it was put into, held open, and never by a path again.
func (b *Box) placeInside(s *Spec) error {
	if s.ReadOnly {
		return &UnableError{Missing: "mounts", What: "a root that cannot be written to takes mounts, which --sandbox chroot does without", Mend: "leave the option out"}
	}
	root, err := unix.Open(filepath.Join(s.Work, "root"), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	s.root = root
	dev, _, err := parentIn(root, "/dev/null")
	if err != nil {
		return err
	}
	defer unix.Close(dev)
	for name, number := range map[string]uint64{"null": unix.Mkdev(1, 3), "zero": unix.Mkdev(1, 5), "full": unix.Mkdev(1, 7), "random": unix.Mkdev(1, 8),
		"urandom": unix.Mkdev(1, 9), "tty": unix.Mkdev(5, 0)} {
		if err := unix.Mknodat(dev, name, unix.S_IFCHR|0o666, int(number)); err == nil {
			_ = unix.Fchmodat(dev, name, 0o666, 0)
		}
	}
	for _, m := range s.Mounts {
		info, err := os.Stat(m.From)
		if err != nil || !info.IsDir() {
			return fmt.Errorf("%s cannot be shown inside without mounts", m.From)
		}
		parent, name, err := parentIn(root, m.At)
		if err != nil {
			return err
		}
		if err := unix.Unlinkat(parent, name, unix.AT_REMOVEDIR); err != nil && !errors.Is(err, unix.ENOENT) {
			unix.Close(parent)
			return fmt.Errorf("%s is not empty in the view, and a chroot cannot cover it: %w", m.At, err)
		}
		if err := unix.Renameat(unix.AT_FDCWD, m.From, parent, name); err != nil {
			unix.Close(parent)
			return fmt.Errorf("moving %s into the root: %w", m.From, err)
		}
		if err := s.lend(parent, name, m.At, m.From); err != nil {
			return err
		}
	}
	for _, f := range append(append([]Secret{}, s.Files...), s.Secrets...) {
		parent, name, err := parentIn(root, f.At)
		if err != nil {
			return err
		}
		if err := putFile(parent, name, f); err != nil {
			unix.Close(parent)
			return fmt.Errorf("writing %s: %w", f.At, err)
		}
		if err := s.lend(parent, name, f.At, ""); err != nil {
			return err
		}
	}
	return nil
}

// parentIn opens the folder of a path of the root, of which no part may be a link, and gives the last name.
func parentIn(root int, path string) (parent int, name string, err error) {
	path = strings.Trim(path, "/")
	folder, name := ".", path
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		folder, name = path[:i], path[i+1:]
	}
	parent, err = unix.Openat2(root, folder, &unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS})
	var stat unix.Stat_t
	if err == nil && unix.Fstatat(parent, name, &stat, unix.AT_SYMLINK_NOFOLLOW) == nil && stat.Mode&unix.S_IFMT == unix.S_IFLNK {
		unix.Close(parent)
		err = unix.ELOOP
	}
	if errors.Is(err, unix.ELOOP) {
		return 0, "", fmt.Errorf("/%s goes through a link in the view, which a chroot cannot follow safely", path)
	}
	if err != nil {
		return 0, "", fmt.Errorf("/%s in the view: %w", folder, err)
	}
	return parent, name, nil
}

func putFile(parent int, name string, f Secret) error {
	if err := unix.Unlinkat(parent, name, 0); err != nil && !errors.Is(err, unix.ENOENT) {
		return err
	}
	fd, err := unix.Openat(parent, name, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return err
	}
	file := os.NewFile(uintptr(fd), name)
	defer file.Close()
	_, err = file.Write(f.Content)
	return errors.Join(err, file.Chown(f.UID, f.GID), file.Chmod(os.FileMode(f.Mode)))
}

// loan is something that was put into a root without mounts. Both descriptors are held until it is taken back.
type loan struct {
	thing, parent int // the folder that it lies in, wherever that is moved
	name, at      string
	from          string // where it goes back; empty: it is removed
}

// lend remembers what was put into a folder.
func (s *Spec) lend(parent int, name, at, from string) error {
	thing, err := unix.Openat(parent, name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		unix.Close(parent)
		return err
	}
	s.loans = append(s.loans, loan{thing, parent, name, at, from})
	return nil
}

// lies reports whether what was lent has a name in a folder.
func (l loan) lies(parent int, name string) bool {
	var here, there unix.Stat_t
	err := errors.Join(unix.Fstat(l.thing, &here), unix.Fstatat(parent, name, &there, unix.AT_SYMLINK_NOFOLLOW))
	return err == nil && here.Dev == there.Dev && here.Ino == there.Ino
}

// misplaced is an error where a command has moved what it was given, or gave it another name: that would be read as
// something that the command made. What it removed is no concern of anybody.
func (s *Spec) misplaced() error {
	for _, l := range s.loans {
		var stat unix.Stat_t
		err := unix.Fstat(l.thing, &stat)
		if err == nil && stat.Nlink == 0 {
			continue
		}
		parent, name, lookErr := parentIn(s.root, l.at)
		in := err == nil && lookErr == nil && l.lies(parent, name)
		if lookErr == nil {
			unix.Close(parent)
		}
		if !in || l.from == "" && stat.Nlink > 1 {
			return fmt.Errorf("the command gave %s, which is not its own, another name or place, where a chroot cannot tell it from what the command made", l.at)
		}
	}
	return nil
}

// takeBack ends what placeInside began.
func (s *Spec) takeBack() {
	for _, l := range slices.Backward(s.loans) {
		if l.lies(l.parent, l.name) {
			if l.from != "" {
				_ = unix.Renameat(l.parent, l.name, unix.AT_FDCWD, l.from)
			} else {
				_ = unix.Unlinkat(l.parent, l.name, 0)
			}
		}
		unix.Close(l.thing)
		unix.Close(l.parent)
	}
	if s.loans = nil; s.root > 0 {
		unix.Close(s.root)
		s.root = 0
	}
}
