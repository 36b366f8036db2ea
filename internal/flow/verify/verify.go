// Package verify holds images that were published against what is said of them: by their own documents, and by receipts. It changes nothing.
package verify

import (
	"context"
	"fmt"
	"slices"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
)

// verifier holds images against what is said of them.
type verifier struct {
	places   *transfer.Places
	contents bool
	sink     event.Sink
	document *report.Verification
}

// Published holds images against what receipts, files or artifacts in a registry, and their own documents say. contents has every blob read.
func Published(ctx context.Context, places *transfer.Places, subjects []string, contents bool, sink event.Sink) (*report.Verification, error) {
	v := &verifier{places, contents, sink, &report.Verification{Subjects: []report.Verified{}}}
	for _, subject := range subjects {
		if err := v.argument(ctx, subject); err != nil {
			return nil, err
		}
	}
	return v.document, nil
}

func (v *verifier) argument(ctx context.Context, arg string) error {
	if receipts.IsFile(arg) {
		r, err := receipts.Read(arg)
		if err != nil {
			return err
		}
		return v.receipt(ctx, arg, r)
	}
	ref, err := reference.Parse(arg)
	if err != nil {
		return flow.WrongUse(err)
	}
	if ref.Kind == reference.Registry && ref.Identifier() == "" {
		return flow.Usagef("%s needs a tag or a digest: none is assumed", ref)
	}
	_, err = v.image(ctx, ref, arg)
	return err
}

// receipt holds every image of a receipt against where it went, or against the store where it went nowhere.
func (v *verifier) receipt(ctx context.Context, name string, r *receipt.Receipt) error {
	if err := r.Finished(); err != nil && r.Outcome != receipt.Nothing {
		v.document.Subjects = append(v.document.Subjects, report.Verified{Subject: name, Findings: []string{err.Error()}})
	}
	for _, i := range r.Images {
		if len(i.Destinations) == 0 {
			if err := v.known(ctx, i, reference.Reference{Kind: reference.Store, Digest: i.Digest}, i.Name+" in the store", nil); err != nil {
				return err
			}
		}
		for _, d := range i.Destinations {
			if err := v.destination(ctx, i, d); err != nil {
				return err
			}
		}
	}
	return nil
}

func (v *verifier) destination(ctx context.Context, i receipt.Image, d receipt.Destination) error {
	if d.Reference == "" {
		v.document.Subjects = append(v.document.Subjects, report.Verified{Subject: i.Name + " at " + d.Repository, Findings: []string{"by the receipt it did not get there whole"}})
		return nil
	}
	ref, err := reference.Parse(d.Reference)
	if err != nil {
		return flow.WrongUse(err)
	}
	if d.Platform != "" {
		i.Platforms = slices.DeleteFunc(slices.Clone(i.Platforms), func(p receipt.Platform) bool { return p.Platform != d.Platform })
		i.Digest = i.At(d)
	}
	return v.known(ctx, i, ref, d.Reference, d.Tags)
}

// known verifies an image whose platforms and tags a receipt tells.
func (v *verifier) known(ctx context.Context, i receipt.Image, ref reference.Reference, subject string, tags []string) error {
	found, err := v.image(ctx, ref, subject)
	if err != nil || found == nil {
		return err
	}
	add := func(format string, values ...any) {
		found.Findings = append(found.Findings, fmt.Sprintf(format, values...))
	}
	for _, p := range i.Platforms {
		if there, offered := found.Platforms[p.Platform]; !offered {
			add("%s is not among its platforms", p.Platform)
		} else if there != p.Digest {
			add("%s is %s, and was %s", p.Platform, there, p.Digest)
		}
	}
	for _, tag := range tags {
		now, err := StandsOn(ctx, v.places.Client, ref, tag)
		if err != nil {
			return err
		}
		if now != i.Digest {
			add("%s", tagState(tag, now))
		}
	}
	return nil
}

func tagState(tag string, now digest.Digest) string {
	if now == "" {
		return "the tag " + tag + " is gone"
	}
	return fmt.Sprintf("the tag %s stands on %s now", tag, now)
}

// image verifies what a reference stands for. The result may still be added to; without one the image is not there.
func (v *verifier) image(ctx context.Context, ref reference.Reference, subject string) (*report.Verified, error) {
	v.document.Subjects = append(v.document.Subjects, report.Verified{Subject: subject, Findings: []string{}})
	found := &v.document.Subjects[len(v.document.Subjects)-1]
	place, err := v.places.Source(ref)
	if err != nil {
		return nil, err
	}
	defer place.Close()
	root, err := place.Root(ctx)
	if transfer.NotThere(err) {
		found.Findings = append(found.Findings, "it is not there")
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if r, err := receipts.At(ctx, place, root); r != nil || err != nil {
		if err == nil {
			v.document.Subjects = v.document.Subjects[:len(v.document.Subjects)-1]
			err = v.receipt(ctx, subject, r)
		}
		return nil, err
	}
	all, err := transfer.Verify(ctx, place, root, v.contents, v.sink)
	if err != nil {
		return nil, err
	}
	slices.Sort(all.Findings)
	found.Digest, found.Documents, found.Blobs, found.Bytes, found.Read = root.Digest, all.Documents, all.Blobs, all.Bytes, v.contents
	if found.Findings = append(found.Findings, all.Findings...); len(found.Findings) > 0 {
		return nil, nil // what it offers cannot be relied on
	}
	if found.Platforms, err = image.PlatformDigests(ctx, place, root); err != nil {
		return nil, err
	}
	return found, nil
}

// StandsOn asks what a tag of a repository stands on; "" where it is not there.
func StandsOn(ctx context.Context, client *registry.Client, repository reference.Reference, tag string) (digest.Digest, error) {
	d, there, err := client.Repository(repository.Host, repository.Repository).HasManifest(ctx, tag, image.Accepted)
	if err != nil || !there {
		return "", err
	}
	return d, nil
}
