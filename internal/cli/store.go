package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layout"
	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/share"
	"imbricat/internal/spec/retention"
)

func storeCommand() *cli.Command {
	act := func(run func(ctx context.Context, s *session) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error { return run(ctx, newSession(c)) }
	}
	return group(&cli.Command{
		Name: "store", Usage: "images in the store: list, name, drop; its size, check and clean-up",
		Description: "Example: imbricat store list",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "lists the images in the store", ArgsUsage: "[PATTERN…]",
				Description: "A PATTERN is a name, in which * stands for any letters.\n\n" +
					"Example: imbricat store list 'gauge*' --platform linux/arm64 --older-than 30d",
				Flags:  append(filterFlags(), platformFlag()),
				Action: act(runStoreList),
			},
			{
				Name: "name", Usage: "gives an image another name beside those it has", ArgsUsage: "REFERENCE NAME",
				Description: "Example: imbricat store name gauge gauge:before",
				Action:      act(runStoreName),
			},
			{
				Name: "drop", Usage: "takes names away; what no name needs goes when the store is trimmed", ArgsUsage: "[PATTERN…]",
				Description: "A PATTERN is a name, in which * stands for any letters, or the first digits of an image's digest.\n\n" +
					"Example: imbricat store drop 'gauge:*' --older-than 30d",
				Flags:  filterFlags(),
				Action: act(runStoreDrop),
			},
			{
				Name: "size", Usage: "tells what the store holds, in bytes",
				Description: "Example: imbricat store size",
				Action:      act(runStoreSize),
			},
			{
				Name: "trim", Usage: "removes what no named image needs and nobody has used for long",
				Description: "Images that are listed are kept whole. What another process uses meanwhile is spared, whatever its age.\n\n" +
					"With a size the least useful goes first: what is large, unused for long, and made again fast.\n\nExample: imbricat store trim --keep 20GB",
				Flags: []cli.Flag{
					&cli.StringSliceFlag{Name: "keep", Usage: "`BOUND`: a size such as 20GB that the store may have, or a time such as 14d: what was used since is kept; may be given twice"},
					&cli.StringFlag{Name: "unused-for", Value: "14d", Usage: "`TIME` such as 12h or 14d: what was used since is kept, unless --to asks for more room"},
					&cli.StringFlag{Name: "to", Usage: "`SIZE` that the store may have: what was not used for longest goes first"},
					&cli.StringFlag{Name: "share", Usage: "`PLACE` of a shared cache that is trimmed instead: HOST/REPOSITORY[:TAG], or a folder ./DIR"},
					&cli.BoolFlag{Name: "dry-run", Usage: "only tell what would be removed"},
				},
				Action: act(runStoreTrim),
			},
			{
				Name: "check", Usage: "reads the whole store and verifies every blob, image and record",
				Description: "Exit code 3 when something is wrong.\n\nExample: imbricat store check",
				Flags:       []cli.Flag{&cli.BoolFlag{Name: "repair", Usage: "remove what is damaged, so that it is made or brought again, and no longer list images that lack something"}},
				Action:      act(runStoreCheck),
			},
			{
				Name: "forget", Usage: "drops all that came from a shared cache which is not believed any more", ArgsUsage: "HOST/REPOSITORY",
				Description: "Records, what commands are said to have left, whatever ran over that, and the kept directories that these commands filled are dropped; " +
					"a folder is named by its path. Images stay: those that hold a layer from there are named, and are to be built again.\n\n" +
					"Example: imbricat store forget registry.tideline.example/cache/gauge",
				Action: act(runStoreForget),
			},
			keptCommand(act),
		},
	})
}

func filterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "older-than", Usage: "`TIME` such as 12h or 30d: only images that were made before"},
		&cli.BoolFlag{Name: "unnamed", Usage: "only images that are known by their digest alone"},
	}
}

// age reads a time such as 90m, 12h or 14d.
func age(flag, text string) (time.Duration, error) {
	d, err := retention.ParseAge(text)
	if err != nil {
		return 0, flow.Usagef("--%s takes a time such as 90m, 12h or 14d, not %q", flag, text)
	}
	return d, nil
}

