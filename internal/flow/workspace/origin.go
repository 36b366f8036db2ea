package workspace

import (
	"context"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"

	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/paths"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Origin tells which commits count for what an image is made from, beside the files that it takes in.
type Origin struct {
	p     *Planned
	ctx   context.Context
	units []*plan.Unit // of the image, and those that it needs
	files map[string]bool
	// recipes are those that say something of the image, and the lock.
	recipes map[string]bool
	decided int
	said    map[string]string // hashes of what commits say, by their names
	fresh   bool              // said has what is not kept yet
	any     []string          // folders of recipes that ask for files whose names are computed
	// Each reports whether every commit counts: the image holds something of the commit itself.
	Each bool
}

// Origin gathers what counts for an image over its platforms.
func (p *Planned) Origin(ctx context.Context, of []*plan.Unit) *Origin {
	o := &Origin{p: p, ctx: ctx, files: map[string]bool{}, recipes: map[string]bool{}, said: map[string]string{}}
	first := p.Recipe.Files()[0]
	o.recipes[first], o.recipes[path.Join(path.Dir(first), recipe.LockName)] = true, true
	for _, u := range of {
		o.add(u)
	}
	for _, one := range p.Recipe.Authorities {
		o.files[one.File] = true
	}
	_, fixed := p.Facts.Epoch()
	for _, u := range o.units {
		says, _ := p.Recipe.Unit(u.ID.Name)
		if says == nil {
			continue
		}
		o.recipes[p.Recipe.File.NameAt(says.Pos)] = true
		content, all := p.Recipe.Asks(says)
		o.Each = o.Each || content.Date && !fixed || slices.Contains(content.Git, "commit") || slices.Contains(content.Git, "short")
		for _, file := range all.Files {
			o.files[path.Clean(file)] = true
		}
		if all.AnyFile {
			o.any = append(o.any, says.In)
		}
	}
	return o
}

func (o *Origin) add(u *plan.Unit) {
	if slices.Contains(o.units, u) {
		return
	}
	o.units = append(o.units, u)
	for _, other := range u.Needs() {
		o.add(other)
	}
}

// Asks reports whether values of the image may ask for a file.
func (o *Origin) Asks(file string) bool {
	return o.files[file] || slices.ContainsFunc(o.any, func(in string) bool { return recipe.Related(in, file) })
}

// asked is the set of files that values of the image may ask for.
func (o *Origin) asked() (set paths.Set) {
	if len(o.files)+len(o.any) > 0 {
		set.Has = o.Asks
	}
	if len(o.any) == 0 {
		set.Below = slices.Collect(maps.Keys(o.files))
	}
	return set
}

// Recipes reports whether a file is a recipe that says something of the image, or the lock.
func (o *Origin) Recipes(file string) bool { return o.recipes[file] }

// Told is the set of these files.
func (o *Origin) Told() paths.Set {
	return paths.Set{Has: o.Recipes, Below: slices.Collect(maps.Keys(o.recipes))}
}

// mostDecided bounds how many commits are looked into: recipes of each are read. One further back counts whatever it says.
const mostDecided = 200

// Decides reports whether a commit says otherwise of the image than all its parents.
func (o *Origin) Decides(commit string, parents []string) (bool, error) {
	if o.decided++; o.decided > mostDecided {
		return true, nil
	}
	now := o.says(commit)
	for _, parent := range parents {
		if o.says(parent) == now {
			return false, o.ctx.Err()
		}
	}
	return true, o.ctx.Err()
}

// says is what the recipe and the lock of a commit say of the image, for comparing. Of a commit whose recipe cannot be read it is like no other's.
func (o *Origin) says(commit string) string {
	if known := o.said[commit]; known != "" {
		return known
	}
	at := o.p.told.at(o.ctx, o.p, commit)
	if at.err != nil {
		return "unknown " + commit // another clone may have it
	}
	now := string(digest.ContentBytes([]byte(o.read(at))))
	o.said[commit], o.fresh = now, true
	return now
}

// read writes what a commit's recipe and lock say.
func (o *Origin) read(at *toldAt) string {
	var out strings.Builder
	told := map[string]bool{}
	for _, u := range o.units {
		if name := u.ID.Name; !told[name] {
			told[name] = true
			o.unit(&out, at, name)
		}
		o.held(&out, at, u)
		for i := range u.Steps {
			for _, s := range u.Steps[i].Do.Sources() {
				out.WriteString(at.recipe.LeftOut(s.From))
			}
		}
	}
	for _, one := range at.recipe.Authorities {
		fmt.Fprintf(&out, "authority %q\n", one.File)
	}
	return out.String()
}

// unit writes what is said of a unit, and the facts that it asks for.
func (o *Origin) unit(out *strings.Builder, at *toldAt, name string) {
	says, _ := at.recipe.Unit(name)
	if says == nil {
		fmt.Fprintf(out, "no %s\n", name)
		return
	}
	out.WriteString(says.Held)
	_, all := at.recipe.Asks(says)
	for _, fact := range all.Facts {
		fmt.Fprintf(out, "fact %q %q %q\n", fact.In, fact.Name, fact.Value.Source())
	}
}

// held writes what the lock says of a unit.
func (o *Origin) held(out *strings.Builder, at *toldAt, u *plan.Unit) {
	refs := []reference.Reference{u.Base.Reference}
	for i := range u.Steps {
		for _, use := range u.Steps[i].Do.References() {
			refs = append(refs, use.Reference)
		}
	}
	for _, ref := range refs {
		fmt.Fprintf(out, "%s\n", at.lock.Held(ref.String()))
	}
	if u.IsImage && u.Stack.MayLock() {
		fmt.Fprintf(out, "%s\n", at.lock.Divided(u.ID.Name))
	}
}

// Made returns the commit that an image is made from: the newest that touched what it takes in, or changed what is said of it; empty where
// there is none.
func (p *Planned) Made(ctx context.Context, of []*plan.Unit, takes paths.Set) (string, error) {
	origin := p.Origin(ctx, of)
	if origin.Each {
		return p.Facts.Git.Commit, nil
	}
	counting := facts.Counting{Touches: takes.Or(origin.asked()), Perhaps: origin.Told(), Decides: origin.Decides}
	origin.recall()
	newest, known, err := p.Facts.Git.NewestOf(ctx, counting)
	origin.keep()
	if !known {
		return p.Facts.Git.Commit, err
	}
	return newest.Commit, err
}

// Says names what is said of the image now, with what the files hold that its values ask for, for comparing. Where it is not known which files
// those are it is empty.
func (o *Origin) Says() (string, error) {
	if len(o.any) > 0 {
		return "", nil
	}
	now, err := o.now()
	if err != nil {
		return "", err
	}
	var out strings.Builder
	out.WriteString(now)
	for _, file := range slices.Sorted(maps.Keys(o.files)) {
		held, err := o.holds(file)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&out, "%q %s\n", file, held)
	}
	return string(digest.ContentBytes([]byte(out.String()))), nil
}

