package sandbox

import (
	"bufio"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/folder"
)

// Box is what this machine can do, ready for commands and for the folders that they work on.
type Box struct {
	kind    Kind
	ids     idMap
	overlay bool
	fewIDs  bool
	worker  worker
	time    int64
	trial   *trace.Observation // what was seen of the last trial command
	lower   string             // limits of resources that are lower here than elsewhere
	named   bool               // a chroot has a host name of its own

	bounds  Bounds
	mounted bool // the program is not to be executed from memory

	supervisorMutex sync.Mutex
	supervisor      *supervisor // once the first command was prepared
}

// Options say how a box is opened. The zero value asks for the best that there is.
type Options struct {
	Kind Kind  // Chroot where that is asked for by hand; empty: what the machine can do
	Time int64 // of every file that a command leaves, in seconds since 1970
	// Bounds are those of commands that have none of their own.
	Bounds Bounds
	// NoSealed has sandboxes run the machine's file from a mount, as where files in memory may not be executed.
	NoSealed bool
	// NoOverlay has commands work on copies, as where the kernel refuses overlays.
	NoOverlay bool
}

// Open finds out what the machine can do and starts what is needed for it. The error is an *UnableError where commands
// cannot be run at all.
func Open(ctx context.Context, o Options) (*Box, error) {
	b := &Box{kind: o.Kind, overlay: !o.NoOverlay && o.Kind != Chroot, time: o.Time, worker: local{}, bounds: o.Bounds, mounted: o.NoSealed}
	if len(tables) == 0 {
		return nil, &UnableError{Missing: "processor", What: "commands cannot be run on this processor: it has no system-call filter yet", Mend: "use amd64 or arm64"}
	}
	if err := checkProgram(); err != nil {
		return nil, err
	}
	b.lower = raiseLimits()
	if o.Kind == Chroot {
		if os.Geteuid() != 0 {
			return nil, &UnableError{Missing: "root", What: "--sandbox chroot changes the root, which only root may", Mend: "leave the option out, or run as root"}
		}
	}
	if os.Geteuid() == 0 {
		ids, err := identity()
		if err != nil {
			return nil, err
		}
		if b.fewIDs = ids.few(); o.Kind != Chroot {
			b.kind, b.ids = Root, ids
		} else {
			b.named = mayName()
		}
		return b, nil
	}
	var err error
	if b.ids, err = subordinate(); err == nil {
		b.kind = Mapped
		if b.worker, err = startHelper(ctx, b.ids); err == nil {
			return b, nil
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	b.kind, b.ids, b.fewIDs = Single, own(), true
	if b.worker, err = startHelper(ctx, b.ids); err != nil {
		return nil, noNamespaces(err)
	}
	return b, nil
}

// noNamespaces says that the kernel lets an ordinary user make none.
func noNamespaces(err error) error {
	return &UnableError{Missing: "namespaces", What: fmt.Sprintf("this machine lets user %d make no user namespaces (%s)", os.Geteuid(), err),
		Mend: namespaceMend()}
}

func namespaceMend() string {
	for file, wanted := range map[string]string{
		"/proc/sys/kernel/unprivileged_userns_clone":             "1",
		"/proc/sys/kernel/apparmor_restrict_unprivileged_userns": "0",
	} {
		if text, err := os.ReadFile(file); err == nil && strings.TrimSpace(string(text)) != wanted {
			return fmt.Sprintf("as root: sysctl %s=%s; or run imbricat as root", strings.ReplaceAll(strings.TrimPrefix(file, "/proc/sys/"), "/", "."), wanted)
		}
	}
	return "as root: sysctl user.max_user_namespaces=10000; in a container, run imbricat as root with --sandbox chroot"
}

// mayName reports whether this process may give a child a host name of its own.
func mayName() bool {
	cmd := exec.Command("/proc/self/exe")
	cmd.Args, cmd.SysProcAttr = []string{roleHelper}, &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWUTS}
	if cmd.Start() != nil {
		return false
	}
	_ = cmd.Wait() // it has no orders and ends at once
	return true
}

// Close ends what the box has started.
func (b *Box) Close() error {
	err := b.worker.close()
	b.supervisorMutex.Lock()
	defer b.supervisorMutex.Unlock()
	if b.supervisor != nil {
		err = errors.Join(err, b.supervisor.close())
	}
	return err
}

// supervise returns the supervisor, which is started once. Its namespace is that of an ordinary user's ids, or none.
func (b *Box) supervise(ctx context.Context) (*supervisor, error) {
	b.supervisorMutex.Lock()
	defer b.supervisorMutex.Unlock()
	if b.supervisor != nil {
		return b.supervisor, nil
	}
	ids := idMap{}
	if b.kind == Mapped || b.kind == Single {
		ids = b.ids
	}
	var err error
	b.supervisor, err = startSupervisor(ctx, ids)
	return b.supervisor, err
}

// Surroundings names what commands can see of this machine and would not see on most: results of two boxes that name the
// same can serve each other.
func (b *Box) Surroundings() []string {
	var words []string
	if b.lower != "" {
		words = append(words, "limits: "+b.lower)
	}
	if name, err := os.Hostname(); b.kind == Chroot && !b.named && err == nil {
		words = append(words, "host name: "+name)
	}
	return words
}

// Kind tells how commands are kept apart.
func (b *Box) Kind() Kind { return b.kind }

// Overlay reports whether commands work on overlays rather than on copies.
func (b *Box) Overlay() bool { return b.overlay }

// IDs names the ids that commands can have: results of two boxes that name the same can serve each other.
func (b *Box) IDs() IDMapping {
	switch {
	case b.fewIDs:
		return OneID
	case b.kind == Chroot:
		return MachineIDs
	}
	return AllIDs
}

// Owners names whose ids the files in the box's folders have.
func (b *Box) Owners() string { return strings.TrimSuffix(b.SnapshotFormat(), copiedForm) }

// copiedForm ends the names of forms whose folders hold no marks of what is gone.
const copiedForm = "-copied"

// Marked reports whether folders of a form hold marks of what is gone, as overlays need them.
func Marked(form string) bool { return !strings.HasSuffix(form, copiedForm) }

// IDRows returns how ids inside stand for ids outside, each row an id inside, one outside and how many follow.
func (b *Box) IDRows() (uids, gids [][3]int) {
	rows := func(list []syscall.SysProcIDMap) (out [][3]int) {
		for _, r := range list {
			out = append(out, [3]int{r.ContainerID, r.HostID, r.Size})
		}
		return out
	}
	return rows(b.ids.uids), rows(b.ids.gids)
}

// SnapshotFormat names how the box's folders look on disk: who owns them, and whether they can lie in an overlay.
func (b *Box) SnapshotFormat() string {
	name := string(b.kind)
	if b.kind == Mapped {
		for _, rows := range append(slices.Clone(b.ids.uids), b.ids.gids...) {
			name += fmt.Sprintf("-%d", rows.HostID)
		}
	} else if b.kind == Single {
		name += fmt.Sprintf("-%d-%d", os.Geteuid(), os.Getegid())
	}
	if !b.overlay {
		name += copiedForm
	}
	return name
}

// Feed gives the files of a tree: it calls put with the index of an entry and the bytes, whose number the entry tells or
// size overrules where it is not negative. Of an entry that comes more than once the last stays.
type Feed func(put func(i int, size int64, body io.Reader) error) error

// Lay makes a folder that holds the entries, sorted by path with every folder above. Devices are left out.
func (b *Box) Lay(ctx context.Context, dir string, entries []tree.Entry, feed Feed) error {
	return b.layIn(ctx, folder.Laying{Dir: dir, Time: b.time}, entries, feed)
}

func (b *Box) layIn(ctx context.Context, l folder.Laying, entries []tree.Entry, feed Feed) error {
	in, out := io.Pipe()
	go func() { out.CloseWithError(sendTree(ctx, out, entries, feed)) }()
	err := b.worker.lay(l, in)
	in.CloseWithError(errors.New("the tree was not taken in"))
	return err
}

func sendTree(ctx context.Context, to io.Writer, entries []tree.Entry, feed Feed) error {
	w := bufio.NewWriterSize(to, 256<<10)
	number := func(n uint64) error {
		var b [8]byte
		binary.LittleEndian.PutUint64(b[:], n)
		_, err := w.Write(b[:])
		return err
	}
	lines := tree.EncodeEntries(entries)
	if err := number(uint64(len(lines))); err != nil {
		return err
	}
	if _, err := w.Write(lines); err != nil {
		return err
	}
	buffer := make([]byte, 128<<10)
	put := func(i int, size int64, body io.Reader) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if size < 0 {
			size = entries[i].Size
		}
		if err := errors.Join(number(uint64(i)), number(uint64(size))); err != nil {
			return err
		}
		n, err := io.CopyBuffer(struct{ io.Writer }{w}, struct{ io.Reader }{io.LimitReader(body, size)}, buffer)
		if err == nil && n != size {
			err = fmt.Errorf("/%s has %d of its %d bytes", entries[i].Path, n, size)
		}
		return err
	}
	if err := feed(put); err != nil {
		return err
	}
	if err := number(folder.EndOfFiles); err != nil {
		return err
	}
	return w.Flush()
}

