package facts

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"imbricat/internal/ground/paths"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// Git is what version control tells of the project folder. The zero value is a folder outside version control.
type Git struct {
	repo *git.Repository
	head *object.Commit
	// mutex guards repo, whose reader is for one goroutine at a time.
	mutex   sync.Mutex
	guessed bool     // a time came from where the history is cut off
	tracked []string // paths of the project that head has; nil: they were not listed
	memory  CommitMemory
	commits map[plumbing.Hash]*commitInfo // that were met, or remembered
	learnt  bool                          // there is more than was remembered
	ends    map[plumbing.Hash]bool        // commits at which a shallow clone is cut off
	// under is the project folder relative to the work tree, with slashes, "" for the work tree itself.
	under string

	Commit string // full hexadecimal name of the commit that is checked out
	Tag    string // the highest tag on that commit
	Branch string // empty when no branch is checked out
	Source string // address of the remote "origin", without credentials
}

// BranchOf returns the branch that is checked out in a folder; empty where that is not known.
func BranchOf(dir string) string {
	g, err := openGit(dir)
	if err != nil {
		return ""
	}
	return g.Branch
}

// openGit reads the repository that holds dir. A folder outside version control, or without a commit, is no error.
func openGit(dir string) (*Git, error) {
	g := &Git{}
	repo, err := git.PlainOpenWithOptions(dir, &git.PlainOpenOptions{DetectDotGit: true, EnableDotGitCommonDir: true})
	if errors.Is(err, git.ErrRepositoryNotExists) {
		return g, nil
	}
	if err != nil {
		return g, fmt.Errorf("reading the git repository of %s: %w", dir, err)
	}
	if g.under, err = belowWorktree(repo, dir); err != nil {
		return &Git{}, err
	}
	head, err := repo.Head()
	if errors.Is(err, plumbing.ErrReferenceNotFound) {
		return g, nil
	}
	if err != nil {
		return &Git{}, fmt.Errorf("reading the git repository of %s: %w", dir, err)
	}
	if g.head, err = repo.CommitObject(head.Hash()); err != nil {
		return &Git{}, fmt.Errorf("reading the git commit %s: %w", head.Hash(), err)
	}
	g.repo, g.Commit = repo, head.Hash().String()
	if head.Name().IsBranch() {
		g.Branch = head.Name().Short()
	}
	g.Source = origin(repo)
	g.Tag, err = tagOn(repo, head.Hash())
	return g, err
}

func belowWorktree(repo *git.Repository, dir string) (string, error) {
	tree, err := repo.Worktree()
	if err != nil {
		return "", fmt.Errorf("reading the git repository of %s: %w", dir, err)
	}
	root, err := filepath.EvalSymlinks(tree.Filesystem.Root())
	if err != nil {
		return "", err
	}
	if dir, err = filepath.Abs(dir); err == nil {
		dir, err = filepath.EvalSymlinks(dir)
	}
	if err != nil {
		return "", err
	}
	below, err := filepath.Rel(root, dir)
	if err != nil || below == "." {
		return "", err
	}
	return filepath.ToSlash(below), nil
}

// origin returns the remote's address; a user name or secret in it stays out.
func origin(repo *git.Repository) string {
	remote, err := repo.Remote("origin")
	if err != nil || len(remote.Config().URLs) == 0 {
		return ""
	}
	address := remote.Config().URLs[0]
	if parsed, err := url.Parse(address); err == nil && parsed.Scheme != "" {
		parsed.User = nil
		return parsed.String()
	}
	if filepath.IsAbs(address) {
		return "" // a folder of this machine says nothing elsewhere
	}
	return address
}

// tagOn returns the highest tag on a commit; numbers in tags count as numbers, so that 1.10 is above 1.9.
func tagOn(repo *git.Repository, commit plumbing.Hash) (string, error) {
	tags, err := repo.Tags()
	if err != nil {
		return "", fmt.Errorf("reading git tags: %w", err)
	}
	best := ""
	err = tags.ForEach(func(ref *plumbing.Reference) error {
		target := ref.Hash()
		if tag, err := repo.TagObject(target); err == nil {
			target = tag.Target
		}
		if name := ref.Name().Short(); target == commit && (best == "" || lessNatural(best, name)) {
			best = name
		}
		return nil
	})
	return best, err
}

// lessNatural orders texts with their runs of digits as numbers.
func lessNatural(a, b string) bool {
	for a != "" && b != "" {
		na, nb := digits(a), digits(b)
		if na > 0 && nb > 0 {
			da, db := strings.TrimLeft(a[:na], "0"), strings.TrimLeft(b[:nb], "0")
			if len(da) != len(db) {
				return len(da) < len(db)
			}
			if da != db {
				return da < db
			}
			a, b = a[na:], b[nb:]
			continue
		}
		if a[0] != b[0] {
			return a[0] < b[0]
		}
		a, b = a[1:], b[1:]
	}
	return len(a) < len(b)
}

func digits(s string) int { return len(s) - len(strings.TrimLeft(s, "0123456789")) }

