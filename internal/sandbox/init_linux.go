package sandbox

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"imbricat/internal/trace"
	"imbricat/internal/tree"
)

// initOrders is what the first process of a sandbox is to do. Paths of folders are the machine's.
type initOrders struct {
	Kind     Kind
	Work     string
	Lower    int // folders named l/0 … in Work, topmost first; none: root is filled already
	Spec     Spec
	Terminal bool
	Groups   bool // the ids may have groups besides their own

	answer     chan error
	processes  int // the machine's /proc, of a chroot
	observer   *observer
	unobserved string // why there is no observer
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

// run sets the sandbox up, runs the command and waits for it. When the process ends the kernel ends whatever else runs.
func (o *initOrders) run(orders *bufio.Reader) outcome {
	var err error
	if o.Kind == Chroot {
		err = o.changeRoot()
	} else {
		err = o.namespaces()
	}
	var status Status
	if err == nil {
		status, err = o.command(orders)
	}
	result := outcome{Status: status}
	if err != nil {
		result.Err = err.Error()
		var r refusal
		if errors.As(err, &r) {
			result.Missing = r.missing
		}
	}
	return result
}

// namespaces builds the file system and makes it the root.
func (o *initOrders) namespaces() error {
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
		j.proc, j.dev, j.sys,
		func() error { return j.tmp(o.Spec.FreshTmp) },
		func() error { return j.files(o.Spec.Files, true) },
		func() error { return j.mounts(o.Spec.Mounts) },
		func() error { return j.files(o.Spec.Secrets, false) },
		func() error { return loopback(o.Spec.Network) },
		func() error { return unix.Sethostname([]byte(Hostname)) },
		j.enter,
		limitProcesses,
		j.guard,
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// mountRoot mounts the overlay, or the folder that was filled. Names are relative and short: the kernel takes one page.
func (o *initOrders) mountRoot(root string) error {
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
func (o *initOrders) changeRoot() error {
	if err := unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0); err != nil {
		return err
	}
	var err error
	if o.processes, err = unix.Open("/proc", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0); err != nil {
		return refused("chroot", "reading /proc", err)
	}
	if err := unix.Chroot(filepath.Join(o.Work, "root")); err != nil {
		return refused("chroot", "changing the root", err)
	}
	return os.Chdir("/")
}

// command runs the command on a thread that gives up every right it does not need; the command inherits that.
func (o *initOrders) command(orders *bufio.Reader) (Status, error) {
	type start struct {
		pid int
		err error
	}
	if err := o.portIsFree(); err != nil {
		return Status{}, err
	}
	started := make(chan start)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is spoilt for anything else
		pid, err := o.exec()
		if o.Spec.Observe {
			debug.SetGCPercent(400)
		}
		started <- start{pid, err}
		select {} // the command dies with the thread that started it
	}()
	s := <-started
	if s.err != nil {
		return Status{}, s.err
	}
	// Nobody but the command may hold its terminal or its output open.
	for fd := range 3 {
		unix.Close(fd)
	}
	go func() {
		for {
			number, err := orders.ReadByte()
			if err != nil {
				// The caller is gone, or has had enough.
				o.end()
				unix.Exit(1)
			}
			_ = unix.Kill(s.pid, syscall.Signal(number))
		}
	}()
	if o.Spec.Ask != nil {
		o.answer = make(chan error, 1)
		go o.ask(s.pid)
	}
	for {
		var wait unix.WaitStatus
		var used unix.Rusage
		pid, err := unix.Wait4(-1, &wait, 0, &used)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return Status{}, fmt.Errorf("waiting for the command: %w", err)
		}
		if pid != s.pid {
			continue
		}
		status := Status{Code: wait.ExitStatus(), CPU: time.Duration(used.Utime.Nano() + used.Stime.Nano())}
		if o.observer != nil {
			status.Observed = o.observer.stop()
		} else if o.unobserved != "" {
			status.Observed = &trace.Observation{Whole: o.unobserved}
		}
		o.end()
		select {
		case err := <-o.answer:
			if status.Answered = err == nil; err != nil {
				status.Unanswered = err.Error()
			}
		default:
		}
		if wait.Signaled() {
			status.Code, status.Signal = 128+int(wait.Signal()), unix.SignalName(wait.Signal())
		}
		return status, nil
	}
}

// portIsFree refuses to ask where something else would answer, in a network that is not the command's own.
func (o *initOrders) portIsFree() error {
	if o.Spec.Ask == nil {
		return nil
	}
	listener, err := net.Listen("tcp", o.Spec.Ask.Address())
	if err != nil {
		return refused("port", fmt.Sprintf("the port %d is not free on this machine", o.Spec.Ask.Port), err)
	}
	return listener.Close()
}

// grace is how long a command that was asked may take to end by itself.
const grace = 5 * time.Second

// ask waits for the command's answer and ends it then.
func (o *initOrders) ask(pid int) {
	o.answer <- o.Spec.Ask.Wait(context.Background())
	_ = unix.Kill(pid, syscall.Signal(o.Spec.Stop))
	time.Sleep(grace)
	_ = unix.Kill(pid, unix.SIGKILL)
}

// end kills what the command left running, where no namespace does that: everything whose parent we have become.
func (o *initOrders) end() {
	if o.Kind != Chroot {
		return
	}
	// A process that is killed leaves its children to us, so it takes some rounds.
	for range 1000 {
		children, err := o.children()
		if err != nil || len(children) == 0 {
			return
		}
		for _, pid := range children {
			_ = unix.Kill(pid, unix.SIGKILL)
			_, _ = unix.Wait4(pid, nil, 0, nil)
		}
	}
}

