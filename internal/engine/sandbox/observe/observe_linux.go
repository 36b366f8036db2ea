package observe

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/trace"
	"imbricat/internal/engine/sandbox/answers"
	"imbricat/internal/engine/sandbox/conditions"
)

// An Observer notes what paths the processes of a command name to the kernel. A filter on the command stops each such
// call and hands it over; the Observer reads the path from the process's memory and lets the call go on. What the call
// comes to is not seen: that is worked out later from what the view holds. Since memory can change between the reading
// and the call this serves for reuse alone, never for keeping anybody from anything.
//
// Links that the command itself made, and those of /proc, which stand for open files, are resolved at the time of the
// call, since nobody can later.
//
// It works in the supervisor, outside of the sandbox: what it reads there it reads by /proc, and it follows no link of the
// sandbox but by asking the kernel to stay below the sandbox's root.
type Observer struct {
	Listener int
	calls    map[callID]*kernelCall
	proc     int    // the machine's /proc, in which the processes have the numbers that the kernel tells
	Root     int    // the command's root
	Above    string // where the root lies on this machine, when paths in /proc begin there: of a chroot
	Live     bool   // there are links of which only the running system knows where they lead
	Under    conditions.Conditions
	Host     string // the host name that the command sees
	End      func() // ends the command, where it cannot be shown what it is to be

	name    [64]byte
	strings [4096 + 256]byte
	links   [4096 + 64]byte
	read    readings // of the call that is heard

	thread   atomic.Int64 // that serves
	stopped  atomic.Bool
	served   chan struct{} // closed when nothing more is noted
	started  bool          // the command itself runs
	chrooted bool
	answerer *answers.Answerer    // nil: none are wanted
	later    sync.WaitGroup       // replies that are held back
	failed   error                // why what was to be answered could not be
	notes    map[string]trace.Act // "ROOT\0PATH\0" and f for following, n for not
	seen     trace.Observation
}

// mostNotes bounds what one command may be noted to touch.
const mostNotes = 2_000_000

// Requests to a listener, and its structs, as linux/seccomp.h has them.
const (
	listenerReceive = 0xc0502100
	listenerSend    = 0xc0182101
	listenerValid   = 0x40082102
	listenerFlags   = 0x40082104
	syncWakeUp      = 1      // SECCOMP_USER_NOTIF_FD_SYNC_WAKE_UP
	filterListener  = 1 << 3 // SECCOMP_FILTER_FLAG_NEW_LISTENER
	filterKillable  = 1 << 5 // SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV
	answerContinue  = 1
)

type notification struct {
	id          uint64
	pid         uint32
	flags       uint32
	number      int32
	arch        uint32
	instruction uint64
	args        [6]uint64
}

type reply struct {
	id    uint64
	value int64
	err   int32
	flags uint32
}

// Filter puts the filter on this thread and what it starts, and returns where its calls are to be heard: those that name paths, and those
// that are to be answered under conditions.
func Filter(under conditions.Conditions) (listener int, err error) {
	named, calm, err := knownCalls()
	if err != nil {
		return 0, err
	}
	raw, err := observingProgram(named, calm, under)
	if err != nil {
		return 0, err
	}
	filter := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		filter[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	p := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	errno := unix.EINVAL
	for _, flags := range []uintptr{filterListener | filterKillable, filterListener} {
		var fd uintptr
		if fd, _, errno = unix.RawSyscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, flags, uintptr(unsafe.Pointer(&p))); errno == 0 {
			unix.CloseOnExec(int(fd))
			return int(fd), nil
		}
	}
	return 0, errno
}

