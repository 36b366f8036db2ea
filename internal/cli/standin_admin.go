package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/notice"
	"imbricat/internal/output/report"
	"imbricat/internal/standin"
)

// openStandin opens the folder of a stand-in, which may be running at the same time.
func (s *session) openStandin() (*standin.Server, error) {
	dir := s.cmd.String("dir")
	if dir == "" {
		return nil, flow.Usagef("%s needs --dir, the stand-in's FOLDER", s.cmd.FullName())
	}
	if info, err := os.Stat(filepath.Join(dir, "repositories")); (err != nil || !info.IsDir()) && !(s.cmd.Name == "user" && isNew(dir)) {
		return nil, flow.Usagef("%s is not a folder of a stand-in: `imbricat standin start --dir %s` makes one", dir, dir)
	}
	return standin.New(standin.Options{Dir: dir, Grace: s.cmd.Duration("grace")})
}

// isNew reports whether a folder is not there yet, or is empty: the first user may be there before the first start.
func isNew(dir string) bool {
	entries, err := os.ReadDir(dir)
	return errors.Is(err, fs.ErrNotExist) || err == nil && len(entries) == 0
}

// onStandin is what a command that takes no arguments does with the folder of a stand-in.
func onStandin(run func(s *session, r *standin.Server) error) cli.ActionFunc {
	return onStandinWith(0, "no arguments", func(s *session, r *standin.Server, _ string) error { return run(s, r) })
}

// onStandinWith is onStandin for a command with one argument, or with none.
func onStandinWith(count int, usage string, run func(s *session, r *standin.Server, arg string) error) cli.ActionFunc {
	return func(_ context.Context, c *cli.Command) error {
		s := newSession(c)
		if _, err := s.args(count, count, usage); err != nil {
			return err
		}
		r, err := s.openStandin()
		if err != nil {
			return err
		}
		return run(s, r, c.Args().First())
	}
}

func standinRepositoryCommand() *cli.Command {
	one := func(name, usage, description string, run func(s *session, r *standin.Server, repository string) error, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "NAME", Description: description, Flags: append(flags, standinDirFlag()),
			Action: onStandinWith(1, "the repository's name", run)}
	}
	return group(&cli.Command{Name: "repository", Usage: "creates, lists, opens and closes the stand-in's repositories", Commands: []*cli.Command{
		one("create", "makes a repository, and prints the lines to log in, build and push",
			"Example: imbricat standin repository create tides/gauge --dir ./registry", createRepository),
		{Name: "list", Usage: "lists repositories, with their sizes and who may do what", Flags: []cli.Flag{standinDirFlag()},
			Description: "Example: imbricat standin repository list --dir ./registry",
			Action:      onStandin(listRepositories)},
		one("open", "lets a repository be pushed to again, and says who may pull and push",
			"Example: imbricat standin repository open tides/gauge --dir ./registry --pull anybody --push harbour", openRepository,
			&cli.StringFlag{Name: "pull", Usage: "`WHO` may pull: names with commas, everyone (who has a login) or anybody"},
			&cli.StringFlag{Name: "push", Usage: "`WHO` may push and delete"}),
		one("close", "makes a repository one that is only read", "Example: imbricat standin repository close tides/gauge --dir ./registry",
			func(s *session, r *standin.Server, name string) error {
				closed := true
				if err := r.Change(name, "close", func(n *standin.Note) { n.Closed = &closed }); err != nil {
					return err
				}
				return s.said(map[string]any{"repository": name, "closed": true}, "%s is read-only now\n", name)
			}),
	}})
}

func (s *session) said(document any, format string, values ...any) error {
	return s.result(document, func() string { return fmt.Sprintf(format, values...) })
}

func createRepository(s *session, r *standin.Server, name string) error {
	created, err := r.Create(name)
	if err != nil {
		return flow.WrongUse(err)
	}
	address := "HOST:PORT"
	if text, err := os.ReadFile(filepath.Join(s.cmd.String("dir"), addressFile)); err == nil {
		address = string(text)
	}
	document := map[string]any{"repository": name, "created": created, "address": address}
	return s.result(document, func() string { return report.RepositoryText(s.paint, address, name, created) })
}