// Dirty reports whether the work tree differs from the commit: changed files, and new ones that .gitignore does not name. New
// ones among own, relative to the project folder, do not count: this program writes them.
func (g *Git) Dirty(own ...string) (bool, error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	s, err := g.status()
	if err != nil {
		return false, err
	}
	fresh := func(name string) bool {
		return slices.ContainsFunc(own, func(one string) bool { return path.Join(g.under, one) == name })
	}
	return len(s.changed) > 0 || len(slices.DeleteFunc(s.untracked, fresh)) > 0, nil
}

// Difference is how the work tree differs from the commit, in paths relative to the project folder.
type Difference struct {
	Changed []string        // known to version control and other than in the commit: edited, deleted, added
	Tracked map[string]bool // what the commit has
}

// WorkTree is the work tree beside the commit that is checked out.
type WorkTree struct {
	Difference
	Untracked []string // files that version control neither has nor ignores
}

// Difference compares the work tree with the commit that is checked out.
func (g *Git) Difference() (Difference, error) {
	t, err := g.WorkTree()
	return t.Difference, err
}

// WorkTree is Difference, with what is new.
func (g *Git) WorkTree() (t WorkTree, err error) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	if g.head == nil {
		return t, nil
	}
	s, err := g.status()
	if err != nil {
		return t, err
	}
	t.Changed, t.Untracked = g.ofProject(s.changed), g.ofProject(s.untracked)
	if t.Tracked, err = g.files(); err != nil {
		return t, fmt.Errorf("reading git history: %w", err)
	}
	return t, nil
}

// Guessed reports whether a time that Newest gave may be too young, because the history here ends before the commit that
// touched the paths.
func (g *Git) Guessed() bool {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	return g.guessed
}

// Shallow reports whether the history here ends before the first commit.
func (g *Git) Shallow() bool {
	if g.repo == nil {
		return false
	}
	ends, err := g.repo.Storer.Shallow()
	return err == nil && len(ends) > 0
}

// Known reports whether the folder is under version control with at least one commit.
func (g *Git) Known() bool { return g.head != nil }

// Touch is the newest commit that touched some paths.
type Touch struct {
	Commit string
	When   time.Time
}

// Newest returns the newest commit that touched one of some paths (slashes, relative to the project folder). A merge touches what differs from all its parents. At the end of a shallow clone the oldest
// commit there counts as having touched everything in it. Where the commit that is checked out has no such path (what
// is built from the sources seldom is under version control) that commit itself is given. Without any it is false.
func (g *Git) Newest(ctx context.Context, touches paths.Set) (Touch, bool, error) {
	return g.NewestOf(ctx, Counting{Touches: touches})
}

// Counting tells which commits count.
type Counting struct {
	Touches paths.Set // it is enough to touch one of these
	Perhaps paths.Set // of a commit that touched one of these Decides is asked
	Decides func(commit string, parents []string) (bool, error)
}