// Start serves an observer's listener from now on, until Stop. Its descriptors are closed then.
func Start(o *Observer) (*Observer, error) {
	named, _, err := knownCalls()
	if err != nil {
		return nil, err
	}
	proc, err := unix.Open("/proc", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	// Caller and observer take turns, so one processor serves both best. Kernels before 6.6 do not know how.
	_, _, _ = unix.Syscall(unix.SYS_IOCTL, uintptr(o.Listener), listenerFlags, syncWakeUp)
	o.calls, o.proc, o.notes, o.served = named, proc, map[string]trace.Act{}, make(chan struct{})
	if o.Under.Answered() {
		o.answerer = answers.New(o.Under, proc, o.Host)
	}
	go o.serve()
	return o, nil
}

// serve answers until stop.
func (o *Observer) serve() {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	defer close(o.served)
	o.thread.Store(int64(unix.Gettid()))
	for !o.stopped.Load() {
		var n notification
		_, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(o.Listener), listenerReceive, uintptr(unsafe.Pointer(&n)))
		switch {
		case errno == unix.EINTR:
			continue
		case errno == unix.ENOENT:
			if o.deserted() {
				return
			}
			continue // the caller went away
		case errno != 0:
			o.whole("its calls could not be heard: " + errno.Error())
			return
		}
		o.read.clear()
		o.hear(&n)
		o.steady(&n)
		if o.answerer == nil {
			o.send(reply{id: n.id, flags: answerContinue})
		} else if err := o.answer(&n); err != nil {
			o.unable(err)
		}
	}
}

// send lets a call go on, or tells what it came to.
func (o *Observer) send(r reply) {
	_, _, _ = unix.Syscall(unix.SYS_IOCTL, uintptr(o.Listener), listenerSend, uintptr(unsafe.Pointer(&r)))
}

// answer answers a call as the conditions ask, or lets it go on. A program that begins is stripped of what would tell it otherwise.
func (o *Observer) answer(n *notification) error {
	c := o.calls[callID{n.arch, uint32(n.number)}]
	waits := func() bool {
		_, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(o.Listener), listenerValid, uintptr(unsafe.Pointer(&n.id)))
		return errno == 0
	}
	var got answers.Reply
	if c != nil && (c.answered() || c.act == answers.List) {
		var err error
		if got, err = o.answerer.Answer(answers.Call{PID: int(n.pid), Kind: c.act, Name: c.name, Narrow: n.arch == unix.AUDIT_ARCH_I386, Args: n.args, Waits: waits}); err != nil {
			return err
		}
	} else {
		got.After = o.answerer.Hold()
	}
	r := reply{id: n.id, value: got.Value, err: -int32(got.Errno)}
	if !got.Done {
		r.flags = answerContinue
	}
	begins := false
	if c != nil && c.act == "exec" {
		var err error
		if begins, err = o.answerer.Catch(int(n.pid), waits); err != nil {
			return err
		}
		got.After = 0
	}
	if got.After > 0 {
		o.later.Go(func() {
			time.Sleep(got.After)
			o.send(r)
		})
		return nil
	}
	o.send(r)
	if begins {
		return o.answerer.Begun(int(n.pid))
	}
	return nil
}

// unable ends the command: what it was to be shown it cannot be.
func (o *Observer) unable(err error) {
	if o.failed == nil {
		o.failed = err
		o.End()
	}
}

// deserted reports whether no process is left whose calls could be heard.
func (o *Observer) deserted() bool {
	fds := []unix.PollFd{{Fd: int32(o.Listener)}}
	n, err := unix.Poll(fds, 0)
	return err == nil && n > 0 && fds[0].Revents&unix.POLLHUP != 0
}

// Stop ends the observation, when all that was observed has ended. It gives what was seen. The error is that of a command that was ended
// because it could not be shown what it was to be.
func (o *Observer) Stop() (*trace.Observation, error) {
	o.stopped.Store(true)
	for waiting := true; waiting; {
		// Not every kernel ends the wait for a call when nobody is left to make one; a signal does.
		if thread := o.thread.Load(); thread != 0 {
			_ = unix.Tgkill(unix.Getpid(), int(thread), unix.SIGURG)
		}
		select {
		case <-o.served:
			waiting = false
		case <-time.After(time.Millisecond):
		}
	}
	o.later.Wait()
	for _, fd := range []int{o.Listener, o.Root, o.proc} {
		unix.Close(fd)
	}
	all := make([]trace.Note, 0, len(o.notes))
	for key, acts := range o.notes {
		root, rest, _ := strings.Cut(key, "\x00")
		path, follow, _ := strings.Cut(rest, "\x00")
		if follow == "n" {
			acts |= trace.NoFollow
		}
		all = append(all, trace.Note{Root: root, Path: path, Acts: acts})
	}
	o.seen.Packed = trace.PackNotes(all)
	return &o.seen, o.failed
}

