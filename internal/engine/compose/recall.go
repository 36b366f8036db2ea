package compose

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"imbricat/internal/content/census"
	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sources"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
)

// A copy whose files have not changed is recognised by their stats alone: what it laid down, and what it looked at below,
// is noted under a hash of its options and of all that the walk found. Nothing is read or composed again then.

const copyNote = "imbricat copy note 2"

// question names what a copy takes in with all that the walks found; empty where that does not decide the outcome.
func (do copyStep) question(t *Tools) digest.Key {
	if do.CommitTimes {
		return "" // history decides too
	}
	var options tree.PickOptions
	if len(do.Taken) > 0 { // all are taken alike, but for what is left out of the folders of packages
		one := do.Taken[0]
		options = tree.PickOptions{LeaveOut: one.LeaveOut, Structure: one.Structure, Follow: one.Follow, Attributes: one.Attributes}
	}
	head := fmt.Sprintf("%s\n%s\n%+v %+v %q %+v %d\n", copyNote, layer.TreeFormat, do.To, do.Owner, do.Mode.String(),
		options, len(do.Taken))
	key, err := t.Project.Question(head, do.Sources())
	if err != nil {
		return ""
	}
	return key
}

// ErrForgotten is wrapped where the store has lost what a build relied on, and the next one does not.
var ErrForgotten = errors.New("the store no longer has it")

// recall returns what a copy laid down before, where nothing that it depends on has changed and the store has its layer or its
// entries; nil where it must be composed.
func (do copyStep) recall(ctx context.Context, t *Tools, s Setting, question digest.Key) (*Composed, error) {
	note, found := t.Store.Note(question)
	if !found {
		return nil, nil
	}
	known, err := t.decode(string(note))
	if err != nil {
		return nil, nil // it is written anew
	}
	record, whole := t.Store.Record(layer.RecordKey(known.summary.Key, s.Compression))
	whole = whole && t.Store.HasLayerIndex(record.DiffID)
	if !whole && !t.Store.HasTreeEntries(known.summary.Key) {
		return nil, nil
	}
	holds, err := s.Below.Agrees(ctx, known.seen)
	if err != nil || !holds {
		return nil, err
	}
	title := fmt.Sprintf("%q of %s", s.Step.Label, s.Unit)
	load := func(context.Context) ([]tree.Entry, error) { return t.loadEntries(known.summary.Key, title) }
	if whole {
		load = func(context.Context) ([]tree.Entry, error) {
			return t.loadIndexed(known.summary.Key, record.DiffID, title)
		}
	}
	return &Composed{Findings: known.doubts, Tree: filetree.Recalled(known.summary, load, func(ctx context.Context, entries []tree.Entry) (map[string]filetree.Place, error) {
		return do.locate(ctx, t, entries, s)
	})}, nil
}

// loadEntries returns the entries of a tree that are kept by themselves.
func (t *Tools) loadEntries(key digest.Key, title string) ([]tree.Entry, error) {
	text, _ := t.Store.TreeEntries(key)
	entries, err := tree.DecodeEntries(string(text))
	if err == nil && layer.KeyOf(entries) != key {
		err = digest.ErrMismatch
	}
	if err != nil {
		t.Store.DropTreeEntries(key)
		return nil, fmt.Errorf("what %s laid down before cannot be read (%w): %w", title, err, ErrForgotten)
	}
	return entries, nil
}

// loadIndexed returns the entries of a tree out of the index of its layer.
func (t *Tools) loadIndexed(key digest.Key, id digest.DiffID, title string) ([]tree.Entry, error) {
	text, found := t.Store.LayerIndex(id)
	if !found {
		return nil, fmt.Errorf("what %s laid down before cannot be read: %w", title, ErrForgotten)
	}
	indexed, err := layer.DecodeIndex(text)
	if err == nil && filetree.New(indexed.Entries, nil).Key != key {
		err = errors.New("it tells of another tree")
	}
	if err != nil {
		t.Store.DropLayerIndex(id)
		return nil, fmt.Errorf("the store's index of what %s laid down was damaged (%w): %w", title, err, ErrForgotten)
	}
	return indexed.Entries, nil
}

