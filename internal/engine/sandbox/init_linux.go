package sandbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/observe"
)

// initOrders is what the first process of a sandbox is to do.
type initOrders struct {
	Kind     Kind
	Spec     Spec // without what was used to build the sandbox
	Terminal bool
	MayGroup bool // the ids may have groups besides their own

	answer     chan error
	unobserved string // why what the command touches is not seen
}

// initMain runs the command and waits for it. When this process ends the kernel ends whatever else runs.
//
// It has the rights of the command's root and none besides. What the command could do with it is let, stop or end its own
// sandbox; it is not dumpable, so that neither its memory nor its files can be had.
func initMain() error {
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return tell(outcome{Err: "closing the sandbox's first process: " + err.Error()})
	}
	// Signals from inside end nothing, as with any first process; and none that was ignored stays so for the command.
	signal.Notify(make(chan os.Signal, 1))
	setName("imbricat")
	if err := unix.CloseRange(fdOrders, ^uint(0)>>1, unix.CLOSE_RANGE_CLOEXEC); err != nil {
		for fd := fdOrders; fd <= fdDoor; fd++ {
			unix.CloseOnExec(fd)
		}
	}
	var o initOrders
	if err := json.NewDecoder(descriptor(fdNext)).Decode(&o); err != nil {
		return tell(outcome{Err: "reading what the sandbox is to do: " + err.Error()})
	}
	unix.Close(fdNext)
	if o.Kind != Chroot { // without a namespace this process must end all others itself, which it does when its orders end
		_ = unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0)
	}
	status, err := o.command()
	if err != nil {
		return tell(failure(err))
	}
	return tell(outcome{Status: status, Unobserved: o.unobserved})
}

// setName sets the name by which others see this process, that of its first thread.
func setName(name string) {
	if unix.Gettid() != unix.Getpid() {
		_ = os.WriteFile("/proc/self/comm", []byte(name), 0)
		return
	}
	text := append([]byte(name), 0)
	_ = unix.Prctl(unix.PR_SET_NAME, uintptr(unsafe.Pointer(&text[0])), 0, 0, 0)
}

// command runs the command and waits for it.
func (o *initOrders) command() (Status, error) {
	type start struct {
		pid int
		err error
	}
	if err := o.portIsFree(); err != nil {
		return Status{}, err
	}
	if err := o.listen(); err != nil {
		return Status{}, fmt.Errorf("listening for the command: %w", err)
	}
	started := make(chan start)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread is observed, and the command dies with it
		pid, err := o.exec()
		started <- start{pid, err}
		select {}
	}()
	s := <-started
	if s.err != nil {
		return Status{}, s.err
	}
	ignoreOthers() // only now: the command would inherit it
	// Nobody but the command may hold its terminal or its output open.
	for fd := range 3 {
		unix.Close(fd)
	}
	go func() {
		number := make([]byte, 1)
		for {
			if _, err := descriptor(fdOrders).Read(number); err != nil {
				// The supervisor is gone, or has had enough.
				o.end()
				unix.Exit(1)
			}
			_ = unix.Kill(s.pid, syscall.Signal(number[0]))
		}
	}()
	if o.Spec.Admits {
		go o.admit()
	}
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
		status := Status{Code: wait.ExitStatus(), CPU: time.Duration(used.Utime.Nano() + used.Stime.Nano()), Memory: int64(used.Maxrss) << 10}
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

// patience bounds how long the first process tries to end what the command left.
const patience = 10 * time.Second

// end kills what the command left running, where no namespace does that: everything whose parent we have become. What is
// killed leaves its children to us, so it takes some rounds. The list of children may lack some while others end; that
// there are none tells the kernel.
func (o *initOrders) end() {
	if o.Kind != Chroot {
		return
	}
	for began := time.Now(); time.Since(began) < patience; time.Sleep(time.Millisecond) {
		for _, pid := range o.children() {
			_ = unix.Kill(pid, unix.SIGKILL)
		}
		pid, err := 1, error(nil)
		for pid > 0 && err == nil {
			pid, err = unix.Wait4(-1, nil, unix.WNOHANG, nil)
		}
		if errors.Is(err, unix.ECHILD) {
			return
		}
	}
}

// children lists the processes whose parent is this one, as far as they can be told: by the thread that started them.
func (o *initOrders) children() (list []int) {
	own := fmt.Sprintf("%d/task", os.Getpid())
	fd, err := unix.Openat(fdProcesses, own, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil
	}
	folder := os.NewFile(uintptr(fd), own)
	defer folder.Close()
	threads, _ := folder.Readdirnames(-1) // some may end meanwhile
	for _, thread := range threads {
		one, err := unix.Openat(fdProcesses, own+"/"+thread+"/children", unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err != nil {
			continue
		}
		text, _ := io.ReadAll(descriptor(one))
		unix.Close(one)
		for word := range strings.FieldsSeq(string(text)) {
			if pid, err := strconv.Atoi(word); err == nil {
				list = append(list, pid)
			}
		}
	}
	return list
}

// exec starts the command. Looking for the program is seen as what the command itself looks for.
func (o *initOrders) exec() (int, error) {
	if err := o.surround(); err != nil {
		return 0, err
	}
	if o.Spec.Observe {
		if err := o.observe(); err != nil {
			return 0, err
		}
	}
	program, err := lookUp(&o.Spec)
	if err != nil {
		return 0, err
	}
	attr := &syscall.ProcAttr{Dir: o.Spec.Dir, Env: o.Spec.Env, Files: []uintptr{0, 1, 2}, Sys: &syscall.SysProcAttr{Setpgid: !o.Terminal, Pdeathsig: syscall.SIGKILL}}
	if o.Terminal {
		attr.Sys.Setsid, attr.Sys.Setctty, attr.Sys.Ctty = true, true, 0
	}
	attr.Sys.Credential = &syscall.Credential{Uid: uint32(o.Spec.UID), Gid: uint32(o.Spec.GID), NoSetGroups: !o.MayGroup}
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

// observe hands the calls of this thread, and of what it starts, over to the supervisor, and waits until that is ready.
func (o *initOrders) observe() error {
	root, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return fmt.Errorf("handing calls over: %w", err)
	}
	defer unix.Close(root)
	defer unix.Close(fdObserver)
	listener, err := observe.Filter(o.Spec.Under) // from here on nobody answers a call that names a path, until the supervisor is ready
	if err != nil {
		o.unobserved = "this machine cannot observe commands: " + err.Error()
		if o.Spec.Under.Answered() {
			return refused("conditions", "showing the command another clock, order or machine", err)
		}
		return nil
	}
	defer unix.Close(listener)
	if err := unix.Sendmsg(fdObserver, []byte{'.'}, unix.UnixRights(listener, root), nil, 0); err != nil {
		return fmt.Errorf("handing calls over: %w", err)
	}
	if _, err := descriptor(fdObserver).Read(make([]byte, 1)); err != nil {
		return fmt.Errorf("handing calls over: %w", err)
	}
	return nil
}

// startError says why a command could not be started.
func startError(program string, s *Spec, err error) error {
	switch {
	case errors.Is(err, unix.ENOEXEC):
		return refused("format", program, errors.New("it is not a program for this machine: it may be for another architecture, or empty"))
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
