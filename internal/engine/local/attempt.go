package local

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sandbox/folder"
	"imbricat/internal/ground/digest"
)

// attempt is what a command left. Its files lie in a folder of their own until it is accepted.
type attempt struct {
	local   *Local
	box     *sandbox.Box
	folder  string // that holds root; empty: nothing is left
	status  executor.Status
	entries []tree.Entry
	trace   *trace.Trace
	over    []digest.Key
}

func (a *attempt) Status() executor.Status { return a.status }
func (a *attempt) Trace() *trace.Trace     { return a.trace }
func (a *attempt) Entries() []tree.Entry   { return a.entries }
func (a *attempt) Files() tree.Contents {
	return contentsIn(a.box, filepath.Join(a.folder, "root"), a.entries)
}
func (a *attempt) Over() []digest.Key { return a.over }

// Discard removes what the command left.
func (a *attempt) Discard() {
	if a.folder != "" {
		_ = a.local.store.Discard(a.folder)
	}
}

// Accept keeps what the command left as an unpacked tree.
func (a *attempt) Accept(ctx context.Context) (tree.Contents, error) {
	defer a.Discard()
	if len(a.entries) == 0 {
		return filetree.Memory(""), nil
	}
	key := filetree.Summarize(a.entries).Key
	root := filepath.Join(a.folder, "root")
	if err := a.box.Note(root, store.MarksOf(root)); err != nil {
		return nil, err
	}
	dir, err := a.local.store.PutSnapshot(a.box.SnapshotFormat(), key, a.folder, roomOf(a.entries))
	if err != nil {
		return nil, err
	}
	return contentsIn(a.box, dir, a.entries), ctx.Err()
}

// capture moves what a command left out of its place, and works out what it learnt.
func (p *Place) capture(a *attempt, job executor.Job, seen *trace.Observation) (err error) {
	if a.folder, err = p.local.store.TemporaryFolder(); err != nil {
		return err
	}
	root := filepath.Join(a.folder, "root")
	found, err := p.Box.Wrote(p.Spec, root)
	if err != nil {
		return fmt.Errorf("reading what the command left: %w", err)
	}
	entries, mending, hidden, err := normalizeUpper(job.View.Index, found, p.Box.IDs() == sandbox.OneID)
	if err != nil {
		return err
	}
	for i := range entries {
		if entries[i].Kind.Dated() {
			entries[i].Time = job.Time
		}
	}
	if a.trace, err = learnt(job, p.Spec, seen, entries, hidden); err != nil {
		return err
	}
	if entries, mending.Gone, err = withoutLent(job.Lent, entries); err != nil {
		return err
	}
	if err := p.Box.Mend(root, mending); err != nil {
		return err
	}
	slices.SortFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	a.entries = entries
	return nil
}

// Left reads what a command left, for whoever keeps it otherwise than as a tree of the store, however it ended. Done removes it.
func (p *Place) Left(job executor.Job) (entries []tree.Entry, from tree.Contents, done func(), err error) {
	a := &attempt{local: p.local, box: p.Box}
	if err := p.capture(a, job, nil); err != nil {
		a.Discard()
		return nil, nil, nil, fmt.Errorf("keeping what the command left: %w", err)
	}
	return a.entries, contentsIn(p.Box, filepath.Join(a.folder, "root"), a.entries), a.Discard, nil
}

// withoutLent drops what a command left in folders that are lent to it. Gone are the paths that go, with all below them.
func withoutLent(lent []executor.Lent, entries []tree.Entry) (left []tree.Entry, gone []string, err error) {
	if len(lent) == 0 {
		return entries, nil, nil
	}
	// isNew reports whether a path is there for the sake of what is lent.
	isNew := func(p string) bool {
		return slices.ContainsFunc(lent, func(l executor.Lent) bool { return l.New != "" && contains(l.New, "/"+p) && contains("/"+p, l.At) })
	}
	var changed *executor.StoppedError
	own := map[string]bool{} // folders that have something else in them
	for _, e := range entries {
		p := "/" + e.Path
		within := slices.IndexFunc(lent, func(l executor.Lent) bool { return contains(l.At, p) || e.Kind == tree.Whiteout && contains(p, l.At) })
		switch {
		case within >= 0 && !lent[within].Writable:
			// A folder changes with what lies in it, which comes later.
			if changed == nil || e.Kind != tree.Folder {
				changed = &executor.StoppedError{What: fmt.Sprintf("it changed %s, and %s is lent to it read-only: with writable: true it gets a copy", p, lent[within].At)}
			}
			continue
		case within >= 0 && (contains(lent[within].At, p) || isNew(e.Path)):
			gone = append(gone, e.Path)
			continue
		}
		if left = append(left, e); !isNew(e.Path) {
			for above := e.Path; above != ""; above = tree.Parent(above) {
				own[tree.Parent(above)] = true
			}
		}
	}
	if changed != nil {
		return nil, nil, changed
	}
	left = slices.DeleteFunc(left, func(e tree.Entry) bool {
		goes := isNew(e.Path) && !own[e.Path]
		if goes {
			gone = append(gone, e.Path)
		}
		return goes
	})
	return left, gone, nil
}

