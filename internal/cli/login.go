package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"imbricat/internal/flow"
	"imbricat/internal/flow/settings"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/checkout"
	"imbricat/internal/remote/credential"
	"imbricat/internal/remote/registry"
)

func loginCommand() *cli.Command {
	return &cli.Command{
		Name: "login", Usage: "checks and keeps credentials for a registry, or for a git repository", ArgsUsage: "HOST[:PORT][/REPOSITORY]|https://HOST/PATH",
		Description: "The secret is read from standard input, or from " + settings.SecretVariable + " in the environment; it is never taken from the\n" +
			"command line. It is kept in a file that only you can read, once the registry has accepted it. With a repository, or\n" +
			"the beginning of one, it is kept for that part alone, and what it allows there is told. Who issues the registry's\n" +
			"tokens is noted too: another issuer gets the secret only after another login. The address of a git repository is asked\n" +
			"in the same way, and the login is kept for that repository as a --source.\n\n" +
			"Example: imbricat login registry.tideline.example --user harbour < secret.txt",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "user", Usage: "`NAME` of the user", Sources: env("USER")}},
		Action: func(ctx context.Context, c *cli.Command) error { return runLogin(ctx, newSession(c)) },
	}
}

type loginDocument struct {
	Registry string   `json:"registry,omitempty"`
	Source   string   `json:"source,omitempty"` // a git repository
	User     string   `json:"user"`
	File     string   `json:"file"`
	Issuer   string   `json:"issuer,omitempty"` // of tokens
	Allows   []string `json:"allows,omitempty"` // in the repository that was named
	// Below tells what it allows in the repositories below that which the recipe here publishes to.
	Below map[string][]string `json:"below,omitempty"`
}

func runLogin(ctx context.Context, s *session) error {
	args, err := s.args(1, 1, "one registry, HOST[:PORT][/REPOSITORY], or one git repository, https://HOST/PATH")
	if err != nil {
		return err
	}
	if strings.Contains(args[0], "://") {
		return s.loginToSource(ctx, args[0])
	}
	host, repository, err := registryAndPart(args[0])
	if err != nil {
		return err
	}
	login, err := s.givenLogin(host)
	if err != nil {
		return err
	}
	user := login.User
	conf, err := settings.Read()
	if err != nil {
		return err
	}
	checked := login
	checked.Confirms = true
	client := s.clientOf(conf, credential.Fixed{Place: host, Login: checked})
	asked, err := client.Ping(ctx, host)
	var answer *registry.Error
	if errors.As(err, &answer) {
		answer.As = user
	}
	if err != nil {
		return err
	}
	if !asked {
		fmt.Fprintf(s.err, "warning: %s lets anybody in, so the login could not be checked\n", host)
	}
	document := loginDocument{Registry: args[0], User: user, Issuer: client.Issuer(host)}
	if repository != "" {
		if document.Allows, err = allows(ctx, client, host, repository); err != nil {
			return err
		}
		for _, below := range s.destinationsBelow(ctx, host, repository+"/") {
			if document.Below == nil {
				document.Below = map[string][]string{}
			}
			if document.Below[below], err = allows(ctx, client, host, below); err != nil {
				return err
			}
		}
	}
	login.Issuer = document.Issuer
	file := settings.Credentials()
	if err := file.Keep(args[0], login); err != nil {
		return err
	}
	document.File = file.Path()
	return s.result(document, func() string {
		var w strings.Builder
		fmt.Fprintf(&w, "logged in to %s as %s; the secret is in %s\n", args[0], user, file.Path())
		if document.Issuer != "" && !strings.HasSuffix(document.Issuer, "://"+host) {
			fmt.Fprintf(&w, "its tokens are issued by %s\n", document.Issuer)
		}
		if repository != "" {
			told := func(repository string, rights []string) {
				what := "nothing"
				if len(rights) > 0 {
					what = strings.Join(rights, " and ")
				}
				fmt.Fprintf(&w, "in %s it allows: %s\n", repository, what)
			}
			told(repository, document.Allows)
			for _, below := range slices.Sorted(maps.Keys(document.Below)) {
				told(below, document.Below[below])
			}
		}
		return w.String()
	})
}

// givenLogin reads what a person logs in with.
func (s *session) givenLogin(host string) (credential.Login, error) {
	user := s.cmd.String("user")
	if user == "" {
		return credential.Login{}, flow.Usagef("login needs --user NAME, or IMBRICAT_USER in the environment")
	}
	secret, err := s.secret(settings.SecretVariable, user, host)
	return credential.Login{User: user, Secret: secret}, err
}