// whole tells that not everything could be seen; the first reason counts.
func (o *Observer) whole(why string) {
	if o.seen.Whole == "" {
		o.seen.Whole = why
	}
}

// hear notes one call.
func (o *Observer) hear(n *notification) {
	c := o.calls[callID{n.arch, uint32(n.number)}]
	if c == nil {
		o.whole(fmt.Sprintf("it made a call that is not understood (number %d)", n.number))
		return
	}
	switch c.act {
	case answers.Clock, answers.Until, answers.Random, answers.Machine:
	case answers.List:
		if at, ok := o.opened(n, int32(n.args[c.at[0].dir])); ok {
			o.note("", at, trace.List, true)
		}
	case "socket":
		o.socket(n, n.args[c.at[0].dir], n.args[2])
	case "sockets":
		o.sockets(n)
	case "ids":
		o.seen.Owners = o.seen.Owners || o.started
	case "filter":
		if n.args[0] <= unix.SECCOMP_SET_MODE_FILTER {
			o.whole("it filters system calls itself")
		}
	case "control":
		if n.args[0] == unix.PR_SET_SECCOMP {
			o.whole("it filters system calls itself")
			return
		}
		o.seen.Owners = o.seen.Owners || o.started
	default:
		o.paths(n, c)
	}
}

// paths notes the paths that a call names in its arguments.
func (o *Observer) paths(n *notification, c *kernelCall) {
	flags := c.flagsOf(o, n)
	for i, at := range c.at {
		acts, follow := c.acts(i, flags, n)
		name, ok := o.text(n, n.args[at.path])
		if !ok {
			continue
		}
		text := string(name)
		fd := int32(unix.AT_FDCWD)
		if at.dir >= 0 {
			fd = int32(n.args[at.dir])
		}
		if len(text) == 0 {
			o.itself(n, c, fd, acts)
			continue
		}
		path, ok := o.absolute(n, fd, text)
		if !ok {
			continue
		}
		root := o.rootOf(n)
		if c.how >= 0 && o.confined(n, c) {
			if base, ok := o.folder(n, fd); ok {
				root = strings.TrimSuffix(base, "/")
				path = root + "/" + text
			}
		}
		final := o.resolved(n, root, path, acts, follow)
		if c.act == "exec" {
			o.program(n, root, final, 0)
		}
	}
	switch c.act {
	case "move", "link", "symlink":
		o.Live = true
	case "chroot":
		o.chrooted = true
	case "exec":
		o.started = true
	}
}

// itself notes a call on what is open already, by a descriptor. Who opened it learnt all there is to learn, but for
// changes by a descriptor that was opened for naming alone.
func (o *Observer) itself(n *notification, c *kernelCall, fd int32, acts trace.Act) {
	if c.act != "change" && c.act != "exec" && c.act != "link" {
		return
	}
	at, ok := o.opened(n, fd)
	if !ok {
		if c.act == "exec" {
			o.programAt(n, o.rootOf(n), fmt.Sprintf("%d/fd/%d", n.pid, fd), 0) // a file in memory alone
		}
		return
	}
	o.note("", at, acts, false)
	if c.act == "exec" {
		o.program(n, "", at, 0)
	}
}

