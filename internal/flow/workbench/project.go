package workbench

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/flow"
	"imbricat/internal/ground/files"
	"imbricat/internal/spec/recipe"
)

// Printed is the recipe for people or, at a failure, the step in place of the one that failed.
func (b *Bench) Printed() []byte {
	if b.Failure != nil {
		return b.mended()
	}
	return b.natural()
}

// natural is the recipe where files that were put have the paths that they had.
func (b *Bench) natural() []byte {
	return b.recipe(func(_ *Act, path string) string { return path }, nil)
}

// WriteProject writes the recipe into a new folder, with its lock and the files that it takes in.
func (b *Bench) WriteProject(dir string) error {
	if there, err := os.ReadDir(dir); err == nil && len(there) > 0 {
		return flow.Usagef("%s is not empty: name a new folder for the recipe", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	where := b.apart()
	labels, err := b.labels()
	if err != nil {
		return err
	}
	text := b.recipe(where, labels)
	for i := range b.Acts {
		a := &b.Acts[i]
		for _, path := range a.files() {
			if err := lay(filepath.Join(b.dir, b.own(a, path)), filepath.Join(dir, where(a, path))); err != nil {
				return err
			}
		}
	}
	lock, err := os.ReadFile(filepath.Join(b.dir, recipe.LockName))
	if err == nil {
		err = files.Replace(filepath.Join(dir, recipe.LockName), lock, 0o644)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return files.Replace(filepath.Join(dir, recipe.DefaultName), text, 0o644)
}

// apart tells where files of acts lie in one folder: where they lay when they were put or, where files of another act would lie among
// them, in a folder of the act's own.
func (b *Bench) apart() func(a *Act, path string) string {
	type place struct {
		of   int
		path string
	}
	var all []place
	for i := range b.Acts {
		for _, p := range b.Acts[i].files() {
			all = append(all, place{b.Acts[i].Number, p})
		}
	}
	return func(a *Act, p string) string {
		if p == "." || slices.ContainsFunc(all, func(o place) bool {
			return o.of != a.Number && (o.path == "." || o.path == p || strings.HasPrefix(o.path, p+"/") || strings.HasPrefix(p, o.path+"/"))
		}) {
			return path.Join("act-"+strconv.Itoa(a.Number), p)
		}
		return p
	}
}

// lay copies files out of the workbench.
func lay(from, to string) error {
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	c := &copying{goOn: func() error { return nil }, linked: map[[2]uint64]string{}}
	if err := c.all(from, to); err != nil {
		return fmt.Errorf("writing %s: %w", to, err)
	}
	return nil
}