// Read tells what a folder holds that this box made. With keepTimes entries have their times.
func (b *Box) Read(dir string, keepTimes bool) ([]folder.Found, error) {
	return b.worker.read(folder.Reading{Dir: dir, KeepTimes: keepTimes})
}

// Note writes into a file how to tell later, without reading, that nobody has touched what a folder of this box holds.
func (b *Box) Note(dir, marks string) error { return b.worker.note(folder.Reading{Dir: dir}, marks) }

// Touched tells which of some paths of a folder were touched since Note, or are not among what it noted. That a path was
// touched is no proof that it is another.
func (b *Box) Touched(dir, marks string, paths []string) (touched []string, err error) {
	found, err := b.worker.touched(folder.Reading{Dir: dir, Before: marks}, paths)
	for i := range found {
		touched = append(touched, found[i].Path)
	}
	return touched, err
}

// Mend makes a folder that a command left what its entries tell. Folders for copies hold no marks of what is gone.
func (b *Box) Mend(dir string, m folder.Mending) error {
	if !b.overlay {
		m = folder.Mending{Gone: m.Gone}
	}
	if len(m.Show)+len(m.Hide)+len(m.Drop)+len(m.Gone) == 0 {
		return nil
	}
	return b.worker.mend(folder.Reading{Dir: dir, Time: b.time}, m)
}

