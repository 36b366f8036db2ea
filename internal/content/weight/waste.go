package weight

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// Kinds of waste. The first five are bytes that a node gets and nobody sees, or twice; the others are files that an image seldom needs.
const (
	Replaced   = "replaced"   // a later layer has something else at the path
	Deleted    = "deleted"    // a later layer deletes it
	Changed    = "changed"    // a later layer has the same bytes again, with another mode, owner or time
	Doubled    = "doubled"    // the layer itself has the path again
	Duplicate  = "duplicate"  // the same bytes are at another path
	Cache      = "cache"      // what a package manager left: lists, downloads, caches
	VCS        = "history"    // folders of version control
	Debug      = "debug"      // symbols for debuggers
	Documents  = "documents"  // manuals, licences, examples
	Translated = "translated" // messages in other languages
)

// cures tell how a recipe gets rid of each kind.
var cures = map[string]string{
	Replaced:   "leave it out of the step that has it first (`leave-out`)",
	Deleted:    "delete it in the step that makes it, or `take` the result without it",
	Changed:    "give it its `mode` and `owner` in the step that makes it",
	Doubled:    "whoever packs the layer writes the path twice",
	Duplicate:  "keep one, and `link` the other to it",
	Cache:      "delete it in the command that makes it, or keep it outside (`kept`)",
	VCS:        "leave it out of the copy (`leave-out`)",
	Debug:      "strip programs, or leave the symbols out (`leave-out`)",
	Documents:  "leave it out (`leave-out`), or do not have it installed",
	Translated: "leave it out (`leave-out`), or do not have it installed",
}

// Waste is bytes of an image that it could do without.
type Waste struct {
	Kind string `json:"kind"`
	Path string `json:"path"` // with a slash at its beginning; a folder stands for all of it that is waste
	Bytes
	Layers []int    `json:"layers"` // that have them, counted from 1
	Steps  []string `json:"steps"`  // what made these, each once
	// By is the layer that hides them, and what made it; 0: none does.
	By     int    `json:"by,omitempty"`
	ByStep string `json:"byStep,omitempty"`
	Cure   string `json:"cure"`
}

// hit is a file that is waste: where it is, or what stands for it.
type hit struct {
	kind, path string
	root       bool // path is a folder that stands for it
	layer, by  int  // by is -1 where nothing hides it
	packed     int64
	size       int64
}

// mostWaste bounds how many kinds and places of waste are told.
const mostWaste = 1000

// needless tells of files that are seldom needed: their kind, and the folder that stands for them.
func needless(p string) (kind, root string) {
	for i := range rules {
		rule := &rules[i]
		for _, folder := range rule.folders {
			if rest, is := strings.CutPrefix(p, folder); is && (rest == "" || rest[0] == '/') {
				return rule.kind, folder
			}
		}
		for _, name := range rule.anywhere {
			for at, from := 0, 0; ; from = at + 1 {
				next := strings.Index(p[from:], name)
				if next < 0 {
					break
				}
				at = from + next
				if end := at + len(name); (at == 0 || p[at-1] == '/') && end < len(p) && p[end] == '/' {
					return rule.kind, p[:end]
				}
			}
		}
		if len(rule.ends) > 0 {
			if end := path.Ext(p); end != "" && slices.Contains(rule.ends, end) {
				return rule.kind, tree.Parent(p)
			}
		}
	}
	return "", ""
}

var rules = []struct {
	kind     string
	folders  []string
	anywhere []string // folders, wherever they are
	ends     []string // of files
}{
	{VCS, nil, []string{".git", ".hg", ".svn", ".bzr"}, nil},
	{Cache, []string{"var/cache/apt", "var/lib/apt/lists", "var/cache/debconf", "var/cache/apk", "etc/apk/cache", "var/cache/dnf", "var/cache/yum", "var/cache/zypp", "var/cache/pacman", "var/cache/ldconfig", "var/cache/man",
		"var/log/apt", "usr/local/share/.cache"},
		[]string{".npm/_cacache", ".npm/_logs", ".cache/pip", ".cache/yarn", ".cache/go-build", ".cache/pnpm", ".cache/uv", ".cache/node-gyp", ".gradle/caches", ".m2/repository", ".cargo/registry/cache", ".nuget/packages", "go/pkg/mod/cache", ".bundle/cache"}, nil},
	{Debug, []string{"usr/lib/debug"}, []string{".build-id"}, []string{".debug", ".dSYM", ".pdb"}},
	{Documents, []string{"usr/share/doc", "usr/share/man", "usr/share/info", "usr/share/gtk-doc", "usr/local/share/man", "usr/local/share/doc", "usr/share/help"}, nil, nil},
	{Translated, []string{"usr/share/locale", "usr/local/share/locale"}, nil, nil},
}

// smallestTwin is from how many bytes on files of the same bytes are told.
const smallestTwin = 512

// twin is one of several files with the same bytes.
type twin struct {
	path         string
	layer        int
	packed, size int64
}

