package facts

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/format/index"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/storage/filesystem"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/ignore"
)

// status is how a work tree differs from the commit that is checked out, in paths relative to the work tree, sorted.
type status struct {
	changed   []string // known to version control and other than in the commit: edited, deleted, added
	untracked []string // files that version control neither has nor ignores
}

// entry is what a path of version control is: the name of its bytes, and its kind.
type entry struct {
	hash plumbing.Hash
	mode filemode.FileMode
}

// status compares the work tree, the index and the commit. The work tree is walked once; a file is read only where its
// times and size are not those that the index has.
func (g *Git) status() (status, error) {
	s, err := g.compare()
	if err != nil {
		return status{}, fmt.Errorf("reading the git work tree: %w", err)
	}
	return s, nil
}

func (g *Git) compare() (s status, err error) {
	idx, written, err := g.staged()
	if err != nil {
		return s, err
	}
	ours, err := g.repo.Worktree()
	if err != nil {
		return s, err
	}
	w := &worktree{git: g, root: ours.Filesystem.Root(), written: written, entries: make(map[string]*index.Entry, len(idx.Entries))}
	changed := map[string]bool{}
	for _, e := range idx.Entries {
		if e.Stage != 0 {
			changed[e.Name] = true // a merge that is not done
		}
		w.entries[e.Name] = e
	}
	if !g.agrees(idx) {
		committed, err := g.committed()
		if err != nil {
			return s, err
		}
		for name, e := range w.entries {
			if committed[name] != (entry{e.Hash, e.Mode}) {
				changed[name] = true
			}
		}
		for name := range committed {
			if w.entries[name] == nil {
				changed[name] = true
			}
		}
	}
	if err := w.walk(changed); err != nil {
		return s, err
	}
	s.changed = slices.Sorted(maps.Keys(changed))
	slices.Sort(w.untracked)
	// What is no longer known to version control, and still there, is both.
	s.untracked = slices.DeleteFunc(w.untracked, func(name string) bool { return changed[name] })
	return s, nil
}

// staged reads the index. What was modified when it was written, or later, may differ without showing: written tells.
func (g *Git) staged() (idx *index.Index, written racy, err error) {
	if idx, err = g.repo.Storer.Index(); err != nil {
		return nil, written, err
	}
	disk, is := g.repo.Storer.(*filesystem.Storage)
	if !is {
		return idx, written, nil
	}
	info, err := disk.Filesystem().Stat("index")
	if errors.Is(err, fs.ErrNotExist) {
		return idx, written, nil
	}
	if err != nil {
		return nil, written, err
	}
	return idx, racy{info.ModTime()}, nil
}

// agrees reports whether the index holds what the commit does, as git notes it there.
func (g *Git) agrees(idx *index.Index) bool {
	if idx.Cache == nil || len(idx.Cache.Entries) == 0 {
		return false
	}
	top := idx.Cache.Entries[0]
	return top.Path == "" && top.Entries == len(idx.Entries) && top.Hash == g.head.TreeHash
}

// committed lists what the commit that is checked out has.
func (g *Git) committed() (map[string]entry, error) {
	top, err := g.head.Tree()
	if err != nil {
		return nil, err
	}
	walker := object.NewTreeWalker(top, true, nil)
	defer walker.Close()
	all := map[string]entry{}
	for {
		name, e, err := walker.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if e.Mode != filemode.Dir {
			all[name] = entry{e.Hash, e.Mode}
		}
	}
}

// worktree is one look at the files of a repository.
type worktree struct {
	git       *Git
	root      string
	written   racy
	entries   map[string]*index.Entry
	modes     bool // whether files can be executed counts
	untracked []string
	opener    *tree.Opener
}

// walk adds to changed what is not as the index has it, and collects what is new.
func (w *worktree) walk(changed map[string]bool) error {
	settings, err := w.git.repo.ConfigScoped(config.SystemScope)
	if err != nil {
		return err
	}
	w.modes = settings.Raw.Section("core").Option("filemode") != "false"
	rules, err := w.git.excluded(settings)
	if err != nil {
		return err
	}
	source, err := tree.OpenSource(w.root, tree.SourceOptions{Unnamed: []string{".git"}, Ignore: []tree.Ignore{{LeaveOut: rules, HonourGitignore: true}}})
	if err != nil {
		return err
	}
	defer source.Close()
	w.opener = source.Opener()
	defer w.opener.Close()
	survey, err := source.Pick(".", tree.PickOptions{})
	if err != nil && !errors.Is(err, tree.ErrAllLeftOut) && !errors.Is(err, tree.ErrNoMatch) {
		return err
	}
	if survey == nil {
		survey = &tree.Survey{}
	}
	met := make(map[string]bool, len(w.entries))
	within := "" // a repository in this one, with a slash at its end
	for i := range survey.Picked {
		p := &survey.Picked[i]
		if within != "" && strings.HasPrefix(p.Path, within) {
			continue
		}
		e := w.entries[p.Path]
		switch {
		case e != nil && e.Mode == filemode.Submodule && p.Kind == tree.Folder:
			within = p.Path + "/"
		case e == nil && p.Kind != tree.Folder:
			w.untracked = append(w.untracked, p.Path)
			continue
		case e == nil:
			continue
		}
		met[p.Path] = true
		if err := w.look(p, changed); err != nil {
			return err
		}
	}
	for name, e := range w.entries {
		if met[name] || changed[name] || e.SkipWorktree {
			continue
		}
		// Version control has some files that it is told to ignore. All others are gone.
		p, err := w.ignored(survey.LeftOut, name)
		switch {
		case err != nil:
			return err
		case p == nil:
			changed[name] = true
		default:
			if err := w.look(p, changed); err != nil {
				return err
			}
		}
	}
	return nil
}

