package observe

import (
	_ "embed"
	"fmt"
	"runtime"
	"strconv"
	"strings"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/answers"
	"imbricat/internal/engine/sandbox/conditions"
)

// callsTable tells of every known way of calling the kernel what it has to do with paths.
//
//go:embed calls.txt
var callsTable string

// pathAt says where a call has an open folder and a path below it. Dir -1 is the working folder.
type pathAt struct{ dir, path int }

// kernelCall is how a system call names paths.
type kernelCall struct {
	name     string
	act      string
	at       []pathAt
	flags    int // argument with the flags of an open; -1: none, as with the others
	how      int // argument with a struct open_how
	atFlags  int // argument with AT_ flags
	follow   int // argument with AT_ flags in which following must be asked for
	nofollow bool
}

// callID is a call in one of the processor's ways of calling.
type callID struct{ arch, number uint32 }

// columns are the architectures of the table with the ways of calling that this processor has.
func columns() map[int]uint32 {
	if runtime.GOARCH == "arm64" {
		return map[int]uint32{3: unix.AUDIT_ARCH_AARCH64}
	}
	return map[int]uint32{1: unix.AUDIT_ARCH_X86_64, 2: unix.AUDIT_ARCH_I386}
}

// knownCalls reads the table: what names paths, and for each way of calling the numbers of what names none.
func knownCalls() (map[callID]*kernelCall, map[uint32][]uint32, error) {
	named, calm := map[callID]*kernelCall{}, map[uint32][]uint32{}
	for line := range strings.Lines(callsTable) {
		fields := strings.Fields(line)
		if len(fields) == 0 || fields[0] == "#" {
			continue
		}
		if len(fields) < 4 {
			return nil, nil, fmt.Errorf("the table of calls has the line %q", line)
		}
		var c *kernelCall
		if len(fields) > 4 {
			var err error
			if c, err = parseCall(fields[4:]); err != nil {
				return nil, nil, fmt.Errorf("the call %s: %w", fields[0], err)
			}
			c.name = fields[0]
		}
		for column, arch := range columns() {
			number, err := strconv.ParseUint(fields[column], 10, 32)
			if fields[column] == "-" {
				continue
			}
			if err != nil {
				return nil, nil, fmt.Errorf("the call %s: %w", fields[0], err)
			}
			if c == nil {
				calm[arch] = append(calm[arch], uint32(number))
			} else {
				named[callID{arch, uint32(number)}] = c
			}
		}
	}
	return named, calm, nil
}

func parseCall(words []string) (*kernelCall, error) {
	c := &kernelCall{act: words[0], flags: -1, how: -1, atFlags: -1, follow: -1}
	var numbers []int
	for _, word := range words[1:] {
		if word == "nofollow" {
			c.nofollow = true
			continue
		}
		name, value, named := strings.Cut(word, "=")
		if !named {
			value = name
		}
		n, err := strconv.Atoi(value)
		if value == "." {
			n, err = -1, nil
		}
		if err != nil {
			return nil, err
		}
		switch {
		case !named:
			numbers = append(numbers, n)
		case name == "flags":
			c.flags = n
		case name == "how":
			c.how = n
		case name == "at":
			c.atFlags = n
		case name == "follow":
			c.follow = n
		default:
			return nil, fmt.Errorf("%q is not a property of a call", word)
		}
	}
	if len(numbers) == 1 {
		numbers = append(numbers, -1) // of a list or a socket's address there is one argument
	}
	for i := 0; i+1 < len(numbers); i += 2 {
		c.at = append(c.at, pathAt{numbers[i], numbers[i+1]})
	}
	return c, nil
}

// Offsets into struct seccomp_data; of an argument the lower half, on the processors that this program is for.
const (
	OffsetNumber = 0
	OffsetArch   = 4
	OffsetFirst  = 16
	OffsetSecond = 24
)

// Controls of a process that could hide calls or change what permissions mean; all others are let through.
var controls = []uint32{unix.PR_SET_SECCOMP, unix.PR_CAPBSET_DROP, unix.PR_SET_SECUREBITS}

// test is a condition on an argument under which a call is heard.
type test struct {
	offset uint32
	when   bpf.JumpTest
	values []uint32
}

// tests tell of calls that are heard under conditions alone, those of some argument.
func (c *kernelCall) test() (t test, has bool) {
	switch {
	case c.act == "control":
		return test{OffsetFirst, bpf.JumpNotEqual, controls}, true
	case strings.HasPrefix(c.name, "clock_"):
		return test{OffsetFirst, bpf.JumpNotEqual, answers.WallClocks}, true
	case strings.HasPrefix(c.name, "futex"):
		return test{OffsetSecond, bpf.JumpBitsNotSet, []uint32{answers.FutexWall}}, true
	}
	return t, false
}

// answered reports whether a call names no path, and is only heard for being answered.
func (c *kernelCall) answered() bool {
	switch c.act {
	case answers.Clock, answers.Until, answers.Random, answers.Machine:
		return true
	}
	return false
}

// observingProgram assembles the filter that stops every call but those that are known to name no path, and that need not be answered.
func observingProgram(named map[callID]*kernelCall, calm map[uint32][]uint32, under conditions.Conditions) ([]bpf.RawInstruction, error) {
	all := []bpf.Instruction{bpf.LoadAbsolute{Off: OffsetArch, Size: 4}}
	notify, allow := bpf.RetConstant{Val: unix.SECCOMP_RET_USER_NOTIF}, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW}
	for arch, numbers := range calm {
		part := []bpf.Instruction{bpf.LoadAbsolute{Off: OffsetNumber, Size: 4}}
		// What names paths comes first: the kernel remembers by itself what is always let through.
		for id, c := range named {
			if _, has := c.test(); id.arch == arch && !has && (!c.answered() || answers.Wants(under, c.act)) {
				part = append(part, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: id.number, SkipTrue: 1}, notify)
			}
		}
		for _, n := range numbers {
			part = append(part, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: n, SkipTrue: 1}, allow)
		}
		for id, c := range named {
			if id.arch != arch {
				continue
			}
			if c.answered() && !answers.Wants(under, c.act) {
				part = append(part, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: id.number, SkipTrue: 1}, allow)
			} else if t, has := c.test(); has {
				part = append(part, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: id.number, SkipTrue: uint8(2 + 2*len(t.values))}, bpf.LoadAbsolute{Off: t.offset, Size: 4})
				for _, n := range t.values {
					part = append(part, bpf.JumpIf{Cond: t.when, Val: n, SkipTrue: 1}, notify)
				}
				part = append(part, allow)
			}
		}
		part = append(part, notify)
		all = append(all, bpf.JumpIf{Cond: bpf.JumpEqual, Val: arch, SkipTrue: 1}, bpf.Jump{Skip: uint32(len(part))})
		all = append(all, part...)
	}
	all = append(all, notify)
	return bpf.Assemble(all)
}
