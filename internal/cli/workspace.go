package cli

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/adrg/xdg"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/store"
	"imbricat/internal/engine/local"
	"imbricat/internal/flow"
	"imbricat/internal/flow/settings"
	"imbricat/internal/flow/sharing"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/credential"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
)

// Options that several commands share.
func factFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "fact", Usage: "`NAME=VALUE` that replaces a fact of the recipe; may be given again"}
}

func platformFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "platform", Usage: "`OS/ARCHITECTURE`: only this one of the platforms; may be given again, or hold several with commas"}
}

func jobsFlag() cli.Flag {
	return &cli.IntFlag{Name: "jobs", HideDefault: true, Usage: "`NUMBER` of commands that run at a time (default: as many as there are processors, at least 4)", Sources: env("JOBS"),
		Validator: func(n int) error {
			if n < 1 {
				return fmt.Errorf("--jobs takes a number from 1")
			}
			return nil
		}}
}

func keepGoingFlag() cli.Flag {
	return &cli.BoolFlag{Name: "keep-going", Usage: "when something fails, finish what does not need it", Sources: env("KEEP_GOING")}
}

// project is where the recipe lies that the command line names.
func (s *session) project() workspace.Project {
	p := s.folder()
	p.Writes, p.StoreDir = s.writes(p.Dir), s.storeDir()
	return p
}

// folder is project without what the run writes.
func (s *session) folder() workspace.Project {
	dir := s.cmd.String("dir")
	if s.cmd.IsSet("recipe") || s.cmd.Bool("drafted") {
		return s.itself()
	}
	if s.around == nil || s.around.Asked != dir {
		s.around = &around{dir, workspace.Around(dir)}
	}
	return s.around.Project
}

// itself is the folder that the command line names, whatever it belongs to.
func (s *session) itself() workspace.Project {
	return workspace.Project{Dir: s.cmd.String("dir"), File: s.cmd.String("recipe")}
}

// around is what a folder belongs to.
type around struct {
	Asked string
	workspace.Project
}

// expand reads the recipe, gathers its facts and expands it for the images named.
func (s *session) expand(ctx context.Context, images []string) (*workspace.Planned, error) {
	return s.choose(ctx, workspace.Choice{Images: images})
}

// choose is expand with further choices.
func (s *session) choose(ctx context.Context, c workspace.Choice) (*workspace.Planned, error) {
	if s.cmd.IsSet("affected-since") {
		found, err := s.affectedSince(ctx)
		if err != nil {
			return nil, err
		}
		c.Among = []string{}
		for _, u := range found.Units {
			c.Among = append(c.Among, u.Name)
		}
	}
	return s.plan(c)
}

// plan is choose whatever is affected.
func (s *session) plan(c workspace.Choice) (*workspace.Planned, error) {
	return s.planOf(s.project(), c)
}

// planOf is plan for some project.
func (s *session) planOf(p workspace.Project, c workspace.Choice) (*workspace.Planned, error) {
	c.Facts, c.Redactor = maps.Clone(c.Facts), &s.secrets
	if c.Facts == nil {
		c.Facts = map[string]string{}
	}
	for _, text := range s.cmd.StringSlice("fact") {
		name, value, found := strings.Cut(text, "=")
		if !found || name == "" {
			return nil, flow.Usagef("--fact takes NAME=VALUE, not %q", text)
		}
		c.Facts[name] = value
	}
	var err error
	if c.Platforms, err = s.platforms(); err != nil {
		return nil, err
	}
	if p.Text, err = s.drafted(); err != nil {
		return nil, err
	}
	return p.Expand(c)
}

// workspace is what every command that works on the recipe's images begins with.
func (s *session) workspace(ctx context.Context, images []string) (*workspace.Workspace, error) {
	p, err := s.expand(ctx, images)
	if err != nil {
		return nil, err
	}
	return s.workOn(p)
}

// workOn opens what it takes to work on a plan.
func (s *session) workOn(p *workspace.Planned) (*workspace.Workspace, error) {
	st, err := s.openStore()
	if err != nil {
		return nil, err
	}
	return s.workIn(p, st)
}

