package sandbox

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/ground/digest"
)

// roleProbe is a command's place in the view, and the role of this program there.
const roleProbe = "/imbricat: what a command sees"

// Probe runs this program as a command under conditions, in an empty folder of the caller's, and returns what it sees there.
func (b *Box) Probe(ctx context.Context, work string, under conditions.Conditions) (*Seen, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if err := os.Mkdir(work, 0o755); err != nil {
		return nil, err
	}
	defer b.Remove(work)
	view := []tree.Entry{{Kind: tree.Folder, Mode: 0o755}, {Path: "names", Kind: tree.Folder, Mode: 0o755}}
	for _, name := range probeNames {
		view = append(view, tree.Entry{Path: "names/" + name, Kind: tree.File, Mode: 0o644, Content: digest.ContentBytes(nil)})
	}
	feed := noFiles(view)
	if b.kind == Chroot { // nothing of the machine can be shown there, so the program is laid down
		if view, feed, err = withProgram(view, program); err != nil {
			return nil, err
		}
	}
	var out bytes.Buffer
	s := &Spec{Work: work, Top: view[0], Args: []string{roleProbe}, Dir: "/names", Env: []string{"LANG=C.UTF-8", "PATH=/bin"}, Observe: true, Under: under, Stdout: &out}
	if b.kind != Chroot {
		s.Points = []tree.Entry{view[0], {Path: strings.TrimPrefix(roleProbe, "/"), Kind: tree.File, Mode: 0o755, Content: digest.ContentBytes(nil)}}
		s.Mounts = []Mount{{From: program, At: roleProbe, ReadOnly: true}}
	}
	if b.overlay {
		base := filepath.Join(work, "base")
		if err := b.Lay(ctx, base, view, feed); err != nil {
			return nil, err
		}
		s.Lower = []string{base}
	}
	if err := b.Prepare(ctx, s, view, feed); err != nil {
		return nil, err
	}
	status, err := b.Run(ctx, s)
	if err != nil {
		return nil, err
	}
	if status.Code != 0 {
		return nil, fmt.Errorf("what a command sees could not be found out: the probe ended with status %d", status.Code)
	}
	seen := &Seen{}
	if err := json.NewDecoder(io.LimitReader(&out, 1<<20)).Decode(seen); err != nil {
		return nil, fmt.Errorf("reading what a command sees: %w", err)
	}
	return seen, nil
}

// withProgram adds a program of the machine to a view of empty files, where the probe is to be.
func withProgram(view []tree.Entry, program string) ([]tree.Entry, Feed, error) {
	text, err := os.ReadFile(program)
	if err != nil {
		return nil, nil, err
	}
	view = append(view, tree.Entry{Path: strings.TrimPrefix(roleProbe, "/"), Kind: tree.File, Mode: 0o755, Size: int64(len(text)), Content: digest.ContentBytes(text)})
	slices.SortFunc(view, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	return view, func(put func(int, int64, io.Reader) error) error {
		for i := range view {
			if view[i].Kind != tree.File {
				continue
			}
			if err := put(i, -1, bytes.NewReader(text[:view[i].Size])); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// probeMain tells what it sees.
func probeMain() error {
	var name unix.Utsname
	if err := unix.Uname(&name); err != nil {
		return err
	}
	s := Seen{Host: unix.ByteSliceToString(name.Nodename[:]), Release: unix.ByteSliceToString(name.Release[:]), Env: os.Environ(), Clock: time.Now().Unix(), PID: os.Getpid(),
		Interfaces: []string{}}
	s.Dir, _ = os.Getwd()
	groups, _ := unix.Getgroups()
	s.User = fmt.Sprint(unix.Getuid(), unix.Getgid(), groups)
	before := unix.Umask(0)
	s.Umask = fmt.Sprintf("%03o", before)
	if status, err := os.ReadFile("/proc/self/status"); err == nil {
		for line := range strings.Lines(string(status)) {
			if value, is := strings.CutPrefix(line, "SigIgn:"); is {
				s.Ignored = strings.TrimSpace(value)
			}
		}
	}
	for _, l := range limits {
		var now unix.Rlimit
		if err := unix.Prlimit(0, l.resource, nil, &now); err == nil {
			s.Limits = append(s.Limits, fmt.Sprintf("%s %d %d", l.name, now.Cur, now.Max))
		}
	}
	var set unix.CPUSet
	if unix.SchedGetaffinity(0, &set) == nil {
		s.Processors = set.Count()
	}
	if all, err := net.Interfaces(); err == nil {
		for _, i := range all {
			s.Interfaces = append(s.Interfaces, i.Name)
		}
	}
	if f, err := os.Open("."); err == nil {
		s.Names, _ = f.Readdirnames(-1)
		f.Close()
	}
	// The stack lies where the kernel puts it; what Go has in memory does not.
	if maps, err := os.ReadFile("/proc/self/maps"); err == nil {
		lines := strings.Split(string(maps), "\n")
		if at := slices.IndexFunc(lines, func(line string) bool { return strings.HasSuffix(line, "[stack]") }); at >= 0 {
			_, _ = fmt.Sscanf(lines[at], "%x", &s.Address)
		}
	}
	return json.NewEncoder(descriptor(unix.Stdout)).Encode(s)
}
