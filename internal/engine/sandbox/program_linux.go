package sandbox

import (
	"fmt"
	"io"
	"os"

	"golang.org/x/sys/unix"

	"imbricat/internal/engine/sandbox/observe"
)

// checkProgram refuses a program that needs a loader and libraries: inside a sandbox it would find none of this machine's.
func checkProgram() error {
	own, err := os.Open("/proc/self/exe")
	if err != nil {
		return err
	}
	defer own.Close()
	head := make([]byte, 4096)
	if _, err := own.ReadAt(head, 0); err != nil {
		return err
	}
	if observe.LoaderOf(int(own.Fd()), head) != "" {
		return &UnableError{Missing: "static", What: "this imbricat is linked dynamically, and commands need one that stands alone", Mend: "build it with CGO_ENABLED=0"}
	}
	return nil
}

// sealedProgram returns a copy of this program in memory that nobody can write to, for executing it inside sandboxes: what
// runs there is no file of the machine. Where files in memory may not be executed there is none, and an error.
func sealedProgram() (*os.File, error) {
	fd, err := unix.MemfdCreate("imbricat", unix.MFD_CLOEXEC|unix.MFD_ALLOW_SEALING|unix.MFD_EXEC)
	if err != nil { // kernels before 6.3 do not know that files in memory might not be executable
		fd, err = unix.MemfdCreate("imbricat", unix.MFD_CLOEXEC|unix.MFD_ALLOW_SEALING)
	}
	if err != nil {
		return nil, err
	}
	memory := os.NewFile(uintptr(fd), "imbricat")
	if err := fillAndSeal(memory); err != nil {
		memory.Close()
		return nil, fmt.Errorf("copying this program into memory: %w", err)
	}
	return memory, nil
}

func fillAndSeal(memory *os.File) error {
	own, err := os.Open("/proc/self/exe")
	if err != nil {
		return err
	}
	defer own.Close()
	if _, err := io.Copy(memory, own); err != nil {
		return err
	}
	if err := memory.Chmod(0o555); err != nil {
		return err
	}
	_, err = unix.FcntlInt(memory.Fd(), unix.F_ADD_SEALS, unix.F_SEAL_WRITE|unix.F_SEAL_GROW|unix.F_SEAL_SHRINK|unix.F_SEAL_SEAL)
	if err != nil {
		return err
	}
	return nil
}
