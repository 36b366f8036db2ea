// Package differ tells how two images differ: in layers, settings, files, packages, and where the bytes are.
//
// It works on what is known of both; it reads no blob and prints nothing.
package differ

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/installed"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/weight"
	"imbricat/internal/ground/digest"
)

// Image is one of the two, for one platform.
type Image struct {
	Layers  []weight.Layer
	Digests []digest.Digest // of the layers' blobs
	Config  *v1.Image
	// Annotations are those of the manifest.
	Annotations map[string]string
}

// What became of a file, a package or a setting.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed"
)

// Difference is how a second image differs from a first. Sizes are in bytes.
type Difference struct {
	Same     bool            `json:"same"`
	Layers   []Layer         `json:"layers"`
	Settings []Value         `json:"settings"`
	Packages []Value         `json:"packages"` // of one name several versions may be installed; then they are listed
	Files    []File          `json:"files"`    // sorted by path, at most so many
	Counts   map[string]int  `json:"counts"`   // of files by what became of them: all, also those that are not listed
	Folders  []Folder        `json:"folders"`  // that grew or shrank, those that did most first
	Fetched  int64           `json:"fetched"`  // packed bytes of the layers that a node with the first image lacks
	Unpacked int64           `json:"unpacked"` // what it unpacks of them
	Totals   [2]weight.Bytes `json:"totals"`
}

// None is how an image differs from itself.
func None() *Difference {
	return &Difference{Same: true, Layers: []Layer{}, Settings: []Value{}, Packages: []Value{}, Files: []File{}, Counts: map[string]int{}, Folders: []Folder{}}
}

// Layer is a layer of one image or of both.
type Layer struct {
	In     string        `json:"in"` // first, second, both
	Digest digest.Digest `json:"digest"`
	Packed int64         `json:"packed"`
	Step   string        `json:"step,omitempty"`
	// Ran tells of a layer that the second image alone has why its steps ran, where that is known.
	Ran []Run `json:"ran,omitempty"`
}

// Run is why a step ran. Build is the number of the build in the logbook; 0: that is not known.
type Run struct {
	Build int64  `json:"build,omitempty"`
	Why   string `json:"why"`
}

// Value is a setting or a package that differs. Was or Now is nil where there is none.
type Value struct {
	What string  `json:"what"`
	Name string  `json:"name"`
	Was  *string `json:"was,omitempty"`
	Now  *string `json:"now,omitempty"`
}

// File is a path that differs.
type File struct {
	Path string   `json:"path"` // with a slash at its beginning
	What string   `json:"what"`
	How  []string `json:"how,omitempty"` // of what changed: content, kind, mode, owner, link, attributes, device
	Was  int64    `json:"was"`
	Now  int64    `json:"now"`
	// Detail tells modes, owners and links before and now.
	Detail string `json:"detail,omitempty"`
	Step   string `json:"step,omitempty"` // that made it so: of the second image, or that of the first for what is gone
}

// Folder is how much a folder has in each image, unpacked.
type Folder struct {
	Name string `json:"name"`
	Was  int64  `json:"was"`
	Now  int64  `json:"now"`
}

// mostTold bounds the lists of files and folders.
const mostTold = 10_000

// place is where a file's bytes are.
type place struct {
	from tree.Contents
	at   string
}

// view is the file system of an image.
type view struct {
	image     *Image
	tree      *tree.View
	nodes     []*tree.Node // sorted by path
	installed *installed.Installed
}

func viewOf(i *Image) (*view, error) {
	v := &view{image: i, tree: tree.NewView()}
	for l := range i.Layers {
		if err := v.tree.Apply(i.Layers[l].Index.Entries, tree.LayerNumber(l)); err != nil {
			return nil, err
		}
	}
	v.tree.Each(func(n *tree.Node) { v.nodes = append(v.nodes, n) })
	sort.Slice(v.nodes, func(a, b int) bool { return v.nodes[a].Path < v.nodes[b].Path })
	v.installed = installed.In(v.tree, func(n *tree.Node) []installed.Package {
		if l, is := n.From.(tree.LayerNumber); is {
			return i.Layers[l].Evidence[n.At]
		}
		return nil
	})
	return v, nil
}

// step is what made a node.
func (v *view) step(n *tree.Node) string {
	if l, is := n.From.(tree.LayerNumber); is {
		return v.image.Layers[l].Step
	}
	return ""
}

