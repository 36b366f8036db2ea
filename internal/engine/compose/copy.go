package compose

import (
	"context"
	"fmt"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/engine/sources"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
)

type copyStep struct{ plan.Copy }

// Alone implements Kind.
func (copyStep) Alone() bool { return true }

// Lay lays down what the copy takes of the project folder.
func (do copyStep) Lay(ctx context.Context, c *Composer) error {
	owner, err := c.owner(ctx, do.Owner, do.OwnerPos)
	if err != nil {
		return err
	}
	c.own(do.To, &owner)
	times := func(string) int64 { return 0 }
	if do.CommitTimes {
		if times, err = c.Times.CommitTimes(ctx); err != nil {
			return err
		}
	}
	for _, from := range do.Sources() {
		if err := ctx.Err(); err != nil {
			return err
		}
		got, err := c.Project.Pick(from)
		if isNoMatch(err) {
			continue // it was warned about
		}
		var read *sources.Read
		if err == nil {
			read, err = got.Read(ctx, c.tell.Task.Fresh, c.tell)
		}
		if err == nil {
			err = copyAll(c, do.Copy, owner, times, got, read)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// copyAll lays down what one from takes in.
func copyAll(c *Composer, do plan.Copy, owner account.IDs, times func(path string) int64, got *sources.Picked, read *sources.Read) error {
	to := inner(do.To)
	into := do.To.Folder || len(do.Taken) > 1 || do.Taken[0].Structure || !got.Survey.SingleFile
	c.expect(len(got.Survey.Picked) + 1)
	if !got.Survey.SingleFile {
		if err := c.addFolder(tree.Entry{Path: to, Kind: tree.Folder, Mode: do.Mode.Apply(0o755, true), UID: owner.UID, GID: owner.GID}, false); err != nil {
			return err
		}
	}
	for i := range got.Survey.Picked {
		p := &got.Survey.Picked[i]
		e := tree.Entry{Path: to, Kind: p.Kind, UID: owner.UID, GID: owner.GID, Xattrs: p.Xattrs}
		if into {
			e.Path = tree.Join(to, p.Rel)
		}
		var twin any
		if p.Twin != (tree.FileID{}) {
			twin = p.Twin
		}
		var err error
		switch p.Kind {
		case tree.Folder:
			e.Mode = do.Mode.Apply(p.Mode, true)
			err = c.addFolder(e, do.Mode.Given() || owner != account.IDs{})
		case tree.Symlink:
			e.Mode, e.Target = 0o777, p.Link
			err = c.add(e, filetree.Place{}, nil)
		default:
			known := read.File(p.Path)
			e.Mode, e.Size, e.Content, e.Time = do.Mode.Apply(p.Mode, false), known.Size, known.Content, times(p.Path)
			err = c.add(e, filetree.Place{From: read.Contents, At: p.Path}, twin)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// inspect warns of folders that are merged and of modes that get lost.
func (do copyStep) inspect(t *Tools, s *plan.Step, picked []*sources.Picked) {
	var folders []string
	for i, got := range picked {
		if got == nil {
			continue
		}
		if !got.Survey.SingleFile && !isPattern(do.Taken[i].From) {
			folders = append(folders, do.Taken[i].From)
		}
		t.tellModes(s, do.Copy, do.Taken[i].From, got.Survey.Picked)
	}
	t.tellMerged(s, folders, len(do.Taken) > 0 && do.Taken[0].Structure, "structure: keep keeps them, or a copy for each with a to of its own")
}

func isPattern(from string) bool { return strings.ContainsAny(from, "*?[{") }

// tellMerged says that what several folders hold is laid into one.
func (t *Tools) tellMerged(s *plan.Step, folders []string, structure bool, how string) {
	if len(folders) > 1 && !structure {
		t.Warner.Warn(s, event.Merged, t.File.Describe(s.Pos, fmt.Sprintf(
			"what %s hold is laid into one folder, and their own names are not kept; %s", say.Some(folders), how)))
	}
}

// fewModes is how many files may get other permissions without a word: a private file or two are no root file system.
const fewModes = 3

// tellModes says that a copy without a mode changes what many files were: that they are private, set-uid or sticky. Where
// all of them are private that is the umask's doing, and the rule is meant for it.
func (t *Tools) tellModes(s *plan.Step, do plan.Copy, from string, picked []tree.Picked) {
	if do.Mode.Given() {
		return
	}
	var changed []string
	all := 0
	for i := range picked {
		p := &picked[i]
		if p.Kind == tree.Symlink {
			continue
		}
		all++
		if given := do.Mode.Apply(p.Mode, p.Kind == tree.Folder); given&^p.Mode != 0 || p.Mode&0o7000 != 0 {
			changed = append(changed, p.Path)
		}
	}
	if len(changed) > fewModes && len(changed) < all {
		t.Warner.Warn(s, event.Modes, t.File.Describe(s.Pos, fmt.Sprintf(
			"%s of %s are private, set-uid or sticky, and will not be so in the image (%s); mode: keep leaves them as they are",
			say.Count(len(changed), "file"), from, say.Some(changed))))
	}
}
