package prove

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/causes"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/command"
	"imbricat/internal/engine/executor"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
)

// side is what a step left: entries by path, and their files.
type side struct {
	entries map[string]*tree.Entry
	files   tree.Contents
}

func sideOf(entries []tree.Entry, files tree.Contents) side {
	s := side{map[string]*tree.Entry{}, files}
	for i := range entries {
		s.entries[entries[i].Path] = &entries[i]
	}
	return s
}

func sideOfTree(ctx context.Context, t *filetree.Tree) (side, error) {
	entries, err := t.Entries(ctx)
	return sideOf(entries, t), err
}

// read reads a file that is compared; nil where it is too large.
func (s side) read(ctx context.Context, path string) ([]byte, error) {
	e := s.entries[path]
	if e == nil || e.Kind != tree.File || e.Size > causes.Most {
		return nil, nil
	}
	if err := filetree.Prepare(ctx, s.files, path); err != nil {
		return nil, err
	}
	f, err := s.files.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, causes.Most+1))
}

// line is all of an entry that decides the bytes of a layer. Names of one file may change which of them counts.
func line(e *tree.Entry) string { return string(e.AppendLine(nil)) }

// differing lists the paths that two sides do not have alike, sorted.
func differing(was, now side) (all []string) {
	for p, e := range was.entries {
		if other := now.entries[p]; other == nil || line(other) != line(e) {
			all = append(all, p)
		}
	}
	for p := range now.entries {
		if was.entries[p] == nil {
			all = append(all, p)
		}
	}
	slices.Sort(all)
	return all
}

// mostFiles bounds how many files of a step are told of.
const mostFiles = 200

// look looks into a step that came out otherwise. Nothing is returned of one that does the same on what it was given before: it only differs
// because what lies below it does.
func (r *round) look(ctx context.Context, d, two *engine.Done, below bool) (*report.ProvenStep, error) {
	was, err := sideOfTree(ctx, d.Tree)
	if err != nil {
		return nil, err
	}
	now, err := sideOfTree(ctx, two.Tree)
	if err != nil {
		return nil, err
	}
	paths := differing(was, now)
	found := &report.ProvenStep{Place: d.Name.Place(), Step: d.Plan.Label, Platform: d.Name.Unit.Platform.String(), Files: []report.ProvenFile{}, Causes: []causes.Cause{}}
	if known := r.tried[found.Place+"\x00"+strings.Join(paths, "\x00")]; known != nil && !below {
		own := *known
		own.Platform = found.Platform
		return &own, nil
	}
	var reached []store.Reached
	if two.Run != nil {
		reached = two.Run.Reached
	}
	if below {
		attempt, err := d.Again(ctx, r.where.Executor(ctx, r.varied.of), nil)
		var failed *command.FailedError
		switch {
		case errors.As(err, &failed):
			found.Failed = fmt.Sprintf("under other conditions the command %s: %s", failed.What, lastLine(failed.Output))
			return found, nil
		case err != nil:
			return nil, err
		}
		defer attempt.Discard()
		reached = attempt.Status().Reached
		now = sideOf(attempt.Entries(), attempt.Files())
		if paths = differing(was, now); len(paths) == 0 {
			return nil, nil
		}
	}
	clues := r.clues(d)
	for _, p := range withoutFolders(paths, was, now) {
		if len(found.Files) == mostFiles {
			found.More++
			continue
		}
		one, err := fileOf(ctx, p, was, now, clues)
		if err != nil {
			return nil, err
		}
		found.Files = append(found.Files, one)
	}
	if d.Run == nil {
		found.Unexplored = "it is no command: what it takes in was changed meanwhile, or a value of the environment is in it"
	} else if found.Brought = store.BroughtElse(d.Run.Reached, reached); len(found.Brought) == 0 {
		if err := r.narrow(ctx, d, found); err != nil {
			return nil, err
		}
	}
	sum(found)
	if len(found.Brought) > 0 {
		return found, nil
	}
	if d.Run != nil && r.Cure {
		if err := r.cure(ctx, d, found); err != nil {
			return nil, err
		}
	}
	if !below {
		r.tried[found.Place+"\x00"+strings.Join(paths, "\x00")] = found
	}
	return found, nil
}

// withoutFolders drops folders that are only there for what is in them.
func withoutFolders(paths []string, was, now side) (kept []string) {
	for _, p := range paths {
		a, b := was.entries[p], now.entries[p]
		alone := a == nil && b.Kind == tree.Folder || b == nil && a.Kind == tree.Folder
		if !alone || !slices.ContainsFunc(paths, func(other string) bool { return strings.HasPrefix(other, p+"/") }) {
			kept = append(kept, p)
		}
	}
	return kept
}

