package sandbox

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/folder"
)

// This program starts itself again for its work inside namespaces; the first argument tells it what it is.
//
// The caller starts one supervisor, which keeps all rights and stays outside of every sandbox. For each command the
// supervisor starts a process in new namespaces that builds the sandbox (setup), gives up its rights and executes once
// more as the sandbox's first process (init), so that no thread in there has ever had more rights than the command.
const (
	roleSupervisor = "imbricat: supervisor of commands"
	roleSetup      = "imbricat: setup of a sandbox"
	roleInit       = "imbricat: init of a sandbox"
	roleHelper     = "imbricat: helper in a user namespace"
)

// Files that every such child inherits, by number. Those of its role follow.
const (
	fdOrders   = 3 // what it is to do, as JSON behind its length; then, for a sandbox, numbers of signals until its supervisor goes away
	fdOutcome  = 4 // what became of it, as JSON
	fdFirstOwn = 5
)

// Files of a sandbox's two roles.
const (
	fdProgram  = fdFirstOwn     // this program, as the init executes it
	fdObserver = fdFirstOwn + 1 // a socket on which the supervisor takes the calls over
	fdNext     = fdFirstOwn + 2 // the orders of the init
	// The machine's /proc, of a chroot, for ending what the command left.
	fdProcesses = fdFirstOwn + 3
	fdDoor      = fdFirstOwn + 4 // where there is one
)

// orders is what the caller tells a child first.
type orders struct {
	Mapped bool // the ids have been mapped: become root of the namespace
	Setup  *setup
}

// outcome is what an init tells its caller.
type outcome struct {
	Status  Status
	Err     string
	Missing string // the feature that the kernel refused
	// Unobserved is why what the command touches was not seen, where that was asked for.
	Unobserved string
}

// idMap is how ids inside a user namespace stand for ids outside. No rows is no namespace.
type idMap struct {
	uids, gids []syscall.SysProcIDMap
	byProgram  bool // the rows need newuidmap and newgidmap
	setgroups  bool
}

// identity maps every id that this process has to itself, in a user namespace below its own.
func identity() (idMap, error) {
	m := idMap{setgroups: mayGroup()}
	for file, rows := range map[string]*[]syscall.SysProcIDMap{"/proc/self/uid_map": &m.uids, "/proc/self/gid_map": &m.gids} {
		text, err := os.ReadFile(file)
		if err != nil {
			return m, err
		}
		for line := range strings.Lines(string(text)) {
			var inside, outside, count int
			if _, err := fmt.Sscan(line, &inside, &outside, &count); err != nil {
				return m, fmt.Errorf("%s: %w", file, err)
			}
			*rows = append(*rows, syscall.SysProcIDMap{ContainerID: inside, HostID: inside, Size: count})
		}
	}
	return m, nil
}

// mayGroup reports whether processes may change their groups where this one is.
func mayGroup() bool {
	text, err := os.ReadFile("/proc/self/setgroups")
	return err != nil || strings.TrimSpace(string(text)) != "deny"
}

// few reports whether the map has fewer ids than a base may use.
func (m idMap) few() bool {
	for _, rows := range [][]syscall.SysProcIDMap{m.uids, m.gids} {
		all := 0
		for _, row := range rows {
			all += row.Size
		}
		if all < leastRange {
			return true
		}
	}
	return false
}

// own maps root inside to this process's ids, and nothing else.
func own() idMap {
	return idMap{uids: []syscall.SysProcIDMap{{HostID: os.Geteuid(), Size: 1}}, gids: []syscall.SysProcIDMap{{HostID: os.Getegid(), Size: 1}}}
}

// errNoRange says why there is no range of subordinate ids.
var errNoRange = errors.New("no subordinate ids")

// leastRange is how many ids a base may use: those of 16 bits.
const leastRange = 65535

// subordinate maps root inside to this process's ids and the ids above it to the user's range.
func subordinate() (idMap, error) {
	for _, program := range []string{"newuidmap", "newgidmap"} {
		if _, err := exec.LookPath(program); err != nil {
			return idMap{}, fmt.Errorf("%w: the program %s is missing", errNoRange, program)
		}
	}
	m := idMap{byProgram: true, setgroups: true}
	for file, rows := range map[string]*[]syscall.SysProcIDMap{"/etc/subuid": &m.uids, "/etc/subgid": &m.gids} {
		first, count, err := rangeIn(file)
		if err != nil {
			return idMap{}, err
		}
		id := os.Geteuid()
		if file == "/etc/subgid" {
			id = os.Getegid()
		}
		*rows = []syscall.SysProcIDMap{{HostID: id, Size: 1}, {ContainerID: 1, HostID: first, Size: count}}
	}
	return m, nil
}

