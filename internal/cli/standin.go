package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/settings"
	"imbricat/internal/ground/notice"
	"imbricat/internal/remote/registry"
	"imbricat/internal/standin"
)

// standinVariable holds the secret that the stand-in asks for.
const standinVariable = "IMBRICAT_STANDIN_SECRET"

func standinDirFlag() cli.Flag {
	return &cli.StringFlag{Name: "dir", Usage: "`FOLDER` that everything is kept in"}
}

func standinCommand() *cli.Command {
	return group(&cli.Command{
		Name: "standin", Usage: "the stand-in registry, for demos, tests and offline work",
		Description: "Example: imbricat standin start --dir ./registry",
		Commands: []*cli.Command{{
			Name: "start", Usage: "starts the stand-in registry and prints its address",
			Description: "The one line on standard output is the address, HOST:PORT. It runs until it is interrupted; a browser shows what it\n" +
				"holds at that address. With --user it asks for a login with the secret in " + standinVariable + ".\n\n" +
				"Example: imbricat standin start --dir ./registry --listen 127.0.0.1:5080",
			Flags: []cli.Flag{
				standinDirFlag(),
				&cli.BoolFlag{Name: "memory", Usage: "keep everything in memory, until it ends"},
				&cli.StringFlag{Name: "listen", Value: "127.0.0.1:0", Usage: "`HOST:PORT` on this machine; port 0 takes a free one"},
				choiceFlag("auth", "auto", "`KIND` of login: none, basic, or token from the stand-in's own issuer; auto is basic where there are users, else none", "STANDIN_AUTH", "auto", "none", "basic", "token"),
				&cli.StringFlag{Name: "user", Usage: "`NAME` of a user, with the secret in " + standinVariable + "; more are added by standin user"},
				&cli.DurationFlag{Name: "token-life", Value: 5 * time.Minute, Usage: "`TIME` that tokens are good for"},
				&cli.BoolFlag{Name: "tls", Usage: "serve HTTPS with a certificate of the folder's own authority, authority.pem"},
				&cli.StringFlag{Name: "rules", Usage: "`FILE` with rules for repositories (default: rules.yaml in the folder)"},
				&cli.StringSliceFlag{Name: "notify", Usage: "`URL` that is told of each push; may be given again"},
				&cli.StringFlag{Name: "notify-key", Usage: "`FILE` with what signs the notices to these"},
				&cli.StringFlag{Name: "faults", Usage: "`LIST` of what to do wrong on purpose, such as latency=50ms,503=0.1,break=0.2,seed=7"},
			},
			Action: func(ctx context.Context, c *cli.Command) error { return runStandin(ctx, newSession(c)) },
		}, standinRepositoryCommand(), standinUserCommand(), standinTokenCommand(), standinEventsCommand(), standinNoticesCommand(), standinRotateCommand(), standinCleanCommand()},
	})
}

// standinOptions reads the flags of start.
func (s *session) standinOptions() (standin.Options, error) {
	o := standin.Options{Dir: s.cmd.String("dir"), Auth: standin.Auth(s.cmd.String("auth")), User: s.cmd.String("user"), Secret: os.Getenv(standinVariable),
		TokenLife: s.cmd.Duration("token-life")}
	for _, to := range s.cmd.StringSlice("notify") {
		if err := notice.CheckAddress(to); err != nil {
			return o, flow.Usagef("--notify: %w", err)
		}
		o.Notify = append(o.Notify, standin.Notify{To: to, Key: s.cmd.String("notify-key")})
	}
	if name := s.cmd.String("notify-key"); name != "" {
		whole, err := filepath.Abs(name)
		if err != nil {
			return o, err
		}
		for i := range o.Notify {
			o.Notify[i].Key = whole
		}
	}
	if (o.Dir == "") != s.cmd.Bool("memory") {
		return o, flow.Usagef("standin start takes --dir FOLDER or --memory")
	}
	if o.User != "" && o.Secret == "" {
		return o, flow.Usagef("--user needs the secret in %s", standinVariable)
	}
	if o.TokenLife <= 0 {
		return o, flow.Usagef("--token-life takes a time such as 5m")
	}
	if o.Auth == "auto" {
		if o.Auth = ""; o.Dir != "" {
			if _, err := os.Stat(filepath.Join(o.Dir, "users.json")); err == nil {
				o.Auth = standin.AuthBasic
			}
		}
	}
	var err error
	if o.Faults, err = standin.ParseFaults(s.cmd.String("faults")); err != nil {
		return o, flow.Usagef("--faults: %w", err)
	}
	if name := s.cmd.String("rules"); name != "" {
		text, err := os.ReadFile(name)
		if err != nil {
			return o, flow.Usagef("--rules: %w", err)
		}
		if o.Rules, err = standin.ParseRules(text); err != nil {
			return o, flow.Usagef("--rules: %s: %w", name, err)
		}
	}
	o.Log = func(method, path string, status int, took time.Duration) {
		slog.Info("stand-in", "method", method, "path", path, "status", status, "took", took)
	}
	o.Complain = func(err error) { slog.Warn("stand-in", "error", err) }
	return o, nil
}

// addressFile is where a stand-in that runs on a folder tells its address.
const addressFile = "address"

func runStandin(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	listen := s.cmd.String("listen")
	if !registry.Loopback(listen) {
		return flow.Usagef("the stand-in listens on this machine alone: --listen %s is not a loopback address", listen)
	}
	o, err := s.standinOptions()
	if err != nil {
		return err
	}
	server, err := standin.New(o)
	if err != nil {
		return err
	}
	document := map[string]string{}
	var secure *tls.Config
	if s.cmd.Bool("tls") {
		var authority string
		if secure, authority, err = server.TLS(); err != nil {
			return err
		}
		if authority != "" {
			document["authority"] = authority
			fmt.Fprintf(s.err, "its certificate is vouched for by %s; name that file under registries in %s\n", authority, settings.File())
		}
	}
	listener, err := net.Listen("tcp", listen)
	if err != nil {
		return fmt.Errorf("the stand-in cannot listen on %s: %w", listen, cause(err))
	}
	address := listener.Addr().String()
	if secure != nil {
		listener = tls.NewListener(listener, secure)
	}
	if o.Dir != "" {
		name := filepath.Join(o.Dir, addressFile)
		if err := os.WriteFile(name, []byte(address), 0o644); err != nil {
			return fmt.Errorf("the stand-in's folder: %w", err)
		}
		defer os.Remove(name)
	}
	document["address"] = address
	err = s.result(document, func() string { return address + "\n" })
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
