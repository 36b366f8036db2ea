package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/tags"
	"imbricat/internal/flow/verify"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/recipe"
	"imbricat/internal/spec/retention"
)

func tagsCommand() *cli.Command {
	force := func(usage string) cli.Flag { return &cli.BoolFlag{Name: "force", Usage: usage} }
	sub := func(name, usage, args, description string, run func(context.Context, *session) error, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: args, Description: description, Flags: flags,
			Action: func(ctx context.Context, c *cli.Command) error { return run(ctx, newSession(c)) }}
	}
	return &cli.Command{
		Name: "tags", Usage: "lists, adds and deletes tags of a repository; applies a retention rule", ArgsUsage: "HOST/REPOSITORY|RECEIPT",
		Description: "Lists tags with what they stand on: the newest versions first. When a tag was pushed is told where the registry\n" +
			"tells it. Of a receipt (a file that ends in .json) it tells what became of the tags that the run wrote.\n\nExample: imbricat tags registry.tideline.example/tides/gauge",
		Flags:  []cli.Flag{tagReferrersFlag()},
		Action: func(ctx context.Context, c *cli.Command) error { return runTags(ctx, newSession(c)) },
		Commands: append([]*cli.Command{
			sub("list", "lists tags, as tags alone does", "HOST/REPOSITORY", "Example: imbricat tags list registry.tideline.example/tides/gauge", runTags, tagReferrersFlag()),
			sub("add", "gives an image of a repository, or those of a receipt, more tags", "HOST/REPOSITORY:TAG|@DIGEST|RECEIPT NEW…",
				"Example: imbricat tags add registry.tideline.example/tides/gauge:1.4.0 newest", addTags, force("move tags that stand on another digest")),
			sub("delete", "deletes tags, or digests with what they list", "HOST/REPOSITORY TAG|DIGEST…, or HOST/REPOSITORY:TAG",
				"Example: imbricat tags delete registry.tideline.example/tides/gauge 1.3.0-rc1", deleteTags,
				force("delete digests that tags or indexes still reach, or tags together with others on the same digest")),
			sub("keep", "deletes all tags but those that a rule keeps", "HOST/REPOSITORY",
				"An image is kept, with all of its tags, when one of them matches a pattern, when it is young enough, or among the\n"+
					"newest of the others; of an image that is kept only tags that --drop names go. Tags that the recipe here moves are\n"+
					"never taken. A digest that a kept tag or index still reaches is never deleted. Try it with --dry-run first.\n\n"+
					"Example: imbricat tags keep registry.tideline.example/tides/gauge --pattern '[0-9]*' --newest 10 --younger 30d --dry-run",
				keepTags,
				&cli.StringSliceFlag{Name: "pattern", Usage: "`PATTERN` of tags that stay: * is any text, ? one sign, [0-9] one of some; may be given again"},
				&cli.IntFlag{Name: "newest", Usage: "`NUMBER` of the other images that stay, the youngest"},
				&cli.StringSliceFlag{Name: "drop", Usage: "`PATTERN` of tags that go also where their image stays; may be given again"},
				&cli.StringFlag{Name: "younger", Usage: "`AGE` such as 30d: what is younger stays"},
				&cli.StringSliceFlag{Name: "of", Usage: "`PATTERN=NUMBER[,AGE]`: images with such tags are counted by themselves, and so many of them stay, and what is younger; what stands in parentheses tells groups apart: '(*)-*=3,14d'; may be given again"},
				&cli.StringFlag{Name: "rule", Usage: "`FILE` with the rule, in place of the options above: keep, newest, younger, drop, of, age"},
				&cli.StringFlag{Name: "age", Value: "any", Usage: "`WHAT` counts as the age: pushed, the time of the push alone; or any, else that of the image"},
				&cli.StringSliceFlag{Name: "in-use", Usage: "`PLACE`, a file or an address: images whose digests stand there are in use and never taken; may be given again"},
				&cli.IntFlag{Name: "simulate", HideDefault: true, Usage: "`DAYS`: tell what the repository would hold until then if it was pushed to as until now; nothing is deleted"},
				&cli.BoolFlag{Name: "dry-run", Usage: "only say what would be deleted"}),
		}, append(tagsPastCommands(), promoteCommand())...),
	}
}

