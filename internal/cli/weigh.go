package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/engine"
	"imbricat/internal/engine/layering"
	"imbricat/internal/flow"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/order"
	"imbricat/internal/spec/plan"
)

func weighCommand() *cli.Command {
	return &cli.Command{
		Name: "weigh", Usage: "what the versions of a history would have cost with today's layers", ArgsUsage: "[IMAGE…] --replay RANGE",
		Description: "RANGE is two revisions, A..B or A.. for up to now: what each commit between them that touches what an image holds would\n" +
			"have pushed, and made a node unpack, with today's division, with a layer for each step, and with a single one. Or it is\n" +
			"a repository, HOST/REPOSITORY, whose published images are replayed. Sizes are those before compression.\n\n" +
			"Example: imbricat weigh gauge --replay 1.0.0.. --chart replay.svg",
		Flags: []cli.Flag{factFlag(), platformFlag(), sandboxFlag(),
			&cli.StringFlag{Name: "replay", Usage: "`RANGE` of commits, or a repository with published images"},
			&cli.StringFlag{Name: "by", Value: "commits", Usage: "`WHAT` a version is: commits, or tags", Validator: func(text string) error {
				if text != "commits" && text != "tags" {
					return fmt.Errorf("--by takes commits or tags")
				}
				return nil
			}},
			&cli.StringFlag{Name: "chart", Usage: "`FILE` to draw a chart to; .svg or .png"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runWeigh(ctx, newSession(c)) },
	}
}

func runWeigh(ctx context.Context, s *session) error {
	span := s.cmd.String("replay")
	if span == "" {
		return flow.Usagef("weigh needs --replay RANGE, such as --replay 1.0.0..")
	}
	chart := s.cmd.String("chart")
	if chart != "" && !strings.HasSuffix(chart, ".svg") && !strings.HasSuffix(chart, ".png") {
		return flow.Usagef("--chart takes a file that ends in .svg or .png")
	}
	p, st, err := s.planAndStore()
	if err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	o, done, err := s.builder(ctx, p, st, event.Discard)
	if err != nil {
		return err
	}
	defer done()
	preview, err := engine.Look(ctx, engine.LookOptions{Inputs: o.Inputs, Weigh: true})
	if err != nil {
		return err
	}
	r := &replayer{historyFinder: historyFinder{s: s, p: p, st: st, far: true}, span: span}
	list := []report.Replay{}
	for i := range preview.Units {
		one := &preview.Units[i]
		switch {
		case !one.Unit.IsImage:
		case one.Content == nil:
			return fmt.Errorf("what %s holds is not known yet, it depends %s: build it first", one.Unit.ID, one.Unknown)
		default:
			replayed, err := r.replay(ctx, one.Unit, one.Content)
			if err != nil {
				return err
			}
			list = append(list, replayed)
		}
	}
	view.Close("")
	if chart != "" {
		text, err := report.DrawReplays(list, strings.TrimPrefix(chart[strings.LastIndexByte(chart, '.'):], "."))
		if err == nil {
			err = replaceFile(chart, text)
		}
		if err != nil {
			return err
		}
	}
	return s.result(list, func() error { return report.WriteReplays(s.out, s.paint, list) })
}

// replayer replays histories through the layers of today.
type replayer struct {
	historyFinder
	span string
}

func (r *replayer) replay(ctx context.Context, u *plan.Unit, c *layering.Content) (report.Replay, error) {
	out := report.Replay{Image: u.ID.Name, Platform: u.ID.Platform.String(), Names: []string{"this stack", "a layer for each step", "one layer"}, Versions: []report.ReplayVersion{}, Totals: []report.ReplayBytes{}}
	history, err := r.history(ctx, u, c)
	if err != nil {
		return out, err
	}
	if len(history) == 0 {
		return out, nil
	}
	out.From, out.To = history[0].Name, history[len(history)-1].Name
	var all [][]order.Bytes
	for _, strategy := range []order.Strategy{ruledBy(history, c, layersOf(c)), ruledBy(history, c, c.Steps), order.Single(history)} {
		bytes := order.Replay(history, strategy)[1:]
		all = append(all, bytes)
		total := report.ReplayBytes{}
		for _, b := range bytes {
			total.Layers, total.Pushed, total.Unpacked = b.Layers, total.Pushed+b.Pushed, total.Unpacked+b.Unpacked
		}
		out.Totals = append(out.Totals, total)
	}
	changed := changedBytes(history)
	for v := 1; v < len(history); v++ {
		one := report.ReplayVersion{Name: history[v].Name, Changed: changed[v]}
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
func ruledBy(history []order.Version, c *layering.Content, lists [][]int) order.Strategy {
	var parts []order.Part
	for _, list := range lists {
		if len(list) > 0 {
			parts = append(parts, order.Part{Items: list, Chance: order.Share(len(parts)) * order.One}) // no two are near each other
		}
	}
	rules := order.RulesOf(c.Items, parts)
	return func(v int) [][]int { return rules.Ruled(history[v].Items) }
}

// changedBytes gives for each version the bytes of what differs from the version before.
func changedBytes(history []order.Version) []int64 {
	out := make([]int64, len(history))
	last := map[string]string{}
	for v := range history {
		now := map[string]string{}
		for i, item := range history[v].Items {
			now[item.Path] = history[v].Same[i]
			if v > 0 && last[item.Path] != history[v].Same[i] {
				out[v] += item.Size
			}
		}
		last = now
	}
	return out
}

// history gives the versions of the range, the one that it starts from first.
func (r *replayer) history(ctx context.Context, u *plan.Unit, c *layering.Content) ([]order.Version, error) {
	from, to, revisions := strings.Cut(r.span, "..")
	if !revisions {
		ref, err := reference.Parse(r.span)
		if err != nil || ref.Kind != reference.Registry {
			return nil, flow.Usagef("--replay takes two revisions, A..B, or a repository, HOST/REPOSITORY; %q is neither", r.span)
		}
		return r.publishedAt(ctx, u, c, ref)
	}
	if !r.p.facts.Git.Known() {
		return nil, flow.Usagef("the project folder is in no git repository with a commit, so there is no %s to replay", r.span)
	}
	if to == "" {
		to = "HEAD"
	}
	first, err := r.p.facts.Git.Resolve(from)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	last, err := r.p.facts.Git.Resolve(to)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	if before, err := r.p.facts.Git.IsAncestor(first, last); err != nil || !before {
		return nil, flow.Usagef("%s does not come before %s, so there is nothing to replay: write the older revision first", from, to)
	}
	return r.commits(ctx, c, facts.Commit{ID: first, Tag: from}, last)
}

// publishedAt gives the images of a repository.
func (r *replayer) publishedAt(ctx context.Context, u *plan.Unit, c *layering.Content, repository reference.Reference) ([]order.Version, error) {
	list, err := r.editions(ctx, u, repository)
	if err != nil {
		return nil, err
	}
	var versions []order.Version
	for _, e := range list {
		trees, err := e.trees(ctx, r.st, 0, c.Base)
		if err != nil {
			return nil, err
		}
		v := layering.VersionOf(trees)
		v.Name = string(e.desc.Digest.Encoded()[:12])
		versions = append(versions, v)
	}
	return versions, nil
}

// commits gives what the image's sources were at the commits of a range that touched them, or at its tags.
func (r *replayer) commits(ctx context.Context, c *layering.Content, first facts.Commit, last string) ([]order.Version, error) {
	git := r.p.facts.Git
	wanted := map[string]bool{}
	for _, origin := range c.Origins {
		for _, path := range origin.Sources {
			wanted[path] = true
		}
	}
	tags := r.s.cmd.String("by") == "tags"
	log, _, err := git.Log(ctx, mostCommits, func(path string) bool { return tags || wanted[path] })
	if err != nil {
		return nil, err
	}
	list := []facts.Commit{first}
	for _, commit := range log {
		if tags && commit.Tag == "" || commit.ID == first.ID {
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

// versionAt gives what the image held of what it holds now, from the sources of a commit.
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
