package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"imbricat/internal/credential"
	"imbricat/internal/reference"
	"imbricat/internal/registry"
	"imbricat/internal/report"
)

// secretVariable holds the secret of a login for a pipeline.
const secretVariable = "IMBRICAT_SECRET"

func loginCommand() *cli.Command {
	return &cli.Command{
		Name: "login", Usage: "checks and keeps credentials for a registry", ArgsUsage: "HOST[:PORT]",
		Description: "The secret is read from standard input, or from " + secretVariable + " in the environment; it is never taken from the\n" +
			"command line. It is kept in a file that only you can read, once the registry has accepted it.\n\n" +
			"Example: imbricat login registry.tideline.example --user harbour < secret.txt",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "user", Usage: "`NAME` of the user", Sources: env("USER")}},
		Action: func(ctx context.Context, c *cli.Command) error { return runLogin(ctx, newSession(c)) },
	}
}

type loginDocument struct {
	Registry string `json:"registry"`
	User     string `json:"user"`
	File     string `json:"file"`
}

func runLogin(ctx context.Context, s *session) error {
	args, err := s.args(1, 1, "one registry, HOST[:PORT]")
	if err != nil {
		return err
	}
	host := args[0]
	if err := reference.CheckHost(host); err != nil {
		return usageError{err}
	}
	user := s.cmd.String("user")
	if user == "" {
		return usagef("login needs --user NAME, or IMBRICAT_USER in the environment")
	}
	secret, err := s.secret(secretVariable, user, host)
	if err != nil {
		return err
	}
	login := credential.Login{User: user, Secret: secret}
	client := registry.New(registry.Options{Logins: only{host, login}, Agent: "imbricat/" + version()})
	asked, err := client.Ping(ctx, host)
	if err != nil {
		return err
	}
	if !asked {
		fmt.Fprintf(s.err, "warning: %s lets anybody in, so the login could not be checked\n", host)
	}
	file := credentialFile()
	if err := file.Keep(host, login); err != nil {
		return err
	}
	document := loginDocument{host, user, file.Path()}
	return s.result(document, func() error {
		_, err := fmt.Fprintf(s.out, "logged in to %s as %s; the secret is in %s\n", host, user, file.Path())
		return err
	})
}

// only is the login that is being tried.
type only struct {
	host  string
	login credential.Login
}

func (o only) Find(host string) (credential.Login, error) {
	if host == o.host {
		return o.login, nil
	}
	return credential.Login{}, nil
}

// maxSecret bounds a secret, in bytes.
const maxSecret = 64 << 10

// secret reads from the environment, a terminal without showing it, or standard input up to its end.
func (s *session) secret(variable, user, host string) (credential.Secret, error) {
	if value := os.Getenv(variable); value != "" {
		return credential.Secret(value), nil
	}
	if f, ok := s.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(s.err, "secret of %s at %s: ", user, host)
		text, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(s.err)
		if err != nil {
			return "", fmt.Errorf("reading the secret: %w", err)
		}
		return checkSecret(variable, string(text))
	}
	text, err := io.ReadAll(io.LimitReader(bufio.NewReader(s.in), maxSecret+1))
	if err != nil {
		return "", fmt.Errorf("reading the secret: %w", err)
	}
	return checkSecret(variable, strings.TrimRight(string(text), "\r\n"))
}

func checkSecret(variable, text string) (credential.Secret, error) {
	switch {
	case text == "":
		return "", usageError{errors.New("no secret: give it on standard input, or in " + variable)}
	case len(text) > maxSecret || strings.ContainsAny(text, "\r\n\x00"):
		return "", usageError{errors.New("the secret must be one line of text")}
	}
	return credential.Secret(text), nil
}

func logoutCommand() *cli.Command {
	return &cli.Command{
		Name: "logout", Usage: "removes credentials for a registry", ArgsUsage: "[HOST[:PORT]]",
		Description: "Example: imbricat logout registry.tideline.example",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "remove the credentials for every registry"}},
		Action:      func(_ context.Context, c *cli.Command) error { return runLogout(newSession(c)) },
	}
}

func runLogout(s *session) error {
	file := credentialFile()
	hosts, err := s.args(0, 1, "one registry, HOST[:PORT], or --all")
	if err != nil {
		return err
	}
	if s.cmd.Bool("all") == (len(hosts) == 1) {
		return usagef("logout takes one registry, HOST[:PORT], or --all")
	}
	if len(hosts) == 0 {
		if hosts, err = file.Hosts(); err != nil {
			return err
		}
	}
	forgotten := []string{}
	for _, host := range hosts {
		known, err := file.Forget(host)
		if err != nil {
			return err
		}
		if known {
			forgotten = append(forgotten, host)
		}
	}
	return s.result(map[string][]string{"forgotten": forgotten}, func() error {
		if len(forgotten) == 0 {
			_, err := fmt.Fprintln(s.out, "there were no credentials to remove")
			return err
		}
		_, err := fmt.Fprintf(s.out, "removed the credentials for %s: %s\n", report.Count(len(forgotten), "registry host"), strings.Join(forgotten, ", "))
		return err
	})
}
