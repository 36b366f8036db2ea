// Package event describes what happens during a build or a transfer, as data.
//
// The core reports events to a Sink; only interface packages turn them into text or pictures. Nothing here prints.
package event

import (
	"slices"
	"time"
)

// Outcome tells how a task ended.
type Outcome int

// The outcomes of a task.
const (
	Ran     Outcome = iota // the work was done now
	Reused                 // an earlier result serves
	Sent                   // a blob was moved elsewhere
	Fetched                // a blob was brought into the store
	Skipped                // nothing was needed
	Failed
)

func (o Outcome) String() string {
	return [...]string{"ran", "reused", "sent", "fetched", "skipped", "failed"}[o]
}

// Worked reports whether work was done now.
func (o Outcome) Worked() bool { return o == Ran || o == Sent || o == Fetched }

// Event is one of Planned, Started, Progress, Output, Finished, Warning.
type Event interface{ isEvent() }

// Task names a piece of work for people. Unit and Platform group tasks; ID is unique among the running ones.
type Task struct {
	ID       string
	Unit     string // image, stage or transfer that the task belongs to
	Platform string // empty where the task is for none in particular
	Place    string // what people call a step: gauge:3; empty where the task is none
	Label    string // "copy pages/ to /srv/pages"
	Fresh    bool   // it is to be done again whatever is known
}

// Started says that a task begins, or goes on to another act. Total is the number of bytes that the act will move where
// that is known.
type Started struct {
	Task  Task
	Act   string // "reading", "packing", "sending", "running", "waiting"
	Total int64
	Note  string // what the act is for, where there is more to say
	Why   Reason // why the task is done; nil: it is not known yet
}

// Planned says of which steps a build is. It comes once, when the build has begun a while ago; a short one ends without.
type Planned struct {
	Units []PlannedUnit // each after those that it needs
}

// PlannedUnit is a stage or an image for one platform.
type PlannedUnit struct {
	Needs []int // places in Planned.Units of those whose end it waits for
	Steps []PlannedStep
}

// PlannedStep is a step that will be told of.
type PlannedStep struct {
	ID   string        // of its task
	Took time.Duration // when it was done last; 0: it is not known
}

// Output is what a running command printed: whole lines, but for the last and for very long ones. Secrets are covered.
type Output struct {
	Task Task
	Text string
}

// Progress says how many bytes a running task has moved.
type Progress struct {
	Task Task
	Done int64
}

// Finished says that a task is over.
type Finished struct {
	Task    Task
	Outcome Outcome
	Reason  Reason // why it ran, was reused, or failed
	Detail  string // "34 files, 1.2 MB"
	Took    time.Duration
}

// Warning is a doubt that does not stop the work. Code is stable, for silencing it.
type Warning struct {
	Code string
	Text string
}

// The codes of warnings; docs/recipe.md tells them to people.
const (
	NoMatch        = "no-match"        // a pattern matches nothing
	SpecialFile    = "special-file"    // a socket, a pipe or a device of the project is left out
	MovingBase     = "moving-base"     // a base is named by a tag that nothing holds
	ForeignBinary  = "foreign-binary"  // a program for another architecture than the image's
	WorldWritable  = "world-writable"  // a file that everybody may write
	SetUID         = "set-uid"         // a program that runs with its owner's or group's rights
	Secret         = "secret"          // what looks like a private key or a token
	Offline        = "offline"         // a registry cannot be reached, and an earlier answer serves
	Emulated       = "emulated"        // commands for another architecture run in an emulator, which is slower
	Logbook        = "logbook"         // the logbook could not be written to
	SharedCache    = "shared-cache"    // the shared cache could not be used
	Platforms      = "platforms"       // tags are to stand on an index that lacks platforms of the recipe
	Modes          = "modes"           // files are copied that get other permissions than they have
	Merged         = "merged"          // several folders are laid into one
	Untracked      = "untracked"       // an image takes in files that version control does not have
	Shallow        = "shallow"         // the time of an image comes from a history that is cut off
	UnusedStage    = "unused-stage"    // no image needs a stage
	Words          = "words"           // a list of lines looks like a program with its arguments
	BuilderEnv     = "builder-env"     // settings take PATH or HOME of whoever builds
	Unexpanded     = "unexpanded"      // settings hold a shell's variable, which nothing expands
	UnknownUser    = "unknown-user"    // an image is to run as a user that it does not have
	MissingFolder  = "missing-folder"  // the working directory of an image is not in it
	MissingProgram = "missing-program" // an image does not have the program that it starts
	WholeArchive   = "whole-archive"   // a large archive changed, and is pushed whole
	OwnOutput      = "own-output"      // steps take in the folder that take writes into
	Events         = "events"          // the file of events could not be written to
	Layers         = "layers"          // the lock divides an image into more layers than there is room for
	Stale          = "stale"           // a step replaces what an earlier command made something of, and a tool may not notice
	Unreproducible = "unreproducible"  // a command leaves files that are known to differ each time
	Unstable       = "unstable"        // a command left something else than before, though it read the same
	UnlistedHost   = "unlisted-host"   // a command asked for a host that its step does not list
	Damaged        = "damaged"         // a blob, or a tree that lay unpacked, was changed in the store and is made again
	Confined       = "confined"        // commands are kept apart from the machine less than they could be
)

// Codes lists every code.
var Codes = []string{NoMatch, SpecialFile, MovingBase, ForeignBinary, WorldWritable, SetUID, Secret, Offline, Emulated, Confined, Damaged, Stale, Unstable, Unreproducible, Logbook, SharedCache, Layers, Platforms, Modes, Merged, Untracked, Shallow, Events, UnusedStage, Words, BuilderEnv, Unexpanded, UnknownUser, MissingFolder, MissingProgram, WholeArchive, OwnOutput, UnlistedHost}

func (Started) isEvent()  {}
func (Planned) isEvent()  {}
func (Progress) isEvent() {}
func (Finished) isEvent() {}
func (Warning) isEvent()  {}
func (Output) isEvent()   {}

// Sink receives events. Send may be called from several goroutines at once and must return soon.
type Sink interface{ Send(Event) }

// Func makes a Sink of a function.
type Func func(Event)

// Send calls the function.
func (f Func) Send(e Event) { f(e) }

// Discard is the Sink that drops every event.
var Discard Sink = Func(func(Event) {})

// Quiet drops warnings of some codes.
func Quiet(sink Sink, codes []string) Sink {
	return Func(func(e Event) {
		if w, is := e.(Warning); is && slices.Contains(codes, w.Code) {
			return
		}
		sink.Send(e)
	})
}