// storedImages describes the images of the store that the command's filters choose.
func (s *session) storedImages(ctx context.Context, st *store.Store) ([]report.StoredImage, error) {
	patterns := s.cmd.Args().Slice()
	for _, p := range patterns {
		if !doublestar.ValidatePattern(p) {
			return nil, flow.Usagef("%q is not a valid pattern", p)
		}
	}
	var before time.Time
	if text := s.cmd.String("older-than"); text != "" {
		old, err := age("older-than", text)
		if err != nil {
			return nil, err
		}
		before = time.Now().Add(-old)
	}
	wanted, err := s.platforms()
	if err != nil {
		return nil, err
	}
	list, err := st.List()
	if err != nil {
		return nil, err
	}
	list = ownFirst(list, patterns, st.Project)
	images := []report.StoredImage{}
	for _, named := range list {
		if !chosen(patterns, named) || s.cmd.Bool("unnamed") && named.Name != "" {
			continue
		}
		one := stored(ctx, st, named)
		if !before.IsZero() && !oldEnough(one, before) || !offers(one, wanted) {
			continue
		}
		images = append(images, one)
	}
	return images, nil
}

// ownFirst leaves out other projects' images of a name that was given plainly and that this project has too.
func ownFirst(list []layout.Named, names []string, project string) []layout.Named {
	own := map[string]bool{}
	for _, n := range list {
		own[n.Name] = own[n.Name] || project != "" && n.Project == project && slices.Contains(names, n.Name)
	}
	return slices.DeleteFunc(list, func(n layout.Named) bool { return own[n.Name] && n.Project != project })
}

// chosen reports whether an image bears a name that a pattern matches, or has a digest that begins like one.
func chosen(patterns []string, named layout.Named) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool {
		matched, _ := doublestar.Match(p, named.Name)
		ref, err := reference.Parse(p)
		if err != nil {
			return matched
		}
		digits, prefix := ref.DigestPrefix()
		matched = matched || ref.Digest != "" && ref.Digest == named.Descriptor.Digest
		return matched || named.Name == ref.StoreName() || prefix && strings.HasPrefix(named.Descriptor.Digest.Encoded(), digits)
	})
}

// oldEnough reports whether an image was made before a time, or came to the store before it where nobody knows when it was made.
// What is not known at all is never old.
func oldEnough(one report.StoredImage, before time.Time) bool {
	at := image.KnownTime(one.Created)
	if at.IsZero() {
		at = one.Since
	}
	return !at.IsZero() && at.Before(before)
}

func offers(one report.StoredImage, wanted []platform.Platform) bool {
	for _, p := range wanted {
		if !slices.Contains(one.Platforms, p.String()) {
			return false
		}
	}
	return true
}

func stored(ctx context.Context, st *store.Store, named layout.Named) report.StoredImage {
	one := report.StoredImage{Name: named.Name, Project: named.Project, Since: named.Since, Digest: named.Descriptor.Digest, Platforms: []string{}}
	// An image that cannot be read is listed all the same; the check tells what is wrong with it.
	i, err := inspect.Describe(ctx, st, named.Name, named.Descriptor, nil)
	if err != nil {
		one.Problem = strings.Split(err.Error(), "\n")[0]
		return one
	}
	one.Packed = i.Packed
	for _, p := range i.Platforms {
		one.Platforms = append(one.Platforms, p.Platform)
		if p.Created != nil && p.Created.After(one.Created) {
			one.Created = *p.Created
		}
	}
	return one
}

func runStoreList(ctx context.Context, s *session) error {
	st, err := s.openStore()
	if err != nil {
		return err
	}
	images, err := s.storedImages(ctx, st)
	if err != nil {
		return err
	}
	document := &report.Store{Images: images}
	empty := "the store holds no images yet; `imbricat build` makes some"
	if s.cmd.Args().Present() || s.cmd.IsSet("older-than") || s.cmd.IsSet("platform") || s.cmd.Bool("unnamed") {
		empty = noMatch(s.cmd.Args().Slice())
	}
	return s.result(document, func() string { return report.StoreText(s.paint, document, time.Now(), empty) })
}