// flagsOf returns the flags of an open, wherever they are.
func (c *kernelCall) flagsOf(o *Observer, n *notification) uint64 {
	switch {
	case c.flags >= 0:
		return n.args[c.flags]
	case c.how >= 0:
		var how [8]byte
		if o.argument(n, n.args[c.how], how[:]) == nil {
			return binary.LittleEndian.Uint64(how[:])
		}
	}
	return 0
}

// confined reports whether an open takes its folder for the root.
func (o *Observer) confined(n *notification, c *kernelCall) bool {
	var resolve [8]byte
	return o.argument(n, n.args[c.how]+16, resolve[:]) == nil && binary.LittleEndian.Uint64(resolve[:])&unix.RESOLVE_IN_ROOT != 0
}

// acts tells what a call does with its i-th path, and whether a link at its end is followed.
func (c *kernelCall) acts(i int, flags uint64, n *notification) (trace.Act, bool) {
	follow := !c.nofollow
	if c.atFlags >= 0 {
		follow = n.args[c.atFlags]&unix.AT_SYMLINK_NOFOLLOW == 0
	}
	if c.follow >= 0 {
		follow = n.args[c.follow]&unix.AT_SYMLINK_FOLLOW != 0
	}
	switch c.act {
	case "open":
		return openActs(flags)
	case "create":
		return trace.Overwrite | trace.Create, true
	case "look":
		return trace.Look, follow
	case "pass", "chroot":
		return trace.Pass, true
	case "exec":
		return trace.Read, follow
	case "change":
		return trace.Change, follow
	case "move":
		if i == 0 {
			return trace.Move, false
		}
		if flags&unix.RENAME_EXCHANGE != 0 {
			return trace.Move, false
		}
		return trace.Remove, false
	case "link":
		if i == 0 {
			return trace.Change, follow && c.follow >= 0
		}
		return trace.Make, false
	case "make", "symlink":
		return trace.Make, false
	}
	return trace.Remove, false
}

func openActs(flags uint64) (trace.Act, bool) {
	follow := flags&unix.O_NOFOLLOW == 0
	create := trace.Act(0)
	if flags&unix.O_CREAT != 0 {
		create = trace.Create
	}
	switch {
	case flags&unix.O_PATH != 0, flags&unix.O_DIRECTORY != 0:
		return trace.Look, follow
	case flags&(unix.O_CREAT|unix.O_EXCL) == unix.O_CREAT|unix.O_EXCL:
		return trace.Make, false
	case flags&unix.O_TRUNC != 0:
		return trace.Overwrite | create, follow
	}
	return trace.Read | create, follow
}

// note keeps one path.
func (o *Observer) note(root, path string, acts trace.Act, follow bool) {
	end := byte('n')
	if follow {
		end = 'f'
	}
	key := append(o.links[:0], root...)
	key = append(append(append(append(key, 0), path...), 0), end)
	if had, known := o.notes[string(key)]; known {
		if had|acts != had {
			o.notes[string(key)] = had | acts
		}
		return
	}
	if len(o.notes) >= mostNotes {
		o.whole(fmt.Sprintf("it touched more than %d paths", mostNotes))
		return
	}
	o.notes[string(key)] = acts
}

// resolved notes a path, and by what other names it goes where links are in it that only the running system knows. It
// returns the last of these names.
func (o *Observer) resolved(n *notification, root, path string, acts trace.Act, follow bool) string {
	o.note(root, path, acts, follow)
	clean := path
	if strings.Contains(path, "//") || strings.Contains(path, "/.") {
		clean = filepath.Clean(path)
	}
	switch {
	case strings.HasPrefix(clean, "/proc/"), strings.HasPrefix(clean, "/dev/"), o.chrooted:
	case !o.Live:
		return path
	default:
		// Most paths have no links in them, which is told fast.
		fd, err := unix.Openat2(o.Root, "."+path, &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC | unix.O_NOFOLLOW, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_SYMLINKS})
		if err == nil {
			var stat unix.Stat_t
			isLink := unix.Fstat(fd, &stat) == nil && stat.Mode&unix.S_IFMT == unix.S_IFLNK
			unix.Close(fd)
			if !isLink || !follow {
				return path
			}
		} else if errors.Is(err, unix.ENOENT) || errors.Is(err, unix.ENOTDIR) {
			return path
		}
	}
	return o.walk(n, root, path, acts, follow)
}

