//go:build !linux

package sandbox

import (
	"context"
	"io"
	"os"
	"runtime"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/engine/sandbox/folder"
)

// Box is nothing on this system.
type Box struct{}

// Options say how a box would be opened.
type Options struct {
	Kind      Kind
	Time      int64
	Bounds    Bounds
	NoSealed  bool
	NoOverlay bool
}

// NoDumps does nothing on this system.
func NoDumps() {}

// loan is nothing on this system.
type loan struct{}

// Feed gives the files of a tree.
type Feed func(put func(i int, size int64, body io.Reader) error) error

func unable() error {
	return &UnableError{Missing: "linux", What: "run steps need Linux, and this is " + runtime.GOOS, Mend: "build on a Linux machine"}
}

// Child is never one on this system.
func Child([]string) (status int, child bool) { return 0, false }

// Open says that there is no sandbox here.
func Open(context.Context, Options) (*Box, error) { return nil, unable() }

// Trial says that there is no sandbox here.
func (*Box) Trial(context.Context, string, string) (withoutOverlay error, err error) {
	return nil, unable()
}

// SignalNamed returns none that could be sent here.
func SignalNamed(string) os.Signal { return os.Interrupt }

// Feature is something that commands need or would have.
type Feature struct {
	Name string
	Good bool
	What string
	Mend string
}

// Examine says that there is no sandbox here.
func Examine(context.Context, string, Kind) []Feature {
	return []Feature{{Name: "run steps", What: unable().Error()}}
}

// Note says that there is no sandbox here.
func (*Box) Note(string, string) error { return unable() }

// Touched says that there is no sandbox here.
func (*Box) Touched(string, string, []string) ([]string, error) { return nil, unable() }

// Marked tells nothing here.
func Marked(string) bool { return true }

// Finish does nothing.
func (*Box) Finish(*Spec) {}

// IDRows returns none.
func (*Box) IDRows() (uids, gids [][3]int) { return nil, nil }

// The methods of a box that cannot be had.

func (*Box) Close() error                                             { return nil }
func (*Box) Kind() Kind                                               { return "" }
func (*Box) Overlay() bool                                            { return false }
func (*Box) IDs() IDMapping                                           { return "" }
func (*Box) Surroundings() []string                                   { return nil }
func (*Box) Owners() string                                           { return "" }
func (*Box) Mend(string, folder.Mending) error                        { return unable() }
func (*Box) SnapshotFormat() string                                   { return "" }
func (*Box) Lay(context.Context, string, []tree.Entry, Feed) error    { return unable() }
func (*Box) Read(string, bool) ([]folder.Found, error)                { return nil, unable() }
func (*Box) Remove(string) error                                      { return unable() }
func (*Box) Exchange(string, string) error                            { return unable() }
func (*Box) OpenFile(string) (*os.File, error)                        { return nil, unable() }
func (*Box) Prepare(context.Context, *Spec, []tree.Entry, Feed) error { return unable() }
func (*Box) Run(context.Context, *Spec) (Status, error)               { return Status{}, unable() }
func (*Box) OwnNetwork() error                                        { return unable() }
func (*Box) Probe(context.Context, string, conditions.Conditions) (*Seen, error) {
	return nil, unable()
}
func (*Box) Wrote(*Spec, string) ([]folder.Found, error) { return nil, unable() }