func rangeIn(file string) (first, count int, err error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0, 0, fmt.Errorf("%w: %w", errNoRange, err)
	}
	names := []string{strconv.Itoa(os.Geteuid())}
	if u, err := user.Current(); err == nil {
		names = append(names, u.Username)
	}
	for line := range strings.Lines(string(text)) {
		fields := strings.Split(strings.TrimSpace(line), ":")
		if len(fields) != 3 || fields[0] != names[0] && fields[0] != names[len(names)-1] {
			continue
		}
		first, err1 := strconv.Atoi(fields[1])
		count, err2 := strconv.Atoi(fields[2])
		if err1 == nil && err2 == nil && count >= leastRange {
			return first, count, nil
		}
	}
	return 0, 0, fmt.Errorf("%w: %s gives user %s no range of %d or more", errNoRange, file, names[len(names)-1], leastRange)
}

// childOptions say how a child is started.
type childOptions struct {
	role   string
	ids    idMap
	flags  uintptr // CLONE_NEW… besides that of a user namespace
	files  []*os.File
	stdin  *os.File
	stdout *os.File
	stderr *os.File
	setup  *setup
	sealed bool // the first of files is the program
}

// child is a running child of ours.
type child struct {
	process *os.Process
	orders  *os.File // closing it ends the child
	outcome *os.File
	ended   chan struct{}
	state   *os.ProcessState
	once    sync.Once
	alone   string // the root of what has no namespace that ends with it
}

func (c *child) pid() int { return c.process.Pid }

// kill ends the child at once; with an init goes everything in its namespace. Without a namespace all that runs in its
// root is ended, the init last: should this process be killed meanwhile, the init ends what is left.
func (c *child) kill() {
	if c.alone != "" {
		endBelow(c.alone, c.pid())
	}
	_ = c.process.Kill()
	if c.alone != "" {
		endBelow(c.alone, 0)
	}
	<-c.ended
}

// wait ends what the child may do for us and waits until it is gone.
func (c *child) wait() {
	c.once.Do(func() { c.orders.Close() })
	<-c.ended
}

// startChild starts a child and gives it its orders. It dies with this process, however that ends.
func startChild(ctx context.Context, o childOptions) (*child, error) {
	ordersThere, ordersHere, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer ordersThere.Close()
	outcomeHere, outcomeThere, err := os.Pipe()
	if err != nil {
		ordersHere.Close()
		return nil, err
	}
	defer outcomeThere.Close()
	c := &child{orders: ordersHere, outcome: outcomeHere, ended: make(chan struct{})}
	cmd := exec.Command("/proc/self/exe")
	if o.sealed {
		cmd.Path = fmt.Sprintf("/proc/self/fd/%d", fdProgram)
	}
	cmd.Args = []string{o.role}
	cmd.Env = []string{"GOMAXPROCS=" + strconv.Itoa(runtime.GOMAXPROCS(0))}
	cmd.Dir = "/"
	cmd.ExtraFiles = append([]*os.File{ordersThere, outcomeThere}, o.files...)
	if o.stdin != nil {
		cmd.Stdin = o.stdin
	}
	if o.stdout != nil {
		cmd.Stdout = o.stdout
	}
	if o.stderr != nil {
		cmd.Stderr = o.stderr
	}
	attr := &syscall.SysProcAttr{Cloneflags: o.flags, Setsid: true}
	if o.setup != nil && o.setup.Kind == Chroot {
		c.alone = filepath.Join(o.setup.Work, "root")
	} else {
		attr.Pdeathsig = syscall.SIGKILL
	}
	if len(o.ids.uids) > 0 {
		attr.Cloneflags |= unix.CLONE_NEWUSER
		if o.ids.byProgram {
			// Without ids the child would lose its rights at exec.
			for c := range uintptr(unix.CAP_LAST_CAP + 1) {
				attr.AmbientCaps = append(attr.AmbientCaps, c)
			}
		} else {
			attr.UidMappings, attr.GidMappings, attr.GidMappingsEnableSetgroups = o.ids.uids, o.ids.gids, o.ids.setgroups
		}
	}
	cmd.SysProcAttr = attr
	started := make(chan error, 1)
	go func() {
		// The signal at the parent's death is sent when the thread that started the child ends.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err != nil {
			close(c.ended)
			return
		}
		_ = cmd.Wait()
		c.state = cmd.ProcessState
		close(c.ended)
	}()
	if err := <-started; err != nil {
		ordersHere.Close()
		outcomeHere.Close()
		return nil, err
	}
	c.process = cmd.Process
	if err := c.begin(ctx, o); err != nil {
		c.wait()
		outcomeHere.Close()
		return nil, err
	}
	return c, nil
}