// walk follows the links of a path as the process would and notes the path anew after each. It returns where the path
// leads; one that ends at a link of /proc which stands for an open file is left as that.
func (o *Observer) walk(n *notification, root, path string, acts trace.Act, follow bool) string {
	at, rest := trace.Note{Root: root, Path: path}.Start()
	open := ""
	for links := 0; rest != ""; {
		name, below, deeper := strings.Cut(rest, "/")
		rest = below
		switch name {
		case "", ".":
			continue
		case "..":
			if at != root {
				at = at[:max(strings.LastIndexByte(at, '/'), 0)]
			}
			continue
		}
		next := at + "/" + name
		if !deeper && !follow {
			return next
		}
		target, magic, err := o.readLink(n, next)
		if err != nil {
			if errors.Is(err, unix.EINVAL) {
				at = next
				continue
			}
			return strings.TrimSuffix(next+"/"+rest, "/") // absent or closed: nothing deeper is learnt
		}
		if magic && rest == "" {
			open = next
		}
		if links++; links > 40 || magic && !strings.HasPrefix(target, "/") {
			return cmp.Or(open, next)
		}
		switch {
		case magic:
			at, rest = "", strings.TrimPrefix(target+"/"+rest, "/")
		case strings.HasPrefix(target, "/"):
			at, rest = root, target[1:]+"/"+rest
		default:
			rest = target + "/" + rest
		}
		rest = strings.TrimSuffix(rest, "/")
		o.note(root, at+"/"+rest, acts, follow)
	}
	return cmp.Or(open, at)
}

// readLink reads a link as the process would. Those of /proc that stand for open files are magic: they lead where no
// path need lead. Numbers below the sandbox's /proc are those of its own processes; a process calls itself self.
func (o *Observer) readLink(n *notification, path string) (target string, magic bool, err error) {
	if below, in := strings.CutPrefix(path, "/proc/"); in {
		first, rest, deeper := strings.Cut(below, "/")
		if first == "self" || first == "thread-self" {
			if !deeper {
				return "", false, unix.EINVAL // taken for the folder that it leads to
			}
			target, err = o.readAt(o.proc, fmt.Sprintf("%d/%s", n.pid, rest), 0)
			return target, true, err
		}
		if deeper && o.Above != "" {
			target, err = o.readAt(o.proc, below, 0)
			return target, true, err
		}
		target, err = o.readAt(o.Root, path[1:], unix.RESOLVE_IN_ROOT)
		return target, deeper, err
	}
	target, err = o.readAt(o.Root, strings.TrimPrefix(path, "/"), unix.RESOLVE_IN_ROOT)
	return target, false, err
}

