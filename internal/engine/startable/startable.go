// Package startable tells what an image's settings name that its tree does not have, so that the image would not start, or not as meant.
//
// It looks at the settings and at the tree alone. It starts nothing, and it prints nothing.
package startable

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/account"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/recipe"
)

// Doubt is something that the settings name and the tree does not have.
type Doubt struct {
	Code  string // of the warning: what the doubt is about too
	Text  string
	Wrong bool // it can never be right
}

// Doubts compares settings with a tree. What lies in a volume is not known before the image runs, so nothing is said of it.
func Doubts(ctx context.Context, f account.Finder, view *tree.View, c v1.ImageConfig) ([]Doubt, error) {
	var all []Doubt
	if c.User != "" {
		_, err := f.Owner(ctx, view, account.Named(c.User), recipe.Pos{})
		var missing *recipe.Errors
		if errors.As(err, &missing) {
			all = append(all, Doubt{Code: event.UnknownUser, Text: fmt.Sprintf("the user %q: %s", c.User, missing.Problems[0].Message)})
		} else if err != nil {
			return nil, err
		}
	}
	look := &looker{view: view, config: c}
	all = append(all, look.folder()...)
	all = append(all, look.program()...)
	return all, look.err
}

type looker struct {
	view   *tree.View
	config v1.ImageConfig
	err    error // the first
}

// at returns what lies at a path, through links; nil for nothing.
func (l *looker) at(absolute string) *tree.Node {
	real, err := l.view.Resolve(strings.TrimPrefix(path.Clean(absolute), "/"), true)
	if err != nil {
		// A link that leads nowhere or in a circle is nothing that can be started.
		return nil
	}
	n, exists := l.view.Lookup(real)
	if !exists {
		return nil
	}
	return n
}

// inVolume reports whether a path is what a volume will hold.
func (l *looker) inVolume(p string) bool {
	for volume := range l.config.Volumes {
		if p = path.Clean(p); p == path.Clean(volume) || strings.HasPrefix(p, path.Clean(volume)+"/") {
			return true
		}
	}
	return false
}

func (l *looker) folder() []Doubt {
	dir := l.config.WorkingDir
	if dir == "" || path.Clean(dir) == "/" || l.inVolume(dir) {
		return nil
	}
	switch n := l.at(dir); {
	case n == nil:
		return []Doubt{{Code: event.MissingFolder, Text: fmt.Sprintf("the working directory %s is not in the image: whoever runs it may make it, as root's; make: {folder: %s, owner: …} makes it", dir, dir)}}
	case n.Kind != tree.Folder:
		return []Doubt{{Code: event.MissingFolder, Text: fmt.Sprintf("the working directory %s is a %s", dir, n.Kind), Wrong: true}}
	}
	return nil
}

// program looks for the program that the image starts.
func (l *looker) program() []Doubt {
	words := slices.Concat(l.config.Entrypoint, l.config.Cmd)
	if len(words) == 0 {
		return nil
	}
	name := words[0]
	var places []string
	switch {
	case name == "":
		return []Doubt{{Code: event.MissingProgram, Text: "the program that the image starts has an empty name", Wrong: true}}
	case strings.Contains(name, "/"):
		places = []string{path.Join("/", l.config.WorkingDir, name)}
		if path.IsAbs(name) {
			places = []string{name}
		}
	default:
		for _, dir := range strings.Split(l.searchPath(), ":") {
			if path.IsAbs(dir) {
				places = append(places, path.Join(dir, name))
			}
		}
	}
	var found Doubt
	for _, place := range places {
		n := l.at(place)
		switch {
		case l.inVolume(place):
			return nil
		case n == nil:
		case n.Kind == tree.Folder:
			found = Doubt{Code: event.MissingProgram, Text: fmt.Sprintf("%s, which the image starts, is a folder", place), Wrong: strings.Contains(name, "/")}
		case n.Mode&0o111 == 0:
			found = Doubt{Code: event.MissingProgram, Text: fmt.Sprintf("nobody may execute %s, which the image starts: it has the mode %04o", place, n.Mode)}
		default:
			return nil
		}
	}
	switch {
	case found.Code != "":
		return []Doubt{found}
	case strings.Contains(name, "/"):
		return []Doubt{{Code: event.MissingProgram, Text: fmt.Sprintf("the image starts %s, which it does not have", places[0])}}
	case strings.ContainsAny(name, " \t") && len(words) == 1:
		return []Doubt{{Code: event.MissingProgram, Text: fmt.Sprintf("the image starts one program named %q, which it does not have: write each word as an entry of its own", name)}}
	}
	return []Doubt{{Code: event.MissingProgram, Text: fmt.Sprintf("the image starts %q, which is in no folder of its PATH (%s)", name, l.searchPath())}}
}

func (l *looker) searchPath() string {
	for _, pair := range l.config.Env {
		if value, is := strings.CutPrefix(pair, "PATH="); is {
			return value
		}
	}
	return image.DefaultPath
}