// begin maps ids where a program has to and sends the orders.
func (c *child) begin(ctx context.Context, o childOptions) error {
	if o.ids.byProgram {
		for program, rows := range map[string][]syscall.SysProcIDMap{"newuidmap": o.ids.uids, "newgidmap": o.ids.gids} {
			args := []string{strconv.Itoa(c.pid())}
			for _, row := range rows {
				args = append(args, strconv.Itoa(row.ContainerID), strconv.Itoa(row.HostID), strconv.Itoa(row.Size))
			}
			if out, err := exec.CommandContext(ctx, program, args...).CombinedOutput(); err != nil {
				return fmt.Errorf("%w: %s: %s", errNoRange, program, strings.TrimSpace(string(out)+" "+err.Error()))
			}
		}
	}
	if err := writeOrders(c.orders, orders{Mapped: o.ids.byProgram, Setup: o.setup}); err != nil {
		return fmt.Errorf("starting a process in namespaces: %w", err)
	}
	return nil
}

// writeOrders writes a document behind its length, so that it can be read without reading on.
func writeOrders(to io.Writer, document any) error {
	text, err := json.Marshal(document)
	if err != nil {
		return err
	}
	_, err = to.Write(append(binary.LittleEndian.AppendUint64(nil, uint64(len(text))), text...))
	return err
}

func readOrders(from io.Reader, document any) error {
	length, err := folder.ReadNumber(from)
	if err != nil {
		return err
	}
	text := make([]byte, length)
	if _, err := io.ReadFull(from, text); err != nil {
		return err
	}
	return json.Unmarshal(text, document)
}

// Child does the work of a child where the process with these arguments is one, and gives its exit status. It must be
// called first in main.
func Child(args []string) (status int, child bool) {
	if len(args) != 1 {
		return 0, false
	}
	work := map[string]func() error{roleSupervisor: superviseMain, roleSetup: setupMain, roleInit: initMain, roleHelper: helperMain, roleProbe: probeMain}[args[0]]
	if work == nil {
		return 0, false
	}
	if work() != nil {
		return 1, true
	}
	return 0, true
}

// childBegins takes the orders of a child and its ids. What whoever started the caller left open is nothing for commands.
func childBegins() (orders, error) {
	if err := unix.CloseRange(fdOrders, ^uint(0)>>1, unix.CLOSE_RANGE_CLOEXEC); err != nil {
		for fd := fdOrders; fd < 1024; fd++ {
			unix.CloseOnExec(fd)
		}
	}
	var o orders
	if err := readOrders(descriptor(fdOrders), &o); err != nil {
		return o, err
	}
	return o, becomeRoot(o.Mapped)
}

func helperMain() error {
	if _, err := childBegins(); err != nil {
		return err
	}
	go serveFiles(fdFirstOwn + 1)
	return serve(descriptor(fdFirstOwn))
}

// tell writes what became of a sandbox.
func tell(result outcome) error { return json.NewEncoder(descriptor(fdOutcome)).Encode(result) }

// descriptor reads and writes a file that was inherited by its number, and never closes it.
type descriptor int

func (d descriptor) Read(b []byte) (int, error) {
	for {
		n, err := unix.Read(int(d), b)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return 0, err
		case n == 0 && len(b) > 0:
			return 0, io.EOF
		}
		return n, nil
	}
}

func (d descriptor) Write(b []byte) (int, error) {
	for done := 0; done < len(b); {
		n, err := unix.Write(int(d), b[done:])
		if err != nil && !errors.Is(err, unix.EINTR) {
			return done, err
		}
		done += max(n, 0)
	}
	return len(b), nil
}

// becomeRoot takes the ids of the namespace's root, once they are mapped.
func becomeRoot(mapped bool) error {
	if !mapped {
		return nil
	}
	return errors.Join(syscall.Setresgid(0, 0, 0), syscall.Setgroups(nil), syscall.Setresuid(0, 0, 0))
}

// hear reads what an init tells; a child that was killed tells nothing.
func (c *child) hear() (outcome, bool) {
	defer c.outcome.Close()
	var o outcome
	err := json.NewDecoder(c.outcome).Decode(&o)
	return o, err == nil
}

// drain copies until the other side closes, and closes ours.
func drain(to io.Writer, from *os.File) error {
	defer from.Close()
	_, err := io.Copy(to, from)
	return err
}