func tagReferrersFlag() cli.Flag {
	return &cli.BoolFlag{Name: "referrers", Usage: "tell what is attached to each image, such as signatures and proofs: the registry is asked for each"}
}

// addReferrers tells of each tag what refers to its image, and to the images that this lists.
func addReferrers(ctx context.Context, r *registry.Repository, inventory *transfer.Inventory, document *report.Tags) error {
	var subjects []digest.Digest
	for _, t := range inventory.Tags {
		for _, d := range append([]digest.Digest{t.Digest}, inventory.Below(t.Digest)...) {
			if !slices.Contains(subjects, d) {
				subjects = append(subjects, d)
			}
		}
	}
	all, err := transfer.ReferrersOf(ctx, r, subjects)
	if err != nil {
		return err
	}
	for i := range document.Tags {
		t, list := &document.Tags[i], []inspect.Referrer{}
		for _, d := range append([]digest.Digest{t.Digest}, inventory.Below(t.Digest)...) {
			for _, one := range all[d] {
				list = append(list, inspect.Referrer{Type: transfer.KindOf(one), Digest: one.Digest, Size: one.Size, Created: one.Annotations[v1.AnnotationCreated]})
			}
		}
		t.Referrers = &list
	}
	return nil
}

// inventory looks at every tag of the repository that an argument names. A time that stands for none is none.
func runTags(ctx context.Context, s *session) error {
	if first := s.cmd.Args().First(); len(s.cmd.Commands) > 0 && first != "" && !strings.Contains(first, "/") && !receipts.IsFile(first) {
		if recipe.Nearest(first, commandNames(s.cmd)) != "" {
			return unknownCommand(s.cmd)
		}
		return flow.Usagef("%q names no registry: write HOST/REPOSITORY, such as registry.tideline.example/%s", first, first)
	}
	args, err := s.args(1, 1, "one repository, or a receipt")
	if err != nil {
		return err
	}
	if receipts.IsFile(args[0]) {
		return s.tagsOf(ctx, args[0])
	}
	r, inventory, document, err := s.tagsDocument(ctx, args[0])
	if err != nil {
		return err
	}
	if s.cmd.Bool("referrers") {
		if err := addReferrers(ctx, r, inventory, document); err != nil {
			return err
		}
	}
	return s.result(document, func() string { return report.TagsText(s.paint, document, time.Now()) })
}

// tagsDocument tells of every tag of a repository.
func (s *session) tagsDocument(ctx context.Context, repository string) (*registry.Repository, *transfer.Inventory, *report.Tags, error) {
	r, inventory, err := s.inventory(ctx, repository)
	if err != nil {
		return nil, nil, nil, err
	}
	slices.SortFunc(inventory.Tags, func(a, b transfer.Tag) int { return retention.Compare(a.Name, b.Name) })
	document := &report.Tags{Repository: r.String(), Tags: []report.Tag{}}
	alone := tags.Alone(inventory)
	for i, t := range inventory.Tags {
		document.Tags = append(document.Tags, report.Tag{Tag: t.Name, Digest: t.Digest, Platforms: t.Platforms, Created: t.Created, Pushed: t.Pushed, Packed: t.Packed, Alone: alone[i].Bytes, Shared: alone[i].With})
	}
	return r, inventory, document, nil
}

// tagsOf tells what became of the tags that a run wrote.
func (s *session) tagsOf(ctx context.Context, name string) error {
	r, err := receipts.Read(name)
	if err != nil {
		return err
	}
	client, err := s.client()
	if err != nil {
		return err
	}
	document := &report.Fates{Tags: []report.Fate{}}
	for _, i := range r.Images {
		for _, d := range i.Destinations {
			repository, err := reference.ParseRepository(d.Repository)
			if err != nil {
				return flow.Usagef("%s: %w", name, err)
			}
			for _, tag := range slices.Concat(d.Tags, report.Missing(d)) {
				now, err := verify.StandsOn(ctx, client, repository, tag)
				if err != nil {
					return err
				}
				document.Tags = append(document.Tags, report.Fate{Repository: d.Repository, Tag: tag, Digest: i.At(d), Now: now, Written: slices.Contains(d.Tags, tag)})
			}
		}
	}
	return s.result(document, func() string { return report.FatesText(s.paint, document) })
}