func listRepositories(s *session, r *standin.Server) error {
	list, err := r.Repositories(func(string) bool { return true })
	if err != nil {
		return err
	}
	return s.result(map[string]any{"repositories": list}, func() string {
		rows := [][]string{}
		for _, one := range list {
			state := "open"
			if one.Closed {
				state = "closed"
			}
			rows = append(rows, []string{one.Name, fmt.Sprint(one.Tags), report.Size(one.Bytes), report.Ago(one.Pushed, time.Now()), state, who(one.Pull), who(one.Push)})
		}
		return report.RowsText(s.paint, "there are no repositories", []string{"repository", "tags", "size", "pushed", "state", "may pull", "may push"}, rows)
	})
}

func who(list []string) string {
	if len(list) == 0 {
		return "everyone"
	}
	return strings.Join(list, ", ")
}

func openRepository(s *session, r *standin.Server, name string) error {
	closed := false
	err := r.Change(name, "open", func(n *standin.Note) {
		n.Closed = &closed
		for flag, list := range map[string]*[]string{"pull": &n.Pull, "push": &n.Push} {
			if s.cmd.IsSet(flag) {
				*list = strings.FieldsFunc(s.cmd.String(flag), func(r rune) bool { return r == ',' || r == ' ' })
			}
		}
	})
	if err != nil {
		return err
	}
	return s.said(map[string]any{"repository": name, "closed": false}, "%s is open\n", name)
}

func standinUserCommand() *cli.Command {
	return &cli.Command{Name: "user", Usage: "adds a user to the stand-in, or changes the secret", ArgsUsage: "NAME",
		Description: "The secret is read from standard input, or from " + standinVariable + ".\n\nExample: imbricat standin user harbour --dir ./registry < secret.txt",
		Flags:       []cli.Flag{standinDirFlag()},
		Action: onStandinWith(1, "the user's name", func(s *session, r *standin.Server, name string) error {
			secret, err := s.secret(standinVariable, name, "the stand-in")
			if err != nil {
				return err
			}
			if err := r.AddUser(name, secret.Reveal()); err != nil {
				return err
			}
			return s.said(map[string]string{"user": name}, "added the user %s with that secret\n", name)
		})}
}

func standinTokenCommand() *cli.Command {
	return &cli.Command{Name: "token", Usage: "issues a token with rights in some repositories, for a while",
		Description: "The token is printed on standard output. It serves as the secret of its user, or as a token by itself.\n\n" +
			"Example: imbricat standin token --dir ./registry --user pipeline --repository 'tides/*' --allow pull,push --for 1h",
		Flags: []cli.Flag{standinDirFlag(),
			&cli.StringFlag{Name: "user", Usage: "`NAME` of the user that it is for", Required: true},
			&cli.StringSliceFlag{Name: "repository", Usage: "`NAME` or pattern of repositories; may be given again", Required: true},
			&cli.StringFlag{Name: "allow", Value: "pull", Usage: "`LIST` of pull, push and delete"},
			&cli.DurationFlag{Name: "for", Value: time.Hour, Usage: "`TIME` that it is good for"},
		},
		Action: onStandin(func(s *session, r *standin.Server) error {
			allow := strings.Split(s.cmd.String("allow"), ",")
			for _, one := range allow {
				if one != "pull" && one != "push" && one != "delete" {
					return flow.Usagef("--allow takes pull, push and delete with commas, not %q", one)
				}
			}
			life := s.cmd.Duration("for")
			if life <= 0 {
				return flow.Usagef("--for takes a time such as 1h")
			}
			ends := time.Now().Add(life).UTC().Truncate(time.Second)
			token, err := r.Issue(s.cmd.String("user"), s.cmd.StringSlice("repository"), allow, life)
			if err != nil {
				return err
			}
			if !s.json() {
				fmt.Fprintf(s.err, "good until %s (%s), unless `imbricat standin rotate` ends all tokens before\n", ends.Format(time.RFC3339), report.Ago(ends, time.Now()))
			}
			return s.said(map[string]string{"user": s.cmd.String("user"), "token": token, "expires": ends.Format(time.RFC3339)}, "%s\n", token)
		})}
}

