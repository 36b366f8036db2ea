package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/flow/settings"
	"imbricat/internal/ground/platform"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/checkout"
	"imbricat/internal/remote/registry"
)

func doctorCommand() *cli.Command {
	return &cli.Command{
		Name: "doctor", Usage: "tells what this machine can do, and how to mend what is missing",
		Description: "Tries for real: the store, the credentials, each registry that there is a login for, and all that commands of run\n" +
			"steps need. " +
			"Exit code 6 when something that builds need is missing.\n\nExample: imbricat doctor",
		Flags: []cli.Flag{sandboxFlag(),
			&cli.StringFlag{Name: "report", Usage: "also write all of it to this `FILE`, with settings and past builds and without secrets, for whoever helps"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runDoctor(ctx, newSession(c)) },
	}
}

func runDoctor(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	d := &report.Doctor{Version: version(), Go: runtime.Version(), Platform: platform.Here().String(), Cores: runtime.GOMAXPROCS(0)}
	d.Checks = append(d.Checks, s.checkStore(), s.checkSettings(), s.checkCredentials(), s.checkRecipe())
	d.Checks = append(append(d.Checks, s.checkRegistries(ctx)...), s.checkSources(ctx)...)
	d.Checks = append(d.Checks, s.checkSandbox(ctx)...)
	if err := s.result(d, func() string { return report.DoctorText(s.paint, d) }); err != nil {
		return err
	}
	if name := s.cmd.String("report"); name != "" {
		if err := s.support(ctx, name, d); err != nil {
			return err
		}
		fmt.Fprintf(s.err, "wrote %s: read it before you give it to anybody\n", name)
	}
	for _, c := range d.Checks {
		if c.Level == report.Bad {
			return flow.Unablef("%s: %s", c.Name, c.What)
		}
	}
	return nil
}

// checkStore writes a file for real: rights and space show only then.
func (s *session) checkStore() report.Check {
	c := report.Check{Name: "store", Level: report.Good, What: s.storeDir()}
	st, err := store.Open(s.storeDir())
	if err == nil {
		defer st.Close()
		err = st.PutMemo("doctor", []byte("written to see whether writing works\n"))
	}
	if err != nil {
		c.Level, c.What, c.Mend = report.Bad, err.Error(), "give a folder that you may write to with --store or IMBRICAT_STORE"
	}
	return c
}

// checkSandbox tries what run steps need. Without it everything else works, so nothing of it is bad.
func (s *session) checkSandbox(ctx context.Context) []report.Check {
	st, err := store.Open(s.storeDir())
	if err != nil {
		return nil // the store's own check says so
	}
	defer st.Close()
	dir, err := st.TemporaryFolder()
	if err != nil {
		return nil
	}
	defer st.Discard(dir)
	kind := sandbox.Kind("")
	if s.cmd.String("sandbox") == "chroot" {
		kind = sandbox.Chroot
	}
	var list []report.Check
	for _, f := range sandbox.Examine(ctx, dir, kind) {
		c := report.Check{Name: f.Name, Level: report.Good, What: f.What, Mend: f.Mend}
		if !f.Good {
			c.Level = report.Note
		}
		list = append(list, c)
	}
	return list
}

func (s *session) checkCredentials() report.Check {
	c := report.Check{Name: "credentials", Level: report.Good}
	file := settings.Credentials()
	hosts, err := file.Hosts()
	switch {
	case err != nil:
		c.Level, c.What, c.Mend = report.Bad, err.Error(), "only you may read the file: chmod 600 "+file.Path()
	case len(hosts) == 0:
		c.Level, c.What = report.Note, "none are kept; `imbricat login HOST --user NAME` keeps some in "+file.Path()
	default:
		c.What = report.Count(len(hosts), "login") + " in " + file.Path()
	}
	return c
}

func (s *session) checkRecipe() report.Check {
	c := report.Check{Name: "recipe", Level: report.Good}
	path := s.project().RecipePath()
	if _, err := os.Stat(path); err != nil {
		c.Level, c.What = report.Note, "there is none at "+path
		return c
	}
	if _, err := s.project().Recipe(); err != nil {
		c.Level, c.What, c.Mend = report.Note, path+" has mistakes", "`imbricat plan` lists them"
		return c
	}
	c.What = path + " is well-formed"
	return c
}

func (s *session) checkSettings() report.Check {
	c := report.Check{Name: "settings", Level: report.Good, What: settings.File()}
	if _, err := os.Stat(settings.File()); err != nil {
		c.Level, c.What = report.Note, "there are none; "+settings.File()+" would hold mirrors, authorities and the like"
		return c
	}
	if _, err := settings.Read(); err != nil {
		c.Level, c.What, c.Mend = report.Bad, err.Error(), "docs/registries.md tells what may stand there"
	}
	return c
}

// checkRegistries asks every registry that there is a login or a setting for.
func (s *session) checkRegistries(ctx context.Context) []report.Check {
	places, err := settings.Credentials().Hosts()
	conf, confErr := settings.Read()
	if err != nil || confErr != nil {
		return nil // other checks say so
	}
	for place := range conf.Registries {
		places = append(places, place)
	}
	var hosts []string
	for _, place := range places {
		if strings.Contains(place, "://") {
			continue
		}
		host, _, _ := strings.Cut(place, "/")
		hosts = append(hosts, host)
	}
	slices.Sort(hosts)
	var list []report.Check
	for _, host := range slices.Compact(hosts) {
		c := report.Check{Name: "registry", Level: report.Good, What: host + " answers and takes the login"}
		client, err := s.client()
		asked, has := false, false
		if err == nil {
			asked, err = client.Ping(ctx, host)
			has = s.hasLogin(ctx, conf, host)
		}
		var answer *registry.Error
		switch {
		case errors.As(err, &answer) && answer.Denied():
			c.Level, c.What, c.Mend = report.Note, host+" answers, and does not take the login, or wants one", fmt.Sprintf("`imbricat login %s`", host)
		case err != nil:
			c.Level, c.What, c.Mend = report.Note, err.Error(), fmt.Sprintf("`imbricat logout %s`, or mend its settings, where it is gone", host)
		case !has:
			c.What = host + " answers; there is no login for it"
		case !asked:
			c.What = host + " answers, and lets anybody in"
		}
		list = append(list, c)
	}
	return list
}

// checkSources asks every git repository that there is a login for.
func (s *session) checkSources(ctx context.Context) (list []report.Check) {
	file := settings.Credentials()
	places, err := file.Hosts()
	if err != nil {
		return nil // another check says so
	}
	for _, place := range places {
		if !strings.Contains(place, "://") {
			continue
		}
		c := report.Check{Name: "repository", Level: report.Good, What: place + " answers and takes the login"}
		login, err := file.Find(ctx, place, "")
		asked := false
		if err == nil {
			asked, err = checkout.Ask(ctx, place, login)
		}
		switch {
		case errors.Is(err, checkout.ErrDenied):
			c.Level, c.What, c.Mend = report.Note, place+" answers, and does not take the login, or is not there", fmt.Sprintf("`imbricat login %s`", place)
		case err != nil:
			c.Level, c.What, c.Mend = report.Note, err.Error(), fmt.Sprintf("`imbricat logout %s`, where it is gone", place)
		case !asked:
			c.What = place + " answers, and lets anybody in"
		}
		list = append(list, c)
	}
	return list
}

func (s *session) hasLogin(ctx context.Context, conf *settings.Settings, host string) bool {
	chain, err := conf.Logins()
	if err != nil {
		return false
	}
	login, err := chain.Find(ctx, host, "")
	return err == nil && login.Given()
}
