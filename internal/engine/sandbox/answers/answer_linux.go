package answers

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/conditions"
)

// Kinds of calls that can be answered.
const (
	Clock   = "clock"   // clock_gettime, gettimeofday, time
	Until   = "until"   // clock_nanosleep, futex: waits until a moment of the wall clock
	Random  = "random"  // getrandom
	Machine = "machine" // uname
	List    = "list"    // getdents64
)

// Call is one call that a process is stopped in.
type Call struct {
	PID    int // of the thread, as this process sees it
	Kind   string
	Name   string
	Narrow bool // the process is one of 32 bits
	Args   [6]uint64
	// Waits reports whether the thread is still stopped in the call: whoever has its number else is another one, which is none of ours.
	Waits func() bool
}

// Reply is what a call comes to. Without Done the kernel carries the call out.
type Reply struct {
	Done  bool
	Value int64
	Errno unix.Errno
	After time.Duration // how long the call is held back
}

// Answerer answers the calls of one command. Its methods are called by one thread at a time, always the same.
type Answerer struct {
	under  conditions.Conditions
	proc   int // the machine's /proc
	began  time.Time
	seeds  map[int]uint64 // how many random numbers a process had
	lists  map[listing][]entry
	random *rand.Rand // for what is held back
	held   time.Duration
	host   string
	// patience is how long a program may take to begin.
	patience time.Duration
}

// ErrUnable is that something cannot be shown as it is asked to.
var ErrUnable = errors.New("cannot be shown here")

func unable(format string, values ...any) error {
	return fmt.Errorf("%w: "+format, append([]any{ErrUnable}, values...)...)
}

// New answers under conditions from now on. proc is a descriptor of the machine's /proc, which stays the caller's; host is the host name
// that the command sees.
func New(under conditions.Conditions, proc int, host string) *Answerer {
	return &Answerer{under: under, proc: proc, host: host, began: time.Now(), seeds: map[int]uint64{}, lists: map[listing][]entry{}, random: rand.New(rand.NewPCG(rand.Uint64(), rand.Uint64()))}
}

// Wants reports whether calls of a kind must be heard.
func Wants(under conditions.Conditions, kind string) bool {
	switch kind {
	case Clock, Until:
		return !under.Clock.IsZero()
	case Random:
		return under.Seed != 0
	case Machine:
		return under.Machine != ""
	}
	return false // lists are heard anyway
}

// Answer answers a call, or leaves it to the kernel.
func (a *Answerer) Answer(c Call) (r Reply, err error) {
	switch c.Kind {
	case Clock:
		r, err = a.clock(c)
	case Until:
		return a.until(c)
	case Random:
		r = a.numbers(c)
	case Machine:
		r, err = a.machine(c)
	case List:
		r, err = a.list(c)
	}
	if err == nil && a.under.Jitter {
		r.After = a.jitter()
	}
	return r, err
}

// How calls are held back: one in so many, for so long at most, and all of a command's for so long together.
const (
	oneIn       = 8
	longest     = 2 * time.Millisecond
	mostHolding = 400 * time.Millisecond
)

// Hold returns how long a call that is not answered is held back.
func (a *Answerer) Hold() time.Duration {
	if !a.under.Jitter {
		return 0
	}
	return a.jitter()
}

func (a *Answerer) jitter() time.Duration {
	if a.random.IntN(oneIn) != 0 || a.held >= mostHolding {
		return 0
	}
	d := time.Duration(a.random.Int64N(int64(longest)))
	a.held += d
	return d
}

// WallClocks are the clocks that show the time of the day: CLOCK_REALTIME, _COARSE, _ALARM and CLOCK_TAI.
var WallClocks = []uint32{unix.CLOCK_REALTIME, unix.CLOCK_REALTIME_COARSE, unix.CLOCK_REALTIME_ALARM, unix.CLOCK_TAI}

// isWall reports whether a clock is one of them.
func isWall(clock uint64) bool { return slices.Contains(WallClocks, uint32(clock)) }

// FutexWall is the flag of a wait for a lock until a moment of the wall clock.
const FutexWall = 256

// now is what the wall clock is said to show.
func (a *Answerer) now() time.Time { return a.under.Clock.Add(time.Since(a.began)) }

func (a *Answerer) clock(c Call) (Reply, error) {
	now := a.now()
	seconds, rest := now.Unix(), int64(now.Nanosecond())
	at := c.Args[0]
	switch c.Name {
	case "clock_gettime", "clock_gettime64":
		if !isWall(c.Args[0]) {
			return Reply{}, nil
		}
		at = c.Args[1]
	case "gettimeofday":
		rest /= 1000
		if at == 0 {
			return Reply{Done: true}, nil
		}
	case "time":
		if at == 0 {
			return Reply{Done: true, Value: seconds}, nil
		}
		return a.written(c, at, inMemory(c.Narrow, seconds), seconds), nil
	default:
		return Reply{}, unable("the call %s", c.Name)
	}
	return a.written(c, at, inMemory(c.Narrow && c.Name != "clock_gettime64", seconds, rest), 0), nil
}

// inMemory returns numbers as a process of 64 or 32 bits has them in memory. What this program is for is little-endian.
func inMemory(narrow bool, values ...int64) (out []byte) {
	for _, v := range values {
		if narrow {
			out = binary.LittleEndian.AppendUint32(out, uint32(v))
		} else {
			out = binary.LittleEndian.AppendUint64(out, uint64(v))
		}
	}
	return out
}

