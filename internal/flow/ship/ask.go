package ship

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/flow/push"
	"imbricat/internal/ground/say"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/plan"
)

// answer is what would become of a tag, and why it would not be written.
type answer struct {
	report.AskedTag
	refused error // nil: it may be written
}

// DryRun asks all that is asked before any work, and tells what would become of each tag. The error is the first for which ship would
// stop; what else was found is told beside it.
func (r *Run) DryRun(ctx context.Context) (*report.Asked, error) {
	document := &report.Asked{Tags: []report.AskedTag{}}
	first := r.checkLock()
	if first != nil {
		document.Problems = append(document.Problems, first.Error())
	}
	note := func(a answer) error {
		if a.refused != nil {
			a.Outcome, a.Why = report.TagRefused, a.refused.Error()
			var moves *transfer.MoveError
			if errors.As(a.refused, &moves) {
				a.Why = moves.Why // the rest of what it says is told beside it
			}
			if first == nil {
				first = a.refused
			}
		}
		document.Tags = append(document.Tags, a.AskedTag)
		return nil
	}
	err := r.ask(ctx, note)
	if err == nil && r.o.Leaves("push") {
		err = flow.Usagef("--dry-run shows what would be pushed, and --without push pushes nothing: leave one of them out")
	}
	if err != nil {
		return nil, err
	}
	return document, first
}

// askAll asks before any work, and stops at the first tag that may not be written.
func (r *Run) askAll(ctx context.Context) error {
	return r.ask(ctx, func(a answer) error { return a.refused })
}

// ask asks for the right to push, and whether the tags may be written: what is known already to be refused in the end is a fixed tag on
// another commit, a moving one on a later, and tags that name a commit for other files.
func (r *Run) ask(ctx context.Context, tell func(answer) error) error {
	differing, done, err := r.differing(ctx)
	if err != nil {
		return err
	}
	defer done()
	rights := map[string]error{}
	for _, i := range r.w.Plan.Images {
		for _, d := range i.Destinations {
			if len(d.Tags)+len(d.Held) == 0 && !r.o.ByDigest {
				continue
			}
			a := &asking{Run: r, image: i, to: d, tell: tell, repository: r.w.Places.Client.Repository(d.Repository.Host, d.Repository.Repository)}
			name := d.Repository.String()
			if _, asked := rights[name]; !asked && (len(d.Tags) > 0 || r.o.ByDigest) {
				rights[name] = a.repository.MayPush(ctx)
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if err := rights[name]; err != nil {
				a.closed = fmt.Errorf("%s cannot be pushed to: %w", name, err)
			}
			if err := a.destination(ctx, differing); err != nil {
				return err
			}
		}
	}
	return nil
}

// asking asks for one destination of an image.
type asking struct {
	*Run
	image      *plan.Image
	to         plan.Destination
	repository *registry.Repository
	closed     error // nil: it may be pushed to
	tell       func(answer) error
}

func (a *asking) answer(tag string) answer {
	return answer{AskedTag: report.AskedTag{Image: a.image.Name, Destination: a.to.Name, Repository: a.to.Repository.String(), Platform: a.to.Single(), Tag: tag}}
}

func (a *asking) destination(ctx context.Context, differing func(*plan.Image) (string, error)) error {
	if a.o.ByDigest {
		one := a.answer("")
		one.Outcome, one.refused = report.TagNone, a.closed
		return a.tell(one)
	}
	shipment := &push.Shipment{Image: a.image.Name, To: a.to}
	if a.closed == nil {
		if err := push.HoldBackPrefixes(ctx, a.w.Places.Client, []*push.Shipment{shipment}, a.o.Moves); err != nil {
			return err
		}
	}
	refused := a.closed
	if refused == nil {
		refused = push.RequirePlatforms(a.image.Name, a.to, a.o.Options, push.BuiltFor(a.image))
	}
	files, err := differing(a.image)
	if err != nil {
		return err
	}
	for _, tag := range shipment.To.Tags {
		one := a.answer(tag)
		if one.refused = refused; refused == nil && files != "" {
			only := shipment.To
			only.Tags = []string{tag}
			one.refused = push.RefuseDirty(a.image.Name, only, a.o.Options, files)
		}
		if one.refused == nil {
			if err := a.tag(ctx, shipment, &one); err != nil {
				return err
			}
		}
		if err := a.tell(one); err != nil {
			return err
		}
	}
	held := shipment.Held
	for _, h := range a.to.Held {
		held = append(held, push.HeldByCondition(h))
	}
	for _, h := range held {
		one := a.answer(h.Tag)
		one.Outcome, one.Why = report.TagHeld, h.Why
		if err := a.tell(one); err != nil {
			return err
		}
	}
	return nil
}

// tag asks what a tag stands on, and whether it may move from there.
func (a *asking) tag(ctx context.Context, shipment *push.Shipment, one *answer) error {
	git, own := a.w.Facts.Git, map[string]string{}
	if _, overridden := a.image.Units[0].Values.Annotations[v1.AnnotationRevision]; git.Known() && !overridden {
		var err error
		if own[v1.AnnotationRevision], err = a.w.Revision(ctx, a.image); err != nil {
			return err
		}
	}
	guard := shipment.Guard(a.o.Moves, func(_ context.Context, stands registry.Document) (string, error) {
		return push.Older(git, own, stands), nil
	})
	stands, err := a.repository.Tagged(ctx, one.Tag, image.Accepted)
	var reply *registry.Error
	if errors.As(err, &reply) && reply.NotFound() || errors.Is(err, fs.ErrNotExist) {
		one.Outcome = report.TagNew
		return nil
	}
	if err != nil {
		return err
	}
	one.Now = stands.Descriptor.Digest
	refusal := &transfer.MoveError{Place: a.repository.String() + ":" + one.Tag, Stands: one.Now, Wanted: "what would be built"}
	refuse := func(why string) error {
		refusal.Why, one.refused = why, refusal
		return nil
	}
	if guard.Fixed(one.Tag) {
		one.Outcome, one.Why = report.TagStands, "it is fixed: what is built must be the same"
		if there := push.RevisionOf(stands); there != "" && own[v1.AnnotationRevision] != "" && there != own[v1.AnnotationRevision] && there != git.Commit {
			return refuse(fmt.Sprintf("the tag is fixed and was built from the commit %s; give what is new a new tag", there))
		}
		return nil
	}
	one.Outcome = report.TagMoves
	if guard.Older != nil {
		why, err := guard.Older(ctx, one.Tag, stands)
		if err != nil {
			return err
		}
		if why != "" {
			return refuse(why + "; --force moves it all the same")
		}
	}
	if guard.KeepPlatforms && a.to.Whole() {
		if why := transfer.Loses(stands, push.BuiltFor(a.image)); why != "" {
			return refuse(why)
		}
	}
	return nil
}

// differing returns what tells which files of an image differ from the commit, in words; "" where none does.
func (r *Run) differing(ctx context.Context) (func(*plan.Image) (string, error), func(), error) {
	if r.o.ByDigest {
		return func(*plan.Image) (string, error) { return "", nil }, func() {}, nil
	}
	o, done, err := r.w.Engine(ctx, r.sink)
	if err != nil {
		return nil, nil, err
	}
	return func(i *plan.Image) (string, error) {
		changed, err := engine.Dirty(ctx, o.Inputs, i)
		if len(changed) == 0 || err != nil {
			return "", err
		}
		return fmt.Sprintf("it is made from %s that %s from the commit (%s)", report.Count(len(changed), "file"), plural(len(changed), "differs", "differ"), say.Some(changed)), nil
	}, done, nil
}