// Remove removes a folder that this box made.
func (b *Box) Remove(dir string) error { return b.worker.remove(dir) }

// Exchange puts a folder in the place of another one as one act; that takes the first one's place, where it exists.
func (b *Box) Exchange(dir, place string) error { return b.worker.exchange(dir, place) }

// OpenFile opens a file in a folder that this box made.
func (b *Box) OpenFile(name string) (*os.File, error) { return b.worker.open(name) }

// Prepare makes what Run needs in a spec's work folder. A box without overlays is given the whole view to fill.
func (b *Box) Prepare(ctx context.Context, s *Spec, view []tree.Entry, feed Feed) error {
	go func() { _, _ = b.supervise(context.WithoutCancel(ctx)) }() // ready when the view is
	points := withMountPoints(s)
	if !b.overlay {
		root := filepath.Join(s.Work, "root")
		for i := range view {
			s.Copied += view[i].Size
		}
		if err := b.Lay(ctx, root, view, feed); err != nil {
			return err
		}
		if err := b.Lay(ctx, filepath.Join(s.Work, "points"), points, noFiles(points)); err != nil {
			return err
		}
		if err := b.layIn(ctx, folder.Laying{Dir: root, Time: b.time, Missing: true}, points, noFiles(points)); err != nil {
			return err
		}
		if b.kind == Chroot {
			if err := b.placeInside(s); err != nil {
				b.Finish(s)
				return err
			}
		}
		return b.worker.note(folder.Reading{Dir: root, Sure: true}, filepath.Join(s.Work, "before"))
	}
	if err := b.Lay(ctx, filepath.Join(s.Work, "points"), points, noFiles(points)); err != nil {
		return err
	}
	top := []tree.Entry{s.Top}
	if err := b.Lay(ctx, filepath.Join(s.Work, "upper"), top, noFiles(top)); err != nil {
		return err
	}
	for _, folder := range []string{"work", "root", "l"} {
		if err := b.Lay(ctx, filepath.Join(s.Work, folder), nil, noFiles(nil)); err != nil {
			return err
		}
	}
	// The folder with the links is the helper's, so the links are laid down as well.
	links := []tree.Entry{{Kind: tree.Folder, Mode: 0o755}}
	for i, folder := range append([]string{filepath.Join(s.Work, "points")}, s.Lower...) {
		links = append(links, tree.Entry{Path: fmt.Sprint(i), Kind: tree.Symlink, Target: folder})
	}
	return b.Lay(ctx, filepath.Join(s.Work, "l"), links, noFiles(links))
}

