package engine

import (
	"errors"

	"imbricat/internal/engine/command"
	"imbricat/internal/engine/graph"
	"imbricat/internal/spec/plan"
)

// setAside has commands of stages that only checks need fail without ending the build: what becomes of such a stage is the verdict of
// a check.
func (w *work) setAside() {
	for _, u := range w.o.Plan.Units {
		if len(u.ChecksOf) > 0 {
			w.units[u].done.SetAside(func(err error) bool {
				var failed *command.FailedError
				return errors.As(err, &failed)
			})
		}
	}
}

// checked tells what became of the stages that only checks need, as far as they were come to.
func (w *work) checked() map[*plan.Unit]error {
	all := map[*plan.Unit]error{}
	for _, u := range w.o.Plan.Units {
		if len(u.ChecksOf) == 0 {
			continue
		}
		switch n := w.units[u].done; {
		case n.State() == graph.Done:
			all[u] = nil
		case n.Cause() != nil:
			all[u] = n.Cause().Err()
		case n.State() == graph.Failed:
			all[u] = n.Err()
		}
	}
	return all
}