func addTags(ctx context.Context, s *session) error {
	args, err := s.args(2, -1, "an image HOST/REPOSITORY:TAG, or a receipt, and the tags that it is to get")
	if err != nil {
		return err
	}
	images, err := imagesNamed(args[0])
	if err != nil {
		return err
	}
	for _, tag := range args[1:] {
		if err := reference.CheckTag(tag); err != nil {
			return flow.WrongUse(err)
		}
	}
	opener, err := s.places(nil)
	if err != nil {
		return err
	}
	// All are asked first, so that none gets a tag where another may not.
	var under []*transfer.Transfer
	for _, ref := range images {
		place, err := opener.Destination(ref)
		if err != nil {
			return err
		}
		guard := transfer.Guard{Fixed: func(string) bool { return !s.cmd.Bool("force") }}
		t, err := transfer.Begin(ctx, place, place, transfer.Options{Names: args[1:], Guard: guard, Sink: s.view(ctx)})
		if err != nil {
			return notMoved(err)
		}
		under = append(under, t)
	}
	var document []tagged
	for i, t := range under {
		if err := t.Content(ctx); err != nil {
			return err
		}
		result, err := t.Name(ctx)
		if err != nil {
			return notMoved(err)
		}
		document = append(document, tagged{images[i].Host + "/" + images[i].Repository, result.Descriptor.Digest, result.Named})
	}
	if s.json() && !receipts.IsFile(args[0]) {
		return report.JSON(s.out, document[0])
	}
	return s.result(document, func() string {
		var w strings.Builder
		for _, one := range document {
			fmt.Fprintf(&w, "%s@%s\n  %s stands there now\n", one.Repository, one.Digest, strings.Join(one.Tags, ", "))
		}
		return w.String()
	})
}

// tagged is an image that got tags.
type tagged struct {
	Repository string        `json:"repository"`
	Digest     digest.Digest `json:"digest"`
	Tags       []string      `json:"tags"`
}

// notMoved tells what lets a tag move that stands on something else.
func notMoved(err error) error {
	var moves *transfer.MoveError
	if errors.As(err, &moves) {
		moves.Why = "it would move; --force moves it all the same"
	}
	return err
}

// imagesNamed returns the image that a reference names, or those that a receipt tells of, by their digests.
func imagesNamed(arg string) (list []reference.Reference, err error) {
	if !receipts.IsFile(arg) {
		ref, err := reference.Parse(arg)
		if err != nil {
			return nil, flow.WrongUse(err)
		}
		if ref.Kind != reference.Registry || ref.Identifier() == "" {
			return nil, flow.Usagef("%s names no image in a registry: write HOST/REPOSITORY:TAG", ref)
		}
		return []reference.Reference{ref}, nil
	}
	r, err := receipts.Read(arg)
	if err != nil {
		return nil, err
	}
	if err := r.Finished(); err != nil {
		return nil, flow.Failedf("%s: %s", arg, err)
	}
	for _, i := range r.Images {
		for _, d := range i.Destinations {
			ref, err := reference.Parse(d.Reference)
			if err != nil {
				return nil, flow.Usagef("%s: %w", arg, err)
			}
			list = append(list, ref)
		}
	}
	if len(list) == 0 {
		return nil, flow.Usagef("%s tells of no image that went to a registry", arg)
	}
	return list, nil
}

func deleteTags(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "a repository with tags or digests, or HOST/REPOSITORY:TAG")
	if err != nil {
		return err
	}
	if len(args) == 1 {
		ref, err := reference.Parse(args[0])
		if err != nil {
			return flow.WrongUse(err)
		}
		if ref.Kind != reference.Registry || ref.Identifier() == "" {
			return flow.Usagef("%s names no tag and no digest to delete", args[0])
		}
		args = []string{ref.Host + "/" + ref.Repository, ref.Identifier()}
	}
	r, inventory, err := s.inventory(ctx, args[0])
	if err != nil {
		return err
	}
	document, err := tags.Delete(ctx, r, inventory, args[1:], s.cmd.Bool("force"))
	if err != nil {
		return err
	}
	return s.result(document, func() string {
		var w strings.Builder
		for _, t := range document.Deleted {
			fmt.Fprintf(&w, "deleted the tag %s\n", t.Tag)
		}
		for _, d := range document.Digests {
			fmt.Fprintf(&w, "deleted %s\n", d)
		}
		return w.String()
	})
}