// written is the reply to a call whose result lies in memory.
func (a *Answerer) written(c Call, at uint64, text []byte, value int64) Reply {
	if err := a.write(c, at, text); err != nil {
		return Reply{Done: true, Errno: unix.EFAULT}
	}
	return Reply{Done: true, Value: value}
}

// write writes into the memory of a thread that is stopped in a call. What is open is the memory of who waits, if it waits after it was opened.
func (a *Answerer) write(c Call, at uint64, text []byte) error {
	if len(text) == 0 {
		return nil
	}
	fd, err := unix.Openat(a.proc, fmt.Sprintf("%d/mem", c.PID), unix.O_WRONLY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if !c.Waits() {
		return unix.ESRCH
	}
	n, err := unix.Pwrite(fd, text, int64(at))
	if err == nil && n != len(text) {
		err = unix.EFAULT
	}
	return err
}

const (
	timerAbsolute  = 1
	pollEvery      = time.Millisecond
	longestSleeper = time.Hour
)

// until has a process wait for a moment of the wall clock that it is shown. A wait for a lock may end early at any time, which whoever
// waits must expect: it looks again, and asks again.
func (a *Answerer) until(c Call) (Reply, error) {
	at := c.Args[3]
	if c.Name == "clock_nanosleep" {
		if !isWall(c.Args[0]) || c.Args[1]&timerAbsolute == 0 {
			return Reply{}, nil
		}
		at = c.Args[2]
	} else if c.Args[1]&FutexWall == 0 || at == 0 {
		return Reply{}, nil
	}
	if c.Narrow {
		return Reply{}, unable("a wait until a moment of the wall clock, of a program of 32 bits")
	}
	text := make([]byte, 16)
	if readMemory(c.PID, at, text) != nil {
		return Reply{Done: true, Errno: unix.EFAULT}, nil
	}
	moment := time.Unix(int64(binary.LittleEndian.Uint64(text)), int64(binary.LittleEndian.Uint64(text[8:])))
	left := moment.Sub(a.now())
	if c.Name == "clock_nanosleep" {
		return Reply{Done: true, After: max(0, min(left, longestSleeper))}, nil
	}
	word := make([]byte, 4)
	if readMemory(c.PID, c.Args[0], word) != nil {
		return Reply{Done: true, Errno: unix.EFAULT}, nil
	}
	switch {
	case binary.LittleEndian.Uint32(word) != uint32(c.Args[2]):
		return Reply{Done: true, Errno: unix.EAGAIN}, nil
	case left <= 0:
		return Reply{Done: true, Errno: unix.ETIMEDOUT}, nil
	}
	return Reply{Done: true, After: min(left, pollEvery)}, nil
}

// mostRandom bounds one request for random numbers, as the kernel does.
const mostRandom = 1 << 25

// numbers makes random numbers of the seed. Those of one process differ from one another, or it would look for an unused name forever.
func (a *Answerer) numbers(c Call) Reply {
	size := min(c.Args[1], mostRandom)
	a.seeds[c.PID]++
	out := make([]byte, size)
	_, _ = rand.NewChaCha8(seedOf(a.under.Seed, a.seeds[c.PID])).Read(out) // it never fails
	return a.written(c, c.Args[0], out, int64(size))
}

func seedOf(seed, n uint64) (out [32]byte) {
	binary.LittleEndian.PutUint64(out[:], seed)
	binary.LittleEndian.PutUint64(out[8:], n)
	return out
}

// machine tells another release and version of the kernel, and the rest as it is.
func (a *Answerer) machine(c Call) (Reply, error) {
	var name unix.Utsname
	if c.Name != "uname" {
		return Reply{}, unable("the call %s", c.Name)
	}
	if err := unix.Uname(&name); err != nil {
		return Reply{}, err
	}
	release, version := Kernel(a.under.Machine)
	for field, text := range map[*[65]byte]string{&name.Nodename: a.host, &name.Release: release, &name.Version: version} {
		*field = [65]byte{}
		copy(field[:len(field)-1], text)
	}
	return a.written(c, c.Args[0], unsafe.Slice((*byte)(unsafe.Pointer(&name)), unsafe.Sizeof(name)), 0), nil
}

// Kernel returns the release and the version that a kernel says of itself where a machine is shown.
func Kernel(machine string) (release, version string) {
	var name unix.Utsname
	_ = unix.Uname(&name)
	release = unix.ByteSliceToString(name.Release[:])
	for i, r := range release {
		if (r < '0' || r > '9') && r != '.' {
			release = release[:i]
			break
		}
	}
	return release + "-" + machine, "#7 SMP " + machine + " Thu Jan 4 10:20:30 UTC 2024"
}

func writeMemory(pid int, at uint64, text []byte) error {
	return moveMemory(unix.SYS_PROCESS_VM_WRITEV, pid, at, text)
}

func readMemory(pid int, at uint64, text []byte) error {
	return moveMemory(unix.SYS_PROCESS_VM_READV, pid, at, text)
}

func moveMemory(call uintptr, pid int, at uint64, text []byte) error {
	if len(text) == 0 {
		return nil
	}
	local := unix.Iovec{Base: &text[0]}
	local.SetLen(len(text))
	remote := unix.RemoteIovec{Base: uintptr(at), Len: len(text)}
	got, _, errno := unix.Syscall6(call, uintptr(pid), uintptr(unsafe.Pointer(&local)), 1, uintptr(unsafe.Pointer(&remote)), 1, 0)
	runtime.KeepAlive(text)
	switch {
	case errno != 0:
		return errno
	case int(got) != len(text):
		return unix.EFAULT
	}
	return nil
}