// withMountPoints adds the folders that every command needs to those that it is given.
func withMountPoints(s *Spec) []tree.Entry {
	all := slices.Clone(s.Points)
	for _, p := range mountPoints(s) {
		if !slices.ContainsFunc(all, func(e tree.Entry) bool { return e.Path == p.Path }) {
			all = append(all, p)
		}
	}
	if !slices.ContainsFunc(all, func(e tree.Entry) bool { return e.Path == "" }) {
		all = append(all, s.Top)
	}
	slices.SortFunc(all, func(x, y tree.Entry) int { return strings.Compare(x.Path, y.Path) })
	return all
}

// noFiles feeds the empty files that mounts of files are put on.
func noFiles(entries []tree.Entry) Feed {
	return func(put func(int, int64, io.Reader) error) error {
		for i := range entries {
			if entries[i].Kind == tree.File {
				if err := put(i, 0, strings.NewReader("")); err != nil {
					return err
				}
			}
		}
		return nil
	}
}

// Run runs a prepared command and waits until nothing of it runs any more. The error is an *UnableError where the machine
// refuses something that the sandbox needs, and a *BoundError where the command was ended for using too much.
func (b *Box) Run(ctx context.Context, s *Spec) (Status, error) {
	o := &setup{Kind: b.kind, Work: s.Work, Spec: *s, Terminal: s.Terminal != nil, Groups: b.ids.setgroups || b.kind == Chroot && mayGroup(), Named: b.named, Mounted: b.mounted}
	if o.Spec.Bounds == (Bounds{}) {
		o.Spec.Bounds = b.bounds
	}
	if b.overlay {
		o.Lower = len(s.Lower) + 1
	}
	over, err := b.supervise(ctx)
	if err != nil {
		return Status{}, b.cannotStart(err)
	}
	outputs, standard, err := s.connect()
	if err != nil {
		return Status{}, err
	}
	if s.Door != nil {
		if s.Door.address.IsValid() || s.Door.port != 0 {
			if err := b.OwnNetwork(); err != nil {
				return Status{}, err
			}
		}
		o.Spec.Admits, o.Spec.Joined, o.Spec.Port, standard[3] = true, s.Door.address, s.Door.port, s.Door.there
		outputs.door = s.Door
	}
	v, err := over.run(ctx, o, s.Signals, standard, outputs.handOver)
	outputs.wait()
	status, err := b.judge(v, err)
	if err == nil && s.Observe && status.Observed == nil {
		err = errors.New("the sandbox ended without telling what the command touched")
	}
	if err != nil || status.Code != 0 {
		b.Finish(s)
	}
	return status, err
}

// OwnNetwork returns an *UnableError where commands cannot have a network of their own.
func (b *Box) OwnNetwork() error {
	if b.kind != Chroot {
		return nil
	}
	return &UnableError{Missing: "network", What: "a chroot has no network of its own", Mend: "run it where user namespaces are allowed"}
}

// judge reads what the supervisor says.
func (b *Box) judge(v verdict, err error) (Status, error) {
	result := v.Outcome
	switch {
	case err != nil:
		return Status{}, err
	case v.Errno != 0:
		return Status{}, b.cannotStart(fmt.Errorf("%s: %w", strings.TrimSuffix(v.Unstarted, ": "+unix.Errno(v.Errno).Error()), unix.Errno(v.Errno)))
	case v.Unstarted != "":
		return Status{}, fmt.Errorf("starting the sandbox: %s", v.Unstarted)
	case v.Unable != "":
		return Status{}, &UnableError{Missing: "conditions", What: v.Unable, Mend: mends["conditions"]}
	case v.Bound != nil:
		return Status{}, v.Bound
	case !v.Told:
		return Status{}, fmt.Errorf("the sandbox ended unexpectedly: %s", v.State)
	case result.Missing != "":
		return Status{}, &UnableError{Missing: result.Missing, What: "the sandbox cannot be set up: " + result.Err, Mend: mends[result.Missing]}
	case result.Err != "":
		return Status{}, errors.New(result.Err)
	}
	result.Status.Observed = v.Observed
	return result.Status, nil
}