// workIn is workOn in a store that is open.
func (s *session) workIn(p *workspace.Planned, st *store.Store) (*workspace.Workspace, error) {
	places, err := s.places(st)
	if err != nil {
		return nil, err
	}
	personal, err := settings.Read()
	if err != nil {
		return nil, err
	}
	vouched, err := p.Authorities(personal.Vouched)
	if err != nil {
		return nil, err
	}
	return &workspace.Workspace{Planned: p, Store: st, Places: places, Agent: "imbricat/" + version(), Chroot: s.cmd.String("sandbox") == "chroot", Complain: s.err, Redactor: &s.secrets, Vouched: vouched,
		Executor: func(ctx context.Context, sink event.Sink) *local.Local { return s.executor(ctx, st, sink, vouched) }}, nil
}

func (s *session) storeDir() string {
	if dir := s.cmd.String("store"); dir != "" {
		return dir
	}
	return filepath.Join(xdg.DataHome, "imbricat", "store")
}

// openStore opens the store until the program ends.
func (s *session) openStore() (*store.Store, error) {
	st, err := store.Open(s.storeDir())
	if err == nil {
		s.store = st
		if own, ownErr := s.project().Name(); ownErr == nil {
			st.Project, st.Mine = own, s.imageOfRecipe()
		}
		st.FetchElsewhere = sharing.Fetcher(st, nil, s.client)
		s.atEnd(func() {
			for _, text := range st.Spoilt() { // what no build has told
				fmt.Fprintf(s.err, "warning: %s\n", text)
			}
			s.bound(st)
			st.Close()
		})
	}
	return st, err
}

// boundTime is how long the end of a command may take to keep the store within its bound.
const boundTime = 200 * time.Millisecond

// bound keeps the store within the bound that its user sets.
func (s *session) bound(st *store.Store) {
	if !st.Grew() {
		return // and nobody's settings need to be read
	}
	personal, err := settings.Read()
	if err != nil {
		return // who needs the settings has told it
	}
	ctx := context.Background() // of an interrupted command too
	if st.Unlink == nil {
		st.Unlink = func(dir string) error {
			st.Unlink = nil
			if s.unlinker(ctx, st); st.Unlink == nil {
				return fmt.Errorf("%s belongs to others", dir)
			}
			return st.Unlink(dir)
		}
	}
	done, err := st.Bound(ctx, store.Bounding{Most: personal.AtMost, Within: boundTime})
	if err != nil {
		fmt.Fprintf(s.err, "warning: keeping the store within its bound: %v\n", err)
	}
	if done != nil {
		fmt.Fprint(s.err, report.BoundedText(s.paint, done, personal.AtMost))
	}
}

// imageOfRecipe reports whether a name is that of an image of the recipe. One with mistakes has none.
func (s *session) imageOfRecipe() func(name string) bool {
	names := sync.OnceValue(func() []string {
		r, err := s.project().Recipe()
		if err != nil {
			return nil
		}
		var all []string
		for _, i := range r.Images {
			all = append(all, i.Name)
		}
		return all
	})
	return func(name string) bool { return slices.Contains(names(), name) }
}

// uploads remembers where uploads stand, in the store.
func (s *session) uploads() registry.Uploads {
	if s.store == nil {
		return nil
	}
	return uploadNotes{s.store}
}

type uploadNotes struct{ store *store.Store }

func (u uploadNotes) TakeUpload(repository string, blob digest.Digest) registry.Upload {
	if note := u.store.TakeUpload(repository, blob); note != nil {
		return note
	}
	return nil
}

// places returns what opens places that references name.
func (s *session) places(st *store.Store) (*transfer.Places, error) {
	client, err := s.client()
	return &transfer.Places{Store: st, Client: client}, err
}

// source opens a place to read from.
func (s *session) source(st *store.Store, ref reference.Reference) (transfer.Place, error) {
	places, err := s.places(st)
	if err != nil {
		return nil, err
	}
	return places.Source(ref)
}

// client makes the one client of a command.
func (s *session) client() (*registry.Client, error) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.registry != nil {
		return s.registry, nil
	}
	personal, logins, err := personalLogins()
	if err != nil {
		return nil, err
	}
	s.registry = s.clientOf(personal, logins)
	s.atEnd(s.keepSeen)
	return s.registry, nil
}

// personalLogins reads what a person chooses for every project, and where logins come from.
func personalLogins() (*settings.Settings, credential.Chain, error) {
	personal, err := settings.Read()
	if err != nil {
		return nil, nil, err
	}
	logins, err := personal.Logins()
	return personal, logins, err
}

func (s *session) clientOf(personal *settings.Settings, logins credential.Source) *registry.Client {
	return personal.Client(registry.Options{Logins: logins, Agent: "imbricat/" + version(), Log: slog.Default(), Uploads: s.uploads(), Tags: &s.seenTags})
}
