package local

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/store"
	"imbricat/internal/content/trace"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sandbox/folder"
	"imbricat/internal/ground/count"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
)

// snapshot makes sure that a stratum lies unpacked and gives its folder.
func (l *Local) snapshot(ctx context.Context, box *sandbox.Box, s filetree.Stratum) (string, error) {
	// What fails now may be had elsewhere by whoever needs it next.
	dir, err := l.unpacked.Try(ctx, s.ID(), func(ctx context.Context) (string, error) { return l.unpack(ctx, box, s) })
	if err != nil {
		return "", err
	}
	entries, err := s.Entries(ctx)
	if err == nil {
		s.Offer(contentsIn(box, dir, entries))
	}
	return dir, err
}

func (l *Local) unpack(ctx context.Context, box *sandbox.Box, s filetree.Stratum) (string, error) {
	dir, seen, found := l.store.Snapshot(box.SnapshotFormat(), s.ID())
	if found && seen {
		return dir, nil
	}
	entries, err := s.Entries(ctx)
	if err != nil {
		return "", err
	}
	if found {
		if CheckSnapshot(box, box.SnapshotFormat(), dir, entries) == nil {
			return dir, l.store.SawSnapshot(box.SnapshotFormat(), s.ID())
		}
		if _, err := l.store.DropDamaged(box.SnapshotFormat(), s.ID()); err != nil {
			return "", err
		}
	}
	unpackedFiles.Add(filesIn(entries))
	work, err := l.store.TemporaryFolder()
	if err != nil {
		return "", err
	}
	defer l.store.Discard(work)
	root := filepath.Join(work, "root")
	if err := box.Lay(ctx, root, entries, s.Feed(ctx, entries)); err != nil {
		return "", fmt.Errorf("unpacking %s: %w", s.Title(), err)
	}
	if err := l.store.PutTreeEntries(s.ID(), tree.EncodeEntries(entries)); err != nil {
		return "", err
	}
	if err := box.Note(root, store.MarksOf(root)); err != nil {
		return "", err
	}
	return l.store.PutSnapshot(box.SnapshotFormat(), s.ID(), work, roomOf(entries))
}

var unpackedFiles = count.New("files unpacked")

func filesIn(entries []tree.Entry) (n int64) {
	for i := range entries {
		if entries[i].Kind == tree.File {
			n++
		}
	}
	return n
}

// block is what file systems give out, in bytes.
const block = 4 << 10

// roomOf is what entries take on a disk.
func roomOf(entries []tree.Entry) (r store.Room) {
	for i := range entries {
		r.Files++
		switch entries[i].Kind {
		case tree.File:
			r.Bytes += (entries[i].Size + block - 1) / block * block
		case tree.Folder:
			r.Bytes += block
		}
	}
	return r
}

func bytesOf(entries []tree.Entry) (n int64) {
	for i := range entries {
		n += entries[i].Size
	}
	return n
}

// errTampered is what is wrong with an unpacked tree.
var errTampered = errors.New("it is not what was unpacked")

// CheckSnapshot compares a folder of some form with the entries that it is to hold.
func CheckSnapshot(box *sandbox.Box, form, root string, entries []tree.Entry) error {
	found, err := box.Read(root, false)
	if err != nil {
		return err
	}
	there := map[string]*folder.Found{}
	for i := range found {
		there[found[i].Path] = &found[i]
	}
	first := func(e *tree.Entry, what string) error { return fmt.Errorf("%w: /%s %s", errTampered, e.Path, what) }
	for i := range entries {
		e := &entries[i]
		f := there[e.Path]
		switch e.Kind {
		case tree.CharDevice, tree.BlockDevice:
			continue // is never laid down
		case tree.Whiteout:
			if !sandbox.Marked(form) {
				continue
			}
		case tree.Opaque:
			if f == nil || !f.Opaque {
				return first(e, "no longer hides what is below")
			}
			continue
		}
		if f == nil {
			return first(e, "is gone")
		}
		delete(there, e.Path)
		want, got := *e, f.Entry
		want.Time, got.Time = 0, 0
		if box.IDs() == sandbox.OneID {
			want.UID, want.GID, got.UID, got.GID = 0, 0, 0, 0
		}
		want.Xattrs = keptXattrs(want.Xattrs)
		if !want.Equal(&got) && !sameLink(&want, &got) {
			return first(e, "is another")
		}
		if f.Opaque {
			there[e.Path] = f // its own entry follows
		}
	}
	delete(there, "")
	for p, f := range there {
		if f.Opaque && slices.ContainsFunc(entries, func(e tree.Entry) bool { return e.Path == p && e.Kind == tree.Opaque }) {
			continue
		}
		return first(&f.Entry, "was not there")
	}
	return nil
}

// sameLink reports whether two hard links differ in nothing but the name that counts as the file.
func sameLink(a, b *tree.Entry) bool {
	return a.Kind == tree.Hardlink && b.Kind == tree.Hardlink && a.Target == b.Target
}

