package workspace

import (
	"context"
	"io"
	"path"
	"path/filepath"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sources"
	"imbricat/internal/flow"
	"imbricat/internal/flow/bases"
	"imbricat/internal/flow/history"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/redact"
	"imbricat/internal/remote/download"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Workspace is a plan with what it takes to work on it.
type Workspace struct {
	*Planned
	Store    *store.Store
	Places   *transfer.Places
	Executor func(ctx context.Context, sink event.Sink) *local.Local // makes what runs commands
	Chroot   bool                                                    // commands are kept apart by a change of root alone, and share the machine's network
	Agent    string                                                  // how downloads name this program
	Complain io.Writer                                               // gets what programs complain of that tell secrets
	Redactor *redact.Redactor                                        // of what the environment holds of secrets
	Vouched  []byte                                                  // certificates, as PEM text, that commands are to believe besides their images' own
}

// Source opens the project folder, for what steps take in. The recipes, the lock, the store's folder and what is written meanwhile are no
// part of it: a store inside the project changes with every build, and taking it in would never end.
func (p *Planned) Source(store string) (*tree.Source, error) {
	return p.sourceLeavingOut(store, ignored(p.Recipe))
}

// SourceAsSaid is Source with what another recipe leaves out, and nothing else: files of the folder say nothing of what is ignored.
func (p *Planned) SourceAsSaid(r *recipe.Recipe, store string) (*tree.Source, error) {
	all := ignored(r)
	for i := range all {
		all[i].HonourGitignore = false
	}
	return p.sourceLeavingOut(store, all)
}

func (p *Planned) sourceLeavingOut(store string, ignore []tree.Ignore) (*tree.Source, error) {
	dir, err := filepath.Abs(p.Dir)
	if err != nil {
		return nil, err
	}
	unnamed := []string{".git"}
	for _, file := range p.Recipe.Files() {
		unnamed = append(unnamed, file, path.Join(path.Dir(file), recipe.LockName))
	}
	unnamed = append(unnamed, p.Writes...)
	if below, inside := Inside(dir, store); inside {
		unnamed = append(unnamed, below)
	}
	source, err := tree.OpenSource(dir, tree.SourceOptions{Ignore: ignore, Unnamed: unnamed})
	if err != nil {
		return nil, flow.WrongUse(err)
	}
	return source, nil
}

// ignored is what a recipe says of what is left out of the project folder.
func ignored(r *recipe.Recipe) (all []tree.Ignore) {
	for _, s := range r.Sources {
		all = append(all, tree.Ignore{In: s.In, LeaveOut: s.LeaveOut, HonourGitignore: s.HonourGitignore})
	}
	return all
}

// Bases returns what finds the images that steps start from and take from, by the lock; nil: by none.
func (w *Workspace) Bases(held *lock.Lock, sink event.Sink) (*bases.Finder, error) {
	dir, err := filepath.Abs(w.Dir)
	if err != nil {
		return nil, err
	}
	places := *w.Places
	places.Dir = dir
	return &bases.Finder{Places: &places, Store: w.Store, Lock: held, Sink: sink}, nil
}

// Engine gathers what a build or its preview needs, with the lock. close ends the use of the project folder.
func (w *Workspace) Engine(ctx context.Context, sink event.Sink) (o engine.Options, done func(), err error) {
	held, err := w.Lock()
	if err != nil {
		return o, nil, err
	}
	return w.EngineWith(ctx, held, sink)
}

// EngineWith is Engine with another lock than that of the project; nil: none.
func (w *Workspace) EngineWith(ctx context.Context, held *lock.Lock, sink event.Sink) (o engine.Options, done func(), err error) {
	dir, err := filepath.Abs(w.Dir)
	if err != nil {
		return o, nil, err
	}
	w.Facts.Git.RememberCommits(w.Store)
	w.told.memory = w.Store
	told := event.Quiet(sink, w.Recipe.Silence)
	finder, err := w.Bases(held, told)
	if err != nil {
		return o, nil, err
	}
	source, err := w.Source(w.Store.Dir())
	if err != nil {
		return o, nil, err
	}
	o = engine.Options{
		Inputs: engine.Inputs{
			Plan: w.Plan, Whole: w.Whole, Store: w.Store, Folder: source, Memory: sources.OpenMemory(w.Store, dir, sources.MemoryOptions{Names: objectNames(w.Facts.Git)}), Sink: sink,
			Bases: finder, History: newProjectHistory(w.Planned, told), Executor: w.Executor(ctx, told), Project: dir,
		},
		Downloads: downloads{download.New(w.Agent)}, Secrets: secrets{dir, w.Complain}, Annotations: w.annotations(),
	}
	if held != nil {
		o.Divisions = held.Images
	}
	if history.Followed(w.Plan) {
		o.Predecessors = history.NewPredecessors(w.Plan, w.Store, w.Places)
	}
	return o, func() { source.Close() }, nil
}

// annotations tell of the commit.
func (w *Workspace) annotations() map[string]string {
	all := map[string]string{}
	if g := w.Facts.Git; g.Known() {
		all[v1.AnnotationRevision] = g.Commit
		if g.Source != "" {
			all[v1.AnnotationSource] = g.Source
		}
	}
	return all
}

// Revision returns the commit that an image says it is made from when it is built now; empty: it is not known.
func (w *Workspace) Revision(ctx context.Context, img *plan.Image) (string, error) {
	git := w.Facts.Git
	if !git.Known() {
		return "", nil
	}
	git.RememberCommits(w.Store)
	w.told.memory = w.Store
	source, err := w.Source(w.Store.Dir())
	if err != nil {
		return "", err
	}
	defer source.Close()
	units, takes := engine.MadeFrom(engine.Inputs{Plan: w.Plan, Whole: w.Whole, Folder: source}, img)
	return w.Made(ctx, units, takes)
}

// History returns what finds how the images' files changed. far has registries asked.
func (w *Workspace) History(far bool) (*history.Finder, error) {
	w.Facts.Git.RememberCommits(w.Store)
	name, err := w.Name()
	return &history.Finder{Project: name, Plan: w.Plan, Git: w.Facts.Git, Store: w.Store, Places: w.Places, Far: far}, err
}

// downloads gets what addresses hold.
type downloads struct{ *download.Client }

// Download implements compose.Downloader.
func (d downloads) Download(ctx context.Context, address string) (io.ReadCloser, int64, error) {
	return d.Get(ctx, address)
}
