// Package executor says what it takes to execute commands somewhere: in this machine's sandbox, or elsewhere. It holds the
// contract and no implementation. Whoever builds owns views, records and the store's layers; an executor owns its places to
// work, unpacked trees, kept directories and work folders.
package executor

import (
	"context"
	"errors"
	"io"
	"time"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/plan"
)

// Command is what a command does, its view apart. It can be encoded: it holds no path of this machine and no secret's value.
type Command struct {
	Title    string // for messages: "almanac linux/amd64, tables"
	Args     []string
	Env      []string // NAME=VALUE
	Dir      string   // in the view
	User     account.User
	Platform platform.Platform
	Network  bool     // the machine's
	Hosts    []string // that it may reach through a relay where it does not have that, as hosts.Pattern writes them
	// Nameserver is asked for names in place of the machine's; where it is set, the network is none of the machine's.
	Nameserver string
	FreshTmp   bool
	FixedClock bool     // the wall clock begins at the time of the files that it leaves
	Sorted     bool     // folders are listed in the order of names
	ReadOnly   bool     // nothing can be written but below Writable, and what the sandbox gives
	Writable   []string // absolute, clean
	Within     time.Duration
	Time       int64            // of the files that it leaves, in seconds; 0: the constant one
	Keep       []plan.Keep      // sorted by name
	Secrets    []plan.SecretUse // by name
	Lent       []Lent           // of the view: what is in no layer of the command
}

// Outside reports whether the command reaches anything but its own loopback.
func (c *Command) Outside() bool { return c.Network || len(c.Hosts) > 0 }

// Lent is a folder of a command's view that is lent to it. What it leaves there is dropped; where it is not writable it can leave nothing.
type Lent struct {
	At       string // absolute, clean, and no link leads there
	New      string // At, or the highest folder on the way there that is in the view for its sake alone; empty: it lies in a folder that is there
	Writable bool
}

// View is what a command sees. It never changes.
type View struct {
	Key    digest.Key
	Index  *tree.View
	Strata func() []filetree.Stratum // lowest first
}

// Class is what of an executor decides what a command does there, and so belongs to the key of a command.
type Class struct {
	Sandbox string   // the version of what it runs in
	IDs     string   // the user and group ids that it can have
	Machine []string // what it can see of its machine that most others do not show
}

// Executor executes commands. Several goroutines may use it at once.
type Executor interface {
	// Check finds out before any work whether commands can be run as they are to be. That something is missing is a
	// *sandbox.UnableError.
	Check(ctx context.Context, wanted Wanted) error
	// Classes returns the classes of places for a platform, best first; at least one.
	Classes(ctx context.Context, p platform.Platform) []Class
	// Holds returns the files of a tree that a command left here earlier, each under its own path, where they are at hand; nil
	// where they are not.
	Holds(ctx context.Context, key digest.Key, entries []tree.Entry) (tree.Contents, error)
	// Reserve waits for kept directories, in the order of their names, and then for a place to work. Whoever has a place never
	// waits for a kept directory, so nobody waits in a circle.
	Reserve(ctx context.Context, c *Command, keep []plan.Keep, watch Watch) (Lease, error)
}

// Wanted is what commands need, with who asks for it, in words.
type Wanted struct {
	Platforms map[platform.Platform][]string
	Hosts     []string // those that ask for a network with some hosts
}

// Lease is one place to work with the kept directories that were asked for, until it is released.
type Lease interface {
	// Kept tells what filled a kept directory, oldest first, and whether it is empty.
	Kept(name string) (fills []store.Fill, empty bool, err error)
	// Run runs a command. An error is of a command that could not be run, or that was ended: a *StoppedError.
	Run(ctx context.Context, job Job, watch Watch) (Attempt, error)
	// Filled notes that a run left kept directories as they are now.
	Filled(keep []plan.Keep, fill store.Fill) error
	Release()
}

// Job is a command to run on a view.
type Job struct {
	*Command
	View *View
	// Secret gives the value of a secret that the command uses.
	Secret func(ctx context.Context, name string) (Secret, error)
	// Fill is what the command is to its kept directories when it has begun: it may end anyhow.
	Fill store.Fill
	// Refill runs the command for its kept directories alone: nothing is observed, and what else it leaves is dropped.
	Refill bool
}

// Secret is a secret's value, or the socket of an agent.
type Secret struct {
	Value  []byte
	Socket string
}

// Watch is told how a command goes on.
type Watch interface {
	// Output returns what takes the output of an attempt. It is called once for each.
	Output() io.Writer
	// Act says what is done now: "unpacking", "running".
	Act(act string)
	// Waiting says for whom the command waits. It is called now and then while it waits.
	Waiting(w Waiting)
}

// Waiting is for what a command waits.
type Waiting struct {
	Kept   string // the kept directory
	Holder *store.Holder
	So     time.Duration // far
}

// Attempt is what became of a command. It is not believed yet. Whoever got it ends it once, by Accept or Discard.
type Attempt interface {
	Status() Status
	// Trace is what the command learnt of its view. It is the caller's to change.
	Trace() *trace.Trace
	// Entries are what it left, sorted by path, as a layer over its view has it.
	Entries() []tree.Entry
	// Files gives the files that it left under their own paths, until it is ended.
	Files() tree.Contents
	// Over are the unpacked trees that it worked on, lowest first; none where it worked on a copy.
	Over() []digest.Key
	// Accept verifies and keeps the files, and gives them under their own paths; they may be read lazily.
	Accept(ctx context.Context) (tree.Contents, error)
	Discard()
}

// Status tells how a command ended. One that did not end well has left nothing.
type Status struct {
	Code   int
	Signal string // that ended it; empty: it exited
	CPU    time.Duration
	Wall   time.Duration
	Memory int64 // bytes that the largest of its processes had at once; 0: it is not known
	// Reached is what a command with Hosts reached, or was kept from.
	Reached []store.Reached
}

// Good reports whether the command succeeded.
func (s Status) Good() bool { return s.Code == 0 && s.Signal == "" }

// StoppedError is that a command was ended from outside.
type StoppedError struct{ What string }

func (e *StoppedError) Error() string { return "the command was ended: " + e.What }

// ErrTimeLimit ends a command that takes too long.
var ErrTimeLimit = errors.New("took longer than its time limit")
