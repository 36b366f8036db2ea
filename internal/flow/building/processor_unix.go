//go:build unix

package building

import (
	"time"

	"golang.org/x/sys/unix"
)

// processorTime is what this process and the ended ones that it started have used.
func processorTime() (total time.Duration) {
	for _, who := range []int{unix.RUSAGE_SELF, unix.RUSAGE_CHILDREN} {
		var used unix.Rusage
		if unix.Getrusage(who, &used) == nil {
			total += time.Duration(used.Utime.Nano() + used.Stime.Nano())
		}
	}
	return total
}