func runStoreName(ctx context.Context, s *session) error {
	args, err := s.args(2, 2, "a reference and a name")
	if err != nil {
		return err
	}
	from, err := reference.Parse(args[0])
	if err != nil {
		return flow.WrongUse(err)
	}
	if from.Kind != reference.Store {
		return flow.Usagef("%s is not in the store: `imbricat pull` brings it there", from)
	}
	name, err := reference.Parse(args[1])
	if err != nil || name.Kind != reference.Store || name.Name == "" {
		return flow.Usagef("%q is not a valid name for the store: write NAME or NAME:TAG", args[1])
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	place, err := s.source(st, from)
	if err != nil {
		return err
	}
	desc, err := place.Root(ctx)
	if err != nil {
		return err
	}
	if err := st.Name(ctx, name.StoreName(), desc); err != nil {
		return err
	}
	document := &report.Names{Names: []report.Name{{Name: name.StoreName(), Digest: desc.Digest}}}
	return s.result(document, func() string { return report.NamesText(s.paint, "named", document) })
}

func runStoreDrop(ctx context.Context, s *session) error {
	if !s.cmd.Args().Present() && !s.cmd.Bool("unnamed") && s.cmd.String("older-than") == "" {
		return flow.Usagef("%s takes names or patterns, or --unnamed or --older-than; nothing is dropped without", s.cmd.FullName())
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	images, err := s.storedImages(ctx, st)
	if err != nil {
		return err
	}
	if len(images) == 0 {
		return fmt.Errorf("%s; `imbricat store list` shows what the store holds", noMatch(s.cmd.Args().Slice()))
	}
	due := map[report.Name]bool{}
	for _, i := range images {
		due[report.Name{Name: i.Name, Project: i.Project, Digest: i.Digest}] = true
	}
	if err := s.whose(images); err != nil {
		return err
	}
	dropped, err := st.Drop(ctx, func(n layout.Named) bool {
		return due[report.Name{Name: n.Name, Project: n.Project, Digest: n.Descriptor.Digest}]
	})
	if err != nil {
		return err
	}
	document := &report.Names{Names: []report.Name{}}
	for _, n := range dropped {
		document.Names = append(document.Names, report.Name{Name: n.Name, Project: n.Project, Digest: n.Descriptor.Digest})
	}
	return s.result(document, func() string { return report.NamesText(s.paint, "dropped", document) })
}

// whose refuses to drop images of several projects by one plain name.
func (s *session) whose(images []report.StoredImage) error {
	for _, name := range s.cmd.Args().Slice() {
		var among []layout.Named
		for _, i := range images {
			if i.Name == name {
				among = append(among, layout.Named{Name: i.Name, Project: i.Project, Descriptor: digest.Descriptor{Digest: i.Digest}})
			}
		}
		if len(among) > 1 {
			return flow.WrongUse(&layout.AmbiguousError{Name: name, Among: among})
		}
	}
	return nil
}

// storeAlone opens the store for a command that takes no arguments.
func (s *session) storeAlone() (*store.Store, error) {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return nil, err
	}
	return s.openStore()
}

func runStoreSize(ctx context.Context, s *session) error {
	st, err := s.storeAlone()
	if err != nil {
		return err
	}
	usage, err := st.Size(ctx)
	if err != nil {
		return err
	}
	return s.result(usage, func() string { return report.UsageText(s.paint, st.Dir(), usage) })
}

// trimming reads how far to trim. --keep takes both bounds, by their form.
func (s *session) trimming() (store.Trimming, error) {
	unused, to := s.cmd.String("unused-for"), s.cmd.String("to")
	for _, text := range s.cmd.StringSlice("keep") {
		if _, err := humanize.ParseBytes(text); err == nil {
			to = text
			if !s.cmd.IsSet("unused-for") && len(s.cmd.StringSlice("keep")) == 1 {
				unused = "65535d" // the size alone decides
			}
		} else if _, err := age("keep", text); err == nil {
			unused = text
		} else {
			return store.Trimming{}, flow.Usagef("--keep takes a size such as 20GB or a time such as 14d, not %q", text)
		}
	}
	since, err := age("unused-for", unused)
	t := store.Trimming{UnusedFor: since, DryRun: s.cmd.Bool("dry-run")}
	if err != nil || to == "" {
		return t, err
	}
	size, err := humanize.ParseBytes(to)
	if err != nil || size > 1<<60 {
		return t, flow.Usagef("--to takes a size such as 10GB, not %q", to)
	}
	t.To = max(1, int64(size))
	return t, nil
}

func runStoreTrim(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	t, err := s.trimming()
	if err != nil {
		return err
	}
	if place := s.cmd.String("share"); place != "" {
		return s.trimShared(ctx, place, t)
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	s.unlinker(ctx, st)
	trimmed, err := st.Trim(ctx, t)
	if err != nil {
		return err
	}
	return s.result(trimmed, func() string { return report.TrimmedText(s.paint, trimmed, t.DryRun) })
}

// trimShared keeps a shared cache within bounds.
func (s *session) trimShared(ctx context.Context, place string, t store.Trimming) error {
	b, err := s.sharedAt(place)
	if err != nil {
		return err
	}
	trimmed, err := share.Trim(ctx, b, share.Bounds{UnusedFor: t.UnusedFor, To: t.To, DryRun: t.DryRun}, time.Now())
	if err != nil {
		return err
	}
	if trimmed.Undeleted != "" {
		fmt.Fprintf(s.err, "warning: earlier lists of the cache are still there, so the registry cannot remove what they name: %s\n", trimmed.Undeleted)
	}
	document := &report.SharedTrim{Place: trimmed.Place, Entries: trimmed.Packs, Layers: trimmed.Layers, Bytes: trimmed.Bytes, Left: trimmed.Left, LeftBytes: trimmed.LeftBytes,
		Deleted: trimmed.Deleted, Undeleted: trimmed.Undeleted}
	return s.result(document, func() string { return report.SharedTrimText(s.paint, document, t.DryRun) })
}

func runStoreForget(_ context.Context, s *session) error {
	args, err := s.args(1, 1, "where the shared cache lies: HOST/REPOSITORY or a folder")
	if err != nil {
		return err
	}
	ref, err := reference.Parse(args[0])
	if err != nil {
		return flow.WrongUse(err)
	}
	place := ref.Host + "/" + ref.Repository
	switch {
	case ref.Kind == reference.Layout && ref.Member == "":
		if place, err = filepath.Abs(ref.Path); err != nil {
			return err
		}
	case ref.Kind != reference.Registry:
		return flow.Usagef("%q is not a place of a shared cache: write HOST/REPOSITORY or ./DIR", args[0])
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	forgotten, err := st.Forget(place)
	if err != nil {
		return err
	}
	return s.result(forgotten, func() string { return report.ForgottenText(s.paint, forgotten) })
}

func runStoreCheck(ctx context.Context, s *session) error {
	mended := false
	if s.cmd.Bool("repair") {
		var err error
		if mended, err = store.MendFormat(s.storeDir()); err != nil {
			return err
		}
	}
	st, err := s.storeAlone()
	if err != nil {
		return err
	}
	s.snapshotChecker(ctx, st)
	checked, err := st.Check(ctx, s.cmd.Bool("repair"))
	if err != nil {
		return err
	}
	if checked.Findings == nil {
		checked.Findings = []store.Finding{}
	}
	if mended {
		checked.Findings = append(checked.Findings, store.Finding{Path: "imbricat/format", What: "cannot be read", Done: "written again; what only saves work is made again"})
	}
	if err := s.result(checked, func() string { return report.CheckText(s.paint, checked) }); err != nil {
		return err
	}
	left := 0
	for _, f := range checked.Findings {
		if f.Done == "" {
			left++
		}
	}
	if left > 0 {
		return flow.Differsf("the store %s has %s; `imbricat store check --repair` removes what is damaged, and what is built or pulled again is whole",
			st.Dir(), report.Count(left, "finding"))
	}
	return nil
}

// noMatch says that nothing in the store is what was asked for.
func noMatch(patterns []string) string {
	if len(patterns) == 0 {
		return "no image in the store matches that"
	}
	return fmt.Sprintf("no image in the store matches %q", strings.Join(patterns, " "))
}
