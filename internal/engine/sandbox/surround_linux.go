package sandbox

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/answers"
)

// What of a command's conditions is set up before it starts; the rest is answered while it runs.

// plainAddresses has the programs that a process starts lie at the same addresses each time.
const plainAddresses = 0x0040000 // ADDR_NO_RANDOMIZE

// surround puts the conditions on this thread that what it starts inherits.
func (o *initOrders) surround() error {
	under := o.Spec.Under
	if under.Answered() && !o.Spec.Observe {
		return refused("conditions", "showing the command another clock, order or machine", fmt.Errorf("it is not observed"))
	}
	if under.FirstPID > 0 && o.Kind != Chroot {
		if err := countTo(under.FirstPID - 1); err != nil {
			return refused("conditions", "giving processes other numbers", err)
		}
	}
	if under.Plain {
		if _, _, errno := unix.Syscall(unix.SYS_PERSONALITY, plainAddresses, 0, 0); errno != 0 {
			return refused("conditions", "giving programs the same addresses", errno)
		}
	}
	if under.Processors > 0 {
		var all, some unix.CPUSet
		if err := unix.SchedGetaffinity(0, &all); err != nil {
			return refused("conditions", "giving the command some processors", err)
		}
		for i := range len(all) * 64 {
			if all.IsSet(i) && some.Count() < under.Processors {
				some.Set(i)
			}
		}
		if err := unix.SchedSetaffinity(0, &some); err != nil {
			return refused("conditions", "giving the command some processors", err)
		}
	}
	return nil
}

// ownNumbers is how many numbers of processes the sandbox's own threads may take before the command starts.
const ownNumbers = 40

// firstProcess has the numbers of processes go on a little before one. The right to choose them goes before the command starts.
func firstProcess(number int) error {
	if number == 0 {
		return nil
	}
	return refused("conditions", "giving processes other numbers", os.WriteFile("/proc/sys/kernel/ns_last_pid", []byte(fmt.Sprint(max(1, number-ownNumbers))), 0))
}

// countTo uses numbers of processes up until one is the last, by starting what is not there.
func countTo(number int) error {
	for range ownNumbers {
		text, err := os.ReadFile("/proc/loadavg")
		if err != nil {
			return err
		}
		fields := strings.Fields(string(text))
		if last, err := strconv.Atoi(fields[len(fields)-1]); err != nil || last >= number {
			return err
		}
		_, _ = syscall.ForkExec("/proc/self/nothing", []string{"nothing"}, nil)
	}
	return nil
}

// rangeTo writes the numbers of processors as the kernel does.
func rangeTo(last int) string {
	if last == 0 {
		return "0\n"
	}
	return fmt.Sprintf("0-%d\n", last)
}

// machineFiles are those of /proc by which a command can tell the machine, as another one has them.
func machineFiles(machine string) []Secret {
	if machine == "" {
		return nil
	}
	release, version := answers.Kernel(machine)
	id := fmt.Sprintf("%08x-%04x-4%03x-8%03x-%012x", rand.Uint32(), rand.Uint32()&0xffff, rand.Uint32()&0xfff, rand.Uint32()&0xfff, rand.Uint64()&0xffffffffffff)
	all := []Secret{
		{At: "/proc/version", Content: []byte(fmt.Sprintf("Linux version %s (keeper@%s) %s\n", release, machine, version)), Mode: 0o444},
		{At: "/proc/sys/kernel/osrelease", Content: []byte(release + "\n"), Mode: 0o444},
		{At: "/proc/sys/kernel/version", Content: []byte(version + "\n"), Mode: 0o444},
		{At: "/proc/sys/kernel/random/boot_id", Content: []byte(id + "\n"), Mode: 0o444}}
	if text, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		var lines []string
		for line := range strings.Lines(string(text)) {
			if name, _, is := strings.Cut(line, ":"); is && strings.TrimSpace(name) == "model name" {
				line = cmp.Or(strings.TrimRight(name, " "), "model name\t") + ": " + machine + "\n"
			}
			lines = append(lines, line)
		}
		all = append(all, Secret{At: "/proc/cpuinfo", Content: []byte(strings.Join(lines, "")), Mode: 0o444})
	}
	return all
}
