package engine

import (
	"context"
	"slices"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/step"
	"imbricat/internal/spec/plan"
)

// Done is a step of a build that is done.
type Done struct {
	Name step.Name
	Plan *plan.Step
	Tree *filetree.Tree // what it laid down
	Run  *store.Run     // of a command; nil: it is none
	Ran  bool           // it ran in this build; else its record was found
	// Needs are the units out of which it takes, apart from its own.
	Needs []*plan.Unit

	runner  *command.Runner
	command *command.Command
}

// Again runs the command of a step once more on the view that it had, wherever it is told to, and keeps nothing of it: whoever gets the
// attempt discards it. Change may make another command of it; nil: it stays. One that does not end well is a *command.FailedError.
func (d *Done) Again(ctx context.Context, in executor.Executor, change func(c *executor.Command)) (executor.Attempt, error) {
	return d.runner.Again(ctx, d.command, in, change)
}

// Network reports whether the command has a network.
func (d *Done) Network() bool { return d.command != nil && d.command.Outside() }

// done lists the steps, in the order of the recipe.
func (w *work) done() (all []*Done) {
	for _, u := range w.o.Plan.Units {
		for _, s := range w.units[u].steps {
			if s.outcome == nil {
				continue
			}
			d := &Done{Name: s.name, Plan: s.plan, Tree: s.outcome.Tree, runner: w.runner, command: s.command}
			if s.outcome.Run != nil {
				d.Run, d.Ran = s.outcome.Run.Record, s.outcome.Run.Ran
			}
			for _, n := range s.inputs.units {
				if !slices.Contains(d.Needs, n.plan) {
					d.Needs = append(d.Needs, n.plan)
				}
			}
			all = append(all, d)
		}
	}
	return all
}
