package cli

import (
	"cmp"
	"path/filepath"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/settings"
	"imbricat/internal/flow/sharing"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/share"
)

func shareFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "share", Usage: "`REFERENCE` of the shared cache: HOST/REPOSITORY, or a folder ./DIR; none turns it off. Who may write there is believed, unless trust: of your settings names whose entries are", Sources: env("SHARE")},
		choiceFlag("share-mode", "", "`WAY` things go there: read, write or both (default: both)", "SHARE_MODE", "", "read", "write", "both"),
	}
}

// shared opens the shared cache that the command line, the recipe or the user's configuration names, in this order; nil
// where none does. The store gets content from it, then.
func (s *session) shared(p *workspace.Planned, st *store.Store, sink event.Sink) (*share.Cache, error) {
	personal, err := settings.Read()
	if err != nil {
		return nil, err
	}
	place, mode := s.cmd.String("share"), s.cmd.String("share-mode")
	switch {
	case place != "":
	case p.Plan.Share != "":
		place, mode = p.Plan.Share, cmp.Or(mode, p.Plan.Direction)
	case personal.Cache.Share != "":
		place, mode = personal.Cache.Share, cmp.Or(mode, personal.Cache.Direction)
	}
	if place == "" || place == "none" {
		return nil, nil
	}
	backend, err := s.sharedAt(place)
	if err != nil {
		return nil, err
	}
	signer, err := personal.Signer()
	if err != nil {
		return nil, err
	}
	told := event.Quiet(sink, p.Recipe.Silence)
	cache := share.New(backend, st, share.Mode(cmp.Or(mode, "both")), share.DefaultPatience, func(err error) {
		told.Send(event.Warning{Code: event.SharedCache, Text: err.Error()})
	}).Believe(personal.Believed[backend.Place()], signer)
	st.FetchElsewhere = sharing.Fetcher(st, cache, s.client)
	return cache, nil
}

// sharedAt is where a shared cache lies.
func (s *session) sharedAt(place string) (share.Backend, error) {
	ref, err := reference.Parse(place)
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	switch {
	case ref.Kind == reference.Registry && ref.Digest == "":
		client, err := s.client()
		if err != nil {
			return nil, err
		}
		return share.InRegistry(client.Repository(ref.Host, ref.Repository), ref.Tag), nil
	case ref.Kind == reference.Layout && ref.Member == "":
		dir := ref.Path
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(s.folder().Dir, dir)
		}
		return share.InFolder(dir)
	}
	return nil, flow.Usagef("--share takes a repository (HOST/REPOSITORY) or a folder (./DIR), not %q", place)
}
