package engine

import (
	"context"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/step"
	"imbricat/internal/spec/plan"
)

// lend lays the folders that are lent to a command over what lies below its step, for the command alone.
func (w *work) lend(ctx context.Context, s *stepNode, below *step.View, to *command.Setting) error {
	to.Below = below
	do, is := s.plan.Do.(plan.Run)
	if !is || len(do.Lent) == 0 {
		return nil
	}
	own, err := below.Index(ctx)
	if err != nil {
		return err
	}
	to.Own = below
	for i := range do.Lent {
		l := &do.Lent[i]
		if err := w.isFree(own, l); err != nil {
			return err
		}
		laid, err := w.compose(ctx, s, &l.Lay, to.Below, (*unitNode).view)
		if err != nil {
			return err
		}
		if err := w.isNoLink(ctx, own, laid.tree, l); err != nil {
			return err
		}
		task := s.task
		task.Label = l.Lay.Label
		if o := (&step.Outcome{Name: s.name, Task: task, Tree: laid.tree}); !o.Empty {
			to.Below = w.views.Above(to.Below, o)
		}
	}
	return nil
}

// isNoLink reports as an error that a link is to be lent: what it leads to would be taken for the folder.
func (w *work) isNoLink(ctx context.Context, below *tree.View, laid *filetree.Tree, l *plan.Lent) error {
	if _, there := below.Lookup(l.At[1:]); there {
		return nil
	}
	entries, err := laid.Entries(ctx)
	if err != nil || !slices.ContainsFunc(entries, func(e tree.Entry) bool { return e.Path == l.At[1:] && e.Kind == tree.Symlink }) {
		return err
	}
	return w.o.Plan.File.Problem(l.Lay.Pos, "what is to be lent at %s is a link: name what it leads to", l.At)
}

// isFree reports as an error that something lies below a step where a folder is to be lent: what the command did to it could not be told
// from what it did to the folder.
func (w *work) isFree(below *tree.View, l *plan.Lent) error {
	real, err := below.Resolve(strings.TrimPrefix(l.At, "/"), true)
	if err != nil {
		return err
	}
	n, there := below.Lookup(real)
	if !there || n.Kind == tree.Folder && len(n.Children()) == 0 {
		return nil
	}
	return w.o.Plan.File.Problem(l.Lay.Pos, "%s has something below this step already: lend the folder at a path that is free", l.At)
}
