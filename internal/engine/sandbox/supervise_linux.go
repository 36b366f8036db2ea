package sandbox

import (
	"context"
	"encoding/gob"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/trace"
	"imbricat/internal/engine/sandbox/folder"
	"imbricat/internal/engine/sandbox/observe"
)

// The supervisor is a process of its own beside the caller: it starts the commands' sandboxes, hears what they touch, holds
// their bounds and ends them. It needs rights over the commands while they run, so it lives outside of their namespaces; and it
// must answer quickly, so it shares no processor with the caller's own work. It ends with the caller.

// supervisor is the caller's side.
type supervisor struct {
	mutex   sync.Mutex
	control *net.UnixConn
	child   *child
}

// standardFiles are what a command reads and what it writes to, each nil where it has none, and the other end of its door.
type standardFiles [4]*os.File

// verdict is what the supervisor says of a command.
type verdict struct {
	Unstarted string // why the sandbox could not be started; with the kernel's number where it was that
	Errno     int
	Outcome   outcome
	Told      bool   // there is an outcome
	State     string // how the sandbox's first process ended
	Observed  *trace.Observation
	Unable    string // why the command was ended: it could not be shown what it was to be
	Bound     *BoundError
}

// startSupervisor starts the supervisor, where there are ids in a namespace that has them.
func startSupervisor(ctx context.Context, ids idMap) (*supervisor, error) {
	here, there, err := socketPair(unix.SOCK_SEQPACKET)
	if err != nil {
		return nil, err
	}
	defer there.Close()
	c, err := startChild(ctx, childOptions{role: roleSupervisor, ids: ids, files: []*os.File{there}})
	if err != nil {
		here.Close()
		return nil, err
	}
	return &supervisor{control: here, child: c}, nil
}

func (s *supervisor) close() error {
	err := s.control.Close()
	s.child.wait()
	return err
}

// run has a sandbox built and its command run, with the given standard files, of which each may be nil. It waits until
// nothing of it runs any more.
func (s *supervisor) run(ctx context.Context, o *setup, signals <-chan os.Signal, standard standardFiles, handedOver func()) (verdict, error) {
	conn, err := s.begin(o, standard)
	handedOver()
	if err != nil {
		return verdict{}, fmt.Errorf("asking the supervisor: %w", err)
	}
	defer conn.Close()
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			select {
			case got := <-signals:
				if number, is := got.(unix.Signal); is {
					_, _ = conn.Write([]byte{byte(number)})
				}
			case <-ctx.Done():
				_ = conn.CloseWrite() // ends the command
				return
			case <-done:
				return
			}
		}
	}()
	var v verdict
	if err := gob.NewDecoder(conn).Decode(&v); err != nil {
		if ctx.Err() != nil {
			return v, context.Cause(ctx)
		}
		return v, errors.New("the supervisor of commands ended unexpectedly, and the command with it")
	}
	if ctx.Err() != nil {
		return v, context.Cause(ctx)
	}
	return v, nil
}

// begin gives the supervisor a command's files and what it is to do.
func (s *supervisor) begin(o *setup, standard standardFiles) (*net.UnixConn, error) {
	conn, there, err := socketPair(unix.SOCK_STREAM)
	if err != nil {
		return nil, err
	}
	defer there.Close()
	given, rights := make([]byte, 0, len(standard)), []int{int(there.Fd())}
	for _, f := range standard {
		given = append(given, '0')
		if f != nil {
			given[len(given)-1] = '1'
			rights = append(rights, int(f.Fd()))
		}
	}
	s.mutex.Lock()
	_, _, err = s.control.WriteMsgUnix(given, unix.UnixRights(rights...), nil)
	s.mutex.Unlock()
	if err == nil {
		err = writeOrders(conn, o)
	}
	if err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

// superviseMain is the supervisor's own side: it takes commands until the caller hangs up.
func superviseMain() error {
	if _, err := childBegins(); err != nil {
		return err
	}
	debug.SetGCPercent(400)
	program := sync.OnceValues(sealedProgram)
	go func() { _, _ = program() }() // while the caller still lays down the first view
	for {
		given, rights := make([]byte, len(standardFiles{})), make([]byte, unix.CmsgSpace(4*(1+len(standardFiles{}))))
		n, rightsN, _, _, err := unix.Recvmsg(fdFirstOwn, given, rights, unix.MSG_CMSG_CLOEXEC)
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return err
		}
		files, err := filesOf(rights[:rightsN])
		if err != nil || len(files) != 1+strings.Count(string(given), "1") {
			return errors.Join(err, folder.ErrTruncated)
		}
		var standard standardFiles
		next := 1
		for i := range standard {
			if given[i] == '1' {
				standard[i] = files[next]
				next++
			}
		}
		go func() {
			defer files[0].Close()
			var orders setup
			if readOrders(files[0], &orders) != nil {
				return
			}
			v := supervise(&orders, program, standard, files[0])
			_ = gob.NewEncoder(files[0]).Encode(v) // the caller may be gone
		}()
	}
}