// locate finds the files of a remembered copy. Their bytes are in the project as they were; which file gives which
// content is all that is needed.
func (do copyStep) locate(ctx context.Context, t *Tools, entries []tree.Entry, s Setting) (map[string]filetree.Place, error) {
	where := map[digest.Content]filetree.Place{}
	for _, from := range do.Sources() {
		got, err := t.Project.Pick(from)
		if isNoMatch(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		read, err := got.Read(ctx, s.Tell.Task.Fresh, s.Tell)
		if err != nil {
			return nil, err
		}
		read.Each(func(path string, f sources.File) { where[f.Content] = filetree.Place{From: read.Contents, At: path} })
	}
	places := map[string]filetree.Place{}
	for i := range entries {
		if e := &entries[i]; e.Kind == tree.File {
			places[e.Path] = where[e.Content]
		}
	}
	return places, nil
}

// remember notes what a copy laid down. Failing to costs time at the next build and nothing else.
func (do copyStep) remember(c *Composer, made *Composed, question digest.Key) {
	for _, from := range do.Sources() {
		if got, err := c.Project.Pick(from); err == nil && !got.Settled() {
			return // a later change might not show
		}
	}
	_ = c.Store.PutNote(question, c.encode(made))
}

// noted is what a note tells of a copy.
type noted struct {
	summary filetree.Summary
	doubts  *census.Findings
	seen    map[string]string
}

// The codes of doubts in notes.
const (
	programDoubt  = "foreign-binary" // with " for ARCHITECTURE" behind the path
	secretDoubt   = "secret"
	setUIDDoubt   = "set-uid"
	writableDoubt = "world-writable"
)

// encode writes a head with the key and the sums, then lines: "m CONTENT MARK" for files worth a mark, "d CODE
// PATH" for doubts, "v PATH LINE" for what was looked at below.
func (c *Composer) encode(made *Composed) []byte {
	t := made.Tree
	out := fmt.Appendf(nil, "%s %s %d %d %v\n", copyNote, t.Key, t.Files, t.Bytes, t.Empty)
	for i := range c.entries {
		if m := c.Marks.Of(c.entries[i].Content); m != "" {
			out = fmt.Appendf(out, "m %s %s\n", c.entries[i].Content, m)
		}
	}
	doubt := func(code string, paths []string) {
		for _, p := range paths {
			out = fmt.Appendf(out, "d %s %q\n", code, p)
		}
	}
	for _, p := range made.Findings.Programs {
		doubt(programDoubt, []string{p.Path + " for " + p.Architecture})
	}
	doubt(secretDoubt, made.Findings.Secrets)
	doubt(setUIDDoubt, made.Findings.SetUID)
	doubt(writableDoubt, made.Findings.WorldWritable)
	for path, line := range c.seen {
		// What lies in what is absent is absent too.
		if above, looked := c.seen[tree.Parent(path)]; path != "" && looked && above == step.Absent && line == step.Absent {
			continue
		}
		out = fmt.Appendf(out, "v %q %s\n", path, line)
	}
	return out
}

// decode reads what encode wrote.
func (t *Tools) decode(note string) (*noted, error) {
	head, rest, _ := strings.Cut(note, "\n")
	n := &noted{doubts: &census.Findings{}, seen: map[string]string{}}
	if _, err := fmt.Sscanf(head, copyNote+" %s %d %d %t", &n.summary.Key, &n.summary.Files, &n.summary.Bytes, &n.summary.Empty); err != nil {
		return nil, err
	}
	for line := range strings.Lines(rest) {
		kind, line, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		switch kind {
		case "m":
			content, m, _ := strings.Cut(line, " ")
			t.Marks.Note(digest.Content(content), census.Class(m))
		case "d":
			code, quoted, _ := strings.Cut(line, " ")
			path, err := strconv.Unquote(quoted)
			if err != nil {
				return nil, err
			}
			n.doubt(code, path)
		case "v":
			quoted, err := strconv.QuotedPrefix(line)
			if err != nil {
				return nil, err
			}
			path, err := strconv.Unquote(quoted)
			if err != nil {
				return nil, err
			}
			n.seen[path] = strings.TrimPrefix(line[len(quoted):], " ")
		}
	}
	return n, nil
}

func (n *noted) doubt(code, path string) {
	switch d := n.doubts; code {
	case programDoubt:
		name, architecture, _ := strings.Cut(path, " for ")
		d.Programs = append(d.Programs, census.Program{Path: name, Architecture: architecture})
	case secretDoubt:
		d.Secrets = append(d.Secrets, path)
	case setUIDDoubt:
		d.SetUID = append(d.SetUID, path)
	case writableDoubt:
		d.WorldWritable = append(d.WorldWritable, path)
	}
}
