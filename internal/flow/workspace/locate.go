package workspace

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/flow"
	"imbricat/internal/ground/files"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/lock"
	"imbricat/internal/spec/recipe"
)

// maxLock bounds what is read of a lock in a commit, in bytes.
const maxLock = 64 << 20

// mostUp bounds how many folders above one are looked into.
const mostUp = 100

// Around finds the project that a folder belongs to. It is where the folder's recipe lies, or that of the nearest folder above, or the
// recipe that names that one as one of its graph. Folders above are looked into as far as one working tree of version control goes, and a
// recipe of somebody else is passed over: it may name commands that run on this machine.
func Around(dir string) Project {
	alone := Project{Dir: dir, File: recipe.DefaultName, Here: "."}
	up := above(dir)
	nearest := slices.IndexFunc(up, func(one string) bool { return holdsRecipe(one, one == dir) })
	if nearest < 0 {
		return alone
	}
	found := up[nearest]
	for _, one := range up[nearest+1:] {
		if holdsRecipe(one, false) && names(one, up[nearest]) {
			found = one
			break
		}
	}
	here, err := relative(found, dir)
	if err != nil {
		return alone
	}
	return Project{Dir: found, File: recipe.DefaultName, Here: here}
}

// above lists a folder and those above it up to the top of its working tree; the folder alone where it is in none.
func above(dir string) []string {
	up := []string{dir}
	for one := dir; len(up) < mostUp; one = filepath.Join(one, "..") {
		if one != dir {
			up = append(up, one)
		}
		if _, err := os.Lstat(filepath.Join(one, ".git")); err == nil {
			return up
		}
		if whole, err := filepath.Abs(one); err != nil || filepath.Dir(whole) == whole {
			break
		}
	}
	return []string{dir}
}

// holdsRecipe reports whether a folder has a recipe that may be used from it, or from folders below.
func holdsRecipe(dir string, itself bool) bool {
	info, err := os.Lstat(filepath.Join(dir, recipe.DefaultName))
	return err == nil && (itself || info.Mode().IsRegular() && files.Trusted(info))
}

// names reports whether the recipe of a folder names that of another one below it.
func names(dir, other string) bool {
	text, err := readRecipe(filepath.Join(dir, recipe.DefaultName))
	if err != nil {
		return false
	}
	below, err := relative(dir, other)
	if err != nil {
		return false
	}
	return slices.ContainsFunc(recipe.Others(text), func(pattern string) bool {
		is, err := doublestar.Match(pattern, path.Join(below, recipe.DefaultName))
		return err == nil && is
	})
}

// relative is the path of a folder below another, with slashes, wherever links led to them.
func relative(from, to string) (string, error) {
	var whole [2]string
	for i, one := range []string{from, to} {
		abs, err := filepath.Abs(one)
		if err == nil {
			whole[i], err = filepath.EvalSymlinks(abs)
		}
		if err != nil {
			return "", err
		}
	}
	below, err := filepath.Rel(whole[0], whole[1])
	return filepath.ToSlash(below), err
}

// readRecipe reads the text of a recipe, up to a bit more than one may have.
func readRecipe(path string) ([]byte, error) {
	f, err := files.OpenRegular(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxRecipe))
}

// find returns the recipes of the project that a pattern names.
func (p Project) find(pattern string) (all []recipe.Source, err error) {
	root, err := os.OpenRoot(p.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	found, err := doublestar.Glob(root.FS(), pattern, doublestar.WithFilesOnly(), doublestar.WithNoFollow())
	if err != nil {
		return nil, files.Outside(err)
	}
	if len(found) == 0 {
		return nil, errors.New("there is no such file")
	}
	slices.Sort(found)
	for _, name := range found {
		f, err := files.OpenRegularIn(p.Dir, name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		text, err := io.ReadAll(io.LimitReader(f, maxRecipe))
		f.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		all = append(all, recipe.Source{Name: name, Text: text})
	}
	return all, nil
}

// RecipeAt reads the recipe as a commit has it.
func (p Project) RecipeAt(ctx context.Context, g *facts.Git, commit string) (*recipe.Recipe, error) {
	name := filepath.ToSlash(p.File)
	if filepath.IsAbs(p.File) {
		return nil, fmt.Errorf("the recipe %s is not below the project folder", p.File)
	}
	text, err := g.File(commit, path.Clean(name), maxRecipe)
	if err != nil {
		return nil, err
	}
	if text == nil {
		return nil, fmt.Errorf("it has no %s", name)
	}
	files := sync.OnceValues(func() ([]string, error) { return g.Names(ctx, commit, func(string) bool { return true }) })
	return recipe.ParseGraph(name, text, func(pattern string) (all []recipe.Source, err error) {
		known, err := files()
		if err != nil {
			return nil, err
		}
		for _, file := range known {
			if is, err := doublestar.Match(pattern, file); err != nil || !is {
				continue
			}
			text, err := g.File(commit, file, maxRecipe)
			if err != nil {
				return nil, err
			}
			all = append(all, recipe.Source{Name: file, Text: text})
		}
		return all, nil
	})
}

// LockAt reads the lock as a commit has it; without one it is nil.
func (p Project) LockAt(g *facts.Git, commit string) (*lock.Lock, error) {
	name := path.Join(path.Dir(filepath.ToSlash(p.File)), recipe.LockName)
	text, err := g.File(commit, name, maxLock)
	if err != nil || text == nil {
		return nil, err
	}
	return lock.Parse(name, text)
}

// named puts names of the graph in the place of what a person writes, and the images of a folder in the place of the folder. What starts
// with . is relative to where one stands, and all else to the project folder.
func (p Project) named(r *recipe.Recipe, wanted []string) (all []string, err error) {
	for _, one := range wanted {
		if own, first := strings.CutPrefix(one, "#"); first { // as recipes name what the first one has
			one = own
		}
		folder := path.Clean(filepath.ToSlash(one))
		here := folder == "." || folder == ".." || strings.HasPrefix(one, "./") || strings.HasPrefix(folder, "../")
		if !here && (r.Has(one) || len(r.In(folder)) == 0) {
			all = append(all, one)
			continue
		}
		if here {
			folder = path.Join(p.Here, folder)
		}
		images, err := p.imagesIn(r, one, folder)
		if err != nil {
			return nil, err
		}
		all = append(all, images...)
	}
	return all, nil
}

// imagesIn are the images of the recipes in a folder and below it; where there are none, those of the recipe that the folder belongs to.
func (p Project) imagesIn(r *recipe.Recipe, asked, folder string) ([]string, error) {
	if folder == ".." || strings.HasPrefix(folder, "../") {
		return nil, flow.Usagef("%s is outside the project folder %s", asked, p.Dir)
	}
	if info, err := os.Stat(filepath.Join(p.Dir, filepath.FromSlash(folder))); err != nil || !info.IsDir() {
		return nil, flow.Usagef("%s is no folder of the project", asked)
	}
	images := r.In(folder)
	for within := folder; len(images) == 0 && within != ""; {
		if within = path.Dir(within); within == "." {
			within = ""
		}
		images = r.Of(within)
	}
	if len(images) == 0 {
		return nil, flow.Usagef("no recipe with an image is in %s, and it belongs to none: the recipes are %s", asked, strings.Join(r.Files(), ", "))
	}
	return images, nil
}
