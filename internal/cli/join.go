package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

func joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "makes one index of images built apart, for several platforms", ArgsUsage: "DESTINATION SOURCE…",
		Description: "Each source is an image, or an index, in a registry, the store, a layout directory or an archive, or the receipt (a\n" +
			"file that ends in .json) of a build that pushed by digest; no two may be for the same platform. PLATFORM=SOURCE tells\n" +
			"the platform of an image that does not. With receipts a repository as the destination gets the recipe's tags. With\n" +
			"--wait the one source is a folder that receipts come into, or HOST/REPOSITORY:TAG as ship --receipt has it.\n" +
			"Recipe, facts and commit must be the same. All content goes to the destination before its tags are written.\n\n" +
			"Example: imbricat join registry.tideline.example/tides/gauge amd64.json arm64.json",
		Flags: append([]cli.Flag{forceFlag(),
			&cli.IntFlag{Name: "wait", HideDefault: true, Usage: "wait until there are receipts of this `NUMBER` of runs"},
			&cli.StringFlag{Name: "within", Value: "30m", Usage: "`TIME` to wait at most"},
			&cli.StringSliceFlag{Name: "tag", Usage: "`TAG` that the index gets besides; may be given again"},
			&cli.BoolFlag{Name: "extend", Usage: "keep the platforms that the destination's index has and the sources do not, in place of replacing it"},
			&cli.BoolFlag{Name: "differing", Usage: "join what was not built from the same recipe, facts or commit"}}, runFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error { return runJoin(ctx, newSession(c)) },
	}
}

// joinRun is a run of join.
type joinRun struct {
	*session
	*receiptRecorder
	to     reference.Reference
	names  []string // tags, or the one name elsewhere
	parts  []transfer.Part
	from   []*receipt.Receipt
	files  []string            // names of the receipts, for messages
	ready  []receipt.Image     // their images that are joined
	goes   receipt.Destination // what the receipts say of the destination
	opener *transfer.Places
	st     *store.Store
}

func runJoin(ctx context.Context, s *session) (err error) {
	k, err := s.begin("join")
	if err != nil {
		return err
	}
	j := &joinRun{session: s, receiptRecorder: k}
	defer func() { err = j.close(ctx, err) }()
	args, err := s.args(2, -1, "a destination and at least one source")
	if err != nil {
		return err
	}
	if j.to, err = reference.Parse(args[0]); err != nil {
		return flow.WrongUse(err)
	}
	if j.st, err = s.openStore(); err != nil {
		return err
	}
	if j.opener, err = s.opener(j.st); err != nil {
		return err
	}
	if err := j.gather(ctx, args[1:]); err != nil {
		return err
	}
	defer func() {
		for _, part := range j.parts {
			part.Place.Close()
		}
	}()
	if err := j.sameOrigin(); err != nil {
		return err
	}
	held, err := j.name()
	if err != nil {
		return err
	}
	if len(j.names) == 0 {
		j.r.Outcome, j.r.Why = receipt.Nothing, "no tag's condition holds: "+held
		return s.result(j.r, func() error { return report.WriteReceipt(s.out, s.paint, j.r, false) })
	}
	return j.join(ctx)
}

// join moves and names.
func (j *joinRun) join(ctx context.Context) error {
	to, err := j.opener.Destination(j.to)
	if err != nil {
		return err
	}
	defer to.Close()
	name := "joined"
	if len(j.ready) > 0 {
		name = j.ready[0].Name
	}
	one := &shipment{image: name, began: time.Now(), to: plan.Destination{Name: j.goes.Name, Repository: j.to, Tags: j.names, Prefixes: j.goes.Prefixes, Fixed: j.goes.Fixed}}
	options := transfer.Options{Names: j.names}
	if j.to.Kind == reference.Registry {
		if err := holdBackPrefixes(ctx, j.opener, []*shipment{one}, j.cmd.Bool("force")); err != nil {
			return err
		}
		options.Names = one.to.Tags
		options.Guard = one.guard(j.cmd.Bool("force"), func(_ context.Context, stands registry.Document) (string, error) {
			return olderThan(nil, j.made(), stands), nil
		})
	}
	how := transfer.JoinOptions{}
	if !j.cmd.Bool("differing") {
		how.Alike = []string{v1.AnnotationRevision, v1.AnnotationVersion}
	}
	if j.cmd.Bool("extend") {
		if how.Extend, err = j.existing(); err != nil {
			return err
		}
	}
	view := j.view(ctx)
	options.Sink = view
	j.part = "push"
	one.result, err = transfer.Join(ctx, j.parts, to, how, options)
	view.Close("")
	if one.result != nil {
		j.part = "tags"
		j.record(ctx, one, to)
	}
	switch {
	case errors.Is(err, transfer.ErrTwice):
		return flow.WrongUse(err)
	case errors.Is(err, transfer.ErrDiffer):
		return flow.Differsf("%s; --differing joins them all the same", err)
	case err != nil:
		return err
	}
	return j.tell(one)
}

