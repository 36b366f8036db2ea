package facts

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// Commit is a commit with the project's paths that it touched.
type Commit struct {
	ID    string
	When  time.Time
	Paths []string // slashes, relative to the project folder, sorted
	Tag   string   // one of its tags, or empty
}

// Log lists the commits that touched paths for which touches answers true, oldest first, at most so many of the newest
// ones. A merge touches what differs from all its parents. shallow tells that the clone lacks older commits.
func (g *Git) Log(ctx context.Context, most int, touches func(path string) bool) (commits []Commit, shallow bool, err error) {
	if g.head == nil {
		return nil, false, nil
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	tags, err := g.tags()
	if err != nil {
		return nil, false, fmt.Errorf("reading git history: %w", err)
	}
	walk, err := g.walkCommits()
	if err != nil {
		return nil, false, fmt.Errorf("reading git history: %w", err)
	}
	defer g.keepCommits()
	for len(commits) < most {
		c, parents, err := walk.next(ctx)
		if err != nil {
			return nil, false, fmt.Errorf("reading git history: %w", err)
		}
		if c == nil {
			break
		}
		if len(parents) < len(c.parents) {
			shallow = true
			if len(parents) == 0 {
				continue // it would seem to have made everything
			}
		}
		all, err := g.changesOf(ctx, c, parents)
		if err != nil {
			return nil, false, fmt.Errorf("reading git history: %w", err)
		}
		if own := g.touched(all, len(parents), touches); len(own) > 0 {
			commits = append(commits, Commit{c.hash.String(), c.when, own, tags[c.hash]})
		}
	}
	slices.Reverse(commits)
	return commits, shallow, nil
}

// tags returns a tag of each commit that has some; the last in natural order of several.
func (g *Git) tags() (map[plumbing.Hash]string, error) {
	refs, err := g.repo.Tags()
	if err != nil {
		return nil, err
	}
	all := map[plumbing.Hash]string{}
	err = refs.ForEach(func(ref *plumbing.Reference) error {
		commit, err := g.repo.ResolveRevision(plumbing.Revision(ref.Name()))
		if err != nil {
			return nil // it names no commit
		}
		if name := ref.Name().Short(); all[*commit] == "" || lessNatural(all[*commit], name) {
			all[*commit] = name
		}
		return nil
	})
	return all, err
}

// Blob is a file as a commit has it.
type Blob struct {
	ID   string
	Size int64 // bytes
}

// Resolve returns the commit that a revision names.
func (g *Git) Resolve(revision string) (string, error) {
	if g.head == nil {
		return "", errors.New("the project folder is in no git repository with a commit")
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	commit, err := g.repo.ResolveRevision(plumbing.Revision(revision))
	if err != nil {
		return "", fmt.Errorf("%q names no commit of the repository: %w", revision, err)
	}
	return commit.String(), nil
}

// Names returns the paths of the project's files in a commit, as far as wanted answers true, in order.
func (g *Git) Names(ctx context.Context, commit string, wanted func(path string) bool) (all []string, err error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	err = g.each(ctx, commit, func(_ *object.Tree, _, p string, entry object.TreeEntry) {
		if wanted(p) {
			all = append(all, p)
		}
	})
	slices.Sort(all)
	return all, err
}

// each visits the files of the project in a commit, with their paths in the repository and in the project.
func (g *Git) each(ctx context.Context, commit string, visit func(top *object.Tree, name, p string, entry object.TreeEntry)) error {
	c, err := g.repo.CommitObject(plumbing.NewHash(commit))
	if err != nil {
		return fmt.Errorf("reading the commit %s: %w", commit, err)
	}
	tree, err := c.Tree()
	if err != nil {
		return fmt.Errorf("reading the commit %s: %w", commit, err)
	}
	walker := object.NewTreeWalker(tree, true, nil)
	defer walker.Close()
	for ctx.Err() == nil {
		name, entry, err := walker.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading the commit %s: %w", commit, err)
		}
		if p, inside := g.inProject(name); inside && entry.Mode.IsFile() {
			visit(tree, name, p, entry)
		}
	}
	return ctx.Err()
}

// Blobs returns the files of the project in a commit, by their paths, as far as wanted answers true.
func (g *Git) Blobs(ctx context.Context, commit string, wanted func(path string) bool) (map[string]Blob, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	all := map[string]Blob{}
	err := g.each(ctx, commit, func(top *object.Tree, name, p string, entry object.TreeEntry) {
		if !wanted(p) {
			return
		}
		size, err := top.Size(name)
		if err != nil {
			size = 0 // a shallow or partial clone lacks it
		}
		all[p] = Blob{entry.Hash.String(), size}
	})
	if err != nil {
		return nil, err
	}
	return all, nil
}

// IsAncestor reports whether a commit comes before another one, or is it.
func (g *Git) IsAncestor(before, after string) (bool, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	a, err := g.repo.CommitObject(plumbing.NewHash(before))
	if err != nil {
		return false, err
	}
	b, err := g.repo.CommitObject(plumbing.NewHash(after))
	if err != nil {
		return false, err
	}
	return a.IsAncestor(b)
}
