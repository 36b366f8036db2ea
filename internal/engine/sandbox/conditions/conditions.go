// Package conditions names what a command can notice of its machine besides its view, and nothing of its result should depend on, so
// that it can be shown otherwise. It holds words alone; the sandbox and what answers calls carry them out.
package conditions

import "time"

// Conditions are under what a command runs. The zero value is what the machine happens to give.
type Conditions struct {
	// Clock is what the wall clock shows when the command begins; it advances from there as time goes by. The zero time is the
	// machine's clock. Counters of processors, the times of files and clocks that begin when the machine starts are the machine's.
	Clock time.Time
	// Order is how the names of a folder are listed.
	Order Order
	// Seed is from what random numbers of the kernel are made; 0: they are random. Those of /dev/random and /dev/urandom always are.
	Seed uint64
	// Plain has programs lie at the same addresses of memory each time.
	Plain bool
	// Processors is on how many of the machine's processors the command runs; 0: on all.
	Processors int
	// Jitter holds calls back now and then, for a moment, so that what runs at once meets otherwise.
	Jitter bool
	// FirstPID is the number of the command's process; 0: a small one.
	FirstPID int
	// Machine stands in the name of the kernel's release and version; empty: they are the machine's.
	Machine string
}

// Order is an order of names.
type Order string

// The orders. The zero value is that of the file system.
const (
	Sorted   Order = "sorted"   // by their bytes
	Reversed Order = "reversed" // the same from behind
	Shuffled Order = "shuffled" // by a hash of them
)

// Answered reports whether calls of the command must be answered in place of the kernel.
func (c Conditions) Answered() bool {
	return !c.Clock.IsZero() || c.Order != "" || c.Seed != 0 || c.Machine != "" || c.Jitter
}

// Hidden reports whether programs must be kept from what the kernel lends them for telling the time without a call.
func (c Conditions) Hidden() bool { return !c.Clock.IsZero() || c.Seed != 0 }
