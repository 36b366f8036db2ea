package cli

import (
	"context"
	"errors"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/reference"
	"imbricat/internal/report"
	"imbricat/internal/transfer"
)

func joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "makes one index of images built apart, for several platforms", ArgsUsage: "DESTINATION SOURCE…",
		Description: "Each source is an image, or an index, in a registry, the store, a layout directory or an archive; no two may be for\n" +
			"the same platform. All content goes to the destination before its tag is written.\n\n" +
			"Example: imbricat join registry.tideline.example/tides/gauge:1.4.0 ./amd64.tar ./arm64.tar",
		Action: func(ctx context.Context, c *cli.Command) error { return runJoin(ctx, newSession(c)) },
	}
}

func runJoin(ctx context.Context, s *session) error {
	args, err := s.args(2, -1, "a destination and at least one source")
	if err != nil {
		return err
	}
	refs := make([]reference.Reference, len(args))
	for i, arg := range args {
		if refs[i], err = reference.Parse(arg); err != nil {
			return usageError{err}
		}
		if i > 0 && refs[i].Kind == reference.Registry && refs[i].Identifier() == "" {
			return usagef("%s needs a tag or a digest: none is assumed", refs[i])
		}
	}
	name, err := destinationName(reference.Reference{Kind: reference.Store, Name: "joined"}, refs[0])
	if err != nil {
		return err
	}
	st, err := s.openStore()
	if err != nil {
		return err
	}
	opener, err := s.opener(st)
	if err != nil {
		return err
	}
	var sources []transfer.Place
	for _, ref := range refs[1:] {
		source, err := opener.Source(ref)
		if err != nil {
			return err
		}
		defer source.Close()
		sources = append(sources, source)
	}
	to, err := opener.Destination(refs[0])
	if err != nil {
		return err
	}
	defer to.Close()
	view := s.view(ctx)
	began := time.Now()
	result, err := transfer.Join(ctx, sources, to, transfer.Options{Names: []string{name}, Sink: view})
	view.Close("")
	if errors.Is(err, transfer.ErrTwice) {
		return usageError{err}
	}
	if err != nil {
		return err
	}
	document := &report.Push{Pushed: []report.Pushed{pushed("joined", refs[0], []string{name}, result, time.Since(began))}}
	return s.result(document.Pushed[0], func() error { return report.WritePush(s.out, s.paint, document) })
}
