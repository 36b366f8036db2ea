package try

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"

	specs "github.com/opencontainers/runtime-spec/specs-go"

	"imbricat/internal/content/image"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/engine/sandbox"
)

// bundleVersion is the lowest version of the runtime-spec that says all that is needed: runtimes refuse those that are newer
// than they are.
const bundleVersion = "1.0.2"

// bundleRights are what a runtime gives a container's root without being asked for more.
var bundleRights = []string{"CAP_CHOWN", "CAP_DAC_OVERRIDE", "CAP_FOWNER", "CAP_FSETID", "CAP_KILL", "CAP_NET_BIND_SERVICE", "CAP_SETFCAP", "CAP_SETGID",
	"CAP_SETPCAP", "CAP_SETUID", "CAP_SYS_CHROOT"}

// WriteBundle unpacks an image into a folder that is new, or empty, and writes a runtime's settings beside it. Of the command its words and
// its environment count.
func WriteBundle(ctx context.Context, o Options, found *baseimage.Found, do Command, dir string) error {
	// What is set-uid in there must be out of other users' reach; the modes inside are the image's.
	if there, err := os.ReadDir(dir); err == nil && len(there) > 0 {
		return fmt.Errorf("%s is not empty: name a new folder for the bundle", dir)
	}
	if err := errors.Join(os.MkdirAll(dir, 0o700), os.Chmod(dir, 0o700)); err != nil {
		return err
	}
	config, box, err := Unpack(ctx, o, found, filepath.Join(dir, "rootfs"))
	if err != nil {
		return err
	}
	as, err := UserOf(ctx, o, found)
	if err != nil {
		return err
	}
	args := do.Command
	if len(args) == 0 {
		args = append(append(args, config.Entrypoint...), config.Cmd...)
	}
	if len(args) == 0 {
		return fmt.Errorf("%s has no entrypoint and no command: name a command after --", found.Name)
	}
	user := specs.User{UID: uint32(as.UID), GID: uint32(as.GID)}
	for _, g := range as.Groups {
		user.AdditionalGids = append(user.AdditionalGids, uint32(g))
	}
	bundle := &specs.Spec{
		Version:  bundleVersion,
		Root:     &specs.Root{Path: "rootfs", Readonly: do.ReadOnly},
		Hostname: sandbox.Hostname,
		Process: &specs.Process{
			Args: args, Env: image.WithEnv(config.Env, do.Env), Cwd: path.Clean("/" + config.WorkingDir), User: user, NoNewPrivileges: true,
			Capabilities: &specs.LinuxCapabilities{Bounding: bundleRights, Effective: bundleRights, Permitted: bundleRights},
		},
		Mounts: []specs.Mount{
			{Destination: "/proc", Type: "proc", Source: "proc"},
			{Destination: "/dev", Type: "tmpfs", Source: "tmpfs", Options: []string{"nosuid", "strictatime", "mode=755", "size=65536k"}},
			{Destination: "/dev/pts", Type: "devpts", Source: "devpts", Options: []string{"nosuid", "noexec", "newinstance", "ptmxmode=0666", "mode=0620"}},
			{Destination: "/dev/shm", Type: "tmpfs", Source: "shm", Options: []string{"nosuid", "noexec", "nodev", "mode=1777"}},
		},
		Linux: &specs.Linux{
			Namespaces:  []specs.LinuxNamespace{{Type: specs.PIDNamespace}, {Type: specs.MountNamespace}, {Type: specs.IPCNamespace}, {Type: specs.UTSNamespace}},
			MaskedPaths: []string{"/proc/kcore", "/proc/keys", "/proc/timer_list"}, ReadonlyPaths: []string{"/proc/sys", "/proc/sysrq-trigger", "/proc/irq", "/proc/bus"},
		},
	}
	if box.Kind() != sandbox.Root && box.Kind() != sandbox.Chroot {
		bundle.Linux.Namespaces = append(bundle.Linux.Namespaces, specs.LinuxNamespace{Type: specs.UserNamespace})
		bundle.Linux.UIDMappings, bundle.Linux.GIDMappings = bundleIDs(box.IDRows())
	}
	text, err := json.MarshalIndent(bundle, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "config.json"), append(text, '\n'), 0o644); err != nil {
		return err
	}
	return nil
}

func bundleIDs(uids, gids [][3]int) (u, g []specs.LinuxIDMapping) {
	rows := func(list [][3]int) (out []specs.LinuxIDMapping) {
		for _, r := range list {
			out = append(out, specs.LinuxIDMapping{ContainerID: uint32(r[0]), HostID: uint32(r[1]), Size: uint32(r[2])})
		}
		return out
	}
	return rows(uids), rows(gids)
}
