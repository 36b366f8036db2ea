// Package join makes one index of images that were built apart, for several platforms, and names it as the recipe's tags. It refuses what
// was not built from the same, and moves no tag where push would not.
package join

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/flow/push"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/poll"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
)

// Options say how images are joined.
type Options struct {
	Tags []string // that the index gets besides
	push.Moves
	Extend    bool          // platforms stay that the destination's index has and the sources do not
	Differing bool          // what was not built from the same is joined too
	Wait      int           // for receipts of so many runs; 0: there is nothing to wait for
	Within    time.Duration // at most
}

// run is a run of join.
type run struct {
	places *transfer.Places
	k      *receipts.Recorder
	sink   event.Sink
	o      Options
	to     reference.Reference
	names  []string // tags, or the one name elsewhere
	parts  []transfer.Part
	from   []*receipt.Receipt
	files  []string            // names of the receipts, for messages
	ready  []receipt.Image     // their images that are joined
	goes   receipt.Destination // what the receipts say of the destination

	singles []*single
}

// Run joins what sources tell of and records it. Where no tag's condition holds nothing is done, the receipt says why, and what is
// returned is nil.
func Run(ctx context.Context, places *transfer.Places, k *receipts.Recorder, sink event.Sink, to reference.Reference, sources []string, o Options) (*report.Pushed, error) {
	j := &run{places: places, k: k, sink: sink, o: o, to: to}
	defer func() {
		for _, part := range j.parts {
			part.Place.Close()
		}
		j.closeSingles()
	}()
	if err := j.gather(ctx, sources); err != nil {
		return nil, err
	}
	if err := j.sameOrigin(); err != nil {
		return nil, err
	}
	held, err := j.name()
	if err != nil {
		return nil, err
	}
	if len(j.names) == 0 {
		k.Receipt.Outcome, k.Receipt.Why = receipt.Nothing, "no tag's condition holds: "+held
		return nil, nil
	}
	one, err := j.join(ctx)
	if err != nil {
		return nil, err
	}
	k.Receipt.Outcome = receipt.Done
	line := one.Line(to, one.Result.Named)
	line.Platforms = report.DigestsOf(k.Receipt.Images[0])
	return &line, nil
}

// join moves and names.
func (j *run) join(ctx context.Context) (*push.Shipment, error) {
	to, err := j.places.Destination(j.to)
	if err != nil {
		return nil, err
	}
	defer to.Close()
	name := j.names[0]
	switch {
	case len(j.ready) > 0:
		name = j.ready[0].Name
	case j.to.Kind == reference.Registry:
		name = path.Base(j.to.Repository)
	}
	one := &push.Shipment{Image: name, Began: time.Now(), To: plan.Destination{Name: j.goes.Name, Repository: j.to, Tags: j.names, Prefixes: j.goes.Prefixes, Fixed: j.goes.Fixed}}
	options := transfer.Options{Names: j.names}
	if j.to.Kind == reference.Registry {
		if err := push.HoldBackPrefixes(ctx, j.places.Client, []*push.Shipment{one}, j.o.Moves); err != nil {
			return nil, err
		}
		options.Names = one.To.Tags
		options.Guard = one.Guard(j.o.Moves, func(_ context.Context, stands registry.Document) (string, error) {
			return push.Older(nil, j.made(), stands), nil
		})
	}
	how := transfer.JoinOptions{}
	if !j.o.Differing {
		how.Alike = []string{v1.AnnotationRevision, v1.AnnotationVersion}
	}
	if j.o.Extend {
		if how.Extend, err = j.existing(); err != nil {
			return nil, err
		}
	}
	options.Sink = j.sink
	j.k.Part = "push"
	if err := j.beginSingles(ctx, to); err != nil {
		return nil, err
	}
	one.Result, err = transfer.Join(ctx, j.parts, to, how, options)
	if one.Result != nil {
		j.k.Part = "tags"
		j.record(ctx, one, to)
	}
	switch {
	case errors.Is(err, transfer.ErrTwice):
		return nil, flow.WrongUse(err)
	case errors.Is(err, transfer.ErrDiffer):
		return nil, flow.Differsf("%s; --differing joins them all the same", err)
	case err != nil:
		return nil, err
	}
	return one, j.nameSingles(ctx)
}

