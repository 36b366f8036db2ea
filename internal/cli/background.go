package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/content/store"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/recipe"
)

// What runs in the background is a process of this program with a folder in the store: state.json, log, and a lock that
// it holds as long as it lives.

// behind is the state of one.
type behind struct {
	Name     string    `json:"name"`
	Image    string    `json:"image"`
	Platform string    `json:"platform"`
	Command  []string  `json:"command,omitempty"`
	Process  int       `json:"process"`
	Started  time.Time `json:"started"`
	Status   *int      `json:"status,omitempty"` // exit code; nil while it runs, or where it was killed
	Error    string    `json:"error,omitempty"`

	dir string
}

func triesDir(st *store.Store) string { return filepath.Join(st.Dir(), "imbricat", "tries") }

func (b *behind) path(name string) string { return filepath.Join(b.dir, name) }

// running tells whether its process lives.
func (b *behind) running() bool {
	lock := flock.New(b.path("lock"))
	free, err := lock.TryLock()
	lock.Close()
	return err == nil && !free
}

func (b *behind) write() error {
	text, err := json.Marshal(b)
	if err != nil {
		return err
	}
	next := b.path(".state")
	if err := os.WriteFile(next, text, 0o600); err != nil {
		return err
	}
	return os.Rename(next, b.path("state.json"))
}

func readBehind(dir string) (*behind, error) {
	text, err := os.ReadFile(filepath.Join(dir, "state.json"))
	if err != nil {
		return nil, err
	}
	b := &behind{dir: dir}
	return b, json.Unmarshal(text, b)
}