// loginToSource checks and keeps the login for a git repository.
func (s *session) loginToSource(ctx context.Context, address string) error {
	place, err := checkout.Place(address)
	if err != nil {
		return flow.WrongUse(err)
	}
	login, err := s.givenLogin(place)
	if err != nil {
		return err
	}
	asked, err := checkout.Ask(ctx, address, login)
	if err != nil {
		return err
	}
	if !asked {
		fmt.Fprintf(s.err, "warning: %s lets anybody in, so the login could not be checked\n", place)
	}
	file := settings.Credentials()
	if err := file.Keep(place, login); err != nil {
		return err
	}
	return s.result(loginDocument{Source: place, User: login.User, File: file.Path()}, func() string {
		return fmt.Sprintf("logged in to %s as %s; the secret is in %s\n", place, login.User, file.Path())
	})
}

// registryAndPart splits HOST[:PORT][/PREFIX].
func registryAndPart(text string) (host, part string, err error) {
	host, part, _ = strings.Cut(text, "/")
	if err := reference.CheckHost(host); err != nil {
		return "", "", flow.WrongUse(err)
	}
	if part != "" {
		if _, err := reference.ParseRepository(text); err != nil {
			return "", "", flow.WrongUse(err)
		}
	}
	return host, part, nil
}

// destinationsBelow lists the repositories of a registry with a prefix that the recipe here publishes to; none where there is no recipe, or
// one with mistakes.
func (s *session) destinationsBelow(ctx context.Context, host, prefix string) (list []string) {
	if _, err := os.Stat(s.project().RecipePath()); err != nil {
		return nil
	}
	p, err := s.choose(ctx, workspace.Choice{})
	if err != nil {
		return nil
	}
	for _, i := range p.Plan.Images {
		for _, d := range i.Destinations {
			if d.Repository.Host == host && strings.HasPrefix(d.Repository.Repository, prefix) {
				list = append(list, d.Repository.Repository)
			}
		}
	}
	return list
}

// allows asks what a login may do in a repository: by a list of tags, and by an upload that is given up at once.
func allows(ctx context.Context, client *registry.Client, host, repository string) ([]string, error) {
	r := client.Repository(host, repository)
	list := []string{}
	var answer *registry.Error
	if _, err := r.Tags(ctx); err == nil || errors.As(err, &answer) && answer.NotFound() {
		list = append(list, "pull")
	} else if !errors.As(err, &answer) || !answer.Denied() {
		return nil, err
	}
	if err := r.MayPush(ctx); err == nil {
		list = append(list, "push")
	} else if !errors.As(err, &answer) || !answer.Denied() && !answer.NotFound() {
		return nil, err
	}
	return list, nil
}

// maxSecret bounds a secret, in bytes.
const maxSecret = 64 << 10

// secret reads from the environment, a terminal without showing it, or standard input up to its end.
func (s *session) secret(variable, user, host string) (credential.Secret, error) {
	if value := os.Getenv(variable); value != "" {
		return checkSecret(variable, value)
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
		return "", flow.WrongUse(errors.New("no secret: give it on standard input, or in " + variable))
	case len(text) > maxSecret || strings.ContainsAny(text, "\r\n\x00"):
		return "", flow.WrongUse(errors.New("the secret must be one line of text"))
	}
	return credential.Secret(text), nil
}

func logoutCommand() *cli.Command {
	return &cli.Command{
		Name: "logout", Usage: "removes credentials for a registry, or for a git repository", ArgsUsage: "[HOST[:PORT][/REPOSITORY]|https://HOST/PATH]",
		Description: "Example: imbricat logout registry.tideline.example",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "all", Usage: "remove all that are kept"}},
		Action:      func(_ context.Context, c *cli.Command) error { return runLogout(newSession(c)) },
	}
}

func runLogout(s *session) error {
	file := settings.Credentials()
	hosts, err := s.args(0, 1, "one registry, HOST[:PORT], one git repository, or --all")
	if err != nil {
		return err
	}
	if s.cmd.Bool("all") == (len(hosts) == 1) {
		return flow.Usagef("logout takes one registry, HOST[:PORT], one git repository, or --all")
	}
	if len(hosts) == 0 {
		if hosts, err = file.Hosts(); err != nil {
			return err
		}
	}
	forgotten := []string{}
	for _, host := range hosts {
		if place, err := checkout.Place(host); err == nil && strings.Contains(host, "://") {
			host = place
		}
		known, err := file.Forget(host)
		if err != nil {
			return err
		}
		if known {
			forgotten = append(forgotten, host)
		}
	}
	return s.result(map[string][]string{"forgotten": forgotten}, func() string {
		if len(forgotten) == 0 {
			return "there were no credentials to remove\n"
		}
		return fmt.Sprintf("removed the credentials for %s: %s\n", report.Count(len(forgotten), "host"), strings.Join(forgotten, ", "))
	})
}
