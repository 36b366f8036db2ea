package sandbox

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// Feature is something that commands need or would have, tried for real.
type Feature struct {
	Name string
	Good bool
	What string
	Mend string // empty where nothing is to be mended
}

// Examine tries everything that a sandbox is made of, in an empty folder of the caller's on the store's file system.
func Examine(ctx context.Context, dir string, kind Kind) []Feature {
	box, err := Open(ctx, Options{Kind: kind})
	if err != nil {
		return []Feature{failed("run steps", err)}
	}
	defer box.Close()
	var all []Feature
	all = append(all, box.aboutIDs())
	withoutOverlay, err := box.Trial(ctx, filepath.Join(dir), runtime.GOARCH)
	if err != nil {
		return append(all, failed("run steps", err))
	}
	all = append(all, Feature{Name: "run steps", Good: box.kind != Chroot, What: "a trial command ran " + map[Kind]string{
		Root: "in new namespaces, as root", Mapped: "in new namespaces, as an ordinary user with a range of ids", Single: "in new namespaces, as an ordinary user with one id",
		Chroot: "in a chroot: commands see the machine's processes, network and clock as root does"}[box.kind]})
	overlay := Feature{Name: "overlay mounts", Good: box.overlay, What: "views are mounted, not copied"}
	if !box.overlay {
		overlay.What, overlay.Mend = "views are copied for every command, which is slower", "put the store on ext4, xfs, btrfs or tmpfs, on Linux 5.11 or later"
		if withoutOverlay != nil {
			overlay.What += " (" + withoutOverlay.Error() + ")"
		}
	}
	all = append(all, overlay)
	observed := Feature{Name: "observing", Good: box.trial != nil && box.trial.Whole == "", What: "what commands read is seen, so that they run again only when that changes"}
	if !observed.Good {
		observed.What, observed.Mend = "what commands read cannot be seen here, so everything below them counts", "use Linux 5.9 or later, outside of a supervisor that filters system calls with notifications"
		if box.trial != nil {
			observed.What += " (" + box.trial.Whole + ")"
		}
	}
	all = append(all, observed, box.aboutSurroundings())
	if box.kind != Chroot {
		all = append(all, box.aboutNetwork(ctx, dir), aboutDevice())
		sockets := Feature{Name: "abstract sockets", Good: scoped(), What: "those of this machine are out of commands' reach"}
		if !sockets.Good {
			sockets.What, sockets.Mend = "commands with a network reach this machine's abstract sockets", "use Linux 6.12 or later with Landlock, or network: false"
		}
		all = append(all, sockets)
	}
	return append(all, box.aboutEmulators(ctx, dir))
}

func failed(name string, err error) Feature {
	f := Feature{Name: name, What: err.Error()}
	var unable *UnableError
	if errors.As(err, &unable) {
		f.What, f.Mend = unable.What, unable.Mend
	}
	return f
}

func (b *Box) aboutIDs() Feature {
	f := Feature{Name: "user ids", Good: true, What: "commands have all ids of this machine's root"}
	switch b.kind {
	case Mapped:
		f.What = fmt.Sprintf("user %d has %d ids from /etc/subuid, mapped by newuidmap", os.Geteuid(), b.ids.uids[len(b.ids.uids)-1].Size)
	case Single:
		_, err := subordinate()
		f.Good, f.What = false, fmt.Sprintf("commands have one id alone, so package managers and chown fail (%s)", err)
		f.Mend = "as root: usermod --add-subuids 100000-165535 --add-subgids 100000-165535 USER, and install newuidmap (on Debian: apt install uidmap)"
	}
	return f
}

// aboutSurroundings tells what of this machine reaches commands and sets their results apart from other machines'.
func (b *Box) aboutSurroundings() Feature {
	f := Feature{Name: "same everywhere", Good: true, What: "limits of resources and the host name are the same for every command"}
	if words := b.Surroundings(); len(words) > 0 {
		f.Good, f.What = false, "results are not shared with machines that show commands something else: "+strings.Join(words, "; ")
		f.Mend = "raise the hard limits of whoever starts imbricat (ulimit -H), or leave --sandbox chroot out"
	}
	return f
}

// aboutNetwork tries a network of the command's own.
func (b *Box) aboutNetwork(ctx context.Context, dir string) Feature {
	f := Feature{Name: "network: false", Good: true, What: "leaves a loopback alone"}
	if err := b.try(ctx, filepath.Join(dir, "network"), runtime.GOARCH, false); err != nil {
		f = failed(f.Name, err)
	}
	return f
}

// aboutDevice tells whether commands can have a network that they share.
func aboutDevice() Feature {
	f := Feature{Name: "try --together", Good: true, What: "commands can share a network of their own"}
	if err := unix.Access(tunnels, unix.R_OK|unix.W_OK); err != nil {
		f.Good, f.What, f.Mend = false, fmt.Sprintf("commands can share no network of their own (%s: %s)", tunnels, err), mends["tun"]
	}
	return f
}

func (b *Box) aboutEmulators(ctx context.Context, dir string) Feature {
	var names []string
	for _, architecture := range []string{"386", "amd64", "arm", "arm64", "riscv64"} {
		if architecture != runtime.GOARCH && b.try(ctx, filepath.Join(dir, architecture), architecture, true) == nil {
			names = append(names, architecture)
		}
	}
	slices.Sort(names)
	f := Feature{Name: "other architectures", Good: len(names) > 0, What: "commands run for " + strings.Join(names, ", ") + " too"}
	if !f.Good || len(names) == 1 && names[0] == "386" {
		f.Good, f.What = false, fmt.Sprintf("commands run for %s alone", runtime.GOARCH)
		f.Mend = "register an emulator (on Debian: apt install qemu-user-static), compile in a stage with machine: here, or build elsewhere and join"
	}
	return f
}
