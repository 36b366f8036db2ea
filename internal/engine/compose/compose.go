// Package compose works out what each kind of step lays down on what lies below it. Each kind is a file of its own. It runs no
// commands, reaches no network and packs nothing: what steps name is made ready before.
package compose

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/sources"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/count"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Kind is a kind of step: what it names, and how it lays that down.
type Kind interface {
	plan.Action
	// Lay lays down what the step asks for. All that it names is among the inputs.
	Lay(ctx context.Context, c *Composer) error
	// Alone reports whether it looks at nothing that lies below it but the folders on the way to where it puts things, and
	// the lists that owners are looked up in.
	Alone() bool
}

// remembering is of kinds whose outcome can be recognised without composing it.
type remembering interface {
	question(t *Tools) digest.Key                                                            // names all of the project that decides the outcome; empty: more does
	recall(ctx context.Context, t *Tools, s Setting, question digest.Key) (*Composed, error) // nil: it must be composed
	remember(c *Composer, made *Composed, question digest.Key)
}

// inspected is of kinds that have more to say of what they take of the project, before any work.
type inspected interface {
	inspect(t *Tools, s *plan.Step, picked []*sources.Picked)
}

// Tools are what the steps of one build have in common.
type Tools struct {
	File    *recipe.File
	Store   *store.Store
	Project *sources.Project
	Marks   *census.Classes
	Scratch *filetree.Scratch
	Times   CommitTimes
	Warner  Warner

	archives *once.Map[string, *filetree.Archive]
	copies   *once.Map[string, *Composed]
}

// CommitTimes knows when the files of the project were committed last.
type CommitTimes interface {
	// CommitTimes returns for each path of the project folder the time of the last commit that touched it, in seconds.
	CommitTimes(ctx context.Context) (func(path string) int64, error)
}

// Warner tells doubts, each once, unless the recipe or the step silences them. Step may be nil.
type Warner interface {
	Warn(s *plan.Step, code, text string)
}

// NewTools completes tools. Their work ends with ctx.
func NewTools(ctx context.Context, t Tools) *Tools {
	t.archives = once.NewMap[string, *filetree.Archive](ctx)
	t.copies = once.NewMap[string, *Composed](ctx)
	return &t
}

func (t *Tools) accounts() account.Finder { return account.Finder{Store: t.Store, File: t.File} }

// Inputs are what a step names, made ready.
type Inputs struct {
	Units  map[*plan.Unit]*tree.View
	Images map[string]*tree.View // by their references
	Files  map[string]*Fetched   // by their checksums
}

// Setting is where a step is composed.
type Setting struct {
	Step   *plan.Step
	Unit   plan.UnitID
	Below  *step.View
	Inputs Inputs
	Tell   event.Reporter
	// Compression is how layers of the image are packed; of a stage those of images that start from it may be.
	Compression layer.Compression
	Stage       bool // there may be no layer of it
}

// Composed is what a step lays down.
type Composed struct {
	Tree     *filetree.Tree
	Findings *census.Findings
}

var composed = count.New("steps composed")

// Compose works out what a step lays down.
func (t *Tools) Compose(ctx context.Context, kind Kind, s Setting) (*Composed, error) {
	var question digest.Key
	known, remembers := kind.(remembering)
	if remembers && !s.Step.RisingTimes { // else what lies below decides too
		question = known.question(t)
	}
	if question == "" || s.Tell.Task.Fresh {
		return t.compose(ctx, kind, s, question)
	}
	// The same step for several platforms or images, over the same: once.
	key := fmt.Sprintf("%s %s %v %s %t", question, s.Below.Key(), s.Step.Pos, s.Compression, s.Stage)
	return t.copies.Try(ctx, key, func(ctx context.Context) (*Composed, error) {
		if made, err := known.recall(ctx, t, s, question); made != nil || err != nil {
			return made, err
		}
		return t.compose(ctx, kind, s, question)
	})
}

