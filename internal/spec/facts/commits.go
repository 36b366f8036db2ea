package facts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"

	"imbricat/internal/ground/count"
	"imbricat/internal/ground/paths"
)

// What a commit touched never changes, so it is worked out once and remembered, for every project that has the commit.

// CommitMemory keeps what commits touched between runs. What it returns is believed.
type CommitMemory interface {
	Memo(name string) ([]byte, bool)
	PutMemo(name string, content []byte) error
}

const (
	commitsMemo = "commits"
	commitsHead = "imbricat commits 1\n"
	// mostRemembered bounds the paths that are remembered of all commits together.
	mostRemembered = 1_000_000
)

// commitInfo is a commit as far as it is known.
type commitInfo struct {
	hash    plumbing.Hash
	when    time.Time
	parents []plumbing.Hash
	changes []change // sorted by path; not known of one that is not whole
	whole   bool
}

// change is a path of the work tree that differs between a commit and some of its parents.
type change struct {
	path string
	from uint64 // bit n: from the parent n
}

// mostParents is how many parents of a commit are looked at.
const mostParents = 64

// parentsMask has the bits of so many parents. The first commit follows an empty one.
func parentsMask(parents int) uint64 {
	return ^uint64(0) >> (mostParents - min(max(parents, 1), mostParents))
}

// RememberCommits has what commits touched remembered from now on.
func (g *Git) RememberCommits(m CommitMemory) {
	g.mutex.Lock()
	defer g.mutex.Unlock()
	g.memory = m
}

// recallCommits reads what was remembered, once, and where this clone ends: what another clone of the same commits told must not make
// this one tell more.
func (g *Git) recallCommits() error {
	if g.commits != nil {
		return nil
	}
	ends, err := g.repo.Storer.Shallow()
	if err != nil {
		return err
	}
	g.ends = map[plumbing.Hash]bool{}
	for _, hash := range ends {
		g.ends[hash] = true
	}
	g.commits = map[plumbing.Hash]*commitInfo{}
	if g.memory != nil {
		if text, found := g.memory.Memo(commitsMemo); found {
			g.commits = decodeCommits(string(text))
		}
	}
	return nil
}

// keepCommits keeps what was learnt. Failing to costs time at the next run and nothing else.
func (g *Git) keepCommits() {
	if g.memory == nil || !g.learnt {
		return
	}
	g.learnt = false
	_ = g.memory.PutMemo(commitsMemo, encodeCommits(g.commits))
}

// commitOf returns a commit; one that the clone lacks is a plumbing.ErrObjectNotFound.
func (g *Git) commitOf(hash plumbing.Hash) (*commitInfo, error) {
	if c := g.commits[hash]; c != nil {
		return c, nil
	}
	o, err := g.repo.CommitObject(hash)
	if err != nil {
		return nil, err
	}
	c := &commitInfo{hash: hash, when: o.Committer.When.UTC(), parents: o.ParentHashes}
	g.commits[hash] = c
	return c, nil
}