// fileOf tells how a path differs.
func fileOf(ctx context.Context, p string, was, now side, clues causes.Clues) (report.ProvenFile, error) {
	f := report.ProvenFile{Path: causes.Shown(p)}
	if kind, known := causes.Known(p); known {
		f.Known, f.Cure = kind.Name, kind.Cure
	}
	a, b := was.entries[p], now.entries[p]
	switch {
	case a == nil:
		f.What = "is there the second time alone"
		return f, nil
	case b == nil:
		f.What = "is there the first time alone"
		return f, nil
	}
	add := func(what, was, now string) {
		f.Differences = append(f.Differences, causes.Difference{Where: what, Was: was, Now: now, Cause: causes.Other})
	}
	var how []string
	for _, one := range []struct{ name, was, now string }{
		{"kind", a.Kind.String(), b.Kind.String()}, {"mode", fmt.Sprintf("%04o", a.Mode), fmt.Sprintf("%04o", b.Mode)},
		{"owner", fmt.Sprintf("%d:%d", a.UID, a.GID), fmt.Sprintf("%d:%d", b.UID, b.GID)}, {"link", a.Target, b.Target},
		{"attributes", fmt.Sprint(a.Xattrs), fmt.Sprint(b.Xattrs)}, {"time", fmt.Sprint(a.Time), fmt.Sprint(b.Time)}} {
		if one.was != one.now {
			how = append(how, one.name)
			add(one.name, one.was, one.now)
		}
	}
	if a.Content != b.Content || a.Size != b.Size {
		how = append(how, "content")
		x, err := was.read(ctx, p)
		if err != nil {
			return f, err
		}
		y, err := now.read(ctx, p)
		if err != nil {
			return f, err
		}
		switch {
		case x == nil && a.Size > 0 || y == nil && b.Size > 0:
			add("its content, which is too large to be looked into", fmt.Sprint(a.Size, " bytes"), fmt.Sprint(b.Size, " bytes"))
		case !bytes.Equal(x, y):
			f.Differences = append(f.Differences, causes.Between(p, x, y, clues)...)
		}
	}
	f.What = strings.Join(how, ", ")
	return f, nil
}

// sum gathers the causes of a step's files, and the usual cure of each.
func sum(s *report.ProvenStep) {
	all := map[causes.Cause]bool{}
	for i := range s.Files {
		f := &s.Files[i]
		of := slices.Clone(f.Found)
		if len(of) == 0 {
			if kind, known := causes.Known(strings.TrimPrefix(f.Path, "/")); known {
				of = append(of, kind.Cause)
			}
			for _, d := range f.Differences {
				of = append(of, d.Cause)
			}
		}
		for _, c := range of {
			all[c] = true
		}
		if f.Cure == "" {
			f.Cure = causes.UsualCure(f.Differences, f.Found)
		}
	}
	if len(all) > 1 {
		delete(all, causes.Other)
	}
	s.Causes = slices.Sorted(maps.Keys(all))
}

func lastLine(output []byte) string {
	lines := strings.Split(strings.TrimSpace(string(output)), "\n")
	return lines[len(lines)-1]
}

// left runs a step's command again, for what is said of it, and tells what it left. The files are gone when it returns.
func (r *round) left(ctx context.Context, d *engine.Done, why string, ex executor.Executor, change func(c *executor.Command)) (s side, err error) {
	began := time.Now()
	task := event.Task{ID: d.Name.Unit.String() + " " + d.Name.Place() + " again", Unit: d.Name.Unit.Name, Platform: d.Name.Unit.Platform.String(), Place: d.Name.Place(), Label: d.Plan.Label + ", " + why}
	r.Sink.Send(event.Started{Task: task, Act: "running"})
	defer func() {
		done := event.Finished{Task: task, Outcome: event.Ran, Took: time.Since(began)}
		if err != nil {
			done.Outcome, done.Reason = event.Failed, event.Text(err.Error())
		}
		r.Sink.Send(done)
	}()
	if err := r.emptyKept(ctx, d); err != nil {
		return side{}, err
	}
	attempt, err := d.Again(ctx, ex, change)
	if err != nil {
		return side{}, err
	}
	defer attempt.Discard()
	return sideOf(attempt.Entries(), nil), nil
}