func (t *Tools) compose(ctx context.Context, kind Kind, s Setting, question digest.Key) (*Composed, error) {
	below, err := s.Below.Index(ctx)
	if err != nil {
		return nil, err
	}
	composed.Add(1)
	c := newComposer(t, s, below)
	if err = kind.Lay(ctx, c); err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, err
	}
	if s.Step.RisingTimes {
		c.date(step.TimeAfter(below))
	}
	c.link()
	made := &Composed{Tree: filetree.New(c.entries, c.places), Findings: t.Marks.Find(c.entries)}
	if question != "" {
		kind.(remembering).remember(c, made, question)
		if s.Stage && !t.Store.HasTreeEntries(made.Tree.Key) {
			_ = t.Store.PutTreeEntries(made.Tree.Key, tree.EncodeEntries(c.entries)) // spares composing it again
		}
	}
	return made, nil
}

// StandsAlone reports whether what a step lays down does not depend on what the steps below it leave, but for the folders on
// the way to where it puts things.
func StandsAlone(s *plan.Step) bool {
	kind := Of(s.Do)
	return kind != nil && kind.Alone() && !s.RisingTimes && !slices.ContainsFunc(s.Do.Owners(), plan.Owner.Named)
}

// check finds what is wrong with what a step takes of the project, before any work, and warns of what is doubtful.
func (t *Tools) check(s *plan.Step, kind Kind, report func(pos recipe.Pos, format string, args ...any)) {
	var all []*sources.Picked
	for _, one := range s.Do.Sources() {
		got, err := t.Project.Pick(one)
		all = append(all, got)
		switch {
		case !one.Single && isNoMatch(err):
			t.Warner.Warn(s, event.NoMatch, t.File.Describe(one.Pos, err.Error()+", so nothing is copied"))
		case err != nil:
			report(one.Pos, "%s", err)
		case one.Single && (!got.Survey.SingleFile || len(got.Survey.Picked) != 1 || got.Survey.Picked[0].Kind != tree.File):
			report(one.Pos, "unpack takes one archive: %q is not a file", one.From)
		case !one.Single:
			for _, p := range got.Survey.Special {
				t.Warner.Warn(s, event.SpecialFile, fmt.Sprintf("%s is a socket, a pipe or a device: it is left out", p))
			}
		}
	}
	if more, is := kind.(inspected); is {
		more.inspect(t, s, all)
	}
}

// inner is a target as trees name it.
func inner(t plan.Target) string { return strings.TrimPrefix(t.Path, "/") }

// access is the owner and the mode that a step gives, worked out.
type access struct {
	owner *account.IDs // nil: as it is where it comes from
	mode  plan.ModeRule
}

// adopt sets what the step asks for; without, things stay as they are where they come from.
func (a access) adopt(e *tree.Entry) {
	if a.owner != nil {
		e.UID, e.GID = a.owner.UID, a.owner.GID
	}
	if a.mode.Given() && (e.Kind == tree.File || e.Kind == tree.Folder) {
		e.Mode = a.mode.Apply(e.Mode, e.Kind == tree.Folder)
	}
}

func (a access) given() bool { return a.owner != nil || a.mode.Given() }

// accessOf works out an owner that may be left out.
func (c *Composer) accessOf(ctx context.Context, owner *plan.Owner, pos recipe.Pos, mode plan.ModeRule) (access, error) {
	if owner == nil {
		return access{mode: mode}, nil
	}
	own, err := c.owner(ctx, *owner, pos)
	return access{&own, mode}, err
}

// owner works out a step's owner. Names are looked up in what lies below the step.
func (c *Composer) owner(ctx context.Context, o plan.Owner, pos recipe.Pos) (account.IDs, error) {
	return c.accounts().Owner(ctx, c.view, o, pos)
}

func keyOf(text string) digest.Key { return filetree.KeyOfText(text) }

func isNoMatch(err error) bool { return errors.Is(err, tree.ErrNoMatch) }