// parentsOf returns the parents that are there; a shallow clone lacks some.
func (g *Git) parentsOf(c *commitInfo) ([]*commitInfo, error) {
	var list []*commitInfo
	for _, hash := range c.parents {
		var err error
		if g.ends[c.hash] {
			_, err = g.repo.CommitObject(hash)
		}
		var parent *commitInfo
		if err == nil {
			parent, err = g.commitOf(hash)
		}
		if errors.Is(err, plumbing.ErrObjectNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		list = append(list, parent)
	}
	return list, nil
}

// changesOf returns what differs between a commit and its parents, of which those are given that are there.
func (g *Git) changesOf(ctx context.Context, c *commitInfo, parents []*commitInfo) ([]change, error) {
	if c.whole && len(parents) == len(c.parents) {
		return c.changes, nil
	}
	now, err := g.treeOf(c)
	if err != nil {
		return nil, err
	}
	before := []*object.Tree{{}} // the first commit follows an empty one, and so does the end of a shallow history
	for i, parent := range parents[:min(len(parents), mostParents)] {
		old, err := g.treeOf(parent)
		if err != nil {
			return nil, err
		}
		before = append(before[:i], old)
	}
	from := map[string]uint64{}
	for i, old := range before {
		compared.Add(1)
		if _, err := g.below(ctx, old, now, "", func(path string) bool {
			from[path] |= 1 << i
			return false
		}); err != nil {
			return nil, err
		}
	}
	all := make([]change, 0, len(from))
	for path, parents := range from {
		all = append(all, change{path, parents})
	}
	slices.SortFunc(all, func(a, b change) int { return strings.Compare(a.path, b.path) })
	if len(parents) == len(c.parents) {
		c.changes, c.whole, g.learnt = all, true, true
	}
	return all, nil
}

func (g *Git) treeOf(c *commitInfo) (*object.Tree, error) {
	o, err := g.repo.CommitObject(c.hash)
	if err != nil {
		return nil, err
	}
	return o.Tree()
}

var compared = count.New("commits compared")

// touched returns the paths of the project for which touches answers true, and which differ from all of so many parents.
func (g *Git) touched(all []change, parents int, touches func(path string) bool) (own []string) {
	for _, c := range all {
		if path, inside := g.inProject(c.path); inside && c.from == parentsMask(parents) && touches(path) {
			own = append(own, path)
		}
	}
	return own
}

// differs reports whether from each of so many parents one of some paths of the project differs: of a merge it need not be the same one.
func (g *Git) differs(all []change, parents int, some paths.Set) bool {
	var from uint64
	some.In(len(all), func(i int) string { return all[i].path }, g.under, func(i int) bool {
		from |= all[i].from
		return from != parentsMask(parents)
	})
	return from == parentsMask(parents)
}

// commitWalk visits commits from the one that is checked out, the newest first.
type commitWalk struct {
	git      *Git
	seen     map[plumbing.Hash]bool
	frontier []*commitInfo // in the order of their times, the oldest first
}

func (g *Git) walkCommits() (*commitWalk, error) {
	if err := g.recallCommits(); err != nil {
		return nil, err
	}
	head, err := g.commitOf(g.head.Hash)
	return &commitWalk{g, map[plumbing.Hash]bool{g.head.Hash: true}, []*commitInfo{head}}, err
}

// next returns the next commit with those of its parents that are there; nil at the end.
func (w *commitWalk) next(ctx context.Context) (*commitInfo, []*commitInfo, error) {
	if err := ctx.Err(); err != nil || len(w.frontier) == 0 {
		return nil, nil, err
	}
	c := w.frontier[len(w.frontier)-1]
	w.frontier = w.frontier[:len(w.frontier)-1]
	parents, err := w.git.parentsOf(c)
	if err != nil {
		return nil, nil, err
	}
	for _, p := range parents {
		if !w.seen[p.hash] {
			w.seen[p.hash] = true
			at, _ := slices.BinarySearchFunc(w.frontier, p, func(a, b *commitInfo) int { return a.when.Compare(b.when) })
			w.frontier = slices.Insert(w.frontier, at, p)
		}
	}
	return c, parents, nil
}

// encodeCommits writes a line for each commit that is known whole: name, time in seconds, parents, and behind it a line for each
// path, with the parents that it differs from.
func encodeCommits(all map[plumbing.Hash]*commitInfo) []byte {
	out := []byte(commitsHead)
	paths := 0
	var whole []*commitInfo
	for _, c := range all {
		if c.whole {
			whole = append(whole, c)
		}
	}
	slices.SortFunc(whole, func(a, b *commitInfo) int { return b.when.Compare(a.when) }) // the newest are kept
	for _, c := range whole {
		if paths += 1 + len(c.changes); paths > mostRemembered {
			break
		}
		out = fmt.Appendf(out, "%s %d", c.hash, c.when.Unix())
		for _, p := range c.parents {
			out = append(append(out, ' '), p.String()...)
		}
		out = append(out, '\n')
		for _, one := range c.changes {
			out = append(strconv.AppendQuote(fmt.Appendf(out, "\t%x ", one.from), one.path), '\n')
		}
	}
	return out
}

// decodeCommits reads what encodeCommits wrote. Anything else is nothing.
func decodeCommits(text string) map[plumbing.Hash]*commitInfo {
	all := map[plumbing.Hash]*commitInfo{}
	rest, is := strings.CutPrefix(text, commitsHead)
	if !is {
		return all
	}
	var last *commitInfo
	for line := range strings.Lines(rest) {
		line = strings.TrimSuffix(line, "\n")
		if line, path := strings.CutPrefix(line, "\t"); path {
			mask, quoted, _ := strings.Cut(line, " ")
			from, maskErr := strconv.ParseUint(mask, 16, 64)
			name, err := strconv.Unquote(quoted)
			if err != nil || maskErr != nil || last == nil {
				return map[plumbing.Hash]*commitInfo{}
			}
			last.changes = append(last.changes, change{name, from})
			continue
		}
		words := strings.Fields(line)
		if len(words) < 2 {
			return map[plumbing.Hash]*commitInfo{}
		}
		seconds, err := strconv.ParseInt(words[1], 10, 64)
		if err != nil || slices.ContainsFunc(slices.Concat(words[:1], words[2:]), func(name string) bool { return !plumbing.IsHash(name) }) {
			return map[plumbing.Hash]*commitInfo{}
		}
		last = &commitInfo{hash: plumbing.NewHash(words[0]), when: time.Unix(seconds, 0).UTC(), whole: true}
		for _, name := range words[2:] {
			last.parents = append(last.parents, plumbing.NewHash(name))
		}
		all[last.hash] = last
	}
	return all
}
