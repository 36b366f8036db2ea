// Package sharing moves content between the store and what is shared with others: it gets blobs from where they are, and sends what a
// build finished. That something cannot be shared fails no build.
package sharing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"imbricat/internal/content/layout"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/share"
	"imbricat/internal/spec/plan"
)

// Fetcher returns what gets blobs that are elsewhere: from the shared cache in use, from a folder, or from a registry.
func Fetcher(st *store.Store, cache *share.Cache, client func() (*registry.Client, error)) func(ctx context.Context, desc digest.Descriptor, place string) error {
	return func(ctx context.Context, desc digest.Descriptor, place string) (err error) {
		defer func() {
			var answer *registry.Error
			if errors.As(err, &answer) && answer.NotFound() || errors.Is(err, layout.ErrNotFound) || errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("%s: %w (%w)", place, store.ErrNotThere, err)
			}
		}()
		if cache != nil && place == cache.Place() {
			return cache.FetchBlob(ctx, desc)
		}
		var in io.ReadCloser
		if filepath.IsAbs(place) {
			folder, err := share.InFolder(place)
			if err == nil {
				in, err = folder.Fetch(ctx, desc)
			}
			if err != nil {
				return err
			}
		} else {
			host, name, _ := strings.Cut(place, "/")
			client, err := client()
			if err != nil {
				return err
			}
			if in, err = client.Repository(host, name).Blob(ctx, desc); err != nil {
				return err
			}
		}
		defer in.Close()
		return st.Put(ctx, desc, in)
	}
}

// Upload sends what a build finished to the shared cache. That it cannot is no failure of the build.
func Upload(ctx context.Context, p *plan.Plan, cache *share.Cache, result *engine.Result, sink event.Sink) {
	if cache == nil || result == nil || !cache.Writes() || ctx.Err() != nil {
		return
	}
	finished := share.Finished{Runs: result.Runs, Layers: result.Layers, Bases: result.Bases}
	var bytes int64
	for _, record := range result.Layers {
		bytes += record.Layer.Size
	}
	for _, i := range p.Images {
		for _, d := range i.Destinations {
			finished.Places = append(finished.Places, d.Repository.Host+"/"+d.Repository.Repository)
		}
	}
	// A cache that takes less than a megabyte a second costs more than it gives.
	limited, cancel := context.WithTimeout(ctx, 10*time.Second+time.Duration(bytes/1e6)*time.Second)
	defer cancel()
	task := event.Task{ID: "share", Unit: "shared cache", Label: cache.Place()}
	sink.Send(event.Started{Task: task, Act: "sending"})
	began, before := time.Now(), cache.Stats().Written
	err := cache.Publish(limited, finished)
	if err != nil {
		sink.Send(event.Warning{Code: event.SharedCache, Text: fmt.Sprintf("nothing new is in the shared cache %s: %s", cache.Place(), err)})
	}
	done := event.Finished{Task: task, Outcome: event.Sent, Took: time.Since(began)}
	switch sent := cache.Stats().Written - before; {
	case err != nil:
		done.Outcome, done.Reason = event.Skipped, event.Text("it could not be written to")
	case sent == 0:
		done.Outcome, done.Reason = event.Skipped, event.Text("nothing new to send")
	default:
		done.Detail = report.Size(sent)
	}
	sink.Send(done)
}