func allBehind(st *store.Store) ([]*behind, error) {
	found, err := filepath.Glob(filepath.Join(triesDir(st), "*", "state.json"))
	if err != nil {
		return nil, err
	}
	var all []*behind
	for _, name := range found {
		if b, err := readBehind(filepath.Dir(name)); err == nil {
			all = append(all, b)
		}
	}
	slices.SortFunc(all, func(a, b *behind) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

var behindName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,99}$`)

// newBehind makes the folder of one, under the wanted name or a free one.
func newBehind(st *store.Store, wanted, image string) (*behind, error) {
	if wanted != "" && !behindName.MatchString(wanted) {
		return nil, usagef("--name takes letters, digits and . _ -, not %q", wanted)
	}
	if err := os.MkdirAll(triesDir(st), 0o700); err != nil {
		return nil, err
	}
	stem := regexp.MustCompile(`[^A-Za-z0-9_.-]+`).ReplaceAllString(filepath.Base(image), "-")
	for n := 1; ; n++ {
		name := wanted
		if name == "" {
			name = fmt.Sprintf("%s-%d", stem, n)
		}
		b := &behind{Name: name, dir: filepath.Join(triesDir(st), name)}
		err := os.Mkdir(b.dir, 0o700)
		if err == nil {
			return b, nil
		}
		if !errors.Is(err, os.ErrExist) {
			return nil, err
		}
		if wanted != "" {
			return nil, usagef("%q is taken: `imbricat try stop %s` ends and forgets it", wanted, wanted)
		}
	}
}

// tryInBackground starts this program again and waits until the command runs, or answers.
func (s *session) tryInBackground(ctx context.Context, st *store.Store, t *trial) error {
	if t.number == 0 {
		// What is wrong with the image is told here and now.
		if _, err := s.resolve(ctx, st, t); err != nil {
			return err
		}
	}
	b, err := newBehind(st, s.cmd.String("name"), t.image)
	if err != nil {
		return err
	}
	log, err := os.OpenFile(b.path("log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	program, err := os.Executable()
	if err != nil {
		return err
	}
	c := exec.Command(program, s.behindArgs(t, b)...)
	c.Stdout, c.Stderr = log, log
	c.SysProcAttr = ownSession()
	if err := c.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	go func() {
		_ = c.Wait() // its state tells what became of it
		close(ended)
	}()
	if err := s.whenRunning(ctx, b, t, ended); err != nil {
		_ = c.Process.Signal(syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(15 * time.Second):
		}
		return errors.Join(err, b.forget(s.err))
	}
	return s.result(b, func() error {
		_, err := fmt.Fprintln(s.out, b.Name)
		return err
	})
}

// behindArgs are the arguments of the process in the background.
func (s *session) behindArgs(t *trial, b *behind) []string {
	args := []string{"try", "--state", b.dir, "--store", s.storeDir(), "--dir", s.cmd.String("dir"), "--recipe", s.cmd.String("recipe"),
		"--platform", t.platform.String(), "--sandbox", s.cmd.String("sandbox"), "--view", "none"}
	for _, name := range []string{"user", "in", "step"} {
		if text := s.cmd.String(name); text != "" {
			args = append(args, "--"+name, text)
		}
	}
	if !t.do.Network {
		args = append(args, "--no-network")
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
func (s *session) whenRunning(ctx context.Context, b *behind, t *trial, ended <-chan struct{}) error {
	if !t.awaits() {
		for {
			if state, err := readBehind(b.dir); err == nil && state.Process != 0 {
				dir := b.dir
				*b = *state
				b.dir = dir
				return nil
			}
			select {
			case <-ended:
				return fmt.Errorf("%s ended at once", t.image)
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(10 * time.Millisecond):
			}
		}
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

// tryBehind is the process in the background.
func (s *session) tryBehind(ctx context.Context, st *store.Store, t *trial) error {
	dir := s.cmd.String("state")
	lock := flock.New(filepath.Join(dir, "lock"))
	if held, err := lock.TryLock(); err != nil || !held {
		return errors.Join(err, fmt.Errorf("%s belongs to another process", dir))
	}
	defer lock.Close()
	b := &behind{Name: filepath.Base(dir), Image: t.image, Platform: t.platform.String(), Command: t.do.Command, Process: os.Getpid(), Started: time.Now().UTC(), dir: dir}
	if err := b.write(); err != nil {
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
	return errors.Join(err, b.write())
}

// forget prints what one printed and removes its folder.
func (b *behind) forget(w io.Writer) error {
	if log, err := os.ReadFile(b.path("log")); err == nil && len(log) > 0 {
		fmt.Fprintf(w, "── %s printed ──\n%s\n", b.Name, strings.TrimRight(string(log), "\n"))
	}
	return os.RemoveAll(b.dir)
}

func runTryList(_ context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	all, err := allBehind(st)
	if err != nil {
		return err
	}
	list := []report.Tried{}
	for _, b := range all {
		one := report.Tried{Name: b.Name, Image: b.Image, Platform: b.Platform, Process: b.Process, Started: b.Started, State: "killed", Status: b.Status}
		switch {
		case b.running():
			one.State = "running"
		case b.Status != nil:
			one.State = "ended"
		case b.Error != "":
			one.State = "failed"
		}
		list = append(list, one)
	}
	return s.result(list, func() error { return report.WriteTried(s.out, s.paint, list, time.Now()) })
}

// findBehind finds one by its name.
func findBehind(st *store.Store, name string) (*behind, error) {
	all, err := allBehind(st)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, b := range all {
		if b.Name == name {
			return b, nil
		}
		names = append(names, b.Name)
	}
	hint := "nothing was started with --background"
	if len(names) > 0 {
		hint = "there are " + strings.Join(names, ", ")
	}
	if near := recipe.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	return nil, usagef("nothing is named %q: %s", name, hint)
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
	b, err := findBehind(st, args[0])
	if err != nil {
		return err
	}
	log, err := os.Open(b.path("log"))
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

func runTryStop(ctx context.Context, s *session) error {
	names, err := s.args(1, -1, "names")
	if err != nil {
		return err
	}
	within, err := recipe.ParseDuration(s.cmd.String("within"))
	if err != nil || within < 0 {
		return usagef("--within takes a time such as 10s, not %q", s.cmd.String("within"))
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	for _, name := range names {
		b, err := findBehind(st, name)
		if err != nil {
			return err
		}
		if err := b.end(ctx, within); err != nil {
			return err
		}
		if err := os.RemoveAll(b.dir); err != nil {
			return err
		}
	}
	return nil
}

// end asks the process to end its command, and kills both where that takes too long.
func (b *behind) end(ctx context.Context, within time.Duration) error {
	if !b.running() {
		return nil
	}
	process, err := os.FindProcess(b.Process)
	if err != nil {
		return err
	}
	_ = process.Signal(syscall.SIGTERM) // it may be gone by now
	for began := time.Now(); b.running(); {
		if time.Since(began) > within {
			_ = process.Kill() // the kernel ends its sandbox with it
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}