// existing is what the destination's first name stands for.
func (j *joinRun) existing() (transfer.Place, error) {
	ref := j.to
	if ref.Kind == reference.Registry {
		ref.Tag = j.names[0]
	}
	return j.opener.Source(ref)
}

// made says when the joined image was made, for tags that must not go back.
func (j *joinRun) made() map[string]string {
	own := map[string]string{}
	for _, i := range j.ready {
		if i.Created != nil {
			own[v1.AnnotationCreated] = max(own[v1.AnnotationCreated], i.Created.UTC().Format(time.RFC3339))
		}
	}
	return own
}

// record notes in the receipt what came of it.
func (j *joinRun) record(ctx context.Context, one *shipment, to transfer.Place) {
	desc := one.result.Descriptor
	i := receipt.Image{Name: one.image, Digest: desc.Digest, MediaType: desc.MediaType, Size: desc.Size}
	if digests, err := platformDigests(ctx, to, desc); err == nil && j.to.Kind != reference.Archive { // an archive is complete when it is closed
		for _, p := range slices.Sorted(maps.Keys(digests)) {
			i.Platforms = append(i.Platforms, receipt.Platform{Platform: p, Digest: digests[p]})
		}
	}
	if j.to.Kind == reference.Registry {
		repository := j.to.Host + "/" + j.to.Repository
		i.Destinations = []receipt.Destination{{Name: one.to.Name, Repository: repository, Reference: repository + "@" + string(desc.Digest), Tags: one.result.Named, Wanted: j.names,
			Held: one.held, Fixed: one.to.Fixed, Prefixes: one.to.Prefixes, Sent: one.result.Sent, SentBytes: one.result.SentBytes, Mounted: one.result.Mounted, MountedBytes: one.result.MountedBytes,
			Skipped: one.result.Skipped, SkippedBytes: one.result.SkippedBytes, Seconds: time.Since(one.began).Seconds()}}
	}
	j.r.Images = append(j.r.Images, i)
}

// tell writes the result.
func (j *joinRun) tell(one *shipment) error {
	j.r.Outcome = receipt.Done
	line := pushed(one.image, j.to, one.result.Named, one.result, time.Since(one.began))
	line.Platforms = report.DigestsOf(j.r.Images[0])
	return j.result(line, func() error {
		if j.to.Kind == reference.Registry {
			return report.WriteReceipt(j.out, j.paint, j.r, false)
		}
		return report.WritePush(j.out, j.paint, &report.Push{Pushed: []report.Pushed{line}})
	})
}

// platformSource is PLATFORM=SOURCE.
var platformSource = regexp.MustCompile(`^([a-z0-9]+/[a-z0-9_]+(?:/[a-z0-9]+)?)=(.+)$`)

// gather opens the sources, or waits for them.
func (j *joinRun) gather(ctx context.Context, args []string) error {
	if n := int(j.cmd.Int("wait")); n > 0 {
		if len(args) != 1 {
			return flow.Usagef("join --wait takes one source: a folder that receipts come into, or HOST/REPOSITORY:TAG")
		}
		return j.await(ctx, args[0], n)
	}
	for _, arg := range args {
		var as platform.Platform
		if m := platformSource.FindStringSubmatch(arg); m != nil {
			p, err := platform.Parse(m[1])
			if err != nil {
				return flow.WrongUse(err)
			}
			as, arg = p, m[2]
		}
		if receiptFile(arg) {
			r, err := readReceipt(arg)
			if err == nil {
				err = j.receipt(arg, r)
			}
			if err != nil {
				return err
			}
			continue
		}
		ref, err := reference.Parse(arg)
		if err != nil {
			return flow.WrongUse(err)
		}
		if ref.Kind == reference.Registry && ref.Identifier() == "" {
			return flow.Usagef("%s needs a tag or a digest: none is assumed", ref)
		}
		if err := j.add(arg, ref, as); err != nil {
			return err
		}
	}
	return nil
}

func (j *joinRun) add(name string, ref reference.Reference, as platform.Platform) error {
	place, err := j.opener.Source(ref)
	if err != nil {
		return err
	}
	j.parts = append(j.parts, transfer.Part{Place: place, Name: name, As: as})
	return nil
}

