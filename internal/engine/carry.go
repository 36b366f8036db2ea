package engine

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"imbricat/internal/content/census"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sources"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/plan"
)

// Carried tells where copies of a unit alone lay files of the project folder down: places in the unit's view, by paths of the folder. There
// the view has what the file holds now, and no command of the unit that comes later has looked at it. Learnt gives what the command of a
// step (from 0) learnt of its view; nil: that is not known.
func Carried(ctx context.Context, o Inputs, u *plan.Unit, view *tree.View, learnt func(step int) *trace.Trace) (map[string][]string, error) {
	project := sources.NewProject(ctx, o.Folder, o.Memory, &census.Classes{})
	places := map[string][]string{}
	for i := range u.Steps {
		do, is := u.Steps[i].Do.(plan.Copy)
		if !is {
			continue
		}
		seen, known := lookedAt(u, i+1, learnt)
		if !known {
			continue // a later command may depend on anything
		}
		for _, from := range do.Sources() {
			got, err := project.Pick(from)
			if errors.Is(err, tree.ErrNoMatch) || errors.Is(err, tree.ErrAllLeftOut) || errors.Is(err, fs.ErrNotExist) {
				continue
			}
			if err != nil {
				return nil, err
			}
			read, err := got.Read(ctx, false, event.Reporter{Sink: event.Discard})
			if err != nil {
				return nil, err
			}
			into := do.To.Folder || len(do.Taken) > 1 || do.Taken[0].Structure || !got.Survey.SingleFile
			for k := range got.Survey.Picked {
				p := &got.Survey.Picked[k]
				place := strings.TrimPrefix(do.To.Path, "/")
				if into {
					place = tree.Join(place, p.Rel)
				}
				n, there := view.Lookup(place)
				if p.Kind == tree.File && there && n.Kind == tree.File && !n.Linked && n.Content == read.File(p.Path).Content && !seen[place] {
					places[p.Path] = append(places[p.Path], place)
				}
			}
		}
	}
	return places, nil
}

// lookedAt returns the paths that the commands of a unit from a step on looked at; whether that is known.
func lookedAt(u *plan.Unit, from int, learnt func(step int) *trace.Trace) (seen map[string]bool, known bool) {
	seen = map[string]bool{}
	for i := from; i < len(u.Steps); i++ {
		if _, is := u.Steps[i].Do.(plan.Run); !is {
			continue
		}
		t := learnt(i)
		if t == nil || t.Why != "" {
			return nil, false
		}
		for _, e := range t.Entries {
			seen[e.Path] = true
		}
	}
	return seen, true
}
