package sandbox

import (
	"fmt"
	"os"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// What a command inherits besides files and variables must not come from whoever started this program: limits of
// resources and ignored signals can be seen, and some programs leave something else because of them.

const unlimited = unix.RLIM_INFINITY

// limits are those that every command has. They are so low that nearly every machine allows them.
var limits = []struct {
	name       string
	resource   int
	soft, hard uint64
}{
	{"cpu", unix.RLIMIT_CPU, unlimited, unlimited},
	{"fsize", unix.RLIMIT_FSIZE, unlimited, unlimited},
	{"data", unix.RLIMIT_DATA, unlimited, unlimited},
	{"stack", unix.RLIMIT_STACK, 8 << 20, unlimited},
	{"core", unix.RLIMIT_CORE, 0, 0},
	{"rss", unix.RLIMIT_RSS, unlimited, unlimited},
	{"nproc", unix.RLIMIT_NPROC, mostProcesses, mostProcesses},
	{"nofile", unix.RLIMIT_NOFILE, 1024, 16384},
	{"memlock", unix.RLIMIT_MEMLOCK, 64 << 10, 64 << 10},
	{"as", unix.RLIMIT_AS, unlimited, unlimited},
	{"locks", unix.RLIMIT_LOCKS, unlimited, unlimited},
	{"sigpending", unix.RLIMIT_SIGPENDING, 4096, 4096},
	{"msgqueue", unix.RLIMIT_MSGQUEUE, 819200, 819200},
	{"nice", unix.RLIMIT_NICE, 0, 0},
	{"rtprio", unix.RLIMIT_RTPRIO, 0, 0},
	{"rttime", unix.RLIMIT_RTTIME, unlimited, unlimited},
}

// raiseLimits raises the hard limits of this process to those of commands where it may. It returns those that stay lower,
// as words.
func raiseLimits() string {
	var lower []string
	for _, l := range limits {
		var now unix.Rlimit
		if unix.Prlimit(0, l.resource, nil, &now) != nil || now.Max >= l.hard {
			continue
		}
		if unix.Prlimit(0, l.resource, &unix.Rlimit{Cur: now.Cur, Max: l.hard}, nil) != nil {
			lower = append(lower, fmt.Sprintf("%s %d", l.name, now.Max))
		}
	}
	return strings.Join(lower, ", ")
}

// plainLimits gives this process the limits that every command has, or what comes next to them.
func plainLimits() {
	for _, l := range limits {
		var now unix.Rlimit
		if unix.Prlimit(0, l.resource, nil, &now) == nil {
			_ = unix.Setrlimit(l.resource, &unix.Rlimit{Cur: min(l.soft, now.Max), Max: min(l.hard, now.Max)})
		}
	}
}

// NoDumps keeps the memory of this process, and of all that it starts, out of core dumps: those go to whatever the machine
// has set up, with the secrets that are in them. A bound of their size is no help, it counts for files alone.
func NoDumps() { _ = os.WriteFile("/proc/self/coredump_filter", []byte("0"), 0) }

// firstToGo has the kernel end this process and what it starts before others when memory runs out.
func firstToGo() { _ = os.WriteFile("/proc/self/oom_score_adj", []byte("1000"), 0) }

// action is what a process does on a signal, as the kernel has it.
type action struct{ handler, flags, restorer, mask uint64 }

func actionOf(number syscall.Signal) (now action, known bool) {
	_, _, errno := unix.RawSyscall6(unix.SYS_RT_SIGACTION, uintptr(number), 0, uintptr(unsafe.Pointer(&now)), 8, 0, 0)
	return now, errno == 0
}

func setAction(number syscall.Signal, do action) {
	_, _, _ = unix.RawSyscall6(unix.SYS_RT_SIGACTION, uintptr(number), uintptr(unsafe.Pointer(&do)), 0, 8, 0, 0)
}

const lastSignal = 64

// ignoreOthers has this process ignore every signal that it does not catch. The kernel keeps default actions from the first process of a
// namespace only as long as no thread of it holds the signal back, and Go catches all but those of C's threads.
func ignoreOthers() {
	for number := syscall.Signal(1); number <= lastSignal; number++ {
		if now, known := actionOf(number); known && now.handler == sigDefault {
			setAction(number, action{handler: sigIgnore})
		}
	}
}

// plainSignals has no signal ignored or held back by this thread, which is about to execute.
func plainSignals() {
	for number := syscall.Signal(1); number <= lastSignal; number++ {
		if now, known := actionOf(number); known && now.handler == sigIgnore {
			setAction(number, action{})
		}
	}
	none := uint64(0)
	_, _, _ = unix.RawSyscall6(unix.SYS_RT_SIGPROCMASK, unix.SIG_SETMASK, uintptr(unsafe.Pointer(&none)), 0, 8, 0, 0)
}

const sigDefault, sigIgnore = 0, 1 // SIG_DFL, SIG_IGN