// Finish takes back what a command was given. Whoever does not ask what a command wrote must call it.
func (b *Box) Finish(s *Spec) {
	s.takeBack()
}

func (b *Box) cannotStart(err error) error {
	if errors.Is(err, unix.EPERM) || errors.Is(err, unix.ENOSPC) || errors.Is(err, unix.EINVAL) || errors.Is(err, unix.EACCES) {
		mend := namespaceMend()
		if b.kind == Root {
			mend = "allow namespaces (sysctl user.max_user_namespaces), or use --sandbox chroot, which keeps less apart"
		}
		return &UnableError{Missing: "namespaces", What: fmt.Sprintf("this machine refuses new namespaces: %s", err), Mend: mend}
	}
	return fmt.Errorf("starting the sandbox: %w", err)
}

// mends tell what to do about a feature that the kernel refuses.
var mends = map[string]string{
	"tun":        "it takes the device /dev/net/tun: `modprobe tun`, let everybody use it (`chmod 666 /dev/net/tun`), and in a container, give it that device",
	"port":       "something else has it: free it, or let the command have a network of its own",
	"proc":       "in a container, run it with its /proc unmasked, or as root with --sandbox chroot",
	"mounts":     "in a container that forbids mounts, run imbricat as root with --sandbox chroot",
	"format":     "take a base for this machine's architecture, or register an emulator",
	"ids":        "give the user a range in /etc/subuid and /etc/subgid and install newuidmap, or run as root",
	"chroot":     "run imbricat as root",
	"conditions": "on a machine with Linux 5.9 or later, outside of a supervisor that filters system calls, programs of 64 bits can be shown another clock and order",
	"seccomp":    "use a kernel with seccomp filters",
}

// streams are the command's output on its way.
type streams struct {
	theirs []*os.File
	door   *Door // nil: there is none
	group  sync.WaitGroup
}

// connect returns the command's three files.
func (s *Spec) connect() (*streams, standardFiles, error) {
	out := &streams{}
	if s.Terminal != nil {
		return out, standardFiles{s.Terminal, s.Terminal, s.Terminal}, nil
	}
	stdout, err := out.pipe(s.Stdout)
	if err != nil || s.Stderr == s.Stdout {
		return out, standardFiles{s.Stdin, stdout, stdout}, err
	}
	stderr, err := out.pipe(s.Stderr)
	return out, standardFiles{s.Stdin, stdout, stderr}, err
}

func (t *streams) pipe(to io.Writer) (*os.File, error) {
	switch w := to.(type) {
	case nil:
		return nil, nil
	case *os.File:
		return w, nil
	}
	here, there, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	t.theirs = append(t.theirs, there)
	t.group.Go(func() {
		if drain(to, here) != nil {
			return // whoever wanted the output has said why it could not be taken
		}
	})
	return there, nil
}

// handOver closes the ends that the child has now.
func (t *streams) handOver() {
	for _, f := range t.theirs {
		f.Close()
	}
	if t.door != nil {
		t.door.handOver()
	}
}

func (t *streams) wait() { t.group.Wait() }

// Wrote tells what a command left, with every time set to the spec's or the box's. Keep names a folder that is to hold it; what was in
// the work folder moves there.
func (b *Box) Wrote(s *Spec, keep string) ([]folder.Found, error) {
	upper := filepath.Join(s.Work, "upper")
	r := folder.Reading{Dir: upper, Time: cmp.Or(s.Time, b.time)}
	if !b.overlay {
		r.Dir, r.Before, r.Into = filepath.Join(s.Work, "root"), filepath.Join(s.Work, "before"), upper
		r.Without = s.Given()
	}
	var found []folder.Found
	err := s.misplaced()
	if err == nil {
		found, err = b.worker.read(r)
	}
	b.Finish(s)
	if err == nil && keep != "" {
		err = b.worker.rename(upper, keep)
	}
	return found, err
}
