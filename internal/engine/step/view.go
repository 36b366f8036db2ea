package step

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/baseimage"
	"imbricat/internal/ground/count"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/once"
)

// View is what lies below a step: an image or nothing, with what steps laid down on it.
type View struct {
	base  *baseimage.Base // nil: nothing
	below *View           // without top; nil where there is no top
	top   *Outcome
	index *once.Value[*tree.View]
	id    digest.Key // of what the index is laid together of
}

// Views are those of one piece of work. Those that give the same share what is laid together of them: an image for each of many values
// has mostly the steps of the others.
type Views struct {
	mutex   sync.Mutex
	indexes map[digest.Key]*once.Value[*tree.View]
}

var laid = count.New("views laid together")

// NewViews returns no views yet.
func NewViews() *Views { return &Views{indexes: map[digest.Key]*once.Value[*tree.View]{}} }

// Nothing is the view of an empty root.
func Nothing() *View { return &View{index: once.Known(tree.NewView())} }

// On is the view of an image.
func On(base *baseimage.Base) *View {
	return &View{base: base, index: once.Known(base.View), id: digest.Key(base.Found.Descriptor.Digest)}
}

// Above returns a view with what one more step laid down. What its index says of where files are may be another step that laid down the
// same on the same.
func (all *Views) Above(v *View, top *Outcome) *View {
	id := filetree.KeyOfText(string(v.id + "\n" + top.Key))
	all.mutex.Lock()
	defer all.mutex.Unlock()
	index := all.indexes[id]
	if index == nil {
		index = once.NewValue(func(ctx context.Context) (*tree.View, error) {
			below, err := v.Index(ctx)
			if err != nil {
				return nil, err
			}
			entries, err := top.Entries(ctx)
			if err != nil {
				return nil, err
			}
			laid.Add(1)
			view := below.Clone()
			return view, view.Apply(entries, top)
		})
		all.indexes[id] = index
	}
	return &View{base: v.base, below: v, top: top, index: index, id: id}
}

// Index returns the view's paths. It is laid together when it is first asked for, and is not to be changed.
func (v *View) Index(ctx context.Context) (*tree.View, error) { return v.index.Get(ctx) }

// Base is the image that lies lowest; nil for none.
func (v *View) Base() *baseimage.Base { return v.base }

// Outcomes returns what steps laid down, lowest first.
func (v *View) Outcomes() (all []*Outcome) {
	for ; v.top != nil; v = v.below {
		all = append(all, v.top)
	}
	slices.Reverse(all)
	return all
}

// Key names all that the view gives, without looking at it.
func (v *View) Key() digest.Key {
	var text strings.Builder
	if v.base != nil {
		fmt.Fprintln(&text, v.base.Found.Descriptor.Digest)
	}
	for _, o := range v.Outcomes() {
		fmt.Fprintln(&text, o.Key)
	}
	return filetree.KeyOfText(text.String())
}

// Strata returns the trees of the image and of the steps, lowest first.
func (v *View) Strata() (all []filetree.Stratum) {
	if v.base != nil {
		all = append(all, v.base.Strata()...)
	}
	for _, o := range v.Outcomes() {
		all = append(all, filetree.StratumOf(o.Tree, o.Task.Label))
	}
	return all
}

// Absent stands for the line of a path that a view does not have.
const Absent = "-"

// LineOf is all that a view tells of a path.
func LineOf(n *tree.Node) string {
	if n == nil {
		return Absent
	}
	return strings.TrimSuffix(string(n.AppendLine(nil)), "\n")
}

// Agrees reports whether the view has the lines that another one had at some paths. Where nothing lies below nothing need
// be looked at.
func (v *View) Agrees(ctx context.Context, lines map[string]string) (bool, error) {
	if v.base == nil && v.top == nil {
		for _, line := range lines {
			if line != Absent {
				return false, nil
			}
		}
		return true, nil
	}
	view, err := v.Index(ctx)
	if err != nil {
		return false, err
	}
	for path, line := range lines {
		n, _ := view.Lookup(path)
		if LineOf(n) != line {
			return false, nil
		}
	}
	return true, nil
}

// TimeAfter returns a time, in seconds, after that of every file of a view.
func TimeAfter(view *tree.View) int64 {
	latest := layer.Epoch.Unix()
	view.Each(func(n *tree.Node) {
		if n.Kind.Dated() {
			latest = max(latest, n.Time)
		}
	})
	return latest + 1
}
