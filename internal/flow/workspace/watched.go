package workspace

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
	"imbricat/internal/engine"
	"imbricat/internal/ground/changes"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/paths"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/recipe"
)

// Watched returns what a build depends on of the project folder and of version control: what its steps take in, the files that values ask for, the
// recipes and the lock, ignore files, and the commit that is checked out.
func (w *Workspace) Watched(ctx context.Context) (changes.Scope, error) {
	source, err := w.Source(w.Store.Dir())
	if err != nil {
		return changes.Scope{}, err
	}
	defer source.Close()
	taken := engine.TakenIn(engine.Inputs{Plan: w.Plan, Folder: source}, w.Plan.Units)
	origin := w.Origin(ctx, w.Plan.Units)
	scope := changes.Scope{Files: taken.Or(ignoreFiles(taken)).Or(origin.asked()).Or(origin.Told()), Skip: source.LeavesOut()}
	own := ownFiles(w.Project, w.Store.Dir())
	has := scope.Files.Has
	scope.Files.Has = func(p string) bool { return !own(p) && has(p) }
	w.withCommit(&scope)
	return w.withRecipe(scope), nil
}

// RecipeAlone is what is watched as long as no recipe could be read.
func (p Project) RecipeAlone() changes.Scope {
	files := []string{recipe.LockName}
	if dir, err := filepath.Abs(p.Dir); err == nil {
		if file, inside := Inside(dir, p.RecipePath()); inside {
			files = append(files, file)
		}
	}
	return p.withRecipe(changes.Scope{Files: paths.Set{Has: func(p string) bool { return slices.Contains(files, p) }, Below: files}})
}

// withRecipe has a scope watch a recipe that lies outside the project folder.
func (p Project) withRecipe(scope changes.Scope) changes.Scope {
	dir, err := filepath.Abs(p.Dir)
	if err != nil {
		return scope
	}
	if _, inside := Inside(dir, p.RecipePath()); inside {
		return scope
	}
	mark := scope.Mark
	scope.Beside = append(slices.Clip(scope.Beside), filepath.Dir(p.RecipePath()))
	scope.Mark = func() string {
		text, err := os.ReadFile(p.RecipePath())
		now := fmt.Sprint(digest.FromBytes(text), err)
		if mark != nil {
			now += mark()
		}
		return now
	}
	return scope
}

// ignoreFiles are the files that say what is left out of what is taken in.
func ignoreFiles(taken paths.Set) paths.Set {
	if taken.Empty() {
		return taken
	}
	files := paths.Set{Has: func(p string) bool { return path.Base(p) == ".gitignore" }}
	if taken.Below != nil {
		files.Below = []string{".gitignore"}
		for _, named := range taken.Below {
			for dir := named; dir != "" && dir != "."; dir = tree.Parent(dir) {
				files.Below = append(files.Below, tree.Join(dir, ".gitignore"))
			}
		}
	}
	return files
}

// ownFiles tells which paths of the project folder are written by this program itself: they change with every build.
func ownFiles(p Project, store string) func(p string) bool {
	own := slices.Clone(p.Writes)
	if dir, err := filepath.Abs(p.Dir); err == nil {
		if below, inside := Inside(dir, store); inside {
			own = append(own, below)
		}
	}
	return func(p string) bool {
		return slices.ContainsFunc(own, func(at string) bool { return p == at || strings.HasPrefix(p, at+"/") })
	}
}

// withCommit has a scope watch which commit is checked out.
func (w *Workspace) withCommit(scope *changes.Scope) {
	dir, err := filepath.Abs(w.Dir)
	if err != nil || !w.Facts.Git.Known() {
		return
	}
	scope.Beside = facts.HeadFolders(dir)
	scope.Mark = func() string { return facts.Head(dir) }
}
