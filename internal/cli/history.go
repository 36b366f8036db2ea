package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/layering"
	"imbricat/internal/spec/order"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

const (
	// mostCommits is how far version control is read back.
	mostCommits = 500
	// leastVersions is how many changes must be known for a history to count; one is enough where the recipe wants a lock.
	leastVersions = 3
	// leastTogether is how often something must have changed before it is told what changes along with it.
	leastTogether = 2
)

// changeHistory is what is known of how the files of an image change.
type changeHistory struct {
	Source   string // what tells it: registry, git, store, or empty
	Versions int
	Shallow  bool // the clone lacks older commits
	Names    []string
}

// described is the history as people read it.
func (k changeHistory) described() string {
	switch k.Source {
	case "git":
		text := fmt.Sprintf("%d commits", k.Versions)
		if k.Shallow {
			text += " of a shallow clone"
		}
		return text
	case "registry":
		return fmt.Sprintf("%d published versions", k.Versions)
	case "store":
		return fmt.Sprintf("%d earlier builds here", k.Versions)
	}
	return "nothing but paths and sizes"
}

// historyFinder finds how files changed in the past.
type historyFinder struct {
	s   *session
	p   *planned
	st  *store.Store
	far bool // registries may be asked
}

// learn sets the changes of what an image holds, by the first source that tells enough: images already published,
// version control, earlier builds on this machine.
func (h *historyFinder) learn(ctx context.Context, u *plan.Unit, c *layering.Content) (changeHistory, error) {
	least := leastVersions
	if u.Stack.Policy == recipe.FromLock {
		least = 1
	}
	published, err := h.published(ctx, u, c)
	if err != nil {
		return changeHistory{}, err
	}
	if n := h.compare(c, published); n >= least {
		return changeHistory{Source: "registry", Versions: n}, nil
	}
	k, err := h.git(ctx, c)
	if err != nil || k.Versions >= least {
		return k, err
	}
	if n := h.compare(c, h.pastBuilds(u)); n >= least {
		return changeHistory{Source: "store", Versions: n, Shallow: k.Shallow}, nil
	}
	for i := range c.Items {
		c.Items[i].Changes = nil
	}
	return changeHistory{Shallow: k.Shallow}, nil
}

// compare sets changes from versions of the past, oldest first, that are followed by what the image is to hold now.
func (h *historyFinder) compare(c *layering.Content, past []order.Version) int {
	if len(past) == 0 {
		return 0
	}
	history := append(slices.Clone(past), order.Version{Items: c.Items, Same: c.Same})
	// A version like the one before tells nothing of what a change does.
	history = slices.CompactFunc(history, func(a, b order.Version) bool {
		return slices.Equal(a.Same, b.Same) && slices.EqualFunc(a.Items, b.Items, func(x, y order.Item) bool { return x.Path == y.Path })
	})
	history[len(history)-1] = order.Version{Items: c.Items, Same: c.Same}
	return order.Learn(history)
}

// git sets changes from the commits that touched what the image is made of. The oldest one made what the others change.
func (h *historyFinder) git(ctx context.Context, c *layering.Content) (changeHistory, error) {
	k := changeHistory{Source: "git"}
	by := map[string][]int{}
	for i, origin := range c.Origins {
		for _, path := range origin.Sources {
			by[path] = append(by[path], i)
		}
	}
	commits, shallow, err := h.p.facts.Git.Log(ctx, mostCommits, func(path string) bool { return by[path] != nil })
	if err != nil {
		return k, err
	}
	if k.Shallow = shallow; len(commits) == 0 {
		return k, nil
	}
	if !shallow && len(commits) < mostCommits {
		commits = commits[1:]
	}
	k.Versions = len(commits)
	for i := range c.Items {
		c.Items[i].Changes = nil
	}
	for v, commit := range commits {
		k.Names = append(k.Names, commit.ID)
		for _, path := range commit.Paths {
			for _, i := range by[path] {
				c.Items[i].Changes = c.Items[i].Changes.With(v)
			}
		}
	}
	return k, nil
}

// leastCut is the size in bytes below which a part of a cut by folders is not worth a layer.
const leastCut = 256 << 10

// optionsFor says how an image's content is divided.
func optionsFor(c *layering.Content, k changeHistory) order.Options {
	return order.Options{Versions: k.Versions, Most: c.Room, Least: leastCut}
}

// hintedAny tells whether a person says something of the image's files.
func hintedAny(s recipe.Stack) bool { return len(s.Steady)+len(s.Lively) > 0 }

// volatilities lists folders and files by how often they change, those of most expected bytes first.
func volatilities(c *layering.Content, k changeHistory) (list []volatile) {
	changes := map[string]*volatile{}
	for i, item := range c.Items {
		path := "/" + item.Path
		if at := strings.LastIndexByte(path, '/'); len(c.Items) > mostListed && at > 0 {
			path = path[:at+1]
		}
		v := changes[path]
		if v == nil {
			v = &volatile{Path: path, Step: c.Labels[i]}
			changes[path] = v
		}
		v.Items++
		v.Bytes += item.Size
		v.set = v.set.Clone().Or(item.Changes)
		if item.Hint != order.Unhinted {
			v.Hint = map[order.Hint]string{order.Steady: "steady", order.Lively: "lively"}[item.Hint]
		}
	}
	for _, v := range changes {
		if v.Changes = v.set.Len(); k.Versions > 0 {
			v.Share = float64(v.Changes) / float64(k.Versions)
		}
		list = append(list, *v)
	}
	slices.SortFunc(list, func(a, b volatile) int {
		return cmp.Or(cmp.Compare(float64(b.Bytes)*b.Share, float64(a.Bytes)*a.Share), cmp.Compare(a.Path, b.Path))
	})
	for i := range list {
		list[i].With = companions(list, i)
	}
	return list
}

// mostListed is above how many items folders are listed and not files.
const mostListed = 60

// volatile is a path, or a folder with the files directly in it, with what is known of its changes.
type volatile struct {
	Path    string
	Step    string
	Items   int
	Bytes   int64
	Changes int
	Share   float64
	Hint    string
	With    []string // what changed in most of the same versions

	set order.Versions
}

// companions gives up to three paths that changed in at least four of five of the versions in which one of two did.
func companions(list []volatile, i int) (with []string) {
	if list[i].Changes < leastTogether {
		return nil
	}
	for j := range list {
		if i == j || len(with) == 3 || list[j].Changes < leastTogether {
			continue
		}
		either := list[i].set.Clone().Or(list[j].set).Len()
		both := list[i].Changes + list[j].Changes - either
		if 5*both >= 4*either {
			with = append(with, list[j].Path)
		}
	}
	return with
}