// Between tells how a second image differs from a first.
func Between(first, second *Image) (*Difference, error) {
	was, err := viewOf(first)
	if err != nil {
		return nil, err
	}
	now, err := viewOf(second)
	if err != nil {
		return nil, err
	}
	d := None()
	d.layers(first, second)
	d.Settings = append(d.Settings, values(settings(first), settings(second))...)
	// What machines that run it notice comes before what is only said of it.
	slices.SortStableFunc(d.Settings, func(a, b Value) int {
		said := func(v Value) int { return strings.Count(v.Name, "annotation ") + strings.Count(v.Name, "created") }
		return cmp.Compare(min(said(a), 1), min(said(b), 1))
	})
	d.Packages = append(d.Packages, packages(was.installed, now.installed)...)
	d.files(was, now)
	d.Same = len(d.Settings)+len(d.Packages)+len(d.Counts) == 0 && slices.Equal(first.Digests, second.Digests)
	return d, nil
}

func (d *Difference) layers(first, second *Image) {
	have := map[digest.Digest]bool{}
	for _, one := range first.Digests {
		have[one] = true
	}
	both := map[digest.Digest]bool{}
	for i, one := range second.Digests {
		l := Layer{"second", one, second.Layers[i].Size, second.Layers[i].Step, nil}
		if have[one] {
			l.In, both[one] = "both", true
		} else {
			d.Fetched += l.Packed
			d.Unpacked += second.Layers[i].Index.Unpacked
		}
		d.Layers = append(d.Layers, l)
	}
	for i, one := range first.Digests {
		if !both[one] {
			d.Layers = append(d.Layers, Layer{"first", one, first.Layers[i].Size, first.Layers[i].Step, nil})
		}
	}
	for side, image := range []*Image{first, second} {
		for i := range image.Layers {
			d.Totals[side].Packed += image.Layers[i].Size
		}
	}
}

// settings are those of an image by their names.
func settings(i *Image) map[string]string {
	c := i.Config
	all := map[string]string{"platform": strings.TrimSuffix(c.OS+"/"+c.Architecture+"/"+c.Variant, "/"), "user": c.Config.User, "working directory": c.Config.WorkingDir,
		"entrypoint": words(c.Config.Entrypoint), "command": words(c.Config.Cmd), "stop signal": c.Config.StopSignal, "author": c.Author}
	maps.DeleteFunc(all, func(_, value string) bool { return value == "" })
	for _, pair := range c.Config.Env {
		name, value, _ := strings.Cut(pair, "=")
		all["env "+name] = value
	}
	for name, value := range c.Config.Labels {
		all["label "+name] = value
	}
	for name, value := range i.Annotations {
		all["annotation "+name] = value
	}
	if c.Created != nil {
		all["created"] = c.Created.UTC().Format(time.RFC3339)
	}
	for name := range c.Config.ExposedPorts {
		all["port "+name] = "yes"
	}
	for name := range c.Config.Volumes {
		all["volume "+name] = "yes"
	}
	return all
}

// Settings lists what differs of settings, of what is said of two images, and of their times.
func Settings(first, second *Image) []Value { return values(settings(first), settings(second)) }

func words(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return fmt.Sprintf("%q", list)
}

// values lists what differs, sorted by name.
func values(was, now map[string]string) (list []Value) {
	names := map[string]bool{}
	for name := range was {
		names[name] = true
	}
	for name := range now {
		names[name] = true
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		old, had := was[name]
		new, has := now[name]
		switch {
		case !had:
			list = append(list, Value{Added, name, nil, &new})
		case !has:
			list = append(list, Value{Removed, name, &old, nil})
		case old != new:
			list = append(list, Value{Changed, name, &old, &new})
		}
	}
	return list
}

// packages lists what differs of packages. Several versions of one name are told together.
func packages(was, now *installed.Installed) []Value {
	versions := func(i *installed.Installed) map[string]string {
		all := map[string][]string{}
		for _, p := range i.Packages {
			key := p.Manager + " " + p.Name
			all[key] = append(all[key], cmp.Or(p.Version, "installed"))
		}
		joined := map[string]string{}
		for name, list := range all {
			slices.Sort(list)
			joined[name] = strings.Join(slices.Compact(list), ", ")
		}
		return joined
	}
	return values(versions(was), versions(now))
}