// receipt takes the image of a receipt that went to the destination, or its only one.
func (j *joinRun) receipt(name string, r *receipt.Receipt) error {
	if err := r.Finished(); err != nil {
		return flow.Failedf("%s cannot be joined: %s", name, err)
	}
	repository := j.to.Host + "/" + j.to.Repository
	var names []string
	chosen := -1
	var goes *receipt.Destination
	for n, i := range r.Images {
		names = append(names, i.Name)
		for d := range i.Destinations {
			if to := &r.Images[n].Destinations[d]; to.Repository == repository {
				chosen, goes = n, to
			}
		}
	}
	if chosen < 0 && len(r.Images) == 1 {
		if chosen = 0; len(r.Images[0].Destinations) > 0 {
			goes = &r.Images[0].Destinations[0]
		}
	}
	if chosen < 0 {
		return flow.Usagef("%s tells of the images %q, and of none that went to %s", name, names, repository)
	}
	i := r.Images[chosen]
	ref := reference.Reference{Kind: reference.Store, Digest: i.Digest}
	if goes != nil && goes.Reference != "" {
		var err error
		if ref, err = reference.Parse(goes.Reference); err != nil {
			return flow.Usagef("%s: %w", name, err)
		}
	}
	if goes != nil {
		if j.goes.Repository != "" && (!slices.Equal(sorted(j.goes.Wanted), sorted(goes.Wanted)) || !slices.Equal(j.goes.Fixed, goes.Fixed)) && !j.cmd.Bool("differing") {
			return flow.Differsf("%s wants the tags %q, and %s %q; --differing joins them all the same", j.files[0], j.goes.Wanted, name, goes.Wanted)
		}
		j.goes = *goes
	}
	j.from, j.files, j.ready = append(j.from, r), append(j.files, name), append(j.ready, i)
	return j.add(name, ref, platform.Platform{})
}

func sorted(list []string) []string { return slices.Sorted(slices.Values(list)) }

// sameOrigin compares what receipts say of what was built from.
func (j *joinRun) sameOrigin() error {
	if len(j.from) == 0 || j.cmd.Bool("differing") {
		return nil
	}
	seen := map[string]string{}
	for n, i := range j.ready {
		for _, p := range i.Platforms {
			if other, twice := seen[p.Platform]; twice {
				return flow.Usagef("%w, %s: %s and %s", transfer.ErrTwice, p.Platform, other, j.files[n])
			}
			seen[p.Platform] = j.files[n]
		}
	}
	one := j.from[0]
	j.r.Recipe, j.r.Revision, j.r.Facts, j.r.Run = one.Recipe, one.Revision, one.Facts, one.Run
	first := origin(one)
	for n, r := range j.from[1:] {
		now := origin(r)
		all := maps.Clone(first)
		maps.Copy(all, now)
		for _, key := range slices.Sorted(maps.Keys(all)) {
			if first[key] != now[key] {
				return flow.Differsf("%s and %s were not built from the same: %s is %q and %q; --differing joins them all the same",
					j.files[0], j.files[n+1], key, first[key], now[key])
			}
		}
	}
	return nil
}

// origin is what images that are joined must have in common.
func origin(r *receipt.Receipt) map[string]string {
	all := map[string]string{}
	if r.Recipe != nil {
		all["the recipe"], all["the lock"] = string(r.Recipe.Digest), string(r.Recipe.Lock)
	}
	if r.Revision != nil {
		all["the commit"] = r.Revision.Commit
	}
	for name, value := range r.Facts {
		all["the fact "+name] = value
	}
	return all
}

// name finds what the index is to be called. Where the recipe's tags are all held back there is nothing, and the reason.
func (j *joinRun) name() (held string, err error) {
	extra := j.cmd.StringSlice("tag")
	for _, tag := range extra {
		if err := reference.CheckTag(tag); err != nil {
			return "", flow.WrongUse(err)
		}
	}
	if j.to.Kind == reference.Registry && j.to.Identifier() == "" && len(j.ready) > 0 {
		j.names = append(slices.Clone(j.goes.Wanted), extra...)
		var why []string
		for _, h := range j.goes.Held {
			why = append(why, h.Tag+": "+h.Why)
		}
		if len(j.names) == 0 && len(why) == 0 {
			return "", flow.Usagef("the receipts name no tag for %s: write %s:TAG", j.to, j.to)
		}
		return strings.Join(why, "; "), nil
	}
	name, err := destinationName(reference.Reference{Kind: reference.Store, Name: "joined"}, j.to)
	if err != nil {
		return "", err
	}
	if len(extra) > 0 && j.to.Kind != reference.Registry {
		return "", flow.Usagef("--tag is for a destination in a registry")
	}
	j.names, j.goes.Prefixes = append([]string{name}, extra...), nil
	return "", nil
}

