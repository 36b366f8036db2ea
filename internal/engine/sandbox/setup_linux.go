package sandbox

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
)

// setup is what the process that builds a sandbox is to do. Paths of folders are the machine's.
type setup struct {
	Kind     Kind
	Work     string
	Lower    int // folders named l/0 … in Work, topmost first; none: root is filled already
	Spec     Spec
	Terminal bool
	Groups   bool // the ids may have groups besides their own
	Named    bool // a chroot has a host name of its own
	Mounted  bool // the program is a file of the machine, which the sandbox's first process executes from a read-only mount
}

// refusal is a feature that the kernel refused.
type refusal struct {
	missing string
	error
}

func (r refusal) Unwrap() error { return r.error }

func refused(missing, doing string, err error) error {
	if err == nil {
		return nil
	}
	return refusal{missing, fmt.Errorf("%s: %w", doing, err)}
}

// setupMain builds the sandbox and becomes its first process; it tells an outcome where it cannot.
func setupMain() error {
	o, err := childBegins()
	if err != nil {
		return tell(outcome{Err: err.Error(), Missing: "namespaces"})
	}
	return tell(failure(o.Setup.run()))
}

// failure is the outcome of a sandbox that cannot be had.
func failure(err error) outcome {
	result := outcome{Err: err.Error()}
	var r refusal
	if errors.As(err, &r) {
		result.Missing = r.missing
	}
	return result
}

// run builds the sandbox and executes its first process; it returns where it fails.
func (o *setup) run() error {
	// What is given up is given up by one thread, the others end when it executes.
	runtime.LockOSThread()
	firstToGo()
	NoDumps()
	program, err := fdProgram, error(nil)
	if o.Kind == Chroot {
		err = o.changeRoot()
	} else {
		err = o.namespaces(&program)
	}
	if err != nil {
		return err
	}
	plainLimits()
	if err := o.renounce(); err != nil {
		return err
	}
	// A network of its own has no abstract sockets but its own; the machine's must be out of reach.
	if o.Kind != Chroot && o.Spec.Network {
		if err := scopeSockets(); err != nil {
			return err
		}
	}
	if err := filterCalls(o.Kind); err != nil {
		return err
	}
	return o.executeInit(program)
}

// executeInit replaces this process by the sandbox's first one, which gets what it must know and no more.
func (o *setup) executeInit(program int) error {
	next := initOrders{Kind: o.Kind, Terminal: o.Terminal, MayGroup: o.Groups, Spec: o.Spec}
	next.Spec.Secrets, next.Spec.Files, next.Spec.Mounts, next.Spec.Lower, next.Spec.Points, next.Spec.Work = nil, nil, nil, nil, nil, ""
	if err := json.NewEncoder(descriptor(fdNext)).Encode(next); err != nil {
		return fmt.Errorf("handing over to the sandbox: %w", err)
	}
	if _, err := unix.Seek(fdNext, 0, 0); err != nil {
		return fmt.Errorf("handing over to the sandbox: %w", err)
	}
	inherited := []int{fdOrders, fdOutcome, fdObserver, fdNext}
	if o.Kind == Chroot {
		inherited = append(inherited, fdProcesses)
	}
	if o.Spec.Admits {
		inherited = append(inherited, fdDoor)
	}
	for _, fd := range inherited {
		if _, err := unix.FcntlInt(uintptr(fd), unix.F_SETFD, 0); err != nil {
			return fmt.Errorf("handing over to the sandbox: %w", err)
		}
	}
	plainSignals()
	name, args, env := []byte{0}, []*byte{&append([]byte(roleInit), 0)[0], nil}, []*byte{&append([]byte(fmt.Sprintf("GOMAXPROCS=%d", max(2, runtime.GOMAXPROCS(0)))), 0)[0], nil}
	_, _, errno := unix.RawSyscall6(unix.SYS_EXECVEAT, uintptr(program), uintptr(unsafe.Pointer(&name[0])), uintptr(unsafe.Pointer(&args[0])),
		uintptr(unsafe.Pointer(&env[0])), unix.AT_EMPTY_PATH, 0)
	return fmt.Errorf("handing over to the sandbox: %w", errno)
}

