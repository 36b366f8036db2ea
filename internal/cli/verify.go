package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/transfer"
)

func verifyCommand() *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "checks that images are where receipts say, whole and as their digests say", ArgsUsage: "RECEIPT|REFERENCE…",
		Description: "A receipt (a file that ends in .json) is held against the registry: every image that it tells of must be there by its\n" +
			"digest, with the platforms it names, and its tags must stand on it. Of a reference all that it lists must be there.\n" +
			"Documents are read and compared with their digests; with --contents layers are, too. Exit code 3 tells that something\n" +
			"differs.\n\nExample: imbricat verify ../receipt.json --contents",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "contents", Usage: "read every layer and compare it with its digest, in place of asking whether it is there"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runVerify(ctx, newSession(c)) },
	}
}

// verifier holds images against what is said of them.
type verifier struct {
	*session
	opener   *transfer.Places
	view     event.Sink
	document *report.Verification
}

func runVerify(ctx context.Context, s *session) error {
	args, err := s.args(1, -1, "receipts (files that end in .json) and references of images")
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	view := s.view(ctx)
	v := &verifier{session: s, view: view, document: &report.Verification{Subjects: []report.Verified{}}}
	if v.opener, err = s.places(st); err != nil {
		return err
	}
	for _, arg := range args {
		if err = v.argument(ctx, arg); err != nil {
			break
		}
	}
	view.Close("")
	if err != nil {
		return err
	}
	if err := s.result(v.document, func() error { return report.WriteVerification(s.out, s.paint, v.document) }); err != nil {
		return err
	}
	if n := v.document.Findings(); n > 0 {
		return flow.Differsf("%s found; nothing was changed", report.Count(n, "thing"))
	}
	return nil
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
		now, err := v.standsOn(ctx, ref, tag)
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

// standsOn asks what a tag of a repository stands on; "" where it is not there.
func (s *session) standsOn(ctx context.Context, repository reference.Reference, tag string) (digest.Digest, error) {
	client, err := s.client()
	if err != nil {
		return "", err
	}
	d, there, err := client.Repository(repository.Host, repository.Repository).HasManifest(ctx, tag, image.Accepted)
	if err != nil || !there {
		return "", err
	}
	return d, nil
}

// image verifies what a reference stands for. The result may still be added to; without one the image is not there.
func (v *verifier) image(ctx context.Context, ref reference.Reference, subject string) (*report.Verified, error) {
	v.document.Subjects = append(v.document.Subjects, report.Verified{Subject: subject, Findings: []string{}})
	found := &v.document.Subjects[len(v.document.Subjects)-1]
	place, err := v.opener.Source(ref)
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
	all, err := transfer.Verify(ctx, place, root, v.cmd.Bool("contents"), v.view)
	if err != nil {
		return nil, err
	}
	slices.Sort(all.Findings)
	found.Digest, found.Documents, found.Blobs, found.Bytes, found.Read = root.Digest, all.Documents, all.Blobs, all.Bytes, v.cmd.Bool("contents")
	if found.Findings = append(found.Findings, all.Findings...); len(found.Findings) > 0 {
		return nil, nil // what it offers cannot be relied on
	}
	if found.Platforms, err = image.PlatformDigests(ctx, place, root); err != nil {
		return nil, err
	}
	return found, nil
}
