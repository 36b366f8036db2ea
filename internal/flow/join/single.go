package join

import (
	"context"
	"fmt"
	"time"

	"imbricat/internal/flow"
	"imbricat/internal/flow/push"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
)

// single is what goes to the destination beside the index: the image for one platform, with tags of its own.
type single struct {
	shipment *push.Shipment
	from     transfer.Place
	under    *transfer.Transfer
	wanted   []string
}

// singlesOf takes from an image's receipt what it says of tags for one platform, at the destination that is joined.
func (j *run) singlesOf(name string, i receipt.Image, goes *receipt.Destination) error {
	for _, d := range i.Destinations {
		if d.Platform == "" || len(d.Wanted) == 0 || d.Reference == "" || goes == nil || d.Name != goes.Name {
			continue
		}
		p, err := platform.Parse(d.Platform)
		if err != nil {
			return flow.Usagef("%s: %w", name, err)
		}
		ref, err := reference.Parse(d.Reference)
		if err != nil {
			return flow.Usagef("%s: %w", name, err)
		}
		from, err := j.places.Source(ref)
		if err != nil {
			return err
		}
		j.singles = append(j.singles, &single{from: from, wanted: d.Wanted, shipment: &push.Shipment{Image: i.Name,
			To: plan.Destination{Name: d.Name, Repository: j.to, Tags: d.Wanted, Prefixes: d.Prefixes, Fixed: d.Fixed, Platform: p}}})
	}
	return nil
}

// beginSingles brings the content of tags for one platform, and asks whether they may be written. A join that is told its tags writes
// those alone.
func (j *run) beginSingles(ctx context.Context, to transfer.Place) error {
	if j.to.Kind != reference.Registry || j.to.Identifier() != "" {
		j.closeSingles()
	}
	for _, s := range j.singles {
		one := s.shipment
		one.Began = time.Now()
		if err := push.HoldBackPrefixes(ctx, j.places.Client, []*push.Shipment{one}, j.o.Moves); err != nil {
			return err
		}
		guard := one.Guard(j.o.Moves, func(_ context.Context, stands registry.Document) (string, error) {
			return push.Older(nil, j.made(), stands), nil
		})
		var err error
		if s.under, err = transfer.Begin(ctx, s.from, to, transfer.Options{Names: one.To.Tags, Guard: guard, Sink: j.sink}); err != nil {
			return err
		}
		if err := s.under.Content(ctx); err != nil {
			return err
		}
	}
	return nil
}

// nameSingles writes the tags for one platform, when the index has its own, and records them.
func (j *run) nameSingles(ctx context.Context) error {
	made := &j.k.Receipt.Images[len(j.k.Receipt.Images)-1]
	repository := j.to.String()
	for _, s := range j.singles {
		one := s.shipment
		r, err := s.under.Name(ctx)
		if err != nil {
			return fmt.Errorf("the tags for %s: %w; those of the index were written before", one.To.Platform, err)
		}
		made.Destinations = append(made.Destinations, receipt.Destination{Name: one.To.Name, Repository: repository, Platform: one.To.Platform.String(),
			Reference: repository + "@" + string(r.Descriptor.Digest), Tags: r.Named, Wanted: s.wanted, Held: one.Held, Fixed: one.To.Fixed, Prefixes: one.To.Prefixes,
			Sent: r.Sent, SentBytes: r.SentBytes, Mounted: r.Mounted, MountedBytes: r.MountedBytes, Skipped: r.Skipped, SkippedBytes: r.SkippedBytes,
			Seconds: time.Since(one.Began).Seconds()})
	}
	return nil
}

func (j *run) closeSingles() {
	for _, s := range j.singles {
		s.from.Close()
	}
	j.singles = nil
}