func standinRotateCommand() *cli.Command {
	return &cli.Command{Name: "rotate", Usage: "changes the key that tokens are signed with: all that were issued before are refused from then on",
		Description: "Users and their secrets stay. A stand-in that runs takes the new key at once.\n\nExample: imbricat standin rotate --dir ./registry",
		Flags:       []cli.Flag{standinDirFlag()},
		Action: onStandin(func(s *session, r *standin.Server) error {
			if err := r.RotateKey(); err != nil {
				return err
			}
			return s.said(map[string]bool{"rotated": true}, "tokens that were issued until now are refused; `imbricat standin token` issues others\n")
		})}
}

func standinNoticesCommand() *cli.Command {
	return &cli.Command{Name: "notices", Usage: "lists who was told of pushes, and who could not be",
		Description: "Example: imbricat standin notices --dir ./registry",
		Flags:       []cli.Flag{standinDirFlag(), &cli.IntFlag{Name: "last", Value: 50, Usage: "`NUMBER` of notices"}},
		Action: onStandin(func(s *session, r *standin.Server) error {
			list, err := r.Notices(s.cmd.Int("last"))
			if err != nil {
				return err
			}
			return s.result(map[string]any{"notices": append([]standin.Notice{}, list...)}, func() string {
				rows := [][]string{}
				for _, n := range list {
					signed, what := "", n.Event.Repository
					if n.Signed {
						signed = "signed"
					}
					if n.Event.Tag != "" {
						what += ":" + n.Event.Tag
					}
					rows = append(rows, []string{n.Time.UTC().Format(time.DateTime), n.State, what, notice.Plain(n.To), signed, fmt.Sprint(n.Tries), n.Why})
				}
				return report.RowsText(s.paint, "nobody was told of anything yet", []string{"time", "state", "of", "to", "", "tries", ""}, rows)
			})
		})}
}

func standinEventsCommand() *cli.Command {
	return &cli.Command{Name: "events", Usage: "lists what happened at the stand-in: who did what, when, to which digest",
		Description: "Example: imbricat standin events --dir ./registry --repository tides/gauge",
		Flags: []cli.Flag{standinDirFlag(), &cli.StringFlag{Name: "repository", Usage: "only those of `NAME`"},
			&cli.IntFlag{Name: "last", Value: 50, Usage: "`NUMBER` of events"}},
		Action: onStandin(func(s *session, r *standin.Server) error {
			list, err := r.Events(s.cmd.Int("last"), s.cmd.String("repository"))
			if err != nil {
				return err
			}
			return s.result(map[string]any{"events": append([]standin.Event{}, list...)}, func() string {
				rows := [][]string{}
				for _, e := range list {
					rows = append(rows, eventRow(e))
				}
				return report.RowsText(s.paint, "nothing happened yet", []string{"time", "who", "what", "repository", "tag", "digest", "size"}, rows)
			})
		})}
}

func eventRow(e standin.Event) []string {
	who, what, size, short := e.Who, e.What, "", ""
	if who == "" {
		who = "anybody"
	}
	for _, more := range []string{e.Why, e.From} {
		if more != "" {
			what += ": " + more
		}
	}
	if e.Bytes > 0 {
		size = report.Size(e.Bytes)
	}
	if e.Digest != "" {
		short = digest.Short(e.Digest)
	}
	return []string{e.Time.UTC().Format(time.DateTime), who, what, e.Repository, e.Tag, short, size}
}

func standinCleanCommand() *cli.Command {
	return &cli.Command{Name: "clean", Usage: "applies the rules of retention and removes content that nothing lists",
		Description: "A stand-in that runs does this by itself every ten minutes.\n\nExample: imbricat standin clean --dir ./registry",
		Flags:       []cli.Flag{standinDirFlag(), &cli.DurationFlag{Name: "grace", Value: time.Hour, Usage: "`TIME` that content which nothing lists is spared"}},
		Action: onStandin(func(s *session, r *standin.Server) error {
			cleaned, err := r.Clean()
			if err != nil {
				return err
			}
			return s.said(cleaned, "removed %s, %s, %s and %s, %s\n", report.Count(cleaned.Tags, "tag"), report.Count(cleaned.Manifests, "manifest"),
				report.Count(cleaned.Blobs, "blob"), report.Count(cleaned.Uploads, "abandoned upload"), report.Size(cleaned.Bytes))
		})}
}
