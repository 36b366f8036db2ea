package event

import "time"

// Reason is why a task ended as it did, as plain data: output packages put it into words. It is one of Cause, Text,
// Recalled, Expired, Packed, Differs and Given; nil is none.
type Reason interface{ isReason() }

// Cause is a reason that has nothing more to say.
type Cause int

// The causes.
const (
	Unchanged     Cause = iota // the layer is in the store
	SameAsAnother              // another step has done it
	NoLayer                    // of a stage: what is taken from it needs no layer of its own
	LaysNothing
	Replaced   // later steps replace all of it
	AskedFor   // it was to be done again
	EndedFirst // it was begun and not done: another failed, or the build was interrupted
	FirstTime
	Refilled // its kept directory was not as it leaves it
	Lost     // what it left is gone from the store
)

// Text is a reason that somebody has put into words: of a failure, or of a transfer.
type Text string

// Recalled is of a command that would go as it went before.
type Recalled struct {
	WholeView bool          // nothing below it changed; else: nothing that it reads
	Spared    time.Duration // what it took
	Made      time.Time
	Build     string // in which it ran
	Shared    bool   // it comes from the shared cache
}

// Expired is of a command whose result is too old.
type Expired struct{ After time.Duration }

// Packed is of a step with new content.
type Packed struct {
	New, Of int      // how many of its layers are new, where it has several
	Merged  bool     // other steps are in its layer too
	Changes []Change // against the layer that it had, where that is known
}

// Differs is of a command that reads something that changed. What weighs most comes first.
type Differs struct{ Changes []Change }

// Given is of a command that is given something else than before. Changes are in the order of their weight.
type Given struct{ Changes []Input }

// Change is a path that is not as it was.
type Change struct {
	Kind         ChangeKind
	Path         string // without a leading slash
	From         string // what put the path there: a step, or a base; may be empty
	Was, Now     string // of OtherKind: "file", "folder", "link", …; of Everything, Now is why all of it counts
	Gained, Lost []string
}

// ChangeKind is what changed of a path.
type ChangeKind int

// The kinds of changes.
const (
	Changed ChangeKind = iota
	Appeared
	Vanished
	OtherKind
	Listing     // the names in a folder: Gained and Lost
	LeadsAway   // a link leads elsewhere
	SizeChanged // its size alone was looked at
	MetaChanged // mode, owner or time
	Everything  // something below changed, and all of it counts
)

// Input is a part of what a command is given.
type Input struct {
	Name     string // "arg", "env", "user", "in", "platform", "network", …
	Variable string // of "env"
	Was, Now []string
}

func (Cause) isReason()    {}
func (Text) isReason()     {}
func (Recalled) isReason() {}
func (Expired) isReason()  {}
func (Packed) isReason()   {}
func (Differs) isReason()  {}
func (Given) isReason()    {}
