// Package progress works out of events how far a build or a transfer is: what runs, what has ended, and how long the rest may take. It draws
// nothing, and knows the time only by what it is told.
package progress

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/event"
)

// Progress is how far something is. It is not for several goroutines at once.
type Progress struct {
	began  time.Time
	tasks  map[string]*task // by id
	groups []*Group         // in the order of their first events
	active []*task          // in the order in which they began
	counts Counts
	plan   event.Planned
	place  map[string][2]int // of a planned step, by its task: unit and step
}

// Counts tells how many tasks ended how.
type Counts struct {
	Steps  int // that the build has; 0: it is not known
	Over   int // of these
	Worked int
	Reused int
	None   int // nothing was needed
	Failed int
}

// Ended counts all tasks that have ended.
func (c Counts) Ended() int { return c.Worked + c.Reused + c.None + c.Failed }

// Group is what belongs to a unit for one platform.
type Group struct {
	Unit, Platform string
	Tasks          []State // sorted by their ids
	Reused         int     // those that were reused, of which there is no State

	tasks []*task
}

// State is what is known of a task.
type State struct {
	Task event.Task
	Over bool
	// Of one that has ended:
	Finished event.Finished
	// Of one that runs:
	Act, Note, Line string // Line is what its command printed last
	Why             event.Reason
	For             time.Duration // it has run so far
	Before          time.Duration // that it took last time; 0: it is not known
	Done, Total     int64         // bytes
	Rate            float64       // bytes in a second, of late; 0: it is not known
}

// Left tells how long a transfer may take; 0: it is not known.
func (s State) Left() time.Duration {
	if s.Rate <= 0 || s.Total <= s.Done {
		return 0
	}
	return time.Duration(float64(s.Total-s.Done) / s.Rate * float64(time.Second))
}

type task struct {
	State
	group   *Group
	began   time.Time
	counted bool // it has ended once
	// For the rate: where it stood a while ago.
	since  time.Time
	before int64
}

// Start begins at a time.
func Start(at time.Time) *Progress {
	return &Progress{began: at, tasks: map[string]*task{}, place: map[string][2]int{}}
}

// Take takes an event that came at a time.
func (p *Progress) Take(e event.Event, at time.Time) {
	switch e := e.(type) {
	case event.Planned:
		p.planned(e)
	case event.Started:
		t := p.task(e.Task, at)
		if t.Over || t.Act == "" { // one that goes on to another act has begun before
			t.began = at
		}
		t.Act, t.Note, t.Total, t.Done, t.since, t.before, t.Rate = e.Act, e.Note, e.Total, 0, at, 0, 0
		if e.Why != nil {
			t.Why = e.Why
		}
		p.begin(t)
	case event.Output:
		text := strings.TrimRight(e.Text, "\r\n")
		text = text[strings.LastIndexByte(text, '\n')+1:]
		if text = strings.TrimSpace(text[strings.LastIndexByte(text, '\r')+1:]); text != "" {
			t := p.task(e.Task, at)
			t.Line = text
			p.begin(t)
		}
	case event.Progress:
		p.moved(p.task(e.Task, at), e.Done, at)
	case event.Finished:
		p.finished(e, at)
	}
}

// begin has a task be one of those that run.
func (p *Progress) begin(t *task) {
	if t.Over || !slices.Contains(p.active, t) {
		t.Over = false
		p.active = append(p.active, t)
	}
}

// rateTime is over how long a rate is taken at least.
const rateTime = time.Second

// moved notes how many bytes a task has moved.
func (p *Progress) moved(t *task, done int64, at time.Time) {
	t.Done = done
	if span := at.Sub(t.since); span >= rateTime {
		t.Rate = float64(done-t.before) / span.Seconds()
		t.since, t.before = at, done
	}
	p.begin(t)
}

