package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/registry"
	"imbricat/internal/standin"
)

// standinVariable holds the secret that the stand-in asks for.
const standinVariable = "IMBRICAT_STANDIN_SECRET"

func standinCommand() *cli.Command {
	return group(&cli.Command{
		Name: "standin", Usage: "the stand-in registry, for demos, tests and offline work",
		Description: "Example: imbricat standin start --dir ./registry",
		Commands: []*cli.Command{{
			Name: "start", Usage: "starts the stand-in registry and prints its address",
			Description: "The one line on standard output is the address, HOST:PORT. It runs until it is interrupted. With --user it asks\n" +
				"for a login with the secret in " + standinVariable + ".\n\nExample: imbricat standin start --dir ./registry --listen 127.0.0.1:5080",
			Flags: []cli.Flag{
				&cli.StringFlag{Name: "dir", Usage: "`FOLDER` that everything is kept in", Required: true},
				&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "`HOST:PORT` on this machine; port 0 takes a free one"},
				&cli.StringFlag{Name: "user", Usage: "`NAME` of the one user who may pull and push; without it everybody may"},
			},
			Action: func(ctx context.Context, c *cli.Command) error { return runStandin(ctx, newSession(c)) },
		}},
	})
}

func runStandin(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	listen := s.cmd.String("listen")
	if !registry.Loopback(listen) {
		return usagef("the stand-in listens on this machine alone: --listen %s is no loopback address", listen)
	}
	o := standin.Options{Dir: s.cmd.String("dir"), User: s.cmd.String("user"), Secret: os.Getenv(standinVariable)}
	if o.User != "" && o.Secret == "" {
		return usagef("--user needs the secret in %s", standinVariable)
	}
	o.Log = func(method, path string, status int, took time.Duration) {
		slog.Info("stand-in", "method", method, "path", path, "status", status, "took", took)
	}
	server, err := standin.New(o)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("the stand-in cannot listen on %s: %w", listen, cause(err))
	}
	address := listener.Addr().String()
	err = s.result(map[string]string{"address": address}, func() error {
		_, err := fmt.Fprintln(s.out, address)
		return err
	})
	if err != nil {
		return err
	}
	fmt.Fprintln(s.err, "the stand-in registry is ready; end it with Ctrl-C")
	// Being told to stop is how a server ends well.
	return server.Serve(ctx, listener)
}

func cause(err error) error {
	var op *net.OpError
	if errors.As(err, &op) {
		return op.Err
	}
	return err
}