// NewestOf is Newest of the commits that count.
func (g *Git) NewestOf(ctx context.Context, counting Counting) (Touch, bool, error) {
	if g.head == nil {
		return Touch{}, false, nil
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	found, known, err := g.newest(ctx, counting)
	if err != nil {
		return Touch{}, false, fmt.Errorf("reading git history: %w", err)
	}
	return found, known, nil
}

func (g *Git) newest(ctx context.Context, counting Counting) (Touch, bool, error) {
	tracked := counting.Touches.Empty()
	var err error
	if !tracked {
		if tracked, err = g.tracks(counting.Touches); err != nil {
			return Touch{}, false, err
		}
	}
	if !tracked {
		return Touch{g.Commit, g.head.Committer.When.UTC()}, true, nil
	}
	walk, err := g.walkCommits()
	if err != nil {
		return Touch{}, false, err
	}
	defer g.keepCommits()
	for {
		c, parents, err := walk.next(ctx)
		if err != nil || c == nil {
			return Touch{}, false, err
		}
		all, err := g.changesOf(ctx, c, parents)
		if err != nil {
			return Touch{}, false, err
		}
		counts := g.differs(all, len(parents), counting.Touches)
		if !counts && g.differs(all, len(parents), counting.Perhaps) {
			if counts, err = g.decided(counting.Decides, c, parents); err != nil {
				return Touch{}, false, err
			}
		}
		if counts {
			g.guessed = g.guessed || len(parents) == 0 && len(c.parents) > 0
			return Touch{c.hash.String(), c.when}, true, nil
		}
	}
}

// decided asks whether a commit counts. Who answers may read the repository.
func (g *Git) decided(decides func(commit string, parents []string) (bool, error), c *commitInfo, parents []*commitInfo) (bool, error) {
	if len(parents) == 0 {
		return true, nil // the first one, or where a shallow clone ends
	}
	var names []string
	for _, p := range parents {
		names = append(names, p.hash.String())
	}
	g.mutex.Unlock()
	defer g.mutex.Lock()
	return decides(c.hash.String(), names)
}

// tracks reports whether the commit that is checked out has any of some paths.
func (g *Git) tracks(some paths.Set) (has bool, err error) {
	list, err := g.listTracked()
	if err != nil {
		return false, err
	}
	some.In(len(list), func(i int) string { return list[i] }, "", func(int) bool {
		has = true
		return false
	})
	return has, nil
}

// listTracked returns the paths of the project that the commit which is checked out has, sorted, which are read once for all that ask.
func (g *Git) listTracked() ([]string, error) {
	if g.tracked != nil {
		return g.tracked, nil
	}
	all := []string{}
	note := func(name string, mode filemode.FileMode) {
		if path, inside := g.inProject(name); inside && mode.IsFile() {
			all = append(all, path)
		}
	}
	// The index is one file; the folders of a commit are an object each.
	if idx, err := g.repo.Storer.Index(); err == nil && g.agrees(idx) {
		for _, e := range idx.Entries {
			note(e.Name, e.Mode)
		}
	} else {
		committed, err := g.committed()
		if err != nil {
			return nil, err
		}
		for name, e := range committed {
			note(name, e.mode)
		}
	}
	slices.Sort(all)
	g.tracked = all
	return all, nil
}

// below calls touches with the paths of files that differ between two folders, until it answers true, and reports whether it did.
func (g *Git) below(ctx context.Context, from, to *object.Tree, folder string, touches func(string) bool) (bool, error) {
	if err := ctx.Err(); err != nil {
		return false, err
	}
	names := map[string][2]*object.TreeEntry{}
	for side, tree := range []*object.Tree{from, to} {
		for i := range tree.Entries {
			e := &tree.Entries[i]
			both := names[e.Name]
			both[side] = e
			names[e.Name] = both
		}
	}
	for name, both := range names {
		old, now := both[0], both[1]
		if old != nil && now != nil && old.Hash == now.Hash && old.Mode == now.Mode {
			continue
		}
		found, err := g.entry(ctx, old, now, path.Join(folder, name), touches)
		if err != nil || found {
			return found, err
		}
	}
	return false, nil
}

// entry looks at a name that differs: by itself where it is a file on a side, and into it where it is a folder.
func (g *Git) entry(ctx context.Context, old, now *object.TreeEntry, name string, touches func(string) bool) (bool, error) {
	trees := [2]*object.Tree{{}, {}}
	for side, e := range []*object.TreeEntry{old, now} {
		switch {
		case e == nil:
		case e.Mode == filemode.Dir:
			tree, err := g.repo.TreeObject(e.Hash)
			if err != nil {
				return false, err
			}
			trees[side] = tree
		default:
			if touches(name) {
				return true, nil
			}
		}
	}
	return g.below(ctx, trees[0], trees[1], name, touches)
}

// ofProject keeps those paths that lie in the project folder, relative to it.
func (g *Git) ofProject(names []string) (inside []string) {
	for _, name := range names {
		if path, is := g.inProject(name); is {
			inside = append(inside, path)
		}
	}
	return inside
}

func (g *Git) inProject(name string) (string, bool) {
	if g.under == "" || name == "" {
		return name, name != ""
	}
	return strings.CutPrefix(name, g.under+"/")
}

// Times returns for every file of the commit that is checked out (slashes, relative to the project folder) the time of the
// last commit that touched it. A merge touches what differs from all its parents.
func (g *Git) Times(ctx context.Context) (map[string]time.Time, error) {
	times := map[string]time.Time{}
	if g.head == nil {
		return times, nil
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	open, err := g.files()
	if err != nil {
		return nil, fmt.Errorf("reading git history: %w", err)
	}
	walk, err := g.walkCommits()
	if err != nil {
		return nil, fmt.Errorf("reading git history: %w", err)
	}
	defer g.keepCommits()
	for len(open) > 0 {
		c, parents, err := walk.next(ctx)
		if err != nil {
			return nil, fmt.Errorf("reading git history: %w", err)
		}
		if c == nil {
			break
		}
		all, err := g.changesOf(ctx, c, parents)
		if err != nil {
			return nil, fmt.Errorf("reading git history: %w", err)
		}
		for _, path := range g.touched(all, len(parents), func(path string) bool { return open[path] }) {
			times[path] = c.when
			delete(open, path)
		}
	}
	return times, nil
}

// files lists the files of the project in the commit that is checked out.
func (g *Git) files() (map[string]bool, error) {
	all := map[string]bool{}
	list, err := g.listTracked()
	for _, path := range list {
		all[path] = true
	}
	return all, err
}

// Ancestry is how a commit relates to another one.
type Ancestry int

// The relations. Unknown is also that of a commit that the history here does not have, or not far enough.
const (
	Unknown Ancestry = iota
	Same
	Before // it comes before the other one
	After  // the other one comes before it
	Apart  // neither comes before the other
)

// Ancestry tells how a commit relates to another one, both by their full names.
func (g *Git) Ancestry(one, other string) Ancestry {
	if !plumbing.IsHash(one) || !plumbing.IsHash(other) || g.repo == nil {
		return Unknown
	}
	if one == other {
		return Same
	}
	before, err := g.IsAncestor(one, other)
	if err != nil {
		return Unknown // a shallow history ends somewhere
	}
	if before {
		return Before
	}
	switch after, err := g.IsAncestor(other, one); {
	case err != nil:
		return Unknown
	case after:
		return After
	}
	return Apart
}