// children lists the processes whose parent is this one.
func (o *initOrders) children() ([]int, error) {
	fd, err := unix.Openat(o.processes, fmt.Sprintf("%d/task/%d/children", os.Getpid(), os.Getpid()), unix.O_RDONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	text := make([]byte, 64<<10)
	n, err := unix.Read(fd, text)
	var list []int
	for word := range strings.FieldsSeq(string(text[:max(n, 0)])) {
		if pid, convErr := strconv.Atoi(word); convErr == nil {
			list = append(list, pid)
		}
	}
	return list, err
}

// exec starts the command.
func (o *initOrders) exec() (int, error) {
	program, err := lookUp(&o.Spec)
	if err != nil {
		return 0, err
	}
	if err := o.renounce(); err != nil {
		return 0, err
	}
	// A network of its own has no abstract sockets but its own; the machine's must be out of reach.
	if o.Kind != Chroot && o.Spec.Network {
		if err := scopeSockets(); err != nil {
			return 0, err
		}
	}
	if err := filterCalls(); err != nil {
		return 0, err
	}
	if o.Spec.Observe {
		o.observe()
	}
	attr := &syscall.ProcAttr{Dir: o.Spec.Dir, Env: o.Spec.Env, Files: []uintptr{0, 1, 2}, Sys: &syscall.SysProcAttr{Setpgid: !o.Terminal, Pdeathsig: syscall.SIGKILL}}
	if o.Terminal {
		attr.Sys.Setsid, attr.Sys.Setctty, attr.Sys.Ctty = true, true, 0
	}
	attr.Sys.Credential = &syscall.Credential{Uid: uint32(o.Spec.UID), Gid: uint32(o.Spec.GID), NoSetGroups: !o.Groups}
	for _, g := range o.Spec.Groups {
		attr.Sys.Credential.Groups = append(attr.Sys.Credential.Groups, uint32(g))
	}
	unix.Umask(0o022)
	pid, err := syscall.ForkExec(program, o.Spec.Args, attr)
	if err != nil {
		return 0, startError(program, &o.Spec, err)
	}
	return pid, nil
}

// observe starts to note what the command touches. From here on this thread's own calls are stopped as well. It starts
// the command with its processor held (vfork), so the observer needs another one, and no collection of garbage may wait
// for all of them.
func (o *initOrders) observe() {
	runtime.GOMAXPROCS(max(4, runtime.GOMAXPROCS(0)))
	debug.SetGCPercent(-1)
	proc := o.processes
	if o.Kind != Chroot {
		var err error
		if proc, err = unix.Open("/proc", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0); err != nil {
			o.unobserved = "its processes cannot be looked at: " + err.Error()
			return
		}
	}
	observer, err := observe(proc, o.Spec.Links)
	if err != nil {
		o.unobserved = "this machine cannot observe commands: " + err.Error()
		return
	}
	o.observer = observer
	go observer.serve()
}

// startError says why a command could not be started.
func startError(program string, s *Spec, err error) error {
	switch {
	case errors.Is(err, unix.ENOEXEC):
		return refused("format", program, errors.New("it is no program for this machine: it may be for another architecture, or empty"))
	case errors.Is(err, unix.ENOENT):
		if info, statErr := os.Stat(s.Dir); statErr != nil || !info.IsDir() {
			return fmt.Errorf("there is no folder %s to start in", s.Dir)
		}
		return fmt.Errorf("%s is there, but what it needs to start (an interpreter or a loader) is not", program)
	case errors.Is(err, unix.EINVAL) && s.UID != 0:
		return refused("ids", fmt.Sprintf("becoming user %d", s.UID), errors.New("this sandbox has only one id"))
	}
	return fmt.Errorf("starting %s: %w", program, err)
}

// lookUp finds a program as a shell would.
func lookUp(s *Spec) (string, error) {
	name := s.Args[0]
	if strings.Contains(name, "/") {
		if !strings.HasPrefix(name, "/") {
			name = filepath.Join(s.Dir, name)
		}
		if _, err := os.Stat(name); err != nil {
			return "", fmt.Errorf("there is no %s in the view", name)
		}
		return name, nil
	}
	path := ""
	for _, variable := range s.Env {
		if value, is := strings.CutPrefix(variable, "PATH="); is {
			path = value
		}
	}
	for _, folder := range strings.Split(path, ":") {
		if !strings.HasPrefix(folder, "/") {
			continue
		}
		candidate := filepath.Join(folder, name)
		if info, err := os.Stat(candidate); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return candidate, nil
		}
	}
	return "", fmt.Errorf("there is no program %q in %s", name, path)
}

// rights are the capabilities that package managers need. None of them reaches out of the namespace.
var rights = []uintptr{unix.CAP_CHOWN, unix.CAP_DAC_OVERRIDE, unix.CAP_FOWNER, unix.CAP_FSETID, unix.CAP_KILL, unix.CAP_SETGID, unix.CAP_SETUID,
	unix.CAP_SETPCAP, unix.CAP_SETFCAP, unix.CAP_NET_BIND_SERVICE, unix.CAP_SYS_CHROOT, unix.CAP_AUDIT_WRITE}

// renounce gives up what the command may not have, for this thread and what it starts.
func (o *initOrders) renounce() error {
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
