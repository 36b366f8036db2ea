package facts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"

	"github.com/go-git/go-git/v5"
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

// walk finds the commits that the later end has and the earlier one has not.
func (b *Between) walk(ctx context.Context, ends [2]*commitInfo) error {
	had := map[plumbing.Hash]bool{}
	if _, err := b.visit(ctx, ends[0], had, nil); err != nil {
		return err
	}
	open, err := b.visit(ctx, ends[1], had, func(c *commitInfo, parents []*commitInfo) error {
		all, err := b.git.changesOf(ctx, c, parents)
		b.commits = append(b.commits, commitBetween{c, all})
		return err
	})
	b.Open = open
	return err
}

// visit calls each for a commit and all before it that were not seen yet. Open tells that some are not there.
func (b *Between) visit(ctx context.Context, from *commitInfo, seen map[plumbing.Hash]bool, each func(c *commitInfo, parents []*commitInfo) error) (open bool, err error) {
	frontier := []*commitInfo{from}
	for len(frontier) > 0 {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		c := frontier[len(frontier)-1]
		frontier = frontier[:len(frontier)-1]
		if seen[c.hash] {
			continue
		}
		seen[c.hash] = true
		parents, err := b.git.parentsOf(c)
		if err != nil {
			return false, err
		}
		if len(parents) < len(c.parents) {
			open = true
		}
		if each != nil {
			if err := each(c, parents); err != nil {
				return false, err
			}
		}
		frontier = append(frontier, parents...)
	}
	return open, nil
}

// Touched returns the first commit found between the two that touched a path for which covers answers true, as dates of images count that
// (a merge touches what differs from all its parents); empty where none did.
func (b *Between) Touched(covers func(path string) bool) (commit string) {
	b.git.mutex.Lock()
	defer b.git.mutex.Unlock()
	for _, c := range b.commits {
		if b.git.differs(c.changes, len(c.info.parents), covers) {
			return c.info.hash.String()
		}
	}
	return ""
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

// Untracked returns the files of the project that version control neither has nor ignores, sorted.
func (g *Git) Untracked() (names []string, err error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	status, err := g.status()
	if err != nil {
		return nil, err
	}
	for name, file := range status {
		if own, inside := g.inProject(name); inside && file.Worktree == git.Untracked {
			names = append(names, own)
		}
	}
	slices.Sort(names)
	return names, nil
}

// TagOf returns a tag of a commit, the last in natural order of several; empty where it has none.
func (g *Git) TagOf(commit string) (string, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return tagOn(g.repo, plumbing.NewHash(commit))
}
