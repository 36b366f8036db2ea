package engine

import (
	"context"
	"errors"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/compose"
	"imbricat/internal/ground/event"
)

// Run builds every image of the plan. Everything that can be found wrong without work is found first, and then there is no
// result. Of a build that fails later the result holds what was done.
func Run(ctx context.Context, o Options) (*Result, error) {
	result, err := run(ctx, o)
	var away *store.AwayError
	for range mostRetries {
		switch {
		case ctx.Err() != nil:
			return result, err
		case errors.As(err, &away) && len(away.Places) > 0:
			// What a shared cache had is not to be had any more: it is made here.
			o.Sink.Send(event.Warning{Code: event.SharedCache, Text: away.Error() + "; what needs it is built here"})
			o.Store.ForgetPlaces(away.Places)
			o.Shared = nil
		case errors.Is(err, compose.ErrForgotten):
			o.Sink.Send(event.Warning{Code: event.Damaged, Text: err.Error() + "; it is read again"})
		default:
			return result, err
		}
		result, err = run(ctx, o)
	}
	return result, err
}

// mostRetries bounds how often a build begins again without what turned out to be of no use.
const mostRetries = 3

func run(ctx context.Context, o Options) (*Result, error) {
	started := time.Now()
	w := newWork(ctx, o, false)
	defer w.close()
	if err := w.prepare(ctx); err != nil {
		return nil, err
	}
	for _, u := range o.Plan.Units {
		w.unit(u)
	}
	var images []*imageNode
	for _, img := range o.Plan.Images {
		images = append(images, w.image(img))
	}
	w.setAside()
	err := w.late(w.graph.Run(ctx))
	if err == nil && o.Take != nil {
		err = w.late(w.take(ctx, o.Take))
	}
	result := &Result{Steps: results(w), Checked: w.checked()}
	for _, i := range images {
		if i.result.Descriptor.Digest != "" {
			result.Images = append(result.Images, i.result)
		}
	}
	if err == nil {
		noteParts(w)
	}
	if err == nil && o.Done != nil {
		err = o.Done(ctx, result, w.done())
	}
	var away *store.AwayError
	if (o.Gather || o.Shared != nil && o.Shared.Writes()) && ctx.Err() == nil && !errors.As(err, &away) {
		gather(ctx, w, result)
	}
	w.tools.Project.Save()
	// What could not be synced is only looked at once more, when the machine has started again.
	_ = o.Store.SyncSnapshots()
	for _, text := range o.Store.Spoilt() {
		o.Sink.Send(event.Warning{Code: event.Damaged, Text: text})
	}
	result.Took = time.Since(started)
	return result, err
}
