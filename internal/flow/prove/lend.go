package prove

import (
	"context"
	"fmt"
	"os"

	"imbricat/internal/engine/baseimage"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
)

// What images are made from is no matter of proof: bases and downloads are taken over, by their digests.

// engineBases finds images.
type engineBases = baseimage.Finder

// lentBases finds images as another finder does, and brings them out of its store.
type lentBases struct {
	engineBases
	from, to *transfer.Places
}

// Resolve implements baseimage.Finder.
func (l *lentBases) Resolve(ctx context.Context, ref reference.Reference, p platform.Platform) (*baseimage.Found, error) {
	found, err := l.engineBases.Resolve(ctx, ref, p)
	if err != nil {
		return nil, err
	}
	own := *found
	own.Source = &lentSource{found.Source, l, found.Descriptor}
	return &own, nil
}

// lentSource is an image in another store.
type lentSource struct {
	baseimage.Source
	lent *lentBases
	desc digest.Descriptor
}

// IsLocal implements baseimage.Source.
func (s *lentSource) IsLocal(ctx context.Context) bool {
	place, err := s.lent.to.Source(inStore(s.desc))
	if err != nil {
		return false
	}
	defer place.Close()
	missing, err := transfer.Missing(ctx, place, s.desc)
	return err == nil && missing == 0
}

// FetchAll implements baseimage.Source.
func (s *lentSource) FetchAll(ctx context.Context) error {
	if s.IsLocal(ctx) {
		return nil
	}
	if err := s.Source.FetchAll(ctx); err != nil {
		return err
	}
	return move(ctx, s.desc, s.lent.from, s.lent.to)
}

// FetchMetadata implements baseimage.Source.
func (s *lentSource) FetchMetadata(context.Context) (bool, error) { return false, nil }

func inStore(desc digest.Descriptor) reference.Reference {
	return reference.Reference{Kind: reference.Store, Digest: desc.Digest}
}

// move copies an image from one store into another.
func move(ctx context.Context, desc digest.Descriptor, from, to *transfer.Places) error {
	source, err := from.Source(inStore(desc))
	if err != nil {
		return err
	}
	defer source.Close()
	place, err := to.Source(inStore(desc))
	if err != nil {
		return err
	}
	defer place.Close()
	if _, err := transfer.Copy(ctx, source, place, transfer.Options{Root: desc, Sink: event.Discard}); err != nil {
		return fmt.Errorf("taking %s over: %w", desc.Digest, err)
	}
	return nil
}

// lendDownloads copies what steps download, which is named by its digest.
func lendDownloads(ctx context.Context, p *plan.Plan, from, to *transfer.Places) error {
	for _, u := range p.Units {
		for i := range u.Steps {
			for _, d := range u.Steps[i].Do.Downloads() {
				name := digest.Digest("sha256:" + d.SHA256)
				path, err := from.Store.BlobPath(name)
				if err != nil {
					return err
				}
				info, err := os.Stat(path)
				if err != nil {
					continue // it is downloaded
				}
				desc := digest.Descriptor{Digest: name, Size: info.Size()}
				blob, err := from.Store.Fetch(ctx, desc)
				if err != nil {
					return err
				}
				err = to.Store.Put(ctx, desc, blob)
				blob.Close()
				if err != nil {
					return fmt.Errorf("taking %s over: %w", name, err)
				}
			}
		}
	}
	return nil
}

// Resolve implements baseimage.Finder, and tells whether a base was to be had.
func (n *noted) Resolve(ctx context.Context, ref reference.Reference, p platform.Platform) (*baseimage.Found, error) {
	found, err := n.engineBases.Resolve(ctx, ref, p)
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if name := ref.String(); !n.told[name] {
		n.told[name] = true
		need := report.Need{Name: "base", What: name, Had: err == nil}
		if err != nil {
			need.What += ": " + err.Error()
		} else {
			need.What += " " + string(found.Root.Digest)
		}
		n.out.Needs = append(n.out.Needs, need)
	}
	return found, err
}