// await waits until there are receipts of so many runs.
func (j *joinRun) await(ctx context.Context, place string, n int) error {
	within, err := recipe.ParseDuration(j.cmd.String("within"))
	if err != nil || within <= 0 {
		return flow.Usagef("--within takes a time such as 30m, not %q", j.cmd.String("within"))
	}
	ref, err := reference.Parse(place)
	if err != nil {
		return flow.WrongUse(err)
	}
	pause, look := 300*time.Millisecond, func() (map[string]*receipt.Receipt, error) { return receiptsIn(place) }
	switch {
	case ref.Kind == reference.Registry && ref.Tag != "":
		pause, look = 2*time.Second, func() (map[string]*receipt.Receipt, error) { return receiptsAt(ctx, j.opener, ref) }
	case ref.Kind != reference.Layout:
		return flow.Usagef("--wait takes a folder (./DIR) or HOST/REPOSITORY:TAG, not %q", place)
	}
	deadline := time.Now().Add(within)
	view, told := j.view(ctx), -1
	defer view.Close("")
	for {
		found, doubt := look()
		if len(found) < n && len(found) != told {
			told = len(found)
			view.Send(event.Started{Task: event.Task{ID: "receipts", Unit: "join", Label: place}, Act: "waiting",
				Note: fmt.Sprintf("%d of %s are at %s; until %s", told, report.Count(n, "receipt"), place, deadline.UTC().Format("15:04:05 UTC"))})
		}
		var answer *registry.Error
		if errors.As(doubt, &answer) && answer.Denied() {
			return doubt
		}
		if enough, err := j.take(place, found, n); enough || err != nil {
			return err
		}
		if time.Now().After(deadline) {
			err := fmt.Errorf("%s holds %d of %s after %s", place, len(found), report.Count(n, "receipt"), within)
			if doubt != nil {
				err = fmt.Errorf("%w; %w", err, doubt)
			}
			return err
		}
		select {
		case <-time.After(min(pause, max(time.Until(deadline), time.Millisecond))):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// take takes what was waited for, once all of it is there. A run that failed, or one too many, ends the waiting at once.
func (j *joinRun) take(place string, found map[string]*receipt.Receipt, n int) (enough bool, err error) {
	names := slices.Sorted(maps.Keys(found))
	if len(found) > n {
		return false, flow.Usagef("%s holds %d receipts, and %d are waited for: %s", place, len(found), n, strings.Join(names, ", "))
	}
	for _, name := range names {
		if err := found[name].Finished(); err != nil {
			return false, flow.Failedf("%s cannot be joined: %s", name, err)
		}
	}
	if len(found) < n {
		return false, nil
	}
	for _, name := range names {
		if err := j.receipt(name, found[name]); err != nil {
			return false, err
		}
	}
	return true, nil
}

// receiptsIn reads the receipts of a folder. What cannot be read, because it is being written, is a doubt.
func receiptsIn(dir string) (map[string]*receipt.Receipt, error) {
	names, err := filepath.Glob(filepath.Join(dir, "*.json"))
	if err != nil {
		return nil, err
	}
	found := map[string]*receipt.Receipt{}
	var doubt error
	for _, name := range names {
		if info, err := os.Stat(name); err != nil || !info.Mode().IsRegular() {
			continue
		}
		if r, err := readReceipt(name); err != nil {
			doubt = errors.Join(doubt, err)
		} else {
			found[name] = r
		}
	}
	return found, doubt
}

// receiptsAt reads the receipts of a repository whose tags begin with a tag.
func receiptsAt(ctx context.Context, opener *transfer.Places, ref reference.Reference) (map[string]*receipt.Receipt, error) {
	tags, err := opener.Client.Repository(ref.Host, ref.Repository).Tags(ctx)
	if err != nil {
		return nil, err
	}
	found := map[string]*receipt.Receipt{}
	var doubt error
	for _, tag := range tags {
		if !strings.HasPrefix(tag, ref.Tag+"-") {
			continue
		}
		one := ref
		one.Tag = tag
		place, err := opener.Source(one)
		if err != nil {
			return nil, err
		}
		root, err := place.Root(ctx)
		if err == nil {
			var r *receipt.Receipt
			if r, err = receiptIn(ctx, place, root); r != nil {
				found[one.String()] = r
			}
		}
		doubt = errors.Join(doubt, err)
	}
	return found, doubt
}
