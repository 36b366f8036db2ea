package build

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/layer"
	"imbricat/internal/plan"
	"imbricat/internal/tree"
)

func isNoMatch(err error) bool { return errors.Is(err, tree.ErrNoMatch) }

// copied is what one from of a copy takes in, with the contents of the files.
type copied struct {
	survey   *tree.Survey
	contents *sourceContents

	once  sync.Once
	files *files
	err   error
}

// pickOptions are the options of a copy's walk.
func pickOptions(do plan.Copy) tree.PickOptions {
	return tree.PickOptions{LeaveOut: do.LeaveOut, Structure: do.Structure, Follow: do.Follow, Attributes: do.Attributes}
}

// pick surveys a from once for all units and platforms.
func (b *builder) pick(do plan.Copy, from string) (*copied, error) {
	o := pickOptions(do)
	one, _, err := b.picks.do(fmt.Sprintf("%q %+v", from, o), func() (*copied, error) {
		survey, err := b.o.Source.Pick(from, o)
		if err != nil {
			return nil, err
		}
		return &copied{survey: survey}, nil
	})
	return one, err
}

// read makes sure that the contents of all files are known; each file is read once, by whoever comes first.
func (one *copied) read(ctx context.Context, b *builder, task event.Task, sink event.Sink) error {
	one.once.Do(func() {
		ctx := b.whole(ctx)
		_, total := sizeOf(one.survey)
		sink.Send(event.Started{Task: task, Act: "reading", Total: total})
		one.files, one.err = b.o.Memory.Digests(ctx, b.o.Source, one.survey.Picked, task.Fresh, newProgress(sink, task))
		if one.err != nil {
			return
		}
		one.contents = &sourceContents{opener: b.o.Source.Opener(), files: one.files.known}
		for _, r := range one.files.known {
			b.mark(r.Content, r.Mark)
		}
	})
	return one.err
}

// settled tells whether the walk saw every file as it was when it was read, and would see any later change.
func (one *copied) settled() bool {
	if one.files == nil || !one.files.settled {
		return false
	}
	for i := range one.survey.Picked {
		if p := &one.survey.Picked[i]; p.Kind == tree.File && one.files.known[p.Path].Stat != p.Stat {
			return false
		}
	}
	return true
}

