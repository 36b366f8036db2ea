package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/flow/background"
	"imbricat/internal/flow/network"
	"imbricat/internal/ground/poll"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

// tryInBackground starts this program again and waits until the command runs, or answers.
func (s *session) tryInBackground(ctx context.Context, st *store.Store, t *trial) error {
	if t.number == 0 {
		// What is wrong with the image is told here and now.
		if _, err := s.resolve(ctx, st, t); err != nil {
			return err
		}
	}
	if _, there := (&background.Try{Network: t.together, Relays: t.relays}).To(t.ask.Port); t.awaits() && !there {
		t.relays = append(t.relays, background.Relay{At: "127.0.0.1:0", Port: uint16(t.ask.Port)})
	}
	b, err := background.New(st, s.cmd.String("name"), t.image)
	var name *background.NameError
	if errors.As(err, &name) {
		return flow.WrongUse(err)
	}
	if err != nil {
		return err
	}
	b.Args = s.backgroundArgs(t, b)
	if err := b.Write(); err != nil {
		return err
	}
	p, err := start(b)
	if err == nil {
		if err = s.whenRunning(ctx, b, t, p.ended); err != nil {
			p.end()
		}
	}
	if err != nil {
		return errors.Join(err, forget(b, s.err))
	}
	return s.result(b, func() string { return b.Name + "\n" })
}

// started is a process in the background.
type started struct {
	process *os.Process
	ended   chan struct{}
}