// filesOf takes the descriptors of a message.
func filesOf(control []byte) ([]*os.File, error) {
	messages, err := unix.ParseSocketControlMessage(control)
	if err != nil {
		return nil, err
	}
	var files []*os.File
	for i := range messages {
		fds, err := unix.ParseUnixRights(&messages[i])
		if err != nil {
			return nil, err
		}
		for _, fd := range fds {
			unix.CloseOnExec(fd)
			files = append(files, os.NewFile(uintptr(fd), "given"))
		}
	}
	return files, nil
}

// supervise runs one command. Whoever hangs up ends it.
func supervise(o *setup, program func() (*os.File, error), standard standardFiles, caller *os.File) verdict {
	c, observed, err := startSandbox(o, program, standard)
	for _, f := range standard {
		if f != nil {
			f.Close() // the command has them now
		}
	}
	if err != nil {
		v := verdict{Unstarted: err.Error()}
		var number unix.Errno
		if errors.As(err, &number) {
			v.Errno = int(number)
		}
		return v
	}
	defer observed.Close()
	go c.relay(caller)
	var eyes *observe.Observer
	var blind error
	heard := make(chan struct{})
	go func() {
		defer close(heard)
		if eyes, blind = takeOver(o, observed, &observe.Observer{Live: o.Spec.Links, Under: o.Spec.Under, Host: Hostname, End: c.kill}); blind != nil {
			c.kill() // nobody would ever answer its calls
		}
	}()
	watched := make(chan *BoundError, 1)
	go func() { watched <- newWatcher(c.pid(), o).watch(c) }()
	result, told := c.hear()
	<-c.ended
	c.wait()
	if o.Kind == Chroot {
		endBelow(filepath.Join(o.Work, "root"), 0)
	}
	observed.Close()
	<-heard
	v := verdict{Outcome: result, Told: told, State: fmt.Sprint(c.state), Bound: <-watched}
	switch { // of what it touched
	case eyes != nil:
		var unable error
		if v.Observed, unable = eyes.Stop(); unable != nil {
			v.Unable = unable.Error()
		}
	case blind != nil:
		v.Told, v.State = false, "what it touches could not be seen: "+blind.Error()
	case result.Unobserved != "":
		v.Observed = &trace.Observation{Whole: result.Unobserved}
	}
	return v
}

// relay sends signals on to a command, and ends it when the caller hangs up.
func (c *child) relay(caller *os.File) {
	number := make([]byte, 1)
	for {
		if _, err := caller.Read(number); err != nil {
			c.kill()
			return
		}
		_, _ = c.orders.Write(number)
	}
}

// startSandbox starts the process that builds a sandbox and becomes its first one, from the sealed program where that may be
// executed. The socket is where that hands its calls over.
func startSandbox(o *setup, program func() (*os.File, error), standard standardFiles) (*child, *net.UnixConn, error) {
	if !o.Mounted {
		if own, err := program(); err == nil {
			c, observed, err := startFrom(own, o, standard)
			if !errors.Is(err, unix.EACCES) {
				return c, observed, err
			}
		}
		o.Mounted = true
	}
	own, err := os.Open("/proc/self/exe")
	if err != nil {
		return nil, nil, err
	}
	defer own.Close()
	return startFrom(own, o, standard)
}