func (b *builder) copy(ctx context.Context, c *composer, do plan.Copy, task event.Task, sink event.Sink) error {
	owner, err := b.owner(ctx, c, do.Owner, do.OwnerPos)
	if err != nil {
		return err
	}
	times := func(string) int64 { return 0 }
	if do.CommitTimes {
		if times, err = b.o.CommitTimes(ctx); err != nil {
			return err
		}
	}
	for _, from := range do.From {
		if err := ctx.Err(); err != nil {
			return err
		}
		got, err := b.pick(do, from)
		if err != nil && isNoMatch(err) {
			continue // it was warned about
		}
		if err == nil {
			err = got.read(ctx, b, task, sink)
		}
		if err == nil {
			err = copyAll(c, do, owner, times, got)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// copyAll lays down what one from takes in.
func copyAll(c *composer, do plan.Copy, owner ids, times func(path string) int64, got *copied) error {
	to := inner(do.To)
	into := do.To.Folder || len(do.From) > 1 || do.Structure || !got.survey.SingleFile
	if !got.survey.SingleFile {
		if err := c.addFolder(tree.Entry{Path: to, Kind: tree.Folder, Mode: do.Mode.Apply(0o755, true), UID: owner.uid, GID: owner.gid}, false); err != nil {
			return err
		}
	}
	for i := range got.survey.Picked {
		p := &got.survey.Picked[i]
		e := tree.Entry{Path: to, Kind: p.Kind, UID: owner.uid, GID: owner.gid, Xattrs: p.Xattrs}
		if into {
			e.Path = tree.Join(to, p.Rel)
		}
		var twin any
		if p.Twin != (tree.FileID{}) {
			twin = p.Twin
		}
		var err error
		switch p.Kind {
		case tree.Folder:
			e.Mode = do.Mode.Apply(p.Mode, true)
			err = c.addFolder(e, do.Mode.Given() || owner != ids{})
		case tree.Symlink:
			e.Mode, e.Target = 0o777, p.Link
			err = c.add(e, place{}, nil)
		default:
			known := got.files.known[p.Path]
			e.Mode, e.Size, e.Content, e.Time = do.Mode.Apply(p.Mode, false), known.Stat.Size, known.Content, times(p.Path)
			err = c.add(e, place{got.contents, p.Path}, twin)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// A copy whose files have not changed is recognised by their stats alone: what it laid down, and what it looked at below,
// is noted under a hash of its options and of all that the walk found. Nothing is read or composed again then.

const copyNote = "imbricat copy note 1"

// question names a copy with all that the walk found. It is empty where that does not decide the outcome.
func (b *builder) question(do plan.Copy) digest.Key {
	if do.CommitTimes {
		return "" // history decides too
	}
	sum := digest.NewContent()
	fmt.Fprintf(sum, "%s\n%s\n%+v %+v %q %+v %d\n", copyNote, layer.TreeFormat, do.To, do.Owner, do.Mode.String(), pickOptions(do), len(do.From))
	var line []byte
	for _, from := range do.From {
		got, err := b.pick(do, from)
		if err != nil && !isNoMatch(err) {
			return ""
		}
		if err != nil {
			fmt.Fprintf(sum, "%q matches nothing\n", from)
			continue
		}
		fmt.Fprintf(sum, "%q %v\n", from, got.survey.SingleFile)
		for i := range got.survey.Picked {
			line = appendPicked(line[:0], &got.survey.Picked[i])
			sum.Write(line)
		}
	}
	return digest.Key(digest.ContentOf(sum))
}

func appendPicked(line []byte, p *tree.Picked) []byte {
	line = binary.LittleEndian.AppendUint32(append(line, byte(p.Kind)), p.Mode)
	if p.Kind != tree.Folder { // its times tell nothing that counts
		for _, n := range [...]uint64{uint64(p.Stat.Size), uint64(p.Stat.ModTime), uint64(p.Stat.Change), p.Stat.Inode, p.Twin.Device, p.Twin.Inode} {
			line = binary.LittleEndian.AppendUint64(line, n)
		}
	}
	// Texts hold no NUL.
	line = append(append(append(line, 0), p.Rel...), 0)
	if p.Path != p.Rel {
		line = append(line, p.Path...)
	}
	line = append(append(append(line, 0), p.Link...), 0)
	if len(p.Xattrs) > 0 {
		line = fmt.Appendf(line, "%q", p.Xattrs)
	}
	return append(line, '\n')
}

// recallCopy gives what a copy laid down before, where nothing that it depends on has changed and its layer is in the
// store; nil where it must be composed.
func (b *builder) recallCopy(ctx context.Context, u *plan.Unit, do plan.Copy, s *unitState, task event.Task, sink event.Sink) (*stepTree, error) {
	if !u.IsImage {
		return nil, nil // a stage's steps have no layers that could be found
	}
	question := b.question(do)
	if question == "" {
		return nil, nil
	}
	note, found := b.o.Store.Note(question)
	if !found {
		return nil, nil
	}
	t, seen, err := b.decodeCopy(string(note))
	if err != nil {
		return nil, nil // it is written anew
	}
	t.compression = layer.Compression(u.Compression)
	record, whole := b.o.Store.Record(t.layerKey())
	whole = whole && b.o.Store.HasTree(record.DiffID)
	if !whole && !b.o.Store.HasEntries(t.key) {
		return nil, nil
	}
	holds, err := s.agrees(ctx, seen)
	if err != nil || !holds {
		return nil, err
	}
	t.load = func(context.Context) ([]tree.Entry, error) {
		if whole {
			return b.loadCopy(u, t.key, record.DiffID, task)
		}
		text, _ := b.o.Store.Entries(t.key)
		entries, err := tree.DecodeEntries(string(text))
		if err == nil && layer.KeyOf(entries) != t.key {
			err = digest.ErrMismatch
		}
		if err != nil {
			b.o.Store.DropEntries(t.key)
			return nil, fmt.Errorf("what %q of %s laid down before cannot be read (%w): %w", task.Label, u.ID, err, errForgotten)
		}
		return entries, nil
	}
	t.locate = func(ctx context.Context, entries []tree.Entry) (map[string]place, error) {
		return b.locateCopy(ctx, do, entries, task, sink)
	}
	return t, nil
}

// loadCopy gives the entries of a remembered copy.
func (b *builder) loadCopy(u *plan.Unit, key digest.Key, id digest.DiffID, task event.Task) ([]tree.Entry, error) {
	text, found := b.o.Store.Tree(id)
	if !found {
		return nil, fmt.Errorf("what %q of %s laid down before cannot be read: %w", task.Label, u.ID, errForgotten)
	}
	indexed, err := layer.DecodeIndex(text)
	if err == nil {
		check := &stepTree{entries: indexed.Entries}
		if check.seal(); check.key != key {
			err = errors.New("it tells of another tree")
		}
	}
	if err != nil {
		b.o.Store.DropTree(id)
		return nil, fmt.Errorf("the store's index of what %q of %s laid down was damaged (%w): %w", task.Label, u.ID, err, errForgotten)
	}
	return indexed.Entries, nil
}

// locateCopy finds the files of a remembered copy. Their bytes are in the project as they were; which file gives which
// content is all that is needed.
func (b *builder) locateCopy(ctx context.Context, do plan.Copy, entries []tree.Entry, task event.Task, sink event.Sink) (map[string]place, error) {
	where := map[digest.Content]place{}
	for _, from := range do.From {
		got, err := b.pick(do, from)
		if err != nil && isNoMatch(err) {
			continue
		}
		if err == nil {
			err = got.read(ctx, b, task, sink)
		}
		if err != nil {
			return nil, err
		}
		for path, known := range got.files.known {
			where[known.Content] = place{got.contents, path}
		}
	}
	places := map[string]place{}
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File {
			places[e.Path] = where[e.Content]
		}
	}
	return places, nil
}

// rememberCopy notes what a copy laid down. Failing to costs time at the next build and nothing else.
func (b *builder) rememberCopy(c *composer, do plan.Copy, t *stepTree) {
	for _, from := range do.From {
		if got, err := b.pick(do, from); err == nil && !got.settled() {
			return // a later change might not show
		}
	}
	if question := b.question(do); question != "" {
		_ = b.o.Store.PutNote(question, b.encodeCopy(c, t))
	}
}

// encodeCopy writes a head with the key and the sums, then lines: "m CONTENT MARK" for files worth a mark, "d CODE
// PATH" for doubts, "v PATH LINE" for what was looked at below.
func (b *builder) encodeCopy(c *composer, t *stepTree) []byte {
	out := fmt.Appendf(nil, "%s %s %d %d %v\n", copyNote, t.key, t.files, t.bytes, t.empty)
	b.markMutex.Lock()
	for i := range t.entries {
		if m := b.marks[t.entries[i].Content]; m != "" {
			out = fmt.Appendf(out, "m %s %s\n", t.entries[i].Content, m)
		}
	}
	b.markMutex.Unlock()
	for code, paths := range t.doubts {
		for _, p := range paths {
			out = fmt.Appendf(out, "d %s %q\n", code, p)
		}
	}
	for path, line := range c.seen {
		// What lies in what is absent is absent too.
		if above, looked := c.seen[tree.Parent(path)]; path != "" && looked && above == absent && line == absent {
			continue
		}
		out = fmt.Appendf(out, "v %q %s\n", path, line)
	}
	return out
}

// decodeCopy reads what encodeCopy wrote.
func (b *builder) decodeCopy(note string) (*stepTree, map[string]string, error) {
	head, rest, _ := strings.Cut(note, "\n")
	t, seen := &stepTree{doubts: doubts{}}, map[string]string{}
	if _, err := fmt.Sscanf(head, copyNote+" %s %d %d %t", &t.key, &t.files, &t.bytes, &t.empty); err != nil {
		return nil, nil, err
	}
	for line := range strings.Lines(rest) {
		line = strings.TrimSuffix(line, "\n")
		kind, line, _ := strings.Cut(line, " ")
		switch kind {
		case "m":
			content, m, _ := strings.Cut(line, " ")
			b.mark(digest.Content(content), mark(m))
		case "d":
			code, quoted, _ := strings.Cut(line, " ")
			path, err := strconv.Unquote(quoted)
			if err != nil {
				return nil, nil, err
			}
			t.doubts.add(code, path)
		case "v":
			quoted, err := strconv.QuotedPrefix(line)
			if err != nil {
				return nil, nil, err
			}
			path, err := strconv.Unquote(quoted)
			if err != nil {
				return nil, nil, err
			}
			seen[path] = strings.TrimPrefix(line[len(quoted):], " ")
		}
	}
	return t, seen, nil
}