// keptXattrs drops the attributes that are never laid down.
func keptXattrs(all map[string]string) map[string]string {
	kept := map[string]string{}
	for name, value := range all {
		if folder.KeptAttribute(name) {
			kept[name] = value
		}
	}
	return kept
}

// laidTree is an unpacked tree below a command: a stratum of the view, or a part of one.
type laidTree struct {
	filetree.Stratum
	dir   string
	marks os.FileInfo // of the file of its marks, when the command began
}

// errDamaged is that a command ran over an unpacked tree that was not what it is said to be.
var errDamaged = errors.New("an unpacked tree keeps being damaged")

// checkBelow makes sure that what a command learnt was so: that nobody has touched what it read of the unpacked trees that
// it worked on. A tree that is damaged goes, with all records of commands that ran over it, and the error wraps errDamaged.
// What decays on the disk without being touched is found by reading all of it alone, as Store.Check does.
func (p *Place) checkBelow(ctx context.Context, view *tree.View, learnt *trace.Trace) error {
	paths := readPaths(view, learnt)
	hidden := make([]bool, len(paths))
	for _, one := range slices.Backward(p.laid) {
		index, err := p.local.indexOf(ctx, one.Stratum)
		if err != nil {
			return err
		}
		var here []string
		for i, name := range paths {
			e := index[name]
			switch {
			case hidden[i]:
			case name == "": // every tree has a root, though none need say so
				here = append(here, name)
			case e != nil:
				here = append(here, name)
				hidden[i] = e.Kind != tree.Folder
			}
		}
		if err := p.local.checkLaid(ctx, p.Box, one, here); err != nil {
			return err
		}
	}
	return nil
}

// everything is what a command may have learnt that nobody observed.
var everything = &trace.Trace{Why: "nobody observed it"}

// readPaths returns the paths that a trace depends on, with the folders that they lie in, whose lists may have gained
// something.
func readPaths(view *tree.View, learnt *trace.Trace) []string {
	all := make(map[string]bool, len(learnt.Entries))
	add := func(p string) {
		if all[p] = true; !all[tree.Parent(p)] {
			all[tree.Parent(p)] = true
		}
	}
	var below func(n *tree.Node)
	below = func(n *tree.Node) {
		all[n.Path] = true
		for _, child := range n.Children() {
			below(child)
		}
	}
	if learnt.Why != "" {
		below(view.Root())
	}
	for i := range learnt.Entries {
		e := &learnt.Entries[i]
		add(e.Path)
		if n, exists := view.Lookup(e.Path); exists && e.Asked&trace.Whole != 0 {
			below(n)
		}
	}
	paths := make([]string, 0, len(all))
	for p := range all {
		paths = append(paths, p)
	}
	return paths
}

// indexOf returns the entries of a stratum by their paths.
func (l *Local) indexOf(ctx context.Context, s filetree.Stratum) (map[string]*tree.Entry, error) {
	return l.indexed.Try(ctx, s.ID(), func(ctx context.Context) (map[string]*tree.Entry, error) {
		entries, err := s.Entries(ctx)
		index := make(map[string]*tree.Entry, len(entries))
		for i := range entries {
			if e := &entries[i]; e.Kind != tree.Opaque {
				index[e.Path] = e
			}
		}
		return index, err
	})
}

// checkLaid makes sure that some paths of an unpacked tree are what was unpacked. Where they were touched it is read.
func (l *Local) checkLaid(ctx context.Context, box *sandbox.Box, one laidTree, paths []string) error {
	marksFile := store.MarksOf(one.dir)
	touched, err := box.Touched(one.dir, marksFile, paths)
	marks, statErr := os.Stat(marksFile)
	// A tree that was laid down anew meanwhile has other marks.
	same := statErr != nil || one.marks != nil && os.SameFile(marks, one.marks) && marks.ModTime().Equal(one.marks.ModTime())
	if same && err == nil && len(touched) == 0 {
		return nil
	}
	if same {
		entries, err := one.Entries(ctx)
		if err != nil {
			return err
		}
		if err = CheckSnapshot(box, box.SnapshotFormat(), one.dir, entries); err == nil {
			if err := box.Note(one.dir, marksFile); err != nil {
				return fmt.Errorf("writing to the store: %w", err)
			}
			return nil // it was copied elsewhere and back, say
		}
		records, dropErr := l.store.DropDamaged(box.SnapshotFormat(), one.ID())
		if dropErr != nil {
			return dropErr
		}
		l.unpacked.Forget(one.ID())
		l.sink.Send(event.Warning{Code: event.Damaged, Text: fmt.Sprintf("%s lay unpacked in the store and was damaged there (%s): it is unpacked again, and what ran over it (%s) is no longer reused",
			one.Title(), err, say.Count(records, "record"))})
	}
	// Another command has found the damage first, or somebody removed the tree.
	return fmt.Errorf("%s: %w", one.Title(), errDamaged)
}
