package compose

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/ignore"
	"imbricat/internal/ground/say"
	"imbricat/internal/spec/plan"
)

type unpackStep struct{ plan.Unpack }

// Alone implements Kind.
func (unpackStep) Alone() bool { return true }

// Lay lays down what an archive holds.
func (do unpackStep) Lay(ctx context.Context, c *Composer) error {
	from, err := do.archive(ctx, c)
	if err != nil {
		return err
	}
	contents, err := c.archives.Do(ctx, fmt.Sprintf("%s %d", from.key(), from.limit), func(ctx context.Context) (*filetree.Archive, error) {
		return c.readArchive(ctx, from)
	})
	if err != nil {
		return err
	}
	a, err := c.accessOf(ctx, do.Owner, do.OwnerPos, do.Mode)
	if err != nil {
		return err
	}
	to := inner(do.To)
	top := tree.Entry{Path: to, Kind: tree.Folder, Mode: 0o755}
	a.adopt(&top)
	if err := c.addFolder(top, false); err != nil {
		return err
	}
	c.own(do.To, a.owner)
	return layArchive(c, do.Unpack, a, contents)
}

// archive finds the archive of the step.
func (do unpackStep) archive(ctx context.Context, c *Composer) (*archive, error) {
	if do.Address != "" {
		return &archive{name: do.Address, id: do.SHA256, open: c.inputs.Files[do.SHA256].open, limit: do.AtMost, spread: do.Spread}, nil
	}
	got, err := c.Project.Pick(do.Sources()[0])
	if err != nil {
		return nil, err
	}
	read, err := got.Read(ctx, c.tell.Task.Fresh, c.tell)
	if err != nil {
		return nil, err
	}
	open := func(context.Context) (io.ReadCloser, error) { return read.Contents.Open(do.From) }
	if do.SHA256 != "" {
		if err := checkSum(ctx, do.From, do.SHA256, open); err != nil {
			return nil, err
		}
	}
	return &archive{name: do.From, id: string(read.File(do.From).Content), open: open, limit: do.AtMost, file: do.From, spread: do.Spread}, nil
}

// layArchive lays the entries of an archive down below the step's destination.
func layArchive(c *Composer, do plan.Unpack, a access, contents *filetree.Archive) error {
	matcher, laid := ignore.New(do.LeaveOut...), 0
	var devices []string
	linked := map[string]bool{}
	for i := range contents.Entries {
		if e := &contents.Entries[i]; e.Kind == tree.Hardlink {
			linked[e.Target] = true
		}
	}
	for i := range contents.Entries {
		e := contents.Entries[i]
		where := e.Path
		name, kept := strip(e.Path, do.Strip)
		if !kept || matcher.MatchAll(name, e.Kind == tree.Folder) {
			continue
		}
		laid++
		e.Path = tree.Join(inner(do.To), name)
		if name == "" {
			continue // the top of the archive is the destination itself
		}
		if e.Kind == tree.Hardlink {
			target, found := slices.BinarySearchFunc(contents.Entries, e.Target, func(e tree.Entry, p string) int { return strings.Compare(e.Path, p) })
			if !found || contents.Entries[target].Kind != tree.File {
				return fmt.Errorf("%s: the hard link %q leads to %q, which is not a file of it", contents.Name, where, e.Target)
			}
			path := e.Path
			where = e.Target
			e = contents.Entries[target]
			e.Path = path
		}
		var twin any
		if e.Kind == tree.File && linked[where] {
			twin = filetree.Place{From: contents, At: where}
		}
		a.adopt(&e)
		var err error
		switch e.Kind {
		case tree.Folder:
			err = c.addFolder(e, a.given())
		case tree.CharDevice, tree.BlockDevice:
			devices = append(devices, name)
		case tree.Whiteout, tree.Opaque:
			return fmt.Errorf("%s is a layer of an image, with a mark for a deletion at %q: take its files with take", contents.Name, where)
		default:
			err = c.add(e, filetree.Place{From: contents, At: where}, twin)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", contents.Name, err)
		}
	}
	if len(devices) > 0 {
		return fmt.Errorf("%s holds %s, and images have none: add leave-out: [%s]", contents.Name, deviceNames(devices), withoutDevices(devices))
	}
	if laid == 0 && len(contents.Entries) > 0 {
		return fmt.Errorf("nothing of %s is left when %d leading elements are dropped", contents.Name, do.Strip)
	}
	return nil
}

// deviceNames tells of one device by its name and of several by their number too.
func deviceNames(names []string) string {
	if len(names) == 1 {
		return "the device " + names[0]
	}
	return fmt.Sprintf("%d devices (%s)", len(names), say.Some(names))
}

// withoutDevices gives the patterns that leave devices out: their folder's content where they share one, else each.
func withoutDevices(names []string) string {
	folders := map[string]bool{}
	for _, name := range names {
		folders[path.Dir(name)] = true
	}
	var patterns []string
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		if folder == "." || len(names) == 1 {
			continue
		}
		patterns = append(patterns, strconv.Quote("/"+folder+"/*"))
	}
	for _, name := range names {
		if path.Dir(name) == "." || len(names) == 1 {
			patterns = append(patterns, strconv.Quote("/"+name))
		}
	}
	return strings.Join(patterns, ", ")
}

// strip drops leading elements of a path, and tells whether anything is left.
func strip(p string, n int) (string, bool) {
	for range n {
		_, rest, deeper := strings.Cut(p, "/")
		if !deeper {
			return "", false
		}
		p = rest
	}
	return p, true
}

func checkSum(ctx context.Context, name, want string, open func(context.Context) (io.ReadCloser, error)) error {
	f, err := open(ctx)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, digest.WithContext(ctx, f)); err != nil {
		return fmt.Errorf("reading %s: %w", name, err)
	}
	if got := digest.FromHash(sum).Encoded(); got != want {
		return fmt.Errorf("%s: %w: its sha256 is %s, and the recipe says %s", name, digest.ErrMismatch, got, want)
	}
	return nil
}