func startFrom(own *os.File, o *setup, standard standardFiles) (c *child, observed *net.UnixConn, err error) {
	options := childOptions{role: roleSetup, setup: o, stdin: standard[0], stdout: standard[1], stderr: standard[2], sealed: !o.Mounted}
	if o.Kind == Chroot {
		if o.Named {
			options.flags = unix.CLONE_NEWUTS
		}
	} else {
		if options.ids, err = identity(); err != nil {
			return nil, nil, err
		}
		options.flags = unix.CLONE_NEWNS | unix.CLONE_NEWPID | unix.CLONE_NEWIPC | unix.CLONE_NEWUTS | unix.CLONE_NEWCGROUP
		if !o.Spec.Network {
			options.flags |= unix.CLONE_NEWNET
		}
	}
	here, there, err := socketPair(unix.SOCK_SEQPACKET)
	if err != nil {
		return nil, nil, err
	}
	defer there.Close()
	defer func() {
		if err != nil {
			here.Close()
		}
	}()
	// What the sandbox's processes need under fixed numbers is given to them under these: the runtime has files of its own.
	next, err := unix.MemfdCreate("orders", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, nil, err
	}
	orders := os.NewFile(uintptr(next), "orders")
	defer orders.Close()
	options.files = []*os.File{own, there, orders}
	if o.Kind == Chroot {
		processes, err := unix.Open("/proc", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if err != nil {
			return nil, nil, err
		}
		proc := os.NewFile(uintptr(processes), "/proc")
		defer proc.Close()
		options.files = append(options.files, proc)
	}
	if door := standard[3]; door != nil {
		for len(options.files) < fdDoor-fdFirstOwn {
			options.files = append(options.files, nil)
		}
		options.files = append(options.files, door)
	}
	c, err = startChild(context.Background(), options)
	return c, here, err
}

// takeOver waits for the calls of a command and serves them. There is no observer where the command hands none over.
func takeOver(o *setup, from *net.UnixConn, eyes *observe.Observer) (*observe.Observer, error) {
	text, rights := make([]byte, 1), make([]byte, unix.CmsgSpace(2*4))
	_, n, _, _, err := from.ReadMsgUnix(text, rights)
	if err != nil || n == 0 {
		return nil, nil
	}
	files, err := filesOf(rights[:n])
	if err != nil || len(files) != 2 {
		return nil, errors.Join(err, folder.ErrTruncated)
	}
	if o.Kind == Chroot {
		if eyes.Above, err = filepath.EvalSymlinks(filepath.Join(o.Work, "root")); err != nil {
			return nil, err
		}
	}
	// The observer has descriptors of its own: those of files are closed behind its back.
	for i, fd := range []*int{&eyes.Listener, &eyes.Root} {
		if *fd, err = unix.FcntlInt(files[i].Fd(), unix.F_DUPFD_CLOEXEC, 0); err != nil {
			return nil, err
		}
		files[i].Close()
	}
	if eyes, err = observe.Start(eyes); err != nil {
		return nil, err
	}
	_, err = from.Write([]byte{'.'})
	return eyes, err
}

// endBelow kills the processes but one whose root is a folder, or in it, until there are none. It stops all of them
// first: some may start others faster than they can be killed.
func endBelow(root string, but int) {
	for range 1000 {
		stopped := map[int]bool{}
		for anew := true; anew; {
			anew = false
			for _, pid := range processesBelow(root) {
				if pid != but && !stopped[pid] {
					stopped[pid], anew = true, true
					_ = unix.Kill(pid, unix.SIGSTOP)
				}
			}
		}
		if len(stopped) == 0 {
			return
		}
		for pid := range stopped {
			_ = unix.Kill(pid, unix.SIGKILL)
		}
		time.Sleep(time.Millisecond)
	}
}

// processesBelow lists the machine's processes whose root is a folder, or in it. Those that have ended have none.
func processesBelow(root string) (pids []int) {
	real, err := filepath.EvalSymlinks(root)
	if err != nil {
		return nil
	}
	proc, err := os.Open("/proc")
	if err != nil {
		return nil
	}
	defer proc.Close()
	names, _ := proc.Readdirnames(-1)
	for _, name := range names {
		pid, err := strconv.Atoi(name)
		if err != nil {
			continue
		}
		if at, err := os.Readlink("/proc/" + name + "/root"); err == nil && (at == real || strings.HasPrefix(at, real+"/")) {
			pids = append(pids, pid)
		}
	}
	return pids
}
