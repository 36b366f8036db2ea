package progress

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
)

func at(second int) time.Time { return time.Unix(1_000_000+int64(second), 0) }

func named(id string) event.Task {
	return event.Task{ID: id, Unit: id[:1], Platform: "linux/amd64", Label: id}
}

func ended(id string, o event.Outcome) event.Event {
	return event.Finished{Task: named(id), Outcome: o}
}

// TestLeft: the rest takes as long as the longest chain of what is likely to be done: what has begun, and what comes after something that was
// done in this build.
func TestLeft(t *testing.T) {
	plan := event.Planned{Units: []event.PlannedUnit{
		{Steps: []event.PlannedStep{{ID: "a1", Took: 10 * time.Second}, {ID: "a2", Took: 100 * time.Second}}},
		{Steps: []event.PlannedStep{{ID: "b1", Took: 30 * time.Second}}},
		{Steps: []event.PlannedStep{{ID: "c1", Took: 7 * time.Second}}, Needs: []int{0, 1}},
	}}
	for _, c := range []struct {
		name   string
		events []event.Event
		left   int
	}{
		{"nothing has happened", nil, 0},
		{"all is reused so far", []event.Event{ended("a1", event.Reused)}, 0},
		{"a step runs, and what needs it will", []event.Event{event.Started{Task: named("a1")}}, 10 - 4 + 100 + 7},
		{"it has ended", []event.Event{ended("a1", event.Ran)}, 100 + 7},
		{"two run at once", []event.Event{event.Started{Task: named("b1")}, ended("a1", event.Ran), ended("a2", event.Ran)}, 30 - 4 + 7},
		{"it takes longer than last time", []event.Event{event.Started{Task: named("c1")}, ended("a1", event.Reused), ended("a2", event.Reused), ended("b1", event.Reused)}, 7 - 4},
		{"all is over", []event.Event{ended("a1", event.Ran), ended("a2", event.Ran), ended("b1", event.Ran), ended("c1", event.Ran)}, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			p := Start(at(0))
			for _, e := range c.events {
				p.Take(e, at(0))
			}
			_, known := p.Left(at(4))
			require.False(t, known, "nobody has told how long anything takes")
			p.Take(plan, at(1))
			left, known := p.Left(at(4))
			require.True(t, known)
			require.Equal(t, time.Duration(c.left)*time.Second, left)
			require.Equal(t, 4, p.Counts().Steps)
		})
	}
}

// TestCounts: each task counts once, however often it begins, and whenever it is told what there is to do.
func TestCounts(t *testing.T) {
	p := Start(at(0))
	p.Take(ended("a1", event.Reused), at(1))
	p.Take(event.Started{Task: named("a2"), Act: "unpacking"}, at(1))
	p.Take(event.Started{Task: named("a2"), Act: "running", Why: event.FirstTime}, at(3))
	p.Take(event.Planned{Units: []event.PlannedUnit{{Steps: []event.PlannedStep{{ID: "a1"}, {ID: "a2", Took: time.Minute}, {ID: "a3"}}}}}, at(3))
	active := p.Active(at(11))
	require.Len(t, active, 1)
	require.Equal(t, 10*time.Second, active[0].For, "acts of one task go on")
	require.Equal(t, time.Minute, active[0].Before)
	require.Equal(t, "running", active[0].Act)
	p.Take(ended("a2", event.Ran), at(12))
	p.Take(event.Started{Task: named("a2"), Act: "running"}, at(13)) // for a kept directory
	require.Len(t, p.Active(at(13)), 1)
	require.Zero(t, p.Active(at(13))[0].For)
	p.Take(ended("a2", event.Ran), at(14))
	p.Take(ended("a3", event.Skipped), at(14))
	p.Take(ended("a2 layer", event.Ran), at(15)) // which is no step
	p.Take(ended("b1", event.Failed), at(15))
	require.Empty(t, p.Active(at(15)))
	require.Equal(t, Counts{Steps: 3, Over: 3, Worked: 2, Reused: 1, None: 1, Failed: 1}, p.Counts())
	require.Equal(t, 5, p.Counts().Ended())
	groups := p.Ended()
	require.Len(t, groups, 2)
	require.Equal(t, 1, groups[0].Reused)
	require.Len(t, groups[0].Tasks, 2)
	p = Start(at(0))
	for _, id := range []string{"push", "b1", "a1"} {
		p.Take(ended(id, event.Ran), at(1))
	}
	p.Take(event.Planned{Units: []event.PlannedUnit{{Steps: []event.PlannedStep{{ID: "a1"}}}, {Steps: []event.PlannedStep{{ID: "b1"}}}}}, at(1))
	groups = p.Ended()
	require.Equal(t, []string{"a", "b", "p"}, []string{groups[0].Unit, groups[1].Unit, groups[2].Unit}, "in the order of the plan")
}

// TestRate: a rate is of late, and what is left follows from it.
func TestRate(t *testing.T) {
	p := Start(at(0))
	p.Take(event.Started{Task: named("a1"), Act: "sending", Total: 1000}, at(0))
	for second, done := range []int64{0, 10, 20, 30, 130} {
		p.Take(event.Progress{Task: named("a1"), Done: done}, at(second))
	}
	one := p.Active(at(4))[0]
	require.EqualValues(t, 100, one.Rate)
	require.EqualValues(t, 8700*time.Millisecond, one.Left())
	p.Take(event.Started{Task: named("a1"), Act: "packing"}, at(5))
	require.Zero(t, p.Active(at(5))[0].Rate, "another act begins anew")
}

// BenchmarkTake is what an event costs in a build of 2,000 steps, of which many run.
func BenchmarkTake(b *testing.B) {
	p := Start(at(0))
	var plan event.Planned
	for u := range 200 {
		var one event.PlannedUnit
		for s := range 10 {
			id := fmt.Sprintf("%d#%d", u, s)
			one.Steps = append(one.Steps, event.PlannedStep{ID: id, Took: time.Second})
			if s == 0 {
				p.Take(event.Started{Task: event.Task{ID: id, Unit: fmt.Sprint(u)}, Act: "running"}, at(0))
			}
		}
		plan.Units = append(plan.Units, one)
	}
	p.Take(plan, at(1))
	for n := 0; b.Loop(); n++ {
		id := fmt.Sprintf("%d#0", n%200)
		p.Take(event.Output{Task: event.Task{ID: id, Unit: id[:len(id)-2]}, Text: "page 12 of 365\n"}, at(2))
		if n%100 == 0 { // as often as it is drawn, at least
			p.Left(at(3))
			p.Active(at(3))
		}
	}
}