// contains reports whether a path is another one, or lies above it.
func contains(above, path string) bool {
	return path == above || strings.HasPrefix(path, above+"/")
}

// Learnt works out what a command learnt of its view that ran here by itself; what it left is not asked.
func (p *Place) Learnt(job executor.Job, seen *trace.Observation) (*trace.Trace, error) {
	return learnt(job, p.Spec, seen, nil, nil)
}

// learnt works out what a command learnt of its view, from what was seen of it and from what it left.
func learnt(job executor.Job, spec *sandbox.Spec, seen *trace.Observation, entries []tree.Entry, hidden []string) (*trace.Trace, error) {
	if seen == nil {
		seen = &trace.Observation{Whole: "it was not observed"}
	}
	if seen.Whole != "" {
		return &trace.Trace{Why: seen.Whole, View: trace.ViewKey(job.View.Index)}, nil
	}
	notes, err := seen.Notes()
	if err != nil {
		return nil, err
	}
	given := spec.Given()
	outside := func(p string) bool {
		return slices.ContainsFunc(given, func(g string) bool { return p == g || len(p) > len(g) && p[len(g)] == '/' && p[:len(g)] == g })
	}
	r := trace.NewResolver(job.View.Index, outside, seen.Owners || job.User.UID != 0)
	for _, n := range notes {
		r.Add(n)
	}
	r.Wrote(entries, hidden)
	return r.Trace(), nil
}

// normalizeUpper makes entries of what was found: folders that hide what was below become deletions of just that, deletions of
// what was never there go, and in a sandbox with one id owners come from the view. Replaced are folders of which nothing
// that was below shows.
func normalizeUpper(view *tree.View, found []folder.Found, single bool) (entries []tree.Entry, mend folder.Mending, replaced []string, err error) {
	there := map[string]bool{}
	for i := range found {
		there[found[i].Path] = true
	}
	if single {
		if err := restoreOwners(view, found); err != nil {
			return nil, mend, nil, err
		}
	}
	hidden := map[string]bool{} // folders of which nothing below shows
	for i := range found {
		f := &found[i]
		n, below := view.Lookup(f.Path)
		if f.Kind == tree.Whiteout {
			if !below {
				mend.Drop = append(mend.Drop, f.Path)
				continue
			}
			entries = append(entries, f.Entry)
			continue
		}
		if f.Path == "" && below && string(bareLine(n)) == string(bareLine(&tree.Node{Entry: f.Entry})) {
			continue
		}
		entries = append(entries, f.Entry)
		if f.Kind != tree.Folder {
			continue
		}
		if f.Opaque {
			mend.Show = append(mend.Show, f.Path)
		}
		if f.Opaque || hidden[tree.Parent(f.Path)] && f.Path != "" {
			hidden[f.Path], replaced = true, append(replaced, f.Path)
			if below && n.Kind == tree.Folder {
				for _, child := range n.Children() {
					if !there[child.Path] {
						entries = append(entries, tree.Entry{Path: child.Path, Kind: tree.Whiteout})
						mend.Hide = append(mend.Hide, child.Path)
					}
				}
			}
		}
	}
	return entries, mend, replaced, nil
}

func bareLine(n *tree.Node) []byte {
	e := filetree.Bare(n)
	e.Time = 0
	return e.AppendLine(nil)
}

// restoreOwners gives what was copied up the owner that it has in the view. What cannot be known is an error: the result
// would differ from that of a machine with more ids.
func restoreOwners(view *tree.View, found []folder.Found) error {
	mixed := false
	view.Each(func(n *tree.Node) { mixed = mixed || n.UID != 0 || n.GID != 0 })
	if !mixed {
		return nil
	}
	unable := func(f *folder.Found, what string) error {
		return &sandbox.UnableError{Missing: "ids", What: fmt.Sprintf("/%s %s, and this user has no range of ids to tell its owner", f.Path, what),
			Mend: "give the user a range in /etc/subuid and /etc/subgid and install newuidmap, or run as root"}
	}
	for i := range found {
		f := &found[i]
		if f.Kind == tree.Whiteout {
			continue
		}
		n, below := view.Lookup(f.Path)
		sameLink := below && n.Kind == tree.Symlink && f.Kind == tree.Symlink && n.Target == f.Target
		switch {
		case f.CopiedUp && below && n.Kind == f.Kind, sameLink:
			f.UID, f.GID = n.UID, n.GID
		case f.CopiedUp && f.Path != "":
			return unable(f, "was moved from elsewhere")
		default:
			parent, exists := view.Lookup(tree.Parent(f.Path))
			if exists && parent.Mode&0o2000 != 0 && parent.GID != 0 {
				return unable(f, fmt.Sprintf("is new in a folder that gives its group %d", parent.GID))
			}
		}
	}
	return nil
}