// existing is what the destination's first name stands for.
func (j *run) existing() (transfer.Place, error) {
	ref := j.to
	if ref.Kind == reference.Registry {
		ref.Tag = j.names[0]
	}
	return j.places.Source(ref)
}

// made says when the joined image was made, for tags that must not go back.
func (j *run) made() map[string]string {
	own := map[string]string{}
	for _, i := range j.ready {
		if i.Created != nil {
			own[v1.AnnotationCreated] = max(own[v1.AnnotationCreated], i.Created.UTC().Format(time.RFC3339))
		}
	}
	return own
}

// record notes in the receipt what came of it.
func (j *run) record(ctx context.Context, one *push.Shipment, to transfer.Place) {
	desc := one.Result.Descriptor
	made := receipt.Image{Name: one.Image, Digest: desc.Digest, MediaType: desc.MediaType, Size: desc.Size}
	if digests, err := image.PlatformDigests(ctx, to, desc); err == nil && j.to.Kind != reference.Archive { // an archive is complete when it is closed
		for _, p := range slices.Sorted(maps.Keys(digests)) {
			made.Platforms = append(made.Platforms, receipt.Platform{Platform: p, Digest: digests[p]})
		}
	}
	if j.to.Kind == reference.Registry {
		repository := j.to.Host + "/" + j.to.Repository
		made.Destinations = []receipt.Destination{{Name: one.To.Name, Repository: repository, Reference: repository + "@" + string(desc.Digest), Tags: one.Result.Named, Wanted: j.names,
			Held: one.Held, Fixed: one.To.Fixed, Prefixes: one.To.Prefixes, Sent: one.Result.Sent, SentBytes: one.Result.SentBytes, Mounted: one.Result.Mounted, MountedBytes: one.Result.MountedBytes,
			Skipped: one.Result.Skipped, SkippedBytes: one.Result.SkippedBytes, Seconds: time.Since(one.Began).Seconds()}}
	}
	j.k.Receipt.Images = append(j.k.Receipt.Images, made)
}

// platformSource is PLATFORM=SOURCE.
var platformSource = regexp.MustCompile(`^([a-z0-9]+/[a-z0-9_]+(?:/[a-z0-9]+)?)=(.+)$`)

