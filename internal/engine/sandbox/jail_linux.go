package sandbox

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// jail is a root that is being made ready.
type jail struct {
	root string
	fd   int
	gids int
}

func (j *jail) open() (err error) {
	j.fd, err = unix.Open(j.root, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	return err
}

// at returns a path by which something inside can be mounted on. Links inside lead nowhere but inside.
func (j *jail) at(path string) (string, func(), error) {
	fd, err := unix.Openat2(j.fd, cmp.Or(strings.TrimPrefix(path, "/"), "."), &unix.OpenHow{
		Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_MAGICLINKS,
	})
	if err != nil {
		return "", nil, fmt.Errorf("%s inside: %w", path, err)
	}
	return fmt.Sprintf("/proc/self/fd/%d", fd), func() { unix.Close(fd) }, nil
}

// mount mounts something at a path inside.
func (j *jail) mount(source, path, kind string, flags uintptr, options string) error {
	target, done, err := j.at(path)
	if err != nil {
		return err
	}
	defer done()
	if err := unix.Mount(source, target, kind, flags, options); err != nil {
		return refused("mounts", "mounting "+path+" inside", err)
	}
	return nil
}

const quietFlags = unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC

// bind shows something of the machine inside. A remount must keep what the kernel has locked.
func (j *jail) bind(source, path string, flags uintptr) error {
	if err := j.mount(source, path, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return err
	}
	if flags == 0 {
		return nil
	}
	var now unix.Statfs_t
	if err := unix.Statfs(source, &now); err != nil {
		return err
	}
	// The flags of a mount and those that statfs tells have the same values, but for the times.
	keep := uintptr(now.Flags) & (unix.MS_NOSUID | unix.MS_NODEV | unix.MS_NOEXEC | unix.MS_RDONLY | unix.MS_NOATIME | unix.MS_NODIRATIME)
	if now.Flags&unix.ST_RELATIME != 0 {
		keep |= unix.MS_RELATIME
	}
	return j.mount("", path, "", unix.MS_BIND|unix.MS_REMOUNT|keep|flags, "")
}

func (j *jail) proc() error {
	err := j.mount("proc", "/proc", "proc", quietFlags, "")
	var r refusal
	if errors.As(err, &r) {
		return refused("proc", "mounting /proc inside", r.error)
	}
	return err
}

// guard takes the kernel's own switches away. It works inside the root, where what is to be covered is already.
func (j *jail) guard() error {
	for _, path := range []string{"/proc/sys", "/proc/sysrq-trigger", "/proc/irq", "/proc/bus", "/proc/fs"} {
		if _, err := os.Lstat(path); err != nil {
			continue
		}
		if err := unix.Mount(path, path, "", unix.MS_BIND|unix.MS_REC, ""); err != nil {
			return refused("mounts", "covering "+path, err)
		}
		if err := unix.Mount("", path, "", unix.MS_BIND|unix.MS_REMOUNT|unix.MS_RDONLY|quietFlags, ""); err != nil {
			return refused("mounts", "covering "+path, err)
		}
	}
	for _, path := range []string{"/proc/kcore", "/proc/kmsg", "/proc/keys", "/proc/timer_list"} {
		if _, err := os.Lstat(path); err == nil {
			if err := unix.Mount("/dev/null", path, "", unix.MS_BIND, ""); err != nil {
				return refused("mounts", "covering "+path, err)
			}
		}
	}
	for _, path := range []string{"/proc/scsi", "/proc/acpi"} {
		if info, err := os.Lstat(path); err == nil && info.IsDir() {
			if err := unix.Mount("tmpfs", path, "tmpfs", quietFlags|unix.MS_RDONLY, "size=0"); err != nil {
				return refused("mounts", "covering "+path, err)
			}
		}
	}
	return nil
}

// devices are what a program may expect anywhere.
var devices = []string{"null", "zero", "full", "random", "urandom", "tty"}

func (j *jail) dev() error {
	if err := j.mount("tmpfs", "/dev", "tmpfs", unix.MS_NOSUID|unix.MS_NOEXEC, "mode=755,size=1m"); err != nil {
		return err
	}
	inside, done, err := j.at("/dev")
	if err != nil {
		return err
	}
	defer done()
	for _, name := range devices {
		f, err := os.OpenFile(filepath.Join(inside, name), os.O_CREATE|os.O_WRONLY, 0o666)
		if err != nil {
			return err
		}
		f.Close()
		// These are the machine's own: through a mount that cannot be written to they can be used, and not be given another
		// mode, owner or time.
		if err := j.bind("/dev/"+name, "/dev/"+name, unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NOEXEC); err != nil {
			return err
		}
	}
	for _, folder := range []string{"pts", "shm"} {
		if err := os.Mkdir(filepath.Join(inside, folder), 0o755); err != nil {
			return err
		}
	}
	for name, target := range map[string]string{"fd": "/proc/self/fd", "stdin": "/proc/self/fd/0", "stdout": "/proc/self/fd/1", "stderr": "/proc/self/fd/2", "ptmx": "pts/ptmx"} {
		if err := os.Symlink(target, filepath.Join(inside, name)); err != nil {
			return err
		}
	}
	if err := j.mount("tmpfs", "/dev/shm", "tmpfs", quietFlags, "mode=1777,size=25%"); err != nil {
		return err
	}
	err = j.mount("devpts", "/dev/pts", "devpts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=0620,gid=5")
	if err != nil { // group 5 has no id in this namespace
		err = j.mount("devpts", "/dev/pts", "devpts", unix.MS_NOSUID|unix.MS_NOEXEC, "newinstance,ptmxmode=0666,mode=0620")
	}
	return err
}

// sys shows how many processors there are, which libraries ask for, and nothing else of the machine.
func (j *jail) sys(processors int) error {
	if err := j.mount("tmpfs", "/sys", "tmpfs", quietFlags, "mode=755,size=64k"); err != nil {
		return err
	}
	inside, done, err := j.at("/sys")
	if err != nil {
		return err
	}
	defer done()
	const cpu = "devices/system/cpu"
	if err := os.MkdirAll(filepath.Join(inside, cpu), 0o755); err != nil {
		return err
	}
	for _, name := range []string{"online", "possible", "present"} {
		text, err := os.ReadFile(filepath.Join("/sys", cpu, name))
		if err != nil {
			continue
		}
		if processors > 0 {
			text = []byte(rangeTo(processors - 1))
		}
		if err := os.WriteFile(filepath.Join(inside, cpu, name), text, 0o444); err != nil {
			return err
		}
	}
	return j.mount("", "/sys", "", unix.MS_REMOUNT|unix.MS_RDONLY|quietFlags, "mode=755,size=64k")
}

func (j *jail) tmp(fresh bool) error {
	if !fresh {
		return nil
	}
	return j.mount("tmpfs", "/tmp", "tmpfs", unix.MS_NOSUID|unix.MS_NODEV, "mode=1777,size=50%")
}

func (j *jail) mounts(list []Mount) error {
	for _, m := range list {
		flags := uintptr(unix.MS_NOSUID | unix.MS_NODEV)
		if m.ReadOnly {
			flags |= unix.MS_RDONLY
		}
		if err := j.bind(m.From, m.At, flags); err != nil {
			return err
		}
	}
	return nil
}

// seal has nothing written to some of the root's paths.
func (j *jail) seal(paths []string) error {
	for _, path := range paths {
		inside, done, err := j.at(path)
		if err != nil {
			return err
		}
		err = j.bind(inside, path, unix.MS_RDONLY)
		done()
		if err != nil {
			return err
		}
	}
	return nil
}

// files puts small files into memory and shows them. Secrets cannot be swapped out to the machine's disk where the
// kernel knows how to keep them from that.
func (j *jail) files(list []Secret, public bool) error {
	if len(list) == 0 {
		return nil
	}
	const stage = "/dev/shm" // covered again by what is mounted there for the command
	for _, options := range []string{"mode=700,size=64m,noswap", "mode=700,size=64m"} {
		err := j.mount("tmpfs", stage, "tmpfs", quietFlags, options)
		if err == nil {
			break
		}
		if options == "mode=700,size=64m" {
			return err
		}
	}
	inside, done, err := j.at(stage)
	if err != nil {
		return err
	}
	defer done()
	for i, s := range list {
		name := filepath.Join(inside, fmt.Sprint(i))
		if err := os.WriteFile(name, s.Content, 0o600); err != nil {
			return err
		}
		if err := os.Chown(name, s.UID, s.GID); err != nil && !(public && errors.Is(err, unix.EINVAL)) {
			return fmt.Errorf("giving %s to user %d: %w", s.At, s.UID, err)
		}
		if err := os.Chmod(name, os.FileMode(s.Mode)); err != nil {
			return err
		}
		if err := j.bind(name, s.At, unix.MS_RDONLY|quietFlags); err != nil {
			return err
		}
	}
	// The files stay mounted where they are shown; the folder that holds them goes.
	return unix.Unmount(inside, unix.MNT_DETACH)
}

// program opens this program's file on a mount that nobody can write through, where it is to be executed from there.
func (j *jail) program(wanted bool, fd *int) error {
	if !wanted {
		return nil
	}
	const stage = "/dev/imbricat"
	inside, done, err := j.at("/dev")
	if err != nil {
		return err
	}
	defer done()
	name := filepath.Join(inside, filepath.Base(stage))
	if err := os.WriteFile(name, nil, 0o600); err != nil {
		return err
	}
	// By its path, since what the link stands for lies in the mount namespace that this process comes from.
	path, err := os.Readlink("/proc/self/exe")
	if err != nil {
		return err
	}
	if err := j.bind(path, stage, unix.MS_RDONLY|unix.MS_NOSUID|unix.MS_NODEV); err != nil {
		return err
	}
	if *fd, err = unix.Open(name, unix.O_PATH|unix.O_CLOEXEC, 0); err != nil {
		return err
	}
	if err := unix.Unmount(name, unix.MNT_DETACH); err != nil {
		return refused("mounts", "hiding the program", err)
	}
	return os.Remove(name)
}

// readOnly has nothing written to the root but below some folders, where that is asked for.
func (j *jail) readOnly(s Spec) error {
	if !s.ReadOnly {
		return nil
	}
	for _, path := range s.Writable {
		target, done, err := j.at(path)
		if err != nil {
			return err
		}
		err = unix.Mount(target, target, "", unix.MS_BIND, "")
		done()
		if err != nil {
			return refused("mounts", "keeping "+path+" writable", err)
		}
	}
	return j.mount("", "/", "", unix.MS_BIND|unix.MS_REMOUNT|unix.MS_RDONLY|unix.MS_NODEV, "")
}

// enter makes the root the only file system there is.
func (j *jail) enter() error {
	if err := unix.Chdir(j.root); err != nil {
		return err
	}
	if err := unix.PivotRoot(".", "."); err != nil {
		return refused("mounts", "changing the root", err)
	}
	if err := unix.Unmount(".", unix.MNT_DETACH); err != nil {
		return refused("mounts", "leaving the machine's root", err)
	}
	return os.Chdir("/")
}

// loopback brings the loopback device of a new network up.
func loopback(shared bool) error {
	if shared {
		return nil
	}
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("bringing the loopback up: %w", err)
	}
	defer unix.Close(fd)
	request, err := unix.NewIfreq("lo")
	if err == nil {
		request.SetUint16(unix.IFF_UP | unix.IFF_RUNNING)
		err = unix.IoctlIfreq(fd, unix.SIOCSIFFLAGS, request)
	}
	if err != nil {
		return fmt.Errorf("bringing the loopback up: %w", err)
	}
	return nil
}

// mostProcesses bounds a command that forks without end.
const mostProcesses = 16384

// limitProcesses bounds the numbers of processes, on kernels where that holds for one namespace.
func limitProcesses() error {
	if boundsNamespace() {
		_ = os.WriteFile("/proc/sys/kernel/pid_max", []byte(fmt.Sprint(mostProcesses)), 0)
	}
	return nil
}

// boundsNamespace reports whether the kernel bounds the processes of one namespace (6.14). Elsewhere that of one user in it is
// bounded by a limit, but for root's.
func boundsNamespace() bool {
	var name unix.Utsname
	if unix.Uname(&name) != nil {
		return false
	}
	major, minor := 0, 0
	n, _ := fmt.Sscanf(unix.ByteSliceToString(name.Release[:]), "%d.%d", &major, &minor)
	return n == 2 && (major > 6 || major == 6 && minor >= 14)
}
