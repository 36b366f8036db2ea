//go:build !unix

package cli

import (
	"context"
	"os"
	"os/exec"
	"syscall"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/sandbox"
)

// withTerminal is never needed here: nothing runs without Linux.
func (s *session) withTerminal(ctx context.Context, st *store.Store, t *trial, _, _ *os.File) (sandbox.Status, error) {
	return s.run(ctx, st, t)
}

// groupOfItsOwn changes nothing here.
func groupOfItsOwn(*exec.Cmd) {}

func ownSession() *syscall.SysProcAttr { return nil }
