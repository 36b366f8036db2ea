package build

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/tree"
)

// inner is a target as trees name it.
func inner(t plan.Target) string { return strings.TrimPrefix(t.Path, "/") }

// text gives a file's bytes from memory.
type text string

// Open gives the text, whatever the path.
func (t text) Open(string) (io.ReadCloser, error) {
	return io.NopCloser(strings.NewReader(string(t))), nil
}

func (b *builder) write(ctx context.Context, c *composer, do plan.Write) error {
	owner, err := b.owner(ctx, c, do.Owner, do.OwnerPos)
	if err != nil {
		return err
	}
	content := digest.ContentBytes([]byte(do.Text))
	b.mark(content, markOf(do.To.Path, []byte(do.Text)))
	return c.add(tree.Entry{
		Path: inner(do.To), Kind: tree.File, Mode: do.Mode.Apply(0o644, false), UID: owner.uid, GID: owner.gid,
		Size: int64(len(do.Text)), Content: content,
	}, place{from: text(do.Text)}, nil)
}

// access is the owner and the mode that a step gives, worked out.
type access struct {
	owner *ids // nil: as it is where it comes from
	mode  plan.ModeRule
}

// ids are a numeric owner and group.
type ids struct{ uid, gid int }

// adopt sets what the step asks for; without, things stay as they are where they come from.
func (a access) adopt(e *tree.Entry) {
	if a.owner != nil {
		e.UID, e.GID = a.owner.uid, a.owner.gid
	}
	if a.mode.Given() && (e.Kind == tree.File || e.Kind == tree.Folder) {
		e.Mode = a.mode.Apply(e.Mode, e.Kind == tree.Folder)
	}
}

func (a access) given() bool { return a.owner != nil || a.mode.Given() }

// accessOf works out an owner that may be left out.
func (b *builder) accessOf(ctx context.Context, c *composer, owner *plan.Owner, pos recipe.Pos, mode plan.ModeRule) (access, error) {
	if owner == nil {
		return access{mode: mode}, nil
	}
	own, err := b.owner(ctx, c, *owner, pos)
	return access{&own, mode}, err
}

// take copies out of another unit's view or of an image elsewhere. A folder gives what it holds, a file itself, a
// pattern each match under its own name.
func (b *builder) take(ctx context.Context, c *composer, u *plan.Unit, step *plan.Step, do plan.Take) error {
	view, err := b.viewOf(ctx, u, do)
	if err != nil {
		return err
	}
	a, err := b.accessOf(ctx, c, do.Owner, do.OwnerPos, do.Mode)
	if err != nil {
		return err
	}
	var folders []string
	for i, wanted := range do.Paths {
		nodes, pattern, err := find(view, strings.TrimPrefix(wanted, "/"))
		if err != nil {
			return err
		}
		if len(nodes) == 0 {
			return b.o.Plan.File.Problem(do.PathPos[i], "%s has nothing at %s", originOf(do), wanted)
		}
		if !pattern && nodes[0].Kind == tree.Folder {
			folders = append(folders, wanted)
		}
		for _, n := range nodes {
			if err := takeNode(c, do.To, a, n, pattern, len(do.Paths) > 1); err != nil {
				return err
			}
		}
	}
	b.tellMerged(step, folders, false, "a take for each with a to of its own keeps them")
	return nil
}

func originOf(do plan.Take) string {
	if do.Unit != nil {
		return do.Unit.ID.String()
	}
	return do.Reference.String()
}

func (b *builder) viewOf(ctx context.Context, u *plan.Unit, do plan.Take) (*tree.View, error) {
	if do.Unit != nil {
		s, err := b.unit(ctx, do.Unit)
		if err != nil {
			return nil, err
		}
		return s.see(ctx)
	}
	base := b.bases[keyOf(do.Reference, u)]
	if err := base.load(ctx, b); err != nil {
		return nil, fmt.Errorf("the image %s: %w", base.resolved.Name, err)
	}
	return base.view, nil
}

// takeNode lays a node of a view down, with all in it. A folder that was named itself gives what it holds.
func takeNode(c *composer, target plan.Target, a access, n *tree.Node, pattern, several bool) error {
	to := inner(target)
	if n.Kind == tree.Folder {
		if pattern {
			to = tree.Join(to, path.Base(n.Path))
		}
		return takeFolder(c, a, n, to, pattern)
	}
	if target.Folder || pattern || several {
		to = tree.Join(to, path.Base(n.Path))
	}
	return takeFile(c, a, n, to)
}

