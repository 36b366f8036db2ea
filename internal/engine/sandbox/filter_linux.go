package sandbox

import (
	"errors"
	"fmt"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/observe"
)

// The system-call filter refuses what reaches past the namespaces: mounting, modules, keyrings, clocks, and making more
// namespaces. It is a fence against accidents and curiosity, beside the namespaces and the rights that are given up.

// table is what is refused in one of a processor's ways of calling the kernel. Numbers are those of that way.
type table struct {
	arch    uint32   // AUDIT_ARCH_…
	refused []uint32 // fails with EPERM
	absent  []uint32 // fails with ENOSYS, so that programs use something older
	tracing []uint32 // fails with EPERM where the machine's processes are in sight
	clone   uint32   // fails where its flags ask for a namespace
	unshare uint32
	ioctl   uint32
	most    uint32 // numbers above are of another way of calling and fail with ENOSYS; 0: none
}

// Calls that have the same number everywhere.
var (
	refusedEverywhere = []uint32{428 /* open_tree */, 429 /* move_mount */, 430 /* fsopen */, 431 /* fsconfig */, 432 /* fsmount */, 433 /* fspick */, 442 /* mount_setattr */, 467 /* open_tree_attr */}
	tracingEverywhere = []uint32{438 /* pidfd_getfd */, 440 /* process_madvise */, 448 /* process_mrelease */}
	absentEverywhere  = []uint32{425 /* io_uring_setup */, 426, 427, 435 /* clone3, whose flags a filter cannot see */}
)

const namespaceFlags = unix.CLONE_NEWNS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWUTS | unix.CLONE_NEWIPC | unix.CLONE_NEWUSER | unix.CLONE_NEWPID |
	unix.CLONE_NEWNET | unix.CLONE_NEWTIME

// Ioctls that type into a terminal as if a person did.
var typing = []uint32{unix.TIOCSTI, 0x541c /* TIOCLINUX */}

func answerWith(errno unix.Errno) bpf.Instruction {
	return bpf.RetConstant{Val: unix.SECCOMP_RET_ERRNO | uint32(errno)}
}

// program assembles the filter. Any way of calling without a table fails altogether.
func program(tables []table, kind Kind) ([]bpf.RawInstruction, error) {
	var all []bpf.Instruction
	all = append(all, bpf.LoadAbsolute{Off: observe.OffsetArch, Size: 4})
	for _, t := range tables {
		part := t.instructions(kind)
		// Jumps are at most 255 long, so the test is turned around.
		all = append(all, bpf.JumpIf{Cond: bpf.JumpEqual, Val: t.arch, SkipTrue: 1}, bpf.Jump{Skip: uint32(len(part))})
		all = append(all, part...)
	}
	all = append(all, answerWith(unix.ENOSYS))
	return bpf.Assemble(all)
}

func (t table) instructions(kind Kind) []bpf.Instruction {
	out := []bpf.Instruction{bpf.LoadAbsolute{Off: observe.OffsetNumber, Size: 4}}
	if t.most != 0 {
		out = append(out, bpf.JumpIf{Cond: bpf.JumpLessOrEqual, Val: t.most, SkipTrue: 1}, answerWith(unix.ENOSYS))
	}
	each := func(numbers []uint32, answer bpf.Instruction) {
		for _, n := range numbers {
			out = append(out, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: n, SkipTrue: 1}, answer)
		}
	}
	each(t.refused, answerWith(unix.EPERM))
	each(refusedEverywhere, answerWith(unix.EPERM))
	if kind == Chroot {
		each(t.tracing, answerWith(unix.EPERM))
		each(tracingEverywhere, answerWith(unix.EPERM))
	}
	each(t.absent, answerWith(unix.ENOSYS))
	each(absentEverywhere, answerWith(unix.ENOSYS))
	for _, n := range []uint32{t.clone, t.unshare} {
		out = append(out,
			bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: n, SkipTrue: 4},
			bpf.LoadAbsolute{Off: observe.OffsetFirst, Size: 4},
			// The lowest bits of a clone's flags are a signal, so CLONE_NEWTIME counts for unshare alone.
			bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: flagsFor(n == t.clone), SkipFalse: 1},
			answerWith(unix.EPERM),
			bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
	}
	out = append(out, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: t.ioctl, SkipTrue: uint8(1 + 2*len(typing))}, bpf.LoadAbsolute{Off: observe.OffsetSecond, Size: 4})
	each(typing, answerWith(unix.EPERM))
	return append(out, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
}

func flagsFor(clone bool) uint32 {
	if clone {
		return namespaceFlags &^ unix.CLONE_NEWTIME
	}
	return namespaceFlags
}

// filterCalls installs the filter on this thread and what it starts.
func filterCalls(kind Kind) error {
	raw, err := program(tables, kind)
	if err != nil {
		return fmt.Errorf("making the system-call filter: %w", err)
	}
	filter := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		filter[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	p := unix.SockFprog{Len: uint16(len(filter)), Filter: &filter[0]}
	if _, _, errno := unix.RawSyscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, 0, uintptr(unsafe.Pointer(&p))); errno != 0 {
		return refused("seccomp", "installing the system-call filter", errno)
	}
	return nil
}

// scoped reports whether the kernel can keep a command from abstract sockets that others made.
func scoped() bool {
	version, _, errno := unix.RawSyscall(unix.SYS_LANDLOCK_CREATE_RULESET, 0, 0, unix.LANDLOCK_CREATE_RULESET_VERSION)
	return errno == 0 && version >= 6
}

// scopeSockets keeps this thread and what it starts from abstract sockets that others made, where the kernel can.
func scopeSockets() error {
	if !scoped() {
		return nil
	}
	rules := struct{ fs, net, scoped uint64 }{scoped: 1 /* LANDLOCK_SCOPE_ABSTRACT_UNIX_SOCKET */}
	fd, _, errno := unix.RawSyscall(unix.SYS_LANDLOCK_CREATE_RULESET, uintptr(unsafe.Pointer(&rules)), unsafe.Sizeof(rules), 0)
	if errno != 0 {
		return refused("landlock", "keeping the machine's abstract sockets out", errno)
	}
	defer unix.Close(int(fd))
	if _, _, errno := unix.RawSyscall(unix.SYS_LANDLOCK_RESTRICT_SELF, fd, 0, 0); errno != 0 {
		return refused("landlock", "keeping the machine's abstract sockets out", errors.Join(errno))
	}
	return nil
}
