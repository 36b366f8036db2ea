// Package sandbox runs commands in a file system of their own, made of layers that lie unpacked in folders, and tells
// what they wrote there.
//
// On Linux a command gets new namespaces, an overlay mount, and no more of the machine than it is given; where the
// kernel allows less, so does the sandbox, and it says so. The package knows no recipe, no store and no image: it is
// given folders and gives back entries. It never prints. On other systems only the errors of this file exist.
package sandbox

import (
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox/conditions"
)

// Version names everything about the sandbox that a command can notice. It is part of the key of every run step: change
// it by hand whenever the same command could see or leave something else.
const Version = "imbricat-sandbox-4"

// Hostname is what every command sees as the name of its machine.
const Hostname = "imbricat"

// Kind is how commands are kept apart from the machine.
type Kind string

// The kinds, from the best to the least. The zero value is none of them.
const (
	Root   Kind = "root"   // the caller is root: namespaces, with all of its user ids
	Mapped Kind = "mapped" // namespaces, with a range of subordinate ids for an ordinary user
	Single Kind = "single" // namespaces, with the caller's own id alone
	Chroot Kind = "chroot" // the caller is root and may make no namespaces: a change of root into a copy
)

// UnableError says that this machine cannot do what is asked for. Missing is a word for the feature, Mend how to get it.
type UnableError struct {
	Missing, What, Mend string
}

func (e *UnableError) Error() string {
	if e.Mend == "" {
		return e.What
	}
	return e.What + "; " + e.Mend
}

// Bounds are what a command may use. Zero values stand for most of what the machine has.
type Bounds struct {
	Memory    int64 // bytes that its processes have in memory, together
	Processes int
	Disk      int64 // bytes that it writes
}

// IDMapping names the user and group ids that commands can have. It is part of commands' keys.
type IDMapping string

// The mappings.
const (
	AllIDs     IDMapping = "full"   // 65,536 of them, whose owners are told apart
	OneID      IDMapping = "few"    // root's alone
	MachineIDs IDMapping = "chroot" // those of the machine
)

// BoundError says that a command was ended because it used too much of something.
type BoundError struct {
	Of   string // "memory", "processes", "disk", "signals"
	Most int64  // in bytes, or a number
	What string
}

func (e *BoundError) Error() string { return e.What }

// Mend tells how more can be had, to be put behind the error; it is empty where that is no matter of a bound.
func (e *BoundError) Mend() string {
	if e.Most == 0 {
		return ""
	}
	return " (limits: " + e.Of + ": in your settings allows more)"
}

// Spec is a command with all that it is given. Paths inside are absolute.
type Spec struct {
	// Work is an empty folder for this run, on the file system that the lower folders are on.
	Work string
	// Lower are the folders of unpacked layers, topmost first. A box without overlays takes none; its Tree fills Work's
	// root instead.
	Lower []string
	// Top is what the root folder is like: its mode and owner.
	Top tree.Entry
	// Points are entries that must be there for mounts, with their parents; they are no part of what the command wrote.
	Points []tree.Entry

	Args   []string
	Env    []string
	Dir    string
	UID    int
	GID    int
	Groups []int

	// Observe asks for what the command's processes touch. Links tells that some in the view lead to /proc or /dev, where
	// only the running system knows what they stand for.
	Observe bool
	Links   bool

	// Ask is put to the command in the network that it has; when it is answered, or the time is over, the command is ended
	// by the signal Stop.
	Ask  *Ask
	Stop int

	// Under are the conditions that the command meets. Those that are answered need Observe.
	Under conditions.Conditions

	Bounds Bounds
	Copied int64 // bytes that the work folder holds before the command starts

	Network  bool         // the machine's network; otherwise a loopback alone
	Door     *Door        `json:"-"` // nil: there is none; one with an address gives a network in place of those two
	Admits   bool         // there is a door: Run sets it
	Joined   netip.Prefix // and its address
	Port     uint16       // and its port
	FreshTmp bool         // an empty /tmp in memory
	ReadOnly bool         // nothing of the root can be written, but below Writable
	Writable []string
	Sealed   []string // absolute paths of the root below which nothing can be written, where there are mounts
	Time     int64    // of every file that the command leaves, in seconds since 1970; 0: the box's
	Mounts   []Mount  // folders and files of the machine
	Secrets  []Secret
	Files    []Secret // small files that are given read-only, such as the resolver's

	Stdin    *os.File  `json:"-"` // nil: nothing
	Stdout   io.Writer `json:"-"`
	Stderr   io.Writer `json:"-"`
	Terminal *os.File  `json:"-"` // a terminal of the command's own, in place of the three above
	// Signals are sent on to the command.
	Signals <-chan os.Signal `json:"-"`

	// What was put into a root without mounts, which is held open.
	loans []loan
	root  int
}

// Given lists the paths inside that are no part of the view, without leading slashes.
func (s *Spec) Given() []string {
	all := []string{"dev", "proc", "sys"}
	add := func(at string) { all = append(all, strings.TrimPrefix(at, "/")) }
	for _, m := range s.Mounts {
		add(m.At)
	}
	for _, f := range append(slices.Clone(s.Secrets), s.Files...) {
		add(f.At)
	}
	if s.FreshTmp {
		add("/tmp")
	}
	return all
}

// Mount shows a folder or a file of the machine inside.
type Mount struct {
	From, At string
	ReadOnly bool
}

// Secret is a small file that exists in memory alone.
type Secret struct {
	At       string
	Content  []byte
	UID, GID int
	Mode     uint32
}

// Status is how a command ended.
type Status struct {
	Code   int    // exit status; 128 and the signal's number where one ended it
	Signal string // the name of that signal, or empty
	// CPU is the processor time of the command and of what it waited for.
	CPU time.Duration
	// Memory is the most that the largest of them had at once, in bytes; 0: it is not known.
	Memory int64
	// Observed is what was seen, where that was asked for.
	Observed *trace.Observation
	// Answered tells that Spec.Ask was answered, Unanswered why not; neither, that the command ended first.
	Answered   bool
	Unanswered string
}