// look compares a path that is there with its entry.
func (w *worktree) look(p *tree.Picked, changed map[string]bool) error {
	if changed[p.Path] {
		return nil
	}
	same, err := w.same(p, w.entries[p.Path])
	if errors.Is(err, fs.ErrNotExist) {
		same, err = false, nil // it went away meanwhile
	}
	if !same {
		changed[p.Path] = true
	}
	return err
}

func (w *worktree) same(p *tree.Picked, e *index.Entry) (bool, error) {
	switch p.Kind {
	case tree.Folder:
		if e.Mode != filemode.Submodule {
			return false, nil
		}
		return w.submodule(p.Path, e)
	case tree.Symlink:
		if e.Mode != filemode.Symlink {
			return false, nil
		}
		return plumbing.ComputeHash(plumbing.BlobObject, []byte(p.Link)) == e.Hash, nil
	}
	if !e.Mode.IsRegular() && e.Mode != filemode.Executable || w.modes && (e.Mode == filemode.Executable) != (p.Mode&0o100 != 0) {
		return false, nil
	}
	if sure := !w.written.unsure(e.ModifiedAt); sure && stateOf(e) == StateOf(p.Stat) {
		return true, nil
	}
	if uint32(p.Stat.Size) != e.Size && e.Size != 0 { // git notes no size where it is not sure of the rest
		return false, nil
	}
	f, stat, err := w.opener.Open(p.Path)
	if err != nil {
		return false, err
	}
	defer f.Close()
	hash := plumbing.NewHasher(plumbing.BlobObject, stat.Size)
	if n, err := io.Copy(hash, io.LimitReader(f, stat.Size+1)); err != nil || n != stat.Size {
		return false, err
	}
	return hash.Sum() == e.Hash, nil
}

// submodule reports whether another repository in this one is at the commit that is noted, with nothing edited. One that was
// never brought is as it should be.
func (w *worktree) submodule(name string, e *index.Entry) (bool, error) {
	dir := filepath.Join(w.root, filepath.FromSlash(name))
	if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
		return errors.Is(err, fs.ErrNotExist), nil
	}
	inner, err := openGit(dir)
	if err != nil || inner.Commit != e.Hash.String() {
		return false, err
	}
	s, err := inner.status()
	return len(s.changed)+len(s.untracked) == 0, err
}

// ignored looks for an entry among what ignore patterns leave out; nil: it is not there.
func (w *worktree) ignored(leftOut []string, name string) (*tree.Picked, error) {
	if !slices.ContainsFunc(leftOut, func(one string) bool { return name == one || strings.HasPrefix(name, one+"/") }) {
		return nil, nil
	}
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		if info, err := os.Lstat(filepath.Join(w.root, filepath.FromSlash(dir))); err != nil || !info.IsDir() {
			return nil, nil // nothing is looked for behind a link
		}
	}
	plain, err := tree.OpenSource(w.root, tree.SourceOptions{})
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	survey, err := plain.Pick(name, tree.PickOptions{Structure: true})
	if errors.Is(err, fs.ErrNotExist) || err == nil && len(survey.Picked) == 0 {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	p := survey.Picked[0]
	p.Path = name
	return &p, nil
}

// excluded returns the patterns that the repository and its user have beside the .gitignore files, the weakest first.
func (g *Git) excluded(settings *config.Config) (patterns []string, err error) {
	read := func(f io.ReadCloser, err error) error {
		if err != nil {
			if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
				return nil
			}
			return err
		}
		defer f.Close()
		text, err := io.ReadAll(io.LimitReader(f, 1<<20))
		patterns = append(patterns, ignore.Lines(string(text))...)
		return err
	}
	if file := excludesFile(settings); file != "" {
		f, err := os.Open(file)
		if err := read(f, err); err != nil {
			return nil, err
		}
	}
	if disk, is := g.repo.Storer.(*filesystem.Storage); is {
		f, err := disk.Filesystem().Open("info/exclude")
		if err := read(f, err); err != nil {
			return nil, err
		}
	}
	return patterns, nil
}

// excludesFile returns the file of the user's own patterns, "" where there is no place for one.
func excludesFile(settings *config.Config) string {
	file := settings.Raw.Section("core").Option("excludesfile")
	if file == "" {
		if dir, err := os.UserConfigDir(); err == nil {
			return filepath.Join(dir, "git", "ignore")
		}
		return ""
	}
	if below, is := strings.CutPrefix(file, "~/"); is {
		home, err := os.UserHomeDir()
		if err != nil {
			return ""
		}
		return filepath.Join(home, below)
	}
	return file
}