// files compares the file systems.
func (d *Difference) files(was, now *view) {
	folders := [2]map[string]int64{{}, {}}
	counted := [2]map[place]bool{{}, {}}
	count := func(side int, n *tree.Node) {
		if n.Kind != tree.File {
			return
		}
		if n.Linked { // of several names the first counts
			at := place{n.From, n.At}
			if counted[side][at] {
				return
			}
			counted[side][at] = true
		}
		d.Totals[side].Unpacked += n.Size
		d.Totals[side].Files++
		for dir := tree.Parent(n.Path); ; dir = tree.Parent(dir) {
			if folders[side][dir] += n.Size; dir == "" {
				return
			}
		}
	}
	for i, j := 0, 0; i < len(was.nodes) || j < len(now.nodes); {
		order := 0
		switch {
		case i == len(was.nodes):
			order = 1
		case j == len(now.nodes):
			order = -1
		default:
			order = strings.Compare(was.nodes[i].Path, now.nodes[j].Path)
		}
		switch {
		case order < 0:
			count(0, was.nodes[i])
			d.file(File{What: Removed, Was: was.nodes[i].Size, Step: was.step(was.nodes[i])}, was.nodes[i])
			i++
		case order > 0:
			count(1, now.nodes[j])
			d.file(File{What: Added, Now: now.nodes[j].Size, Step: now.step(now.nodes[j])}, now.nodes[j])
			j++
		default:
			old, new := was.nodes[i], now.nodes[j]
			count(0, old)
			count(1, new)
			if how, detail := changed(old, new); len(how) > 0 {
				d.file(File{What: Changed, How: how, Was: old.Size, Now: new.Size, Detail: detail, Step: now.step(new)}, new)
			}
			i, j = i+1, j+1
		}
	}
	for dir, size := range folders[0] {
		if folders[1][dir] != size {
			d.Folders = append(d.Folders, Folder{"/" + dir, size, folders[1][dir]})
		}
	}
	for dir, size := range folders[1] {
		if _, known := folders[0][dir]; !known && size > 0 {
			d.Folders = append(d.Folders, Folder{"/" + dir, 0, size})
		}
	}
	grown := func(f Folder) int64 { return max(f.Now-f.Was, f.Was-f.Now) }
	slices.SortFunc(d.Folders, func(a, b Folder) int { return cmp.Or(cmp.Compare(grown(b), grown(a)), strings.Compare(a.Name, b.Name)) })
	d.Folders = d.Folders[:min(len(d.Folders), mostTold)]
}

func (d *Difference) file(f File, n *tree.Node) {
	if f.What != Changed && len(n.Children()) > 0 {
		return // what is in it tells of the folder
	}
	if d.Counts[f.What]++; len(d.Files) >= mostTold {
		return
	}
	f.Path = "/" + n.Path
	d.Files = append(d.Files, f)
}

// changed tells how a path differs; nothing where it does not. Times are not compared: those of images tell little.
func changed(old, new *tree.Node) (how []string, detail string) {
	var details []string
	note := func(what, was, now string) {
		how = append(how, what)
		if was != now {
			details = append(details, fmt.Sprintf("%s %s → %s", what, was, now))
		}
	}
	switch {
	case old.Kind != new.Kind:
		note("kind", old.Kind.String(), new.Kind.String())
	case old.Content != new.Content || old.Size != new.Size:
		note("content", "", "")
	case old.Kind == tree.Symlink && old.Target != new.Target:
		note("link", old.Target, new.Target)
	case old.Major != new.Major || old.Minor != new.Minor:
		note("device", fmt.Sprintf("%d,%d", old.Major, old.Minor), fmt.Sprintf("%d,%d", new.Major, new.Minor))
	}
	if old.Mode != new.Mode {
		note("mode", fmt.Sprintf("%04o", old.Mode), fmt.Sprintf("%04o", new.Mode))
	}
	if old.UID != new.UID || old.GID != new.GID {
		note("owner", fmt.Sprintf("%d:%d", old.UID, old.GID), fmt.Sprintf("%d:%d", new.UID, new.GID))
	}
	if !maps.Equal(old.Xattrs, new.Xattrs) {
		note("attributes", "", "")
	}
	return how, strings.Join(details, ", ")
}