// takeFolder takes a folder with all in it. A folder that was named itself lends its owner and mode to a new one only.
func takeFolder(c *composer, a access, n *tree.Node, to string, within bool) error {
	e := n.Entry
	e.Path = to
	a.adopt(&e)
	if err := c.addFolder(e, within && a.given()); err != nil {
		return err
	}
	for _, child := range n.Children() {
		target := tree.Join(to, path.Base(child.Path))
		var err error
		if child.Kind == tree.Folder {
			err = takeFolder(c, a, child, target, true)
		} else {
			err = takeFile(c, a, child, target)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func takeFile(c *composer, a access, n *tree.Node, to string) error {
	e := n.Entry
	e.Path = to
	a.adopt(&e)
	var twin any
	if n.Linked {
		twin = place{n.From, n.At}
	}
	return c.add(e, place{n.From, n.At}, twin)
}

// remove deletes what lies below. Of things in each other the outermost is enough.
func (b *builder) remove(c *composer, step *plan.Step, do plan.Remove) error {
	var gone []string
	for i, wanted := range do.Paths {
		nodes, err := toRemove(c.view, strings.TrimPrefix(wanted, "/"))
		if err != nil {
			return err
		}
		if len(nodes) == 0 {
			b.warning(step, event.NoMatch, b.o.Plan.File.Describe(do.PathPos[i], wanted+" is not there, so nothing is removed"))
		}
		for _, n := range nodes {
			if n.Path == "" {
				return b.o.Plan.File.Problem(do.PathPos[i], "the root itself cannot be removed")
			}
			gone = append(gone, n.Path)
		}
	}
	slices.Sort(gone)
	last := ""
	for _, p := range slices.Compact(gone) {
		if last != "" && strings.HasPrefix(p, last+"/") {
			continue
		}
		last = p
		if _, err := c.folder(tree.Parent(p)); err != nil {
			return err
		}
		c.put(tree.Entry{Path: p, Kind: tree.Whiteout})
	}
	return nil
}

// toRemove gives the nodes that a path or a pattern names. A link is removed itself, wherever it leads.
func toRemove(view *tree.View, wanted string) ([]*tree.Node, error) {
	real, err := view.Resolve(wanted, false)
	if err != nil {
		return nil, err
	}
	if n, exists := view.Lookup(real); exists {
		return []*tree.Node{n}, nil
	}
	if !strings.ContainsAny(wanted, "*?[{") {
		return nil, nil
	}
	return match(view, wanted)
}

// find gives the nodes that a path or a pattern names, through the links of the view, sorted by path.
func find(view *tree.View, wanted string) ([]*tree.Node, bool, error) {
	if n, err := lookup(view, wanted); err != nil || n != nil {
		return slices.DeleteFunc([]*tree.Node{n}, func(n *tree.Node) bool { return n == nil }), false, err
	}
	if !strings.ContainsAny(wanted, "*?[{") {
		return nil, false, nil
	}
	nodes, err := match(view, wanted)
	return nodes, true, err
}

func lookup(view *tree.View, wanted string) (*tree.Node, error) {
	real, err := view.Resolve(wanted, false)
	if err != nil {
		return nil, err
	}
	n, _ := view.Lookup(real)
	if n != nil && n.Kind == tree.Symlink {
		// A link to a folder stands for the folder; a link to a file is taken as a link.
		if real, err = view.Resolve(wanted, true); err != nil {
			return nil, err
		}
		if folder, exists := view.Lookup(real); exists && folder.Kind == tree.Folder {
			return folder, nil
		}
	}
	return n, nil
}

// match gives the nodes that a pattern names; what lies in a folder that matched belongs to it and is no match.
func match(view *tree.View, pattern string) ([]*tree.Node, error) {
	base, rest := doublestar.SplitPattern(pattern)
	if base == "." {
		base = ""
	}
	real, err := view.Resolve(base, true)
	if err != nil {
		return nil, err
	}
	top, exists := view.Lookup(real)
	if !exists {
		return nil, nil
	}
	var found []*tree.Node
	var visit func(n *tree.Node) error
	visit = func(n *tree.Node) error {
		for _, child := range n.Children() {
			matched, err := doublestar.Match(rest, strings.TrimPrefix(strings.TrimPrefix(child.Path, top.Path), "/"))
			if err != nil {
				return fmt.Errorf("%q is no valid pattern: %w", pattern, err)
			}
			if matched {
				found = append(found, child)
			} else if err := visit(child); err != nil {
				return err
			}
		}
		return nil
	}
	return found, visit(top)
}