type twins struct{ all []twin }

// twins counts all but the first of files with the same bytes.
func (w *weighing) twins(contents map[digest.Content]*twins) {
	for _, same := range contents {
		if len(same.all) < 2 {
			continue
		}
		slices.SortFunc(same.all, func(a, b twin) int { return cmp.Or(cmp.Compare(a.layer, b.layer), strings.Compare(a.path, b.path)) })
		for _, one := range same.all[1:] {
			w.hits = append(w.hits, hit{Duplicate, one.path, false, one.layer, -1, one.packed, one.size})
		}
	}
}

// hidden counts what no one sees.
func (w *weighing) hidden() {
	for l := range w.layers {
		one := &w.layers[l]
		for _, d := range one.Weights.Doubled {
			w.hits = append(w.hits, hit{Doubled, d.Path, false, l, -1, d.Packed, d.Size})
			w.image.Layers[l].Hidden += d.Packed
		}
		for i := range one.Index.Entries {
			e := &one.Index.Entries[i]
			if e.Kind != tree.File || w.seen[l][i] {
				continue
			}
			found := hit{layer: l, packed: one.Weights.Packed[i], size: e.Size}
			found.kind, found.path, found.root, found.by = w.fate(e, l)
			w.hits = append(w.hits, found)
			w.image.Layers[l].Hidden += found.packed
		}
	}
}

// fate tells what became of a file that is not seen: the first later layer that hides it, and how. What is deleted with its folder is told as the
// folder.
func (w *weighing) fate(e *tree.Entry, l int) (kind, at string, root bool, by int) {
	for by := l + 1; by < len(w.layers); by++ {
		if i, again := w.file(by, e.Path); again {
			if w.layers[by].Index.Entries[i].Content == e.Content {
				return Changed, e.Path, false, by
			}
			return Replaced, e.Path, false, by
		}
		if kind, at := w.gone(e.Path, by); kind != "" {
			return kind, at, at != e.Path, by
		}
	}
	return Replaced, e.Path, false, -1
}

// gone tells how a layer hides a path that it has no file at, and names the highest folder that goes with it; "": it does not.
func (w *weighing) gone(p string, by int) (kind, root string) {
	entries := w.layers[by].Index.Entries
	for at := p; at != ""; at = tree.Parent(at) {
		i, _ := slices.BinarySearchFunc(entries, at, func(e tree.Entry, p string) int { return strings.Compare(e.Path, p) })
		for ; i < len(entries) && entries[i].Path == at; i++ {
			switch here := entries[i].Kind; {
			case here == tree.Whiteout, here == tree.Opaque && at != p:
				kind, root = Deleted, at
			case here == tree.Opaque, here == tree.Folder && at != p:
			default:
				kind, root = Replaced, at
			}
		}
	}
	return kind, root
}

// group tells what is told as one: of one kind, layer and cause, below one folder of the root or the folder that stands for it.
type group struct {
	kind      string
	layer, by int
	top       string
}

// finish tells the waste, the largest first.
func (w *weighing) finish() {
	groups := map[group]*Waste{}
	for _, h := range w.hits {
		top, _, _ := strings.Cut(h.path, "/")
		if h.root {
			top = h.path
		}
		key := group{h.kind, h.layer, h.by, top}
		if h.root && h.by < 0 {
			key.layer = -1 // the folder tells more than the layer
		}
		one := groups[key]
		if one == nil {
			one = &Waste{Kind: h.kind, Path: h.path, By: h.by + 1, Cure: cures[h.kind]}
			if h.by >= 0 {
				one.ByStep = w.layers[h.by].Step
			}
			groups[key] = one
		}
		one.add(h.packed, h.size, 1)
		if !slices.Contains(one.Layers, h.layer+1) {
			one.Layers = append(one.Layers, h.layer+1)
		}
		one.Path = common(one.Path, h.path)
		w.image.Wasted.add(h.packed, h.size, 1)
	}
	for _, one := range groups {
		one.Path = "/" + one.Path
		slices.Sort(one.Layers)
		one.Steps = []string{}
		for _, l := range one.Layers {
			if step := w.layers[l-1].Step; step != "" && !slices.Contains(one.Steps, step) {
				one.Steps = append(one.Steps, step)
			}
		}
		w.image.Waste = append(w.image.Waste, *one)
	}
	slices.SortFunc(w.image.Waste, func(a, b Waste) int {
		return cmp.Or(cmp.Compare(b.Packed, a.Packed), cmp.Compare(b.Unpacked, a.Unpacked), strings.Compare(a.Kind, b.Kind), strings.Compare(a.Path, b.Path), slices.Compare(a.Layers, b.Layers), cmp.Compare(a.By, b.By))
	})
	w.image.Waste = w.image.Waste[:min(len(w.image.Waste), mostWaste)]
}

// common returns the path that two are, or lie in.
func common(a, b string) string {
	for a != b && !strings.HasPrefix(b, a+"/") && a != "" {
		a = tree.Parent(a)
	}
	return a
}
