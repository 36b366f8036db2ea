package observe

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/conditions"
)

// TestKnownCalls: each number of the table stands once in its way of calling, and what opens, links and runs is told by its arguments.
func TestKnownCalls(t *testing.T) {
	named, calm, err := knownCalls()
	require.NoError(t, err)
	seen := map[callID]bool{}
	for id := range named {
		seen[id] = true
	}
	for arch, numbers := range calm {
		require.Greater(t, len(numbers), 100)
		for _, n := range numbers {
			require.False(t, seen[callID{arch, n}], "%x %d stands twice", arch, n)
			seen[callID{arch, n}] = true
		}
	}
	own := func(number uint32) *kernelCall {
		for _, arch := range columns() {
			if arch == unix.AUDIT_ARCH_X86_64 || arch == unix.AUDIT_ARCH_AARCH64 {
				return named[callID{arch, number}]
			}
		}
		return nil
	}
	require.Equal(t, []pathAt{{0, 1}}, own(unix.SYS_OPENAT).at)
	require.Equal(t, 2, own(unix.SYS_OPENAT).flags)
	require.Equal(t, []pathAt{{0, 1}, {2, 3}}, own(unix.SYS_LINKAT).at)
	require.Nil(t, own(unix.SYS_GETPID))
	program, err := observingProgram(named, calm, conditions.Conditions{Clock: time.Now(), Seed: 1, Machine: "pier"})
	require.NoError(t, err)
	require.Less(t, len(program), 4096, "the kernel takes no more")
	for _, wrong := range []string{"open 1 x", "open 1 flags=x", "open 1 colour=2"} {
		_, err := parseCall(strings.Fields(wrong))
		require.Error(t, err, wrong)
	}
}
