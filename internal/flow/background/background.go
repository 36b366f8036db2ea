// Package background keeps what is known of commands that run in the background: each is a process of this program with a folder
// in the store, which holds its state, a log, and a lock that it has as long as it lives. It ends them, and starts none.
package background

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/poll"
	"imbricat/internal/spec/recipe"
)

// Try is a command that runs in the background.
type Try struct {
	Name     string        `json:"name"`
	Image    string        `json:"image"`
	Platform string        `json:"platform"`
	Digest   digest.Digest `json:"digest,omitempty"` // of the image for that platform
	Args     []string      `json:"args,omitempty"`   // of the process, to start it again
	Command  []string      `json:"command,omitempty"`
	Process  int           `json:"process"`
	Started  time.Time     `json:"started"`
	Status   *int          `json:"status,omitempty"` // exit code; nil while it runs, or where it was killed
	Error    string        `json:"error,omitempty"`
	Network  string        `json:"network,omitempty"` // that it shares with others
	Relays   []Relay       `json:"relays,omitempty"`

	dir string
}

// Relay is a port of this machine that leads to one of the command.
type Relay struct {
	At   string `json:"at"` // 127.0.0.1:8080
	Port uint16 `json:"port"`
}

// To returns where a port of the command is asked from this machine: a relay where there is one.
func (b *Try) To(port int) (at string, there bool) {
	for _, r := range b.Relays {
		if int(r.Port) == port {
			return r.At, true
		}
	}
	return "", b.Network == ""
}

// In returns a state whose folder there is.
func In(dir string) *Try { return &Try{Name: filepath.Base(dir), dir: dir} }

// Dir is the folder.
func (b *Try) Dir() string { return b.dir }

func folder(st *store.Store) string { return filepath.Join(st.Dir(), "imbricat", "tries") }

// Path returns a file of the folder: "log", "lock".
func (b *Try) Path(name string) string { return filepath.Join(b.dir, name) }

// Running reports whether its process lives.
func (b *Try) Running() bool {
	lock := flock.New(b.Path("lock"))
	free, err := lock.TryLock()
	lock.Close()
	return err == nil && !free
}

// Write keeps the state.
func (b *Try) Write() error {
	text, err := json.Marshal(b)
	if err != nil {
		return err
	}
	return files.Replace(b.Path("state.json"), text, 0o600)
}

// Read reads the state in a folder.
func Read(dir string) (*Try, error) {
	text, err := os.ReadFile(filepath.Join(dir, "state.json"))
	if err != nil {
		return nil, err
	}
	b := &Try{dir: dir}
	return b, json.Unmarshal(text, b)
}

// All returns those of a store, by name.
func All(st *store.Store) ([]*Try, error) {
	found, err := filepath.Glob(filepath.Join(folder(st), "*", "state.json"))
	if err != nil {
		return nil, err
	}
	var all []*Try
	for _, name := range found {
		if b, err := Read(filepath.Dir(name)); err == nil {
			all = append(all, b)
		}
	}
	slices.SortFunc(all, func(a, b *Try) int { return strings.Compare(a.Name, b.Name) })
	return all, nil
}

// Find finds one by its name. That there is none is a wrong use.
func Find(st *store.Store, name string) (*Try, error) {
	all, err := All(st)
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
	return nil, flow.Usagef("nothing is named %q: %s", name, hint)
}

// Network is the folder of a network of a store.
func Network(st *store.Store, name string) string { return filepath.Join(Networks(st), name) }

// Networks is the folder of all networks of a store.
func Networks(st *store.Store) string { return filepath.Join(st.Dir(), "imbricat", "networks") }

// ValidName reports whether something can have a name.
func ValidName(name string) bool { return len(name) <= 100 && validName.MatchString(name) }

var validName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

// NameError is of a name that cannot be given.
type NameError struct {
	Name  string
	Taken bool // else it has other characters than it may
}

func (e *NameError) Error() string {
	if e.Taken {
		return fmt.Sprintf("%q is taken: `imbricat try stop %s` ends and forgets it", e.Name, e.Name)
	}
	return fmt.Sprintf("--name takes up to 100 letters, digits and . _ -, not %q", e.Name)
}

// New makes the folder of one, under the wanted name or a free one. That it cannot is a *NameError.
func New(st *store.Store, wanted, image string) (*Try, error) {
	if wanted != "" && !ValidName(wanted) {
		return nil, &NameError{Name: wanted}
	}
	if err := os.MkdirAll(folder(st), 0o700); err != nil {
		return nil, err
	}
	stem := regexp.MustCompile(`[^A-Za-z0-9_.-]+`).ReplaceAllString(filepath.Base(image), "-")
	for n := 1; ; n++ {
		name := wanted
		if name == "" {
			name = fmt.Sprintf("%s-%d", stem, n)
		}
		b := &Try{Name: name, dir: filepath.Join(folder(st), name)}
		err := os.Mkdir(b.dir, 0o700)
		if err == nil {
			return b, nil
		}
		if !errors.Is(err, os.ErrExist) {
			return nil, err
		}
		if wanted != "" {
			return nil, &NameError{wanted, true}
		}
	}
}

// Ended waits until its process is gone.
func (b *Try) Ended(ctx context.Context) error {
	return poll.Until(ctx, 50*time.Millisecond, func() (bool, error) { return !b.Running(), nil })
}

// End asks the process to end its command, and kills both where that takes too long.
func (b *Try) End(ctx context.Context, within time.Duration) error {
	if !b.Running() {
		return nil
	}
	process, err := os.FindProcess(b.Process)
	if err != nil {
		return err
	}
	_ = process.Signal(syscall.SIGTERM) // it may be gone by now
	began := time.Now()
	return poll.Until(ctx, 20*time.Millisecond, func() (bool, error) {
		if time.Since(began) > within {
			_ = process.Kill() // the kernel ends its sandbox with it
		}
		return !b.Running(), nil
	})
}
