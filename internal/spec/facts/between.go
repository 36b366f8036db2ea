package facts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"

	"imbricat/internal/ground/paths"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// ErrNoCommit is that a revision names a commit which the repository does not have: one that is gone, or that a shallow clone lacks.
var ErrNoCommit = errors.New("the repository does not have it")

// Between is what lies between two commits.
type Between struct {
	Since, Until string
	Changed      []string // paths of the project whose content, mode or kind differs, sorted
	Open         bool     // the history here ends before it can be told which commits lie between

	git     *Git
	commits []commitBetween // those that the later one has and the earlier one has not
}

type commitBetween struct {
	info    *commitInfo
	changes []change
}

// Between compares two commits, and finds those that lie between. An empty until is the commit that is checked out.
func (g *Git) Between(ctx context.Context, since, until string) (*Between, error) {
	if g.head == nil {
		return nil, errors.New("the project folder is in no git repository with a commit")
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if err := g.recallCommits(); err != nil {
		return nil, fmt.Errorf("reading git history: %w", err)
	}
	if until == "" {
		until = g.head.Hash.String()
	}
	b := &Between{git: g}
	var ends [2]*commitInfo
	for i, one := range []string{since, until} {
		hash, err := g.repo.ResolveRevision(plumbing.Revision(one))
		switch {
		case err == nil:
		case plumbing.IsHash(one):
			return nil, fmt.Errorf("the commit %s: %w", one, ErrNoCommit)
		default:
			return nil, fmt.Errorf("%q names no commit of the repository: %w", one, err)
		}
		if ends[i], err = g.commitOf(*hash); err != nil {
			return nil, fmt.Errorf("reading git history: %w", err)
		}
	}
	b.Since, b.Until = ends[0].hash.String(), ends[1].hash.String()
	defer g.keepCommits()
	if err := b.compare(ctx, ends); err != nil {
		return nil, fmt.Errorf("reading git history: %w", err)
	}
	if err := b.walk(ctx, ends); err != nil {
		return nil, fmt.Errorf("reading git history: %w", err)
	}
	return b, nil
}

// compare finds the paths that differ.
func (b *Between) compare(ctx context.Context, ends [2]*commitInfo) error {
	old, err := b.git.treeOf(ends[0])
	if err != nil {
		return err
	}
	now, err := b.git.treeOf(ends[1])
	if err != nil {
		return err
	}
	_, err = b.git.below(ctx, old, now, "", func(p string) bool {
		if own, inside := b.git.inProject(p); inside {
			b.Changed = append(b.Changed, own)
		}
		return false
	})
	slices.Sort(b.Changed)
	return err
}

// Sides of a walk from two commits: what each of them has.
const (
	early = 1 << iota
	late
)

// walk finds the commits that the later end has and the earlier one has not. It goes back in time from both at once and stops where
// only commits of the earlier one are left; where clocks were wrong it may find more than there are, and never less.
func (b *Between) walk(ctx context.Context, ends [2]*commitInfo) error {
	sides := map[plumbing.Hash]int{ends[0].hash: early}
	sides[ends[1].hash] |= late
	var frontier, found []*commitInfo
	add := func(c *commitInfo) {
		at, _ := slices.BinarySearchFunc(frontier, c, func(a, b *commitInfo) int { return a.when.Compare(b.when) })
		frontier = slices.Insert(frontier, at, c)
	}
	add(ends[0])
	if ends[1].hash != ends[0].hash {
		add(ends[1])
	}
	for slices.ContainsFunc(frontier, func(c *commitInfo) bool { return sides[c.hash]&early == 0 }) {
		if err := ctx.Err(); err != nil {
			return err
		}
		c := frontier[len(frontier)-1]
		frontier = frontier[:len(frontier)-1]
		if sides[c.hash]&early == 0 {
			found = append(found, c)
		}
		parents, err := b.git.parentsOf(c)
		if err != nil {
			return err
		}
		for _, p := range parents {
			if before := sides[p.hash]; before|sides[c.hash] != before {
				sides[p.hash] = before | sides[c.hash]
				add(p)
			}
		}
	}
	for _, c := range found {
		if sides[c.hash]&early != 0 {
			continue
		}
		parents, err := b.git.parentsOf(c)
		if err != nil {
			return err
		}
		if len(parents) < len(c.parents) {
			b.Open = true
			continue
		}
		all, err := b.git.changesOf(ctx, c, parents)
		if err != nil {
			return err
		}
		b.commits = append(b.commits, commitBetween{c, all})
	}
	return nil
}

// Touched returns the first commit found between the two that touched a path for which covers answers true, as dates of images count that
// (a merge touches what differs from all its parents); empty where none did.
func (b *Between) Touched(covers func(path string) bool) (commit string) {
	b.git.mutex.Lock()
	defer b.git.mutex.Unlock()
	for _, c := range b.commits {
		if b.git.differs(c.changes, len(c.info.parents), paths.Set{Has: covers}) {
			return c.info.hash.String()
		}
	}
	return ""
}

// Decided returns the first commit found between the two that touched one of some paths, and that decides says counts.
func (b *Between) Decided(perhaps paths.Set, decides func(commit string, parents []string) (bool, error)) (string, error) {
	b.git.mutex.Lock()
	defer b.git.mutex.Unlock()
	for _, c := range b.commits {
		if !b.git.differs(c.changes, len(c.info.parents), perhaps) {
			continue
		}
		parents, err := b.git.parentsOf(c.info)
		if err != nil {
			return "", fmt.Errorf("reading git history: %w", err)
		}
		if counts, err := b.git.decided(decides, c.info, parents); counts || err != nil {
			return c.info.hash.String(), err
		}
	}
	return "", nil
}

// File returns a file of the project as a commit has it, up to so many bytes; nil where it has none.
func (g *Git) File(commit, name string, most int64) ([]byte, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	c, err := g.repo.CommitObject(plumbing.NewHash(commit))
	if err != nil {
		return nil, fmt.Errorf("reading the commit %s: %w", commit, err)
	}
	f, err := c.File(path.Join(g.under, name))
	if errors.Is(err, object.ErrFileNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s of the commit %s: %w", name, commit, err)
	}
	r, err := f.Reader()
	if err != nil {
		return nil, fmt.Errorf("reading %s of the commit %s: %w", name, commit, err)
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, most))
}

// TagOf returns a tag of a commit, the last in natural order of several; empty where it has none.
func (g *Git) TagOf(commit string) (string, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return tagOn(g.repo, plumbing.NewHash(commit))
}