// start starts the process of a try.
func start(b *background.Try) (*started, error) {
	log, err := os.OpenFile(b.Path("log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	c := exec.Command(program, b.Args...)
	c.Stdout, c.Stderr = log, log
	c.SysProcAttr = ownSession()
	if err := c.Start(); err != nil {
		return nil, err
	}
	p := &started{c.Process, make(chan struct{})}
	go func() {
		_ = c.Wait() // its state tells what became of it
		close(p.ended)
	}()
	return p, nil
}

// end ends the process, and does not wait for long.
func (p *started) end() {
	_ = p.process.Signal(syscall.SIGTERM)
	select {
	case <-p.ended:
	case <-time.After(15 * time.Second):
	}
}

// restart ends a command in the background and starts it again, of the image that its name stands for now.
func (s *session) restart(ctx context.Context, b *background.Try) error {
	if len(b.Args) == 0 {
		return flow.Usagef("%s cannot be started again: it was started by an earlier version", b.Name)
	}
	if err := b.End(ctx, 10*time.Second); err != nil {
		return err
	}
	b.Process, b.Status, b.Error = 0, nil, ""
	if err := b.Write(); err != nil {
		return err
	}
	p, err := start(b)
	if err == nil {
		err = s.whenRunning(ctx, b, &trial{image: b.Image}, p.ended)
	}
	return err
}

// backgroundArgs are the arguments of the process in the background.
func (s *session) backgroundArgs(t *trial, b *background.Try) []string {
	args := []string{"try", "--state", b.Dir(), "--store", s.storeDir(), "--dir", s.cmd.String("dir"), "--recipe", s.cmd.String("recipe"),
		"--platform", t.platform.String(), "--sandbox", s.cmd.String("sandbox"), "--view", "none"}
	for _, name := range []string{"user", "in", "step", "together"} {
		if text := s.cmd.String(name); text != "" {
			args = append(args, "--"+name, text)
		}
	}
	if !t.do.Network {
		args = append(args, "--no-network")
	}
	for _, r := range t.relays {
		args = append(args, "--relay", strings.TrimPrefix(r.At, "127.0.0.1:")+":"+fmt.Sprint(r.Port))
	}
	for _, pair := range t.do.Env {
		args = append(args, "--env", pair)
	}
	for _, fact := range s.cmd.StringSlice("fact") {
		args = append(args, "--fact", fact)
	}
	if t.number == 0 {
		args = append(args, t.image)
	}
	return append(append(args, "--"), t.do.Command...)
}

// whenRunning waits until the process says that it is under way and, where that is asked for, until it answers.
func (s *session) whenRunning(ctx context.Context, b *background.Try, t *trial, ended <-chan struct{}) error {
	running := func() error {
		return poll.Until(ctx, 10*time.Millisecond, func() (bool, error) {
			if state, err := background.Read(b.Dir()); err == nil && state.Process != 0 {
				*b = *state
				return true, nil
			}
			select {
			case <-ended:
				return false, fmt.Errorf("%s ended at once", t.image)
			default:
				return false, nil
			}
		})
	}
	if t.together != "" || !t.awaits() {
		if err := running(); err != nil || !t.awaits() {
			return err
		}
		t.ask.At, _ = b.To(t.ask.Port)
	}
	waiting, enough := context.WithCancel(ctx)
	defer enough()
	answered := make(chan error, 1)
	go func() { answered <- t.await(waiting) }()
	select {
	case err := <-answered:
		return err
	case <-ended:
		return fmt.Errorf("%s ended before it answered at port %d", t.image, t.ask.Port)
	}
}

// runBackgroundTry is the process in the background.
func (s *session) runBackgroundTry(ctx context.Context, st *store.Store, t *trial) error {
	dir := s.cmd.String("state")
	lock := flock.New(filepath.Join(dir, "lock"))
	if held, err := lock.TryLock(); err != nil || !held {
		return errors.Join(err, fmt.Errorf("%s belongs to another process", dir))
	}
	defer lock.Close()
	b := background.In(dir)
	if before, err := background.Read(dir); err == nil { // it is started again
		b.Args = before.Args
	}
	if t.number == 0 {
		found, err := s.resolve(ctx, st, t)
		if err != nil {
			return err
		}
		t.found, b.Digest = found, found.Descriptor.Digest
	}
	leave, err := s.openDoor(ctx, st, t, b.Name)
	if err != nil {
		return err
	}
	defer leave()
	served := s.serve(ctx, b, t.do.Door)
	defer served()
	b.Network, b.Relays = t.together, t.relays
	b.Image, b.Platform, b.Command, b.Process, b.Started = t.image, t.platform.String(), t.do.Command, os.Getpid(), time.Now().UTC()
	if err := b.Write(); err != nil {
		return err
	}
	gentle, release := gently(ctx, t, time.Hour) // whoever stops it says how long to wait
	defer release()
	out, _ := fileOf(s.out)
	errs, _ := fileOf(s.err)
	t.do.Stdout, t.do.Stderr = out, errs
	status, err := s.run(gentle, st, t)
	if err != nil {
		b.Error = err.Error()
	} else {
		b.Status = &status.Code
	}
	return errors.Join(err, b.Write())
}

// openDoor makes the door of what runs in the background, in its network if it has one.
func (s *session) openDoor(ctx context.Context, st *store.Store, t *trial, name string) (leave func(), err error) {
	if t.together != "" {
		return s.join(ctx, st, t, name)
	}
	if t.do.Door, err = sandbox.NewDoor(netip.Prefix{}); err != nil {
		return nil, err
	}
	return t.do.Door.Close, nil
}

// serve has files taken in for the command until done is called.
func (s *session) serve(ctx context.Context, b *background.Try, door *sandbox.Door) (done func()) {
	inner, cancel := context.WithCancel(context.WithoutCancel(ctx))
	var all sync.WaitGroup
	all.Go(func() {
		if err := b.Serve(inner, door); err != nil {
			slog.Warn("no files are taken in", "name", b.Name, "error", err)
		}
	})
	return func() {
		cancel()
		all.Wait()
	}
}

// forget prints what one printed and removes its folder.
func forget(b *background.Try, w io.Writer) error {
	if log, err := os.ReadFile(b.Path("log")); err == nil && len(log) > 0 {
		fmt.Fprintf(w, "── %s printed ──\n%s\n", b.Name, strings.TrimRight(string(log), "\n"))
	}
	return os.RemoveAll(b.Dir())
}

func runTryList(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	if err := network.Sweep(ctx, background.Networks(st)); err != nil {
		return err
	}
	all, err := background.All(st)
	if err != nil {
		return err
	}
	list := []report.Tried{}
	for _, b := range all {
		one := report.Tried{Name: b.Name, Image: b.Image, Platform: b.Platform, Process: b.Process, Started: b.Started, State: "killed", Status: b.Status, Network: b.Network}
		for _, r := range b.Relays {
			one.Relays = append(one.Relays, report.TriedRelay{At: r.At, Port: int(r.Port)})
		}
		switch {
		case b.Running():
			one.State = "running"
		case b.Process == 0:
			one.State = "starting"
		case b.Status != nil:
			one.State = "ended"
		case b.Error != "":
			one.State = "failed"
		}
		list = append(list, one)
	}
	return s.result(list, func() string { return report.TriedText(s.paint, list, time.Now()) })
}

func runTryLogs(_ context.Context, s *session) error {
	args, err := s.args(1, 1, "one name")
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	b, err := background.Find(st, args[0])
	if err != nil {
		return err
	}
	log, err := os.Open(b.Path("log"))
	if err != nil {
		return err
	}
	defer log.Close()
	for lines := bufio.NewReader(log); err == nil; {
		var line string
		line, err = lines.ReadString('\n')
		err = errors.Join(err, s.printed(line))
	}
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

func runTryWait(ctx context.Context, s *session) error {
	args, err := s.args(1, 1, "one name")
	if err != nil {
		return err
	}
	ask, err := s.asked()
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	b, err := background.Find(st, args[0])
	if err != nil {
		return err
	}
	ended, enough := context.WithCancelCause(ctx)
	defer enough(nil)
	gone := make(chan error, 1)
	go func() { gone <- b.Ended(ended) }()
	if ask.Port == 0 {
		if err := <-gone; err != nil {
			return err
		}
		return howItEnded(b)
	}
	var there bool
	if ask.At, there = b.To(ask.Port); !there {
		return flow.Usagef("nothing leads from here to port %d of %s: start it with --relay %d", ask.Port, b.Name, ask.Port)
	}
	answered := make(chan error, 1)
	go func() { answered <- ask.Wait(ended) }()
	select {
	case err = <-answered:
		if err != nil && ctx.Err() == nil {
			err = flow.Failedf("%s gave %s", b.Name, err)
		}
		return err
	case err := <-gone:
		if err != nil {
			return err
		}
		return flow.Failedf("%s ended before it answered at port %d", b.Name, ask.Port)
	}
}

// howItEnded reads how one that has ended did so.
func howItEnded(b *background.Try) error {
	now, err := background.Read(b.Dir())
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return flow.Failedf("%s was stopped", b.Name)
	case err != nil:
		return err
	case now.Status != nil:
		return exitWith(sandbox.Status{Code: *now.Status})
	case now.Error != "":
		return flow.Failedf("%s failed: %s", b.Name, now.Error)
	}
	return flow.Failedf("%s was killed", b.Name)
}

func runTryStop(ctx context.Context, s *session) error {
	names, err := s.args(1, -1, "names")
	if err != nil {
		return err
	}
	within, err := recipe.ParseDuration(s.cmd.String("within"))
	if err != nil || within < 0 {
		return flow.Usagef("--within takes a time such as 10s, not %q", s.cmd.String("within"))
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	for _, name := range names {
		b, err := background.Find(st, name)
		if err != nil {
			return err
		}
		if err := b.End(ctx, within); err != nil {
			return err
		}
		if err := os.RemoveAll(b.Dir()); err != nil {
			return err
		}
	}
	return network.Sweep(ctx, background.Networks(st))
}