// readAt reads a link below an open folder. EINVAL says that it is none.
func (o *Observer) readAt(dir int, name string, resolve uint64) (string, error) {
	fd, err := unix.Openat2(dir, name, &unix.OpenHow{Flags: unix.O_PATH | unix.O_NOFOLLOW | unix.O_CLOEXEC, Resolve: resolve | unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	size, err := unix.Readlinkat(fd, "", o.strings[:])
	if errors.Is(err, unix.ENOENT) {
		err = unix.EINVAL
	}
	if err != nil {
		return "", err
	}
	text := string(o.strings[:size])
	if dir != o.proc {
		return text, nil
	}
	text = o.present(dir, name, text)
	if path, inside := o.inside(text); inside {
		return path, nil
	}
	return "outside:" + text, nil // no path, as pipes have none
}

// inside returns a path that /proc told as the sandbox has it; of a chroot they begin with where its root lies.
func (o *Observer) inside(path string) (string, bool) {
	if o.Above == "" {
		return path, true
	}
	below, is := strings.CutPrefix(path, o.Above)
	switch {
	case !is || below != "" && below[0] != '/':
		return "", false
	case below == "":
		return "/", true
	}
	return below, true
}

// absolute returns a path that a process wrote from the root that everything has.
func (o *Observer) absolute(n *notification, fd int32, text string) (string, bool) {
	if text[0] == '/' {
		return o.rootOf(n) + text, true
	}
	base, ok := o.folder(n, fd)
	if base == "/" {
		base = ""
	}
	return base + "/" + text, ok
}

// folder returns the path of an open folder or of the working one.
func (o *Observer) folder(n *notification, fd int32) (string, bool) {
	if fd == unix.AT_FDCWD {
		return o.magic(append(appendNumber(o.name[:0], uint64(n.pid)), "/cwd"...))
	}
	return o.opened(n, fd)
}

// opened returns the path of what a descriptor stands for; what is no path is not ok.
func (o *Observer) opened(n *notification, fd int32) (string, bool) {
	if fd < 0 {
		return "", false
	}
	return o.magic(appendNumber(append(appendNumber(o.name[:0], uint64(n.pid)), "/fd/"...), uint64(fd)))
}

func appendNumber(to []byte, n uint64) []byte {
	var digits [20]byte
	i := len(digits)
	for {
		i--
		digits[i] = byte('0' + n%10)
		if n /= 10; n == 0 {
			return append(to, digits[i:]...)
		}
	}
}

// rootOf returns the folder that a process takes for the root; empty is the one that all have.
func (o *Observer) rootOf(n *notification) string {
	if !o.chrooted {
		return ""
	}
	root, ok := o.magic(append(appendNumber(o.name[:0], uint64(n.pid)), "/root"...))
	if !ok || root == "/" {
		return ""
	}
	return root
}

func (o *Observer) magic(name []byte) (string, bool) {
	size, err := unix.Readlinkat(o.proc, string(name), o.strings[:])
	if err != nil || size == 0 || o.strings[0] != '/' {
		return "", false
	}
	return o.inside(o.present(o.proc, string(name), string(o.strings[:size])))
}

// deleted is what the kernel puts behind the path of something open that has lost its name.
const deleted = " (deleted)"

// present takes that off the target of a link that stands for something open, unless it is the thing's own name.
func (o *Observer) present(dir int, name, target string) string {
	without, marked := strings.CutSuffix(target, deleted)
	if !marked {
		return target
	}
	path, inside := o.inside(target)
	if !inside {
		return without
	}
	var open, there unix.Stat_t
	fd, err := unix.Openat2(o.Root, "."+path, &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC | unix.O_NOFOLLOW, Resolve: unix.RESOLVE_IN_ROOT | unix.RESOLVE_NO_SYMLINKS})
	if err != nil {
		return without
	}
	defer unix.Close(fd)
	if unix.Fstatat(dir, name, &open, 0) == nil && unix.Fstat(fd, &there) == nil && open.Dev == there.Dev && open.Ino == there.Ino {
		return target
	}
	return without
}

// readings are what was read of a process's memory while one of its calls was heard.
type readings struct {
	at    []unix.RemoteIovec
	bytes []byte
	again []byte
}

func (r *readings) clear() { r.at, r.bytes = r.at[:0], r.bytes[:0] }

func (r *readings) add(address uint64, bytes []byte) {
	r.at, r.bytes = append(r.at, unix.RemoteIovec{Base: uintptr(address), Len: len(bytes)}), append(r.bytes, bytes...)
}

// steady reads again what was read of the caller's memory, last before the call goes on: another thread may have changed
// it since. One that changes it after that is not noticed.
func (o *Observer) steady(n *notification) {
	if len(o.read.bytes) == 0 {
		return
	}
	o.read.again = slices.Grow(o.read.again[:0], len(o.read.bytes))[:len(o.read.bytes)]
	local := unix.Iovec{Base: &o.read.again[0]}
	local.SetLen(len(o.read.again))
	got, _, errno := unix.Syscall6(unix.SYS_PROCESS_VM_READV, uintptr(n.pid), uintptr(unsafe.Pointer(&local)), 1, uintptr(unsafe.Pointer(&o.read.at[0])), uintptr(len(o.read.at)), 0)
	if errno == unix.ESRCH {
		return // nobody is left to make the call
	}
	if errno != 0 || int(got) != len(o.read.bytes) || !bytes.Equal(o.read.again, o.read.bytes) {
		o.whole("what it named changed while it was read")
	}
}

// memory reads some bytes of a process.
func (o *Observer) memory(n *notification, address uint64, to []byte) error {
	local := unix.Iovec{Base: &to[0]}
	local.SetLen(len(to))
	remote := unix.RemoteIovec{Base: uintptr(address), Len: len(to)}
	got, _, errno := unix.Syscall6(unix.SYS_PROCESS_VM_READV, uintptr(n.pid), uintptr(unsafe.Pointer(&local)), 1, uintptr(unsafe.Pointer(&remote)), 1, 0)
	switch {
	case errno == unix.EPERM || errno == unix.ENOSYS:
		o.whole("its memory could not be read")
		return errno
	case errno != 0:
		return errno
	case int(got) != len(to):
		return unix.EFAULT
	}
	return nil
}

// argument is memory of what decides a call, which must not change while that is heard.
func (o *Observer) argument(n *notification, address uint64, to []byte) error {
	err := o.memory(n, address, to)
	if err == nil {
		o.read.add(address, to)
	}
	return err
}

// text reads a path from a process; a null pointer gives an empty one. One that cannot be read is none: the call fails.
func (o *Observer) text(n *notification, address uint64) ([]byte, bool) {
	if address == 0 {
		return nil, true
	}
	const page = 4096
	for done := 0; done < page; {
		size := min(page-int((address+uint64(done))%page), 256, page-done) // never over the end of a page, which may be the last
		if o.memory(n, address+uint64(done), o.strings[done:done+size]) != nil {
			return nil, false
		}
		if end := bytes.IndexByte(o.strings[done:done+size], 0); end >= 0 {
			o.read.add(address, o.strings[:done+end+1])
			return o.strings[:done+end], true
		}
		done += size
	}
	return nil, false
}

// socket notes the path in a socket's address.
func (o *Observer) socket(n *notification, address, size uint64) {
	var family [2]byte
	if o.argument(n, address, family[:]) != nil || binary.LittleEndian.Uint16(family[:]) != unix.AF_UNIX || size < 3 {
		return
	}
	name := make([]byte, min(size, 110)-2)
	if o.argument(n, address+2, name) != nil {
		return
	}
	if name, _, _ = bytes.Cut(name, []byte{0}); len(name) == 0 {
		return
	}
	if path, ok := o.absolute(n, unix.AT_FDCWD, string(name)); ok {
		o.resolved(n, o.rootOf(n), path, trace.Look|trace.Make, true)
	}
}

// sockets notes the one call that stands for all about sockets in programs of 32 bits.
func (o *Observer) sockets(n *notification) {
	const bind, connect = 2, 3
	var args [12]byte
	if n.args[0] != bind && n.args[0] != connect || o.argument(n, n.args[1], args[:]) != nil {
		return
	}
	o.socket(n, uint64(binary.LittleEndian.Uint32(args[4:])), uint64(binary.LittleEndian.Uint32(args[8:])))
}

// program notes what the kernel itself opens for running a program: the interpreter of a script, and the loader. In
// another root the path has no links left in it.
func (o *Observer) program(n *notification, root, path string, depth int) {
	if below, in := strings.CutPrefix(filepath.Clean(path), "/proc/"); in {
		o.programIn(n, root, below, depth)
		return
	}
	fd, err := openProgram(o.Root, strings.TrimPrefix(path, "/"), unix.RESOLVE_IN_ROOT)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	o.parse(n, root, fd, depth)
}

// programIn looks at a program that is named by what a process has open.
func (o *Observer) programIn(n *notification, root, below string, depth int) {
	who, what, _ := strings.Cut(below, "/")
	if who != "self" && who != "thread-self" || what != "exe" && !strings.HasPrefix(what, "fd/") {
		o.whole("it runs a program by a path of /proc")
		return
	}
	o.programAt(n, root, fmt.Sprintf("%d/%s", n.pid, what), depth)
}

// programAt looks at a program by a name below /proc.
func (o *Observer) programAt(n *notification, root, below string, depth int) {
	fd, err := openProgram(o.proc, below, 0)
	if err != nil {
		return
	}
	defer unix.Close(fd)
	o.parse(n, root, fd, depth)
}

// openProgram opens a file for reading, and nothing but a file: a device or a terminal of the sandbox might do something.
func openProgram(dir int, name string, resolve uint64) (int, error) {
	at, err := unix.Openat2(dir, name, &unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: resolve})
	if err != nil {
		return 0, err
	}
	defer unix.Close(at)
	var stat unix.Stat_t
	if err := unix.Fstat(at, &stat); err != nil {
		return 0, err
	}
	if stat.Mode&unix.S_IFMT != unix.S_IFREG {
		return 0, unix.EACCES
	}
	return unix.Open(fmt.Sprintf("/proc/self/fd/%d", at), unix.O_RDONLY|unix.O_CLOEXEC|unix.O_NOCTTY, 0)
}

