package answers

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// A program that begins finds on its stack a list of what the kernel lends it: among others code that tells the time without a call, and
// some random bytes. Nobody hears of the former, so it must be gone before the program's first instruction. The one moment for that is the
// stop at which a debugger sees a program begin.

// Entries of that list.
const (
	auxEnd    = 0
	auxIgnore = 1
	auxRandom = 25
	auxCode   = 33 // AT_SYSINFO_EHDR
)

// Catch makes ready for a program that a process is about to begin. Ready says whether anything was done, and then Begun must follow when the call
// goes on. It must be called by the thread that calls Begun.
func (a *Answerer) Catch(thread int, waits func() bool) (ready bool, err error) {
	if !a.under.Hidden() {
		return false, nil
	}
	_, _, errno := unix.Syscall6(unix.SYS_PTRACE, unix.PTRACE_SEIZE, uintptr(thread), 0, unix.PTRACE_O_TRACEEXEC, 0, 0)
	switch errno {
	case 0:
		if !waits() { // its number is another one's by now
			letGo(thread)
			return false, nil
		}
		return true, nil
	case unix.ESRCH:
		return false, nil // it is gone
	}
	return false, unable("another clock: holding a program at its start: %w", errno)
}

// How long a program may take to begin before it is looked whether it failed to. On a machine that is slow it is held up by the look, and
// tries again: it gets more time then.
const (
	leastPatience = 3 * time.Millisecond
	mostPatience  = 24 * time.Millisecond
	lookEvery     = 20 * time.Microsecond
	lastLook      = time.Minute
)

// Begun waits until a program that was caught begins, takes away what it is not to have and lets it go. Where it could not begin the
// process that tried goes on.
func (a *Answerer) Begun(thread int) error {
	patience, asked := max(a.patience, leastPatience), time.Now()
	for began := time.Now(); time.Since(began) < lastLook; {
		var status unix.WaitStatus
		pid, err := unix.Wait4(-1, &status, unix.WNOHANG|unix.WALL|unix.WNOTHREAD, nil)
		switch {
		case errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.ECHILD):
			return nil // it ended
		case err != nil:
			return unable("another clock: waiting for a program to begin: %w", err)
		case pid == 0:
			if time.Since(asked) > patience {
				// Either it could not begin and does something else, or it takes long to.
				_ = unix.PtraceInterrupt(thread)
				asked, patience = time.Now(), 2*patience
			}
			time.Sleep(lookEvery)
			continue
		case status.Exited(), status.Signaled():
			return nil
		case !status.Stopped():
			continue
		}
		switch signal := status.StopSignal(); {
		case signal == unix.SIGTRAP && int(status)>>16 == unix.PTRACE_EVENT_EXEC:
			a.patience = max(leastPatience, a.patience/2)
			err := a.strip(pid)
			if detached := release(pid, 0); err == nil && detached != nil && !errors.Is(detached, unix.ESRCH) {
				err = unable("another clock: letting a program go: %w", detached)
			}
			return err
		case int(status)>>16 == unix.PTRACE_EVENT_STOP:
			a.patience = min(2*max(a.patience, leastPatience), mostPatience)
			_ = release(pid, 0) // it did not begin; where it is still about to, the kernel makes the call again
			return nil
		default:
			_, _, _ = unix.Syscall6(unix.SYS_PTRACE, unix.PTRACE_CONT, uintptr(pid), 0, uintptr(signal), 0, 0)
		}
	}
	return unable("another clock: a program did not begin")
}

// letGo lets something go that runs.
func letGo(thread int) {
	if unix.PtraceInterrupt(thread) != nil {
		return // it ended
	}
	var status unix.WaitStatus
	for {
		pid, err := unix.Wait4(thread, &status, unix.WALL, nil)
		switch {
		case errors.Is(err, unix.EINTR):
		case err != nil, pid == thread && !status.Stopped():
			return
		default:
			_ = release(thread, 0)
			return
		}
	}
}

func release(pid int, signal unix.Signal) error {
	_, _, errno := unix.Syscall6(unix.SYS_PTRACE, unix.PTRACE_DETACH, uintptr(pid), 0, uintptr(signal), 0, 0)
	if errno != 0 {
		return errno
	}
	return nil
}

// mostOnStack bounds what is read of a stack: arguments and environment are pointers there.
const mostOnStack = 16 << 20

// strip takes away what the kernel lends a program that begins.
func (a *Answerer) strip(pid int) error {
	text, err := os.ReadFile(fmt.Sprintf("/proc/self/fd/%d/%d/stat", a.proc, pid))
	if err != nil {
		return nil // it is gone
	}
	// The name in brackets may hold anything; the start of the stack is the 28th field.
	fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
	var stack uint64
	if len(fields) < 26 {
		return unable("another clock: the kernel does not tell where a stack is")
	}
	if _, err := fmt.Sscan(fields[25], &stack); err != nil || stack == 0 {
		return unable("another clock: the kernel does not tell where a stack is")
	}
	wide, err := a.wide(pid)
	if err != nil {
		return err
	}
	return a.stripAt(pid, stack, wide)
}

// wide reports whether the program of a process is one of 64 bits.
func (a *Answerer) wide(pid int) (bool, error) {
	f, err := os.Open(fmt.Sprintf("/proc/self/fd/%d/%d/exe", a.proc, pid))
	if err != nil {
		return false, unable("another clock: a program that cannot be read: %w", err)
	}
	defer f.Close()
	head := make([]byte, 5)
	if _, err := f.ReadAt(head, 0); err != nil {
		return false, unable("another clock: a program that cannot be read: %w", err)
	}
	return head[4] == 2, nil
}

// stripAt finds the list behind the arguments and the environment.
func (a *Answerer) stripAt(pid int, stack uint64, wide bool) error {
	size := uint64(8)
	if !wide {
		size = 4
	}
	s := &words{pid: pid, at: stack, size: size}
	s.next()      // the number of arguments
	for range 2 { // arguments and environment each end with a zero
		for s.next() != 0 && s.err == nil && s.at-stack < mostOnStack {
		}
	}
	for s.err == nil && s.at-stack < mostOnStack {
		at := s.at
		switch kind, value := s.next(), s.next(); {
		case s.err != nil:
		case kind == auxEnd:
			return nil
		case kind == auxCode:
			s.err = writeMemory(pid, at, binary.LittleEndian.AppendUint64(nil, auxIgnore)[:size])
		case kind == auxRandom && a.under.Seed != 0:
			out := make([]byte, 16)
			_, _ = rand.NewChaCha8(seedOf(a.under.Seed, 0)).Read(out) // it never fails
			s.err = writeMemory(pid, value, out)
		}
	}
	if errors.Is(s.err, unix.ESRCH) {
		return nil
	}
	return unable("another clock: what a program is lent: %w", cmp.Or(s.err, errors.New("it has no end")))
}

// words reads numbers of a process's memory one after the other, a part at a time.
type words struct {
	pid  int
	at   uint64 // of the next one
	size uint64 // of each
	part []byte
	err  error
}

func (w *words) next() uint64 {
	const page = 4096
	if len(w.part) == 0 && w.err == nil {
		w.part = make([]byte, page-w.at%page) // never over the end of a page, which may be the last
		w.err = readMemory(w.pid, w.at, w.part)
	}
	if w.err != nil {
		return 0
	}
	var n uint64
	for i := range w.size {
		n |= uint64(w.part[i]) << (8 * i)
	}
	w.part, w.at = w.part[w.size:], w.at+w.size
	return n
}
