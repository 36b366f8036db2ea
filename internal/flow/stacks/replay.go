package stacks

import (
	"cmp"
	"context"
	"strings"

	"imbricat/internal/engine/layering"
	"imbricat/internal/engine/order"
	"imbricat/internal/flow"
	"imbricat/internal/flow/history"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
)

// replayer replays histories through the layers of today.
type replayer struct {
	*history.Finder
	span string
	tags bool // versions are tags, not commits
}

// Replay returns what the versions of a range would have cost with the layers of today: two revisions, A..B, or a repository. tags has
// versions be the tags of the range and not its commits.
func Replay(ctx context.Context, h *history.Finder, u *plan.Unit, c *layering.Content, span string, tags bool) (report.Replay, error) {
	r := &replayer{h, span, tags}
	return r.replay(ctx, u, c)
}

func (r *replayer) replay(ctx context.Context, u *plan.Unit, c *layering.Content) (report.Replay, error) {
	out := report.Replay{Image: u.ID.Name, Platform: u.ID.Platform.String(), Names: []string{"this stack", "a layer for each step", "one layer"}, Versions: []report.ReplayVersion{}, Totals: []report.ReplayBytes{}}
	versions, err := r.versions(ctx, u, c)
	if err != nil {
		return out, err
	}
	if len(versions) == 0 {
		return out, nil
	}
	out.From, out.To = versions[0].Name, versions[len(versions)-1].Name
	if _, to, is := strings.Cut(r.span, ".."); is && len(versions) == 1 { // nothing in the range touched the image
		out.To = cmp.Or(to, "HEAD")
	}
	var all [][]order.Bytes
	for _, strategy := range []order.Strategy{ruledBy(versions, c, layersOf(c)), ruledBy(versions, c, c.Steps), order.Single(versions)} {
		bytes := order.Replay(versions, strategy)[1:]
		all = append(all, bytes)
		total := report.ReplayBytes{}
		for _, b := range bytes {
			total.Layers, total.Pushed, total.Unpacked = b.Layers, total.Pushed+b.Pushed, total.Unpacked+b.Unpacked
		}
		out.Totals = append(out.Totals, total)
	}
	changed := changedBytes(versions)
	for v := 1; v < len(versions); v++ {
		one := report.ReplayVersion{Name: versions[v].Name, Changed: changed[v]}
		out.Changed += changed[v]
		for _, bytes := range all {
			b := bytes[v-1]
			one.Bytes = append(one.Bytes, report.ReplayBytes{Layers: b.Layers, Pushed: b.Pushed, Unpacked: b.Unpacked})
		}
		out.Versions = append(out.Versions, one)
	}
	return out, nil
}

func layersOf(c *layering.Content) (lists [][]int) {
	for _, l := range c.Layers {
		lists = append(lists, l.Items)
	}
	return lists
}

// ruledBy keeps a division of today for all versions; paths that today's image lacks go with their folders.
func ruledBy(versions []order.Version, c *layering.Content, lists [][]int) order.Strategy {
	var parts []order.Part
	for _, list := range lists {
		if len(list) > 0 {
			parts = append(parts, order.Part{Items: list, Chance: order.Share(len(parts)) * order.One}) // no two are near each other
		}
	}
	rules := order.RulesOf(c.Items, parts)
	return func(v int) [][]int { return order.Ruled(rules, versions[v].Items) }
}

// changedBytes returns for each version the bytes of what differs from the version before.
func changedBytes(versions []order.Version) []int64 {
	out := make([]int64, len(versions))
	last := map[string]string{}
	for v := range versions {
		now := map[string]string{}
		for i, item := range versions[v].Items {
			now[item.Path] = versions[v].Same[i]
			if v > 0 && last[item.Path] != versions[v].Same[i] {
				out[v] += item.Size
			}
		}
		last = now
	}
	return out
}

// versions returns the versions of the range, the one that it starts from first.
func (r *replayer) versions(ctx context.Context, u *plan.Unit, c *layering.Content) ([]order.Version, error) {
	from, to, revisions := strings.Cut(r.span, "..")
	if !revisions {
		ref, err := reference.Parse(r.span)
		if err != nil || ref.Kind != reference.Registry {
			return nil, flow.Usagef("--replay takes two revisions, A..B, or a repository, HOST/REPOSITORY; %q is neither", r.span)
		}
		return r.publishedAt(ctx, u, c, ref)
	}
	if !r.Git.Known() {
		return nil, flow.Usagef("the project folder is in no git repository with a commit, so there is no %s to replay", r.span)
	}
	if to == "" {
		to = "HEAD"
	}
	first, err := r.Git.Resolve(from)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	last, err := r.Git.Resolve(to)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	if before, err := r.Git.IsAncestor(first, last); err != nil || !before {
		return nil, flow.Usagef("%s does not come before %s, so there is nothing to replay: write the older revision first", from, to)
	}
	return r.commits(ctx, c, facts.Commit{ID: first, Tag: from}, last)
}

// publishedAt returns the images of a repository.
func (r *replayer) publishedAt(ctx context.Context, u *plan.Unit, c *layering.Content, repository reference.Reference) ([]order.Version, error) {
	list, err := r.Editions(ctx, u, repository)
	if err != nil {
		return nil, err
	}
	var versions []order.Version
	for _, e := range list {
		trees, err := e.Trees(ctx, r.Store, 0, c.Base)
		if err != nil {
			return nil, err
		}
		v := layering.VersionOf(trees)
		v.Name = string(e.Descriptor.Digest.Encoded()[:12])
		versions = append(versions, v)
	}
	return versions, nil
}

// commits returns what the image's sources were at the commits of a range that touched them, or at its tags.
func (r *replayer) commits(ctx context.Context, c *layering.Content, first facts.Commit, last string) ([]order.Version, error) {
	git := r.Git
	wanted := map[string]bool{}
	for _, origin := range c.Origins {
		for _, path := range origin.Sources {
			wanted[path] = true
		}
	}
	log, _, err := git.Log(ctx, history.MostCommits, func(path string) bool { return r.tags || wanted[path] })
	if err != nil {
		return nil, err
	}
	list := []facts.Commit{first}
	for _, commit := range log {
		if r.tags && commit.Tag == "" || commit.ID == first.ID {
			continue
		}
		after, err := git.IsAncestor(first.ID, commit.ID)
		if err != nil {
			return nil, err
		}
		before, err := git.IsAncestor(commit.ID, last)
		if err != nil {
			return nil, err
		}
		if after && before {
			list = append(list, commit)
		}
	}
	var versions []order.Version
	for _, commit := range list {
		blobs, err := git.Blobs(ctx, commit.ID, func(path string) bool { return wanted[path] })
		if err != nil {
			return nil, err
		}
		v := versionAt(c, blobs)
		if v.Name = commit.Tag; v.Name == "" {
			v.Name = commit.ID[:12]
		}
		versions = append(versions, v)
	}
	return versions, nil
}

// versionAt returns what the image held of what it holds now, from the sources of a commit.
func versionAt(c *layering.Content, blobs map[string]facts.Blob) (v order.Version) {
	for i, item := range c.Items {
		var same strings.Builder
		size, there := int64(0), true
		for _, path := range c.Origins[i].Sources {
			blob, is := blobs[path]
			there = there && is
			size += blob.Size
			same.WriteString(blob.ID)
		}
		if !there {
			continue
		}
		// What is copied as it is has the size that it had; of what is made of sources only today's is known.
		if c.Origins[i].Copied {
			item.Size = 512 + (size+511)&^511
		}
		v.Items, v.Same = append(v.Items, item), append(v.Same, same.String())
	}
	return v
}