// namespaces builds the file system and makes it the root.
func (o *setup) namespaces(program *int) error {
	if err := unix.Mount("", "/", "", unix.MS_REC|unix.MS_PRIVATE, ""); err != nil {
		return refused("mounts", "making mounts private", err)
	}
	root := filepath.Join(o.Work, "root")
	if err := o.mountRoot(root); err != nil {
		return err
	}
	j := &jail{root: root, gids: o.Spec.GID}
	if err := j.open(); err != nil {
		return err
	}
	for _, step := range []func() error{
		j.proc, j.dev,
		func() error { return j.sys(o.Spec.Under.Processors) },
		func() error { return j.files(machineFiles(o.Spec.Under.Machine), true) },
		func() error { return j.program(o.Mounted, program) },
		func() error { return j.tmp(o.Spec.FreshTmp) },
		func() error { return j.files(o.Spec.Files, true) },
		func() error { return j.mounts(o.Spec.Mounts) },
		func() error { return j.seal(o.Spec.Sealed) },
		func() error { return j.files(o.Spec.Secrets, false) },
		func() error { return loopback(o.Spec.Network) },
		func() error { return device(o.Spec.Joined) },
		func() error { return unix.Sethostname([]byte(Hostname)) },
		func() error { return j.readOnly(o.Spec) },
		j.enter,
		limitProcesses,
		func() error { return firstProcess(o.Spec.Under.FirstPID) },
		j.guard,
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// mountRoot mounts the overlay, or the folder that was filled. Names are relative and short: the kernel takes one page.
func (o *setup) mountRoot(root string) error {
	if o.Lower == 0 {
		return refused("mounts", "mounting the root", errors.Join(unix.Mount(root, root, "", unix.MS_BIND, ""),
			unix.Mount("", root, "", unix.MS_BIND|unix.MS_REMOUNT|unix.MS_NODEV, "")))
	}
	if err := os.Chdir(o.Work); err != nil {
		return err
	}
	lower := make([]string, o.Lower)
	for i := range lower {
		lower[i] = fmt.Sprintf("l/%d", i)
	}
	options := "lowerdir=" + strings.Join(lower, ":") + ",upperdir=upper,workdir=work"
	if len(options) > os.Getpagesize()-100 {
		return fmt.Errorf("the view has %d layers, more than can be mounted over each other", o.Lower)
	}
	err := unix.Mount("overlay", "root", "overlay", unix.MS_NODEV, options+",userxattr,volatile,redirect_dir=off,metacopy=off,index=off")
	if errors.Is(err, unix.EINVAL) {
		// With userxattr older kernels refuse to hear of the others, which it turns off.
		err = unix.Mount("overlay", "root", "overlay", unix.MS_NODEV, options+",userxattr")
	}
	return refused("overlay", "mounting the view as an overlay", err)
}

// changeRoot is what can be had without namespaces.
func (o *setup) changeRoot() error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return err
	}
	if err := unix.Sethostname([]byte(Hostname)); err != nil && o.Named {
		return refused("chroot", "naming the sandbox", err)
	}
	if err := unix.Chroot(filepath.Join(o.Work, "root")); err != nil {
		return refused("chroot", "changing the root", err)
	}
	return os.Chdir("/")
}

// rights are the capabilities that package managers need. None of them reaches out of the namespace.
var rights = []uintptr{unix.CAP_CHOWN, unix.CAP_DAC_OVERRIDE, unix.CAP_FOWNER, unix.CAP_FSETID, unix.CAP_KILL, unix.CAP_SETGID, unix.CAP_SETUID,
	unix.CAP_SETPCAP, unix.CAP_SETFCAP, unix.CAP_NET_BIND_SERVICE, unix.CAP_SYS_CHROOT, unix.CAP_AUDIT_WRITE}

// renounce gives up what the command may not have, for this thread and what it starts.
func (o *setup) renounce() error {
	if err := unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0); err != nil {
		return fmt.Errorf("giving up rights: %w", err)
	}
	for c := uintptr(0); c <= unix.CAP_LAST_CAP; c++ {
		// Without a namespace the right to change the root is the right to leave it.
		if slices.Contains(rights, c) && (o.Kind != Chroot || c != unix.CAP_SYS_CHROOT) {
			continue
		}
		if err := unix.Prctl(unix.PR_CAPBSET_DROP, c, 0, 0, 0); err != nil && !errors.Is(err, unix.EINVAL) {
			return fmt.Errorf("giving up rights: %w", err)
		}
	}
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("giving up rights: %w", err)
	}
	var mask uint64
	for _, c := range rights {
		if o.Kind != Chroot || c != unix.CAP_SYS_CHROOT {
			mask |= 1 << c
		}
	}
	head := unix.CapUserHeader{Version: unix.LINUX_CAPABILITY_VERSION_3}
	var data [2]unix.CapUserData
	if err := unix.Capget(&head, &data[0]); err != nil {
		return fmt.Errorf("giving up rights: %w", err)
	}
	for i := range data {
		word := uint32(mask >> (32 * i))
		data[i] = unix.CapUserData{Effective: data[i].Permitted & word, Permitted: data[i].Permitted & word}
	}
	if err := unix.Capset(&head, &data[0]); err != nil {
		return fmt.Errorf("giving up rights: %w", err)
	}
	return nil
}

// mountPoint is a folder that every view must have for the sandbox's own mounts.
func mountPoints(s *Spec) []tree.Entry {
	var list []tree.Entry
	for _, name := range []string{"dev", "proc", "sys", "tmp"} {
		if name != "tmp" || s.FreshTmp {
			list = append(list, tree.Entry{Path: name, Kind: tree.Folder, Mode: 0o755})
		}
	}
	return list
}
