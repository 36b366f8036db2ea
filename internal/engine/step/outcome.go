// Package step holds what became of steps, and the views that they give together. All of it is made once and never changes.
package step

import (
	"fmt"
	"time"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

// Name tells the steps of a plan apart.
type Name struct {
	Unit  plan.UnitID
	Index int // in the unit, from 0
}

// Place is what people call a step: gauge:3.
func (n Name) Place() string { return fmt.Sprintf("%s:%d", n.Unit.Name, n.Index+1) }

// Outcome is what a step laid down. It is the contents that views have its files of.
type Outcome struct {
	Name Name
	Task event.Task
	*filetree.Tree
	Run         *Run              // of a command
	Annotations map[string]string // of layers that hold what it laid down
}

// Run tells how a command went.
type Run struct {
	ID     digest.Key // of the command and what lies below it
	Inputs string     // what its key is made of
	Record *store.Run
	Fill   store.Fill // what it is to the kept directories that it has
	Ran    bool       // now; else it is recalled
	Why    event.Reason
	Took   time.Duration
	Failed int        // how often it failed before it ended well
	Before *store.Run // the last run of the same command on this machine; nil: there is none, or it did not run now
}

// Learnt returns what a run learnt of its view.
func Learnt(s *store.Store, record *store.Run) (*trace.Trace, error) {
	text, found := s.Trace(record.Trace)
	if !found || trace.ID(text) != record.Trace {
		return nil, digest.ErrMismatch
	}
	return trace.Decode(string(text))
}