func keepTags(ctx context.Context, s *session) error {
	args, err := s.args(1, 1, "one repository")
	if err != nil {
		return err
	}
	rule, err := s.retention()
	if err != nil {
		return err
	}
	if rule.InUse, err = tags.ReadUse(ctx, "imbricat/"+version(), s.cmd.StringSlice("in-use")); err != nil {
		return err
	}
	r, inventory, err := s.inventory(ctx, args[0])
	if err != nil {
		return err
	}
	if rule.Moving, err = s.movingTags(ctx, r.String()); err != nil {
		return err
	}
	if days := s.cmd.Int("simulate"); days > 0 {
		return s.foresee(ctx, r.String(), inventory, rule, days)
	}
	document, err := tags.Keep(ctx, r, inventory, rule, s.cmd.Bool("dry-run"))
	if err != nil {
		return err
	}
	return s.result(document, func() string {
		return report.VerdictsText(s.paint, document.Kept, document.Deleted, len(document.Digests), document.DryRun)
	})
}

// mostSimulated bounds how far a simulation goes, in days.
const mostSimulated = 3660

// foresee tells what a repository would hold in days to come.
func (s *session) foresee(ctx context.Context, repository string, inventory *transfer.Inventory, rule retention.Rule, days int) error {
	if days > mostSimulated {
		return flow.Usagef("--simulate takes a number of days up to %d", mostSimulated)
	}
	now := time.Now()
	points, err := tags.Simulate(ctx, inventory, rule, now, days)
	if err != nil {
		return err
	}
	f := &report.Foreseen{Repository: repository, Points: []report.ForeseenPoint{}}
	for _, p := range points {
		f.Points = append(f.Points, report.ForeseenPoint(p))
	}
	return s.result(f, func() string { return report.ForeseenText(s.paint, f, now) })
}

// retention reads the rule of the command line, or that of the file that it names.
func (s *session) retention() (retention.Rule, error) {
	said := &retention.Said{Keep: s.cmd.StringSlice("pattern"), Newest: s.cmd.Int("newest"), Younger: s.cmd.String("younger"), Drop: s.cmd.StringSlice("drop"), Age: s.cmd.String("age")}
	for _, text := range s.cmd.StringSlice("of") {
		if err := said.Add(text); err != nil {
			return retention.Rule{}, flow.Usagef("--of: %w", err)
		}
	}
	if file := s.cmd.String("rule"); file != "" {
		if said.Given() {
			return retention.Rule{}, flow.Usagef("--rule says all of the rule: leave the other options out")
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return retention.Rule{}, flow.WrongUse(err)
		}
		if said, err = retention.ParseSaid(text); err != nil {
			return retention.Rule{}, flow.Usagef("%s: %w", file, err)
		}
	}
	rule, err := said.Rule()
	if err != nil {
		return rule, flow.WrongUse(err)
	}
	return rule, nil
}

// movingTags lists the tags that the recipe here, where there is one, moves in a repository.
func (s *session) movingTags(ctx context.Context, repository string) ([]string, error) {
	p, err := s.planSpeakingOf(ctx, repository)
	if p == nil {
		return nil, err
	}
	return p.Plan.MovingTags(repository), nil
}

// planSpeakingOf is what the recipe here plans; nil where there is none, or one that does not speak of a repository.
func (s *session) planSpeakingOf(ctx context.Context, repository string) (*workspace.Planned, error) {
	if !strings.Contains(s.recipeText(), path.Base(repository)) {
		return nil, nil
	}
	p, err := s.expand(ctx, nil)
	if err != nil {
		return nil, fmt.Errorf("the recipe here tells which tags move, and has a mistake: %w", err)
	}
	return p, nil
}

func (s *session) inventory(ctx context.Context, text string) (*registry.Repository, *transfer.Inventory, error) {
	ref, err := reference.ParseRepository(text)
	if err != nil {
		return nil, nil, flow.WrongUse(err)
	}
	client, err := s.client()
	if err != nil {
		return nil, nil, err
	}
	r := client.Repository(ref.Host, ref.Repository)
	inventory, err := tags.Look(ctx, r)
	return r, inventory, err
}