// gather opens the sources, or waits for them.
func (j *run) gather(ctx context.Context, args []string) error {
	if n := j.o.Wait; n > 0 {
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
		if receipts.IsFile(arg) {
			r, err := receipts.Read(arg)
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

func (j *run) add(name string, ref reference.Reference, as platform.Platform) error {
	place, err := j.places.Source(ref)
	if err != nil {
		return err
	}
	j.parts = append(j.parts, transfer.Part{Place: place, Name: name, As: as})
	return nil
}

// receipt takes the image of a receipt that went to the destination, or its only one.
func (j *run) receipt(name string, r *receipt.Receipt) error {
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
			if to := &r.Images[n].Destinations[d]; to.Repository == repository && to.Platform == "" {
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
		if j.goes.Repository != "" && (!slices.Equal(sorted(j.goes.Wanted), sorted(goes.Wanted)) || !slices.Equal(j.goes.Fixed, goes.Fixed)) && !j.o.Differing {
			return flow.Differsf("%s wants the tags %q, and %s %q; --differing joins them all the same", j.files[0], j.goes.Wanted, name, goes.Wanted)
		}
		j.goes = *goes
	}
	if err := j.singlesOf(name, i, goes); err != nil {
		return err
	}
	j.from, j.files, j.ready = append(j.from, r), append(j.files, name), append(j.ready, i)
	return j.add(name, ref, platform.Platform{})
}

func sorted(list []string) []string { return slices.Sorted(slices.Values(list)) }

// sameOrigin compares what receipts say of what was built from.
func (j *run) sameOrigin() error {
	if len(j.from) == 0 || j.o.Differing {
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
	j.k.Receipt.Recipe, j.k.Receipt.Revision, j.k.Receipt.Facts, j.k.Receipt.Run = one.Recipe, one.Revision, one.Facts, one.Run
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
func (j *run) name() (held string, err error) {
	extra := j.o.Tags
	for _, tag := range extra {
		if err := reference.CheckTag(tag); err != nil {
			return "", flow.WrongUse(err)
		}
	}
	if j.to.Kind == reference.Registry && j.to.Identifier() == "" && len(j.ready) > 0 {
		j.names = append(slices.Clone(j.goes.Wanted), extra...)
		if err := j.requirePlatforms(); err != nil {
			return "", err
		}
		var why []string
		for _, h := range j.goes.Held {
			why = append(why, h.Tag+": "+h.Why)
		}
		if len(j.names) == 0 && len(why) == 0 {
			return "", flow.Usagef("the receipts name no tag for %s: write %s:TAG", j.to, j.to)
		}
		return strings.Join(why, "; "), nil
	}
	name, err := push.NameAt(reference.Reference{Kind: reference.Store, Name: "joined"}, j.to)
	if err != nil {
		return "", err
	}
	if len(extra) > 0 && j.to.Kind != reference.Registry {
		return "", flow.Usagef("--tag is for a destination in a registry")
	}
	j.names, j.goes.Prefixes = append([]string{name}, extra...), nil
	return "", nil
}

// requirePlatforms refuses tags for an index that would lack platforms which the recipe requires.
func (j *run) requirePlatforms() error {
	if len(j.names) == 0 || j.o.FewerPlatforms || j.o.Extend {
		return nil
	}
	for _, wanted := range j.goes.Requires {
		if !slices.ContainsFunc(j.ready, func(i receipt.Image) bool {
			return slices.ContainsFunc(i.Platforms, func(p receipt.Platform) bool { return p.Platform == wanted })
		}) {
			return flow.Refusedf("no receipt tells of %s, which the tags of %s require; --fewer-platforms joins all the same", wanted, j.to)
		}
	}
	return nil
}

// await waits until there are receipts of so many runs.
func (j *run) await(ctx context.Context, place string, n int) error {
	ref, err := reference.Parse(place)
	if err != nil {
		return flow.WrongUse(err)
	}
	pause, look := 300*time.Millisecond, func() (map[string]*receipt.Receipt, error) { return receipts.InFolder(place) }
	switch {
	case ref.Kind == reference.Registry && ref.Tag != "":
		pause, look = 2*time.Second, func() (map[string]*receipt.Receipt, error) { return receipts.Tagged(ctx, j.places, ref) }
	case ref.Kind != reference.Layout:
		return flow.Usagef("--wait takes a folder (./DIR) or HOST/REPOSITORY:TAG, not %q", place)
	}
	deadline := time.Now().Add(j.o.Within)
	told := -1
	var found map[string]*receipt.Receipt
	var doubt error
	limited, cancel := context.WithDeadline(ctx, deadline)
	defer cancel()
	enough := func() (bool, error) {
		found, doubt = look()
		if len(found) < n && len(found) != told {
			told = len(found)
			j.sink.Send(event.Started{Task: event.Task{ID: "receipts", Unit: "join", Label: place}, Act: "waiting",
				Note: fmt.Sprintf("%d of %s are at %s; until %s", told, report.Count(n, "receipt"), place, deadline.UTC().Format("15:04:05 UTC"))})
		}
		var answer *registry.Error
		if errors.As(doubt, &answer) && answer.Denied() {
			return false, doubt
		}
		return j.take(place, found, n)
	}
	err = poll.Until(limited, pause, enough)
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		if is, err := enough(); is || err != nil { // what came in the last pause
			return err
		}
		err = fmt.Errorf("%s holds %d of %s after %s", place, len(found), report.Count(n, "receipt"), j.o.Within)
		if doubt != nil {
			err = fmt.Errorf("%w; %w", err, doubt)
		}
	}
	return err
}

// take takes what was waited for, once all of it is there. A run that failed, or one too many, ends the waiting at once.
func (j *run) take(place string, found map[string]*receipt.Receipt, n int) (enough bool, err error) {
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