// mostInterpreters is how many interpreters of interpreters the kernel takes, and one more.
const mostInterpreters = 6

func (o *Observer) parse(n *notification, root string, fd, depth int) {
	head := make([]byte, 4096)
	size, err := unix.Pread(fd, head, 0)
	if err != nil || size < 4 || depth > mostInterpreters {
		return
	}
	head = head[:size]
	name := ""
	switch {
	case bytes.HasPrefix(head, []byte("#!")):
		line, _, _ := bytes.Cut(head[2:min(len(head), 256)], []byte("\n"))
		words := strings.FieldsFunc(string(line), func(r rune) bool { return r == ' ' || r == '\t' || r == 0 })
		if len(words) == 0 {
			return
		}
		name = words[0]
	case bytes.HasPrefix(head, []byte("\x7fELF")):
		name = LoaderOf(fd, head)
	}
	if name == "" {
		return
	}
	path, ok := o.absolute(n, unix.AT_FDCWD, name)
	if !ok {
		return
	}
	o.program(n, root, o.resolved(n, root, path, trace.Read, true), depth+1)
}

// LoaderOf finds the loader that a program names, in its table of segments.
func LoaderOf(fd int, head []byte) string {
	const segmentInterpreter = 3
	if len(head) < 64 {
		return ""
	}
	var order binary.ByteOrder = binary.LittleEndian
	if head[5] == 2 {
		order = binary.BigEndian
	}
	wide := head[4] == 2
	word := func(b []byte, at32, at64 int) int64 {
		if wide {
			return int64(order.Uint64(b[at64:]))
		}
		return int64(order.Uint32(b[at32:]))
	}
	table := word(head, 28, 32)
	size, count := order.Uint16(head[42:]), order.Uint16(head[44:])
	if wide {
		size, count = order.Uint16(head[54:]), order.Uint16(head[56:])
	}
	if size < 32 || wide && size < 56 || count > 512 {
		return ""
	}
	segments := make([]byte, int(size)*int(count))
	if got, err := unix.Pread(fd, segments, table); err != nil || got < len(segments) {
		return ""
	}
	for one := range slices.Chunk(segments, int(size)) {
		if order.Uint32(one) == segmentInterpreter {
			name := make([]byte, min(word(one, 16, 32), 4096))
			got, err := unix.Pread(fd, name, word(one, 4, 8))
			if err != nil {
				return ""
			}
			name, _, _ = bytes.Cut(name[:got], []byte{0})
			return string(name)
		}
	}
	return ""
}