// holds names what a file of the project folder holds; empty: it is not there.
func (o *Origin) holds(file string) (string, error) {
	f, err := files.OpenRegularIn(o.p.Dir, file)
	if err != nil {
		return "", nil // whoever needs it says so
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxRecipe))
	return string(digest.ContentBytes(text)), err
}

// now is what the recipe and the lock say of the image as they are in the project folder.
func (o *Origin) now() (string, error) {
	held, err := o.p.Lock()
	if err != nil {
		return "", err
	}
	return string(digest.ContentBytes([]byte(o.read(&toldAt{recipe: o.p.Recipe, lock: held})))), nil
}

// Edited lists those of changed files by which values of the image, or what is said of it, are other than in the commit that is checked out.
func (o *Origin) Edited(changed []string) (edited []string, err error) {
	var recipes []string
	for _, file := range changed {
		switch {
		case o.Recipes(file):
			recipes = append(recipes, file)
		case o.Asks(file):
			edited = append(edited, file)
		}
	}
	if len(recipes) == 0 {
		return edited, nil
	}
	now, err := o.now()
	if err != nil {
		return nil, err
	}
	o.recall()
	defer o.keep()
	if o.says(o.p.Facts.Git.Commit) != now {
		edited = append(edited, recipes...)
	}
	return edited, o.ctx.Err()
}

// saidNote is the first line of what is kept of commits: changed with what is hashed.
const saidNote = "imbricat said 2"

// noteKey names what is kept of commits, by all that decides what they say but themselves.
func (o *Origin) noteKey() digest.Key {
	var asked strings.Builder
	fmt.Fprintln(&asked, saidNote, o.p.File)
	for _, u := range o.units {
		fmt.Fprintf(&asked, "%q %s %t\n", u.ID.Name, u.Base.Reference, u.Stack.MayLock())
		for i := range u.Steps {
			for _, s := range u.Steps[i].Do.Sources() {
				fmt.Fprintf(&asked, "%q\n", s.From)
			}
			for _, use := range u.Steps[i].Do.References() {
				fmt.Fprintln(&asked, use.Reference)
			}
		}
	}
	return digest.Key(digest.ContentBytes([]byte(asked.String())))
}

// recall reads what earlier runs found commits to say: what a commit says stays.
func (o *Origin) recall() {
	if o.p.told.memory == nil {
		return
	}
	text, _ := o.p.told.memory.Note(o.noteKey())
	for line := range strings.Lines(string(text)) {
		if commit, said, is := strings.Cut(strings.TrimSuffix(line, "\n"), " "); is && digest.Content(said).Valid() {
			o.said[commit] = said
		}
	}
}

// keep keeps it for the next run. Failing to costs time then and nothing else.
func (o *Origin) keep() {
	if o.p.told.memory == nil || !o.fresh {
		return
	}
	var text strings.Builder
	for commit, said := range o.said {
		if len(o.said) <= 4*mostDecided || o.p.told.read(commit) {
			fmt.Fprintf(&text, "%s %s\n", commit, said)
		}
	}
	_ = o.p.told.memory.PutNote(o.noteKey(), []byte(text.String()))
}

// Notes keep what was found out.
type Notes interface {
	Note(key digest.Key) ([]byte, bool)
	PutNote(key digest.Key, text []byte) error
}

// told is what recipes and locks of commits say, each read once.
type told struct {
	memory  Notes // nil: nothing is kept
	mutex   sync.Mutex
	commits map[string]*toldAt
}

// toldAt is what those of a commit say.
type toldAt struct {
	recipe *recipe.Recipe
	lock   *lock.Lock
	err    error
}

// read reports whether a commit's were read in this run.
func (t *told) read(commit string) bool {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	return t.commits[commit] != nil
}

func (t *told) at(ctx context.Context, p *Planned, commit string) *toldAt {
	t.mutex.Lock()
	defer t.mutex.Unlock()
	if one := t.commits[commit]; one != nil {
		return one
	}
	one := &toldAt{}
	if one.recipe, one.err = p.RecipeAt(ctx, p.Facts.Git, commit); one.err == nil {
		one.lock, one.err = p.LockAt(p.Facts.Git, commit)
	}
	if t.commits == nil {
		t.commits = map[string]*toldAt{}
	}
	t.commits[commit] = one
	return one
}