func (p *Progress) finished(e event.Finished, at time.Time) {
	t := p.task(e.Task, at)
	if i := slices.Index(p.active, t); i >= 0 {
		p.active = slices.Delete(p.active, i, i+1)
	}
	t.Over, t.Finished = true, e
	if t.counted {
		return
	}
	t.counted = true
	if _, planned := p.place[e.Task.ID]; planned {
		p.counts.Over++
	}
	switch {
	case e.Outcome.Worked():
		p.counts.Worked++
	case e.Outcome == event.Failed:
		p.counts.Failed++
	case e.Outcome == event.Reused:
		p.counts.Reused++
		t.group.Reused++
		return
	default:
		p.counts.None++
		return
	}
	t.group.tasks = append(t.group.tasks, t)
}

func (p *Progress) planned(e event.Planned) {
	p.plan = e
	for u := range e.Units {
		for s := range e.Units[u].Steps {
			id := e.Units[u].Steps[s].ID
			p.place[id] = [2]int{u, s}
			p.counts.Steps++
			if t := p.tasks[id]; t != nil && t.counted {
				p.counts.Over++
			}
		}
	}
}

func (p *Progress) task(of event.Task, at time.Time) *task {
	if t := p.tasks[of.ID]; t != nil {
		return t
	}
	t := &task{State: State{Task: of}, began: at, group: p.group(of.Unit, of.Platform)}
	p.tasks[of.ID] = t
	return t
}

func (p *Progress) group(unit, platform string) *Group {
	for _, g := range slices.Backward(p.groups) { // what runs came last, mostly
		if g.Unit == unit && g.Platform == platform {
			return g
		}
	}
	g := &Group{Unit: unit, Platform: platform}
	p.groups = append(p.groups, g)
	return g
}

// Counts tells how many tasks ended how.
func (p *Progress) Counts() Counts { return p.counts }

// Elapsed tells how long it has gone on.
func (p *Progress) Elapsed(at time.Time) time.Duration { return at.Sub(p.began) }

// Active returns what runs, those that began first first.
func (p *Progress) Active(at time.Time) (all []State) {
	for _, t := range p.active {
		one := t.State
		one.For, one.Before = at.Sub(t.began), p.before(t.Task.ID)
		all = append(all, one)
	}
	return all
}

// before tells how long a step took last time; 0: it is not known.
func (p *Progress) before(id string) time.Duration {
	place, planned := p.place[id]
	if !planned {
		return 0
	}
	return p.plan.Units[place[0]].Steps[place[1]].Took
}

// Ended returns what has ended and is worth telling one by one, by what it belongs to, in the order of the plan where that is known. Groups
// without any come with counts alone.
func (p *Progress) Ended() (all []Group) {
	place := func(g *Group) int {
		for _, t := range g.tasks {
			if at, planned := p.place[t.Task.ID]; planned {
				return at[0]
			}
		}
		return len(p.plan.Units)
	}
	for _, g := range slices.SortedStableFunc(slices.Values(p.groups), func(a, b *Group) int { return cmp.Compare(place(a), place(b)) }) {
		one := Group{Unit: g.Unit, Platform: g.Platform, Reused: g.Reused}
		for _, t := range slices.SortedFunc(slices.Values(g.tasks), func(a, b *task) int { return cmp.Compare(a.Task.ID, b.Task.ID) }) {
			one.Tasks = append(one.Tasks, t.State)
		}
		all = append(all, one)
	}
	return all
}

// Left estimates how long the rest takes at least, along the chain of steps that wait for each other; known is false where nothing is known
// of how long steps take. A step that has not begun counts with the time that it took last where a step before it was done in this build:
// otherwise it is likely to be reused.
func (p *Progress) Left(at time.Time) (left time.Duration, known bool) {
	ends, moved := make([]time.Duration, len(p.plan.Units)), make([]bool, len(p.plan.Units))
	for i, u := range p.plan.Units {
		for _, need := range u.Needs {
			ends[i], moved[i] = max(ends[i], ends[need]), moved[i] || moved[need]
		}
		for _, s := range u.Steps {
			t := p.tasks[s.ID]
			known = known || s.Took > 0
			switch {
			case t != nil && t.Over:
				moved[i] = moved[i] || t.Finished.Outcome.Worked()
			case t != nil:
				moved[i] = true
				ends[i] += max(s.Took-at.Sub(t.began), 0)
			case moved[i]:
				ends[i] += s.Took
			}
		}
		left = max(left, ends[i])
	}
	return left, known
}
