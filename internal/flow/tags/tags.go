// Package tags deletes tags of a repository, those named or those that a rule does not keep, and what nothing reaches any more. A tag that is
// kept never loses its image unless that is forced.
package tags

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"imbricat/internal/content/image"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/retention"
)

// Deleted tells what was deleted, or would be.
type Deleted struct {
	Repository string           `json:"repository"`
	DryRun     bool             `json:"dryRun"`
	Kept       []report.Verdict `json:"kept"`
	Deleted    []report.Verdict `json:"deleted"`
	Digests    []digest.Digest  `json:"digests"` // nothing reaches them any more
}

// Look lists the tags of a repository, with what is known of their age.
func Look(ctx context.Context, r *registry.Repository) (*transfer.Inventory, error) {
	inventory, err := transfer.Look(ctx, r)
	if err != nil {
		return nil, err
	}
	for i := range inventory.Tags {
		inventory.Tags[i].Created = image.KnownTime(inventory.Tags[i].Created)
	}
	return inventory, nil
}

// Delete deletes tags and digests.
func Delete(ctx context.Context, r *registry.Repository, inventory *transfer.Inventory, names []string, force bool) (*Deleted, error) {
	var doomed []digest.Digest
	verdicts := make([]retention.Verdict, len(inventory.Tags))
	for i, t := range inventory.Tags {
		verdicts[i] = retention.Verdict{Tag: retention.Tag{Name: t.Name, Digest: t.Digest}, Keep: true}
	}
	for _, arg := range names {
		if d, err := digest.Parse(arg); err == nil {
			doomed = append(doomed, d)
			continue
		}
		i := slices.IndexFunc(verdicts, func(v retention.Verdict) bool { return v.Name == arg })
		if i < 0 {
			return nil, fmt.Errorf("%s has no tag %q; `imbricat tags %s` lists them", r, arg, r)
		}
		verdicts[i].Keep, verdicts[i].Reason = false, "asked for"
	}
	for _, d := range doomed {
		if by := reachedBy(verdicts, inventory, d); by != "" && !force {
			return nil, flow.Refusedf("%s@%s is still reached by the tag %s; --force deletes it all the same", r, d, by)
		}
	}
	document := &Deleted{Repository: r.String(), Kept: []report.Verdict{}, Deleted: []report.Verdict{}, Digests: []digest.Digest{}}
	w := &sweeper{repository: r, document: document}
	if err := w.tags(ctx, verdicts, inventory, force); err != nil {
		return nil, err
	}
	for _, d := range doomed {
		if err := w.digest(ctx, d); err != nil {
			return nil, err
		}
	}
	return document, nil
}

// Keep deletes what a rule does not keep, or only tells what that is.
func Keep(ctx context.Context, r *registry.Repository, inventory *transfer.Inventory, rule retention.Rule, dryRun bool) (*Deleted, error) {
	verdicts := judge(inventory, rule, time.Now())
	document := &Deleted{Repository: r.String(), DryRun: dryRun, Kept: []report.Verdict{}, Deleted: []report.Verdict{}, Digests: []digest.Digest{}}
	w := &sweeper{repository: r, document: document}
	doomed := retention.Doomed(verdicts, inventory.Below)
	err := w.tags(ctx, verdicts, inventory, false)
	for _, d := range doomed {
		if err == nil {
			err = w.digest(ctx, d)
		}
	}
	return document, err
}

// reachedBy returns a tag that is kept from which a digest is reached; "" where there is none.
func reachedBy(verdicts []retention.Verdict, inventory *transfer.Inventory, d digest.Digest) string {
	for _, v := range verdicts {
		if v.Keep && slices.Contains(retention.Doomed([]retention.Verdict{{Tag: v.Tag}}, inventory.Below), d) {
			return v.Name
		}
	}
	return ""
}

// sweeper deletes in one repository.
type sweeper struct {
	repository *registry.Repository
	document   *Deleted
	only       bool // digests: the registry deletes no tags
}

// tags deletes the tags that are not kept. A registry that deletes no tags loses the digest instead, if nothing else stands
// on it, or by force.
func (w *sweeper) tags(ctx context.Context, verdicts []retention.Verdict, inventory *transfer.Inventory, force bool) error {
	for _, v := range verdicts {
		line := report.Verdict{Tag: v.Name, Digest: v.Digest, Reason: v.Reason}
		if v.Keep {
			w.document.Kept = append(w.document.Kept, line)
			continue
		}
		if !w.document.DryRun {
			err := w.tag(ctx, v, verdicts, inventory, force)
			if err != nil {
				return err
			}
		}
		w.document.Deleted = append(w.document.Deleted, line)
	}
	return nil
}

func (w *sweeper) tag(ctx context.Context, v retention.Verdict, verdicts []retention.Verdict, inventory *transfer.Inventory, force bool) error {
	var err error
	var answer *registry.Error
	if !w.only {
		err = w.repository.Delete(ctx, v.Name)
		if errors.As(err, &answer) && answer.NotFound() {
			return nil // somebody else did
		}
		w.only = errors.As(err, &answer) && answer.Unsupported()
	}
	if !w.only {
		return err
	}
	if by := reachedBy(verdicts, inventory, v.Digest); by != "" && !force {
		return flow.Refusedf("%s deletes no tags, only digests, and %s stands on the same digest as %s, %s; --force deletes both", w.repository.Host(), by, v.Name, v.Digest)
	}
	return w.digest(ctx, v.Digest)
}

func (w *sweeper) digest(ctx context.Context, d digest.Digest) error {
	if slices.Contains(w.document.Digests, d) {
		return nil
	}
	w.document.Digests = append(w.document.Digests, d)
	if w.document.DryRun {
		return nil
	}
	err := w.repository.Delete(ctx, string(d))
	var answer *registry.Error
	if errors.As(err, &answer) && answer.NotFound() {
		return nil
	}
	return err
}

// judge decides on all tags. A tag that only lists what refers to an image shares that image's fate.
func judge(inventory *transfer.Inventory, rule retention.Rule, now time.Time) []retention.Verdict {
	var tags []retention.Tag
	var lists []retention.Verdict
	rule.InUse = inUse(inventory, rule.InUse)
	for _, t := range inventory.Tags {
		at := t.Pushed
		if at.IsZero() && !rule.ByPush {
			at = t.Created
		}
		one := retention.Tag{Name: t.Name, Digest: t.Digest, Time: at}
		if subject := transfer.SubjectOf(t.Name); subject != "" {
			lists = append(lists, retention.Verdict{Tag: one, Keep: true, Reason: "it lists what refers to " + digest.Short(subject)})
			continue
		}
		tags = append(tags, one)
	}
	slices.SortFunc(tags, func(a, b retention.Tag) int { return retention.Compare(a.Name, b.Name) })
	verdicts := retention.Decide(tags, rule, now)
	doomed := retention.Doomed(verdicts, inventory.Below)
	for i := range lists {
		if slices.Contains(doomed, transfer.SubjectOf(lists[i].Name)) {
			lists[i].Keep, lists[i].Reason = false, "the image that it belongs to goes"
		}
	}
	return append(verdicts, lists...)
}
