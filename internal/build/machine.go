package build

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"

	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/sandbox"
)

// checkMachine finds out before any work whether the commands of the plan can be run here.
func (b *builder) checkMachine(ctx context.Context) error {
	wanted := map[string][]string{} // architecture → units
	for _, u := range b.o.Plan.Units {
		if slices.ContainsFunc(u.Steps, func(s plan.Step) bool { _, run := s.Do.(plan.Run); return run }) {
			wanted[u.Machine.Architecture] = append(wanted[u.Machine.Architecture], u.ID.String())
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	box, err := b.box(ctx)
	if err != nil {
		return err
	}
	if err := b.trial(ctx, box, runtime.GOARCH); err != nil {
		return err
	}
	if box.Kind() == sandbox.Chroot {
		b.warning(nil, event.Confined, "commands run in a chroot: they see the machine's processes, network and clock as root does, and nothing but their root folder is kept apart")
	}
	for architecture, units := range wanted {
		if architecture == runtime.GOARCH {
			continue
		}
		if err := b.checkArchitecture(ctx, box, architecture, units); err != nil {
			return err
		}
	}
	return nil
}

// checkArchitecture finds out whether commands for another architecture can be run here, and says that they are emulated.
func (b *builder) checkArchitecture(ctx context.Context, box *sandbox.Box, architecture string, units []string) error {
	err := b.trial(ctx, box, architecture)
	var unable *sandbox.UnableError
	if errors.As(err, &unable) && unable.Missing == "format" {
		return &sandbox.UnableError{Missing: "emulator", What: fmt.Sprintf("%s runs commands for %s, and this machine is %s and has no emulator for that", units[0], architecture, runtime.GOARCH),
			Mend: fmt.Sprintf("build it on a %s machine and put the images together with `imbricat join`, or compile in a stage with machine: here, or register an emulator (on Debian: apt install qemu-user-static)", architecture)}
	}
	if err == nil && !(runtime.GOARCH == "amd64" && architecture == "386") {
		for _, unit := range units {
			b.warning(nil, event.Emulated, unit+" runs its commands in an emulator, which is several times slower")
		}
	}
	return err
}

// trial tries for real whether commands can be run, once since the machine started: a later refusal is still an error.
func (b *builder) trial(ctx context.Context, box *sandbox.Box, architecture string) error {
	name := "trial-" + box.Form() + "-" + architecture
	if _, good := b.o.Store.Trusted(name); good {
		return nil
	}
	dir, err := b.o.Store.TemporaryFolder()
	if err != nil {
		return err
	}
	defer b.o.Store.Discard(dir)
	tried := box.Form()
	withoutOverlay, err := box.Trial(ctx, dir, architecture)
	if withoutOverlay != nil {
		b.warning(nil, event.Confined, "commands work on copies of their views, which is slower: "+withoutOverlay.Error())
	}
	if err == nil && box.Form() == tried {
		_ = b.o.Store.Trust(name, "") // it only saves time
	}
	return err
}
