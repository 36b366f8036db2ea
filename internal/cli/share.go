package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/layout"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/share"
)

func shareFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "share", Usage: "`REFERENCE` of the shared cache: HOST/REPOSITORY, or a folder ./DIR; none turns it off. Who may write there is believed, unless trust: of your settings names whose entries are", Sources: env("SHARE")},
		choiceFlag("share-mode", "", "`WAY` things go there: read, write or both (default: both)", "SHARE_MODE", "", "read", "write", "both"),
	}
}

// shared opens the shared cache that the command line, the recipe or the user's configuration names, in this order; nil
// where none does.
func (s *session) shared(p *planned, st *store.Store, sink event.Sink) (*share.Cache, error) {
	personal, err := readConfig()
	if err != nil {
		return nil, err
	}
	place, mode := s.cmd.String("share"), s.cmd.String("share-mode")
	switch {
	case place != "":
	case p.plan.Share != "":
		place, mode = p.plan.Share, cmp.Or(mode, p.plan.Mode)
	case personal.Cache.Share != "":
		place, mode = personal.Cache.Share, cmp.Or(mode, personal.Cache.Mode)
	}
	if place == "" || place == "none" {
		return nil, nil
	}
	ref, err := reference.Parse(place)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	var backend share.Backend
	switch {
	case ref.Kind == reference.Registry && ref.Digest == "":
		client, err := s.client()
		if err != nil {
			return nil, err
		}
		backend = share.InRegistry(client.Repository(ref.Host, ref.Repository), ref.Tag)
	case ref.Kind == reference.Layout && ref.Member == "":
		dir := ref.Path
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(s.cmd.String("dir"), dir)
		}
		if backend, err = share.InFolder(dir); err != nil {
			return nil, err
		}
	default:
		return nil, flow.Usagef("--share takes a repository (HOST/REPOSITORY) or a folder (./DIR), not %q", place)
	}
	signer, err := personal.signer()
	if err != nil {
		return nil, err
	}
	return share.New(backend, st, share.Mode(cmp.Or(mode, "both")), share.DefaultPatience, func(err error) {
		sink.Send(event.Warning{Code: event.SharedCache, Text: err.Error()})
	}).Believe(personal.trust[backend.Place()], signer), nil
}

// shareIn has a build use the shared cache, where one is named.
func (s *session) shareIn(p *planned, st *store.Store, o *engine.Options) (*share.Cache, error) {
	cache, err := s.shared(p, st, event.Quiet(o.Sink, p.recipe.Silence))
	if err != nil {
		return nil, err
	}
	if cache != nil {
		o.Shared = cache
	}
	st.Bring = s.bringer(st, cache)
	return cache, nil
}

// bringer gets blobs that are elsewhere: from the shared cache in use, from a folder, or from a registry.
func (s *session) bringer(st *store.Store, cache *share.Cache) func(ctx context.Context, desc digest.Descriptor, place string) error {
	return func(ctx context.Context, desc digest.Descriptor, place string) (err error) {
		defer func() {
			var answer *registry.Error
			if errors.As(err, &answer) && answer.NotFound() || errors.Is(err, layout.ErrNotFound) || errors.Is(err, fs.ErrNotExist) {
				err = fmt.Errorf("%s: %w (%w)", place, store.ErrNotThere, err)
			}
		}()
		if cache != nil && place == cache.Place() {
			return cache.Bring(ctx, desc)
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
			client, err := s.client()
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

// publish shares what a build finished. That it cannot is no failure of the build.
func publish(ctx context.Context, p *planned, cache *share.Cache, result *engine.Result, sink event.Sink) {
	if cache == nil || result == nil || !cache.Writes() || ctx.Err() != nil {
		return
	}
	finished := share.Finished{Runs: result.Runs, Layers: result.Layers, Bases: result.Bases}
	var bytes int64
	for _, record := range result.Layers {
		bytes += record.Layer.Size
	}
	for _, i := range p.plan.Images {
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
