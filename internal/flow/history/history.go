// Package history finds how the files of an image changed in the past, by what registries hold of earlier versions, by commits,
// and by earlier builds on this machine; and the image that a build follows. It decides nothing about layers and prints nothing.
package history

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/order"
	"imbricat/internal/flow/published"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

const (
	// MostCommits is how far version control is read back.
	MostCommits = 500
	// leastVersions is how many changes must be known for a history to count; one is enough where the recipe wants a lock.
	leastVersions = 3
	// mostPublished bounds how many published images are looked at.
	mostPublished = 20
	// lookWithin bounds how long published images are looked for where they only tell of the past.
	lookWithin = 20 * time.Second
	// leastTogether is how often something must have changed before it is told what changes along with it.
	leastTogether = 2
)

// Changes is what is known of how the files of an image change.
type Changes struct {
	Source   string // what tells it: registry, git, store, or empty
	Versions int
	Shallow  bool // the clone lacks older commits
	Names    []string
}

// Described is the history as people read it.
func (k Changes) Described() string {
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

// Finder finds how files changed in the past.
type Finder struct {
	Project string // names the recipe
	Plan    *plan.Plan
	Git     *facts.Git
	Store   *store.Store
	Places  *transfer.Places
	Far     bool // registries may be asked
}

// Learn sets the changes of what an image holds, by the first source that tells enough: images already published,
// version control, earlier builds on this machine.
func (h *Finder) Learn(ctx context.Context, u *plan.Unit, c *layering.Content) (Changes, error) {
	least := leastVersions
	if u.Stack.Policy == recipe.FromLock {
		least = 1
	}
	published, err := h.fromRegistry(ctx, u, c)
	if err != nil {
		return Changes{}, err
	}
	if n := h.compare(c, published); n >= least {
		return Changes{Source: "registry", Versions: n}, nil
	}
	k, err := h.git(ctx, c)
	if err != nil || k.Versions >= least {
		return k, err
	}
	if n := h.compare(c, h.pastBuilds(u, c.Base)); n >= least {
		return Changes{Source: "store", Versions: n, Shallow: k.Shallow}, nil
	}
	for i := range c.Items {
		c.Items[i].Changes = nil
	}
	return Changes{Shallow: k.Shallow}, nil
}

// compare sets changes from versions of the past, oldest first, that are followed by what the image is to hold now.
func (h *Finder) compare(c *layering.Content, past []order.Version) int {
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

// fromRegistry returns the versions of an image at its first destination, oldest first, as far as they touch what the image is
// to hold. A registry that cannot be asked tells nothing.
func (h *Finder) fromRegistry(ctx context.Context, u *plan.Unit, c *layering.Content) ([]order.Version, error) {
	dests := h.Plan.Destinations(u.ID.Name)
	if !h.Far || len(dests) == 0 {
		return nil, nil
	}
	within, stop := context.WithTimeout(ctx, lookWithin)
	defer stop()
	list, err := h.Editions(within, u, dests[0].Repository)
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	if err != nil {
		return nil, nil // there are other sources, and what is wrong shows when something is pushed
	}
	var versions []order.Version
	for _, e := range list {
		trees, err := e.Trees(within, h.Store, 0, c.Base)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			continue
		}
		versions = append(versions, layering.VersionOf(trees))
	}
	return versions, nil
}

// Editions lists what stands on the tags of a repository, and what that followed, by when it was made.
func (h *Finder) Editions(ctx context.Context, u *plan.Unit, repository reference.Reference) ([]*published.Edition, error) {
	tags, err := published.NewestTags(ctx, h.Places.Client, repository, 2*mostPublished)
	if err != nil {
		return nil, err
	}
	var todo []reference.Reference
	for _, tag := range slices.Backward(tags) {
		ref := repository
		ref.Tag = tag
		todo = append(todo, ref)
	}
	var list []*published.Edition
	for ; len(todo) > 0 && len(list) < mostPublished; todo = todo[1:] {
		e, err := published.Find(ctx, h.Places, todo[0], u.ID.Platform)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil || e.Config.Created == nil || isOther(u, e.Manifest.Annotations) || slices.ContainsFunc(list, func(o *published.Edition) bool { return o.Descriptor.Digest == e.Descriptor.Digest }) {
			continue // deleted meanwhile, of another image, or not for the platform
		}
		list = append(list, e)
		if follows := e.Manifest.Annotations[layering.FollowsKey]; follows != "" {
			ref := repository
			ref.Tag, ref.Digest = "", digest.Digest(follows)
			todo = append(todo, ref)
		}
	}
	return inOrder(list), nil
}

// isOther reports whether annotations are of another image than a unit: images of lists may lie in one repository.
func isOther(u *plan.Unit, annotations map[string]string) bool {
	name := annotations[layering.ImageKey]
	return name != "" && name != u.ID.Name
}

// inOrder sorts editions by when they were made; of one time, what was followed comes first.
func inOrder(list []*published.Edition) []*published.Edition {
	depth := map[digest.Digest]int{}
	by := map[digest.Digest]*published.Edition{}
	for _, e := range list {
		by[e.Descriptor.Digest] = e
	}
	for _, e := range list {
		n := 0
		for at := e; at != nil && n <= len(list); n++ {
			at = by[digest.Digest(at.Manifest.Annotations[layering.FollowsKey])]
		}
		depth[e.Descriptor.Digest] = n
	}
	slices.SortStableFunc(list, func(a, b *published.Edition) int {
		return cmp.Or(a.Config.Created.Compare(*b.Config.Created), cmp.Compare(depth[a.Descriptor.Digest], depth[b.Descriptor.Digest]))
	})
	return list
}

// pastBuilds returns what earlier builds on this machine made of an image, without the layers that lie below it now.
func (h *Finder) pastBuilds(u *plan.Unit, base []digest.DiffID) (versions []order.Version) {
	for _, ids := range readBuilds(h.Store, h.Project, u.ID) {
		var trees [][]tree.Entry
		for _, id := range ids {
			if slices.Contains(base, id) {
				continue
			}
			text, found := h.Store.LayerIndex(id)
			known, err := layer.DecodeIndex(text)
			if !found || err != nil {
				trees = nil
				break
			}
			trees = append(trees, known.Entries)
		}
		if trees != nil {
			versions = append(versions, layering.VersionOf(trees))
		}
	}
	return versions
}

// git sets changes from the commits that touched what the image is made of. The oldest one made what the others change.
func (h *Finder) git(ctx context.Context, c *layering.Content) (Changes, error) {
	k := Changes{Source: "git"}
	by := map[string][]int{}
	for i, origin := range c.Origins {
		for _, path := range origin.Sources {
			by[path] = append(by[path], i)
		}
	}
	commits, shallow, err := h.Git.Log(ctx, MostCommits, func(path string) bool { return by[path] != nil })
	if err != nil {
		return k, err
	}
	if k.Shallow = shallow; len(commits) == 0 {
		return k, nil
	}
	if !shallow && len(commits) < MostCommits {
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

// OptionsFor says how an image's content is divided.
func OptionsFor(c *layering.Content, k Changes) order.Options {
	return order.Options{Versions: k.Versions, Most: c.Room, Least: leastCut}
}

// Volatilities lists folders and files by how often they change, those of most expected bytes first.
func Volatilities(c *layering.Content, k Changes) (list []Volatile) {
	changes := map[string]*Volatile{}
	for i, item := range c.Items {
		path := "/" + item.Path
		if at := strings.LastIndexByte(path, '/'); len(c.Items) > mostListed && at > 0 {
			path = path[:at+1]
		}
		v := changes[path]
		if v == nil {
			v = &Volatile{Path: path, Step: c.Labels[i]}
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
	slices.SortFunc(list, func(a, b Volatile) int {
		return cmp.Or(cmp.Compare(float64(b.Bytes)*b.Share, float64(a.Bytes)*a.Share), cmp.Compare(a.Path, b.Path))
	})
	for i := range list {
		list[i].With = companions(list, i)
	}
	return list
}

// mostListed is above how many items folders are listed and not files.
const mostListed = 60

// Volatile is a path, or a folder with the files directly in it, with what is known of its changes.
type Volatile struct {
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
func companions(list []Volatile, i int) (with []string) {
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
