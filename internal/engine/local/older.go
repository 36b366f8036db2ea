package local

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/ground/digest"
)

// A stratum of which little has changed need not be unpacked again: an older tree that lies unpacked stands for it, with another
// one on that, which holds what changed and marks of what is gone. Which older trees there are is noted by what they are of.
// The note need not be true: what lies unpacked is compared with the stratum, entry by entry.

const (
	// mostAbove is how many trees with changes lie on an older one at most. Then what changed is gathered in one.
	mostAbove = 3
	// leastWeight is below which a stratum is unpacked by itself, in bytes, as weighed by weightOf.
	leastWeight = 256 << 10
	// changedShare is which part of a stratum may have changed, one in so many.
	changedShare = 4
	// mostStrata is above how many strata of a view each of them is one tree: more cannot be mounted over each other.
	mostStrata = 400 / (1 + mostAbove)
	// mostOlder is how many older trees are noted.
	mostOlder = 4
)

// weightOf is the work that unpacking entries is, in bytes: each of them is some.
func weightOf(entries []tree.Entry) int64 { return bytesOf(entries) + int64(len(entries))*block }

// lay makes sure that a stratum lies unpacked, as one tree or as several that lie on one another. Below are the strata under it.
func (l *Local) lay(ctx context.Context, box *sandbox.Box, s filetree.Stratum, below []filetree.Stratum) ([]laidTree, error) {
	entries, err := s.Entries(ctx)
	if err != nil {
		return nil, err
	}
	_, _, found := l.store.Snapshot(box.SnapshotFormat(), s.ID())
	older := !found && len(below) < mostStrata && (l.eager || weightOf(entries) >= leastWeight)
	if older {
		if trees := l.onOlder(ctx, box, s, entries, below); trees != nil {
			return trees, nil
		}
	}
	dir, err := l.snapshot(ctx, box, s)
	if err != nil {
		return nil, err
	}
	if older {
		l.noteOlder(box, s, []filetree.Stratum{s})
	}
	return []laidTree{{Stratum: s, dir: dir}}, ctx.Err()
}

// onOlder lays down what changed in a stratum since it was unpacked before; nil where that is not known, or not worth it.
func (l *Local) onOlder(ctx context.Context, box *sandbox.Box, s filetree.Stratum, whole []tree.Entry, below []filetree.Stratum) []laidTree {
	there := func(path string) bool {
		return slices.ContainsFunc(below, func(b filetree.Stratum) bool {
			index, err := l.indexOf(ctx, b)
			return err != nil || index[path] != nil
		})
	}
	for _, keys := range l.older(box, s) {
		trees := l.unpackedTrees(ctx, box, s, keys)
		for _, on := range slices.CompactFunc([][]laidTree{trees, trees[:min(1, len(trees))]}, func(a, b []laidTree) bool { return len(a) == len(b) }) {
			var all [][]tree.Entry
			for _, one := range on {
				entries, err := one.Entries(ctx)
				if err != nil {
					return nil
				}
				all = append(all, entries)
			}
			above, exists := filetree.Above(all, whole, there)
			switch {
			case !exists:
				continue
			case len(above) == 0:
				return on
			case len(on) > mostAbove || !l.eager && weightOf(above)*changedShare > weightOf(whole):
				continue
			}
			changed := &changes{s, layer.KeyOf(above), above}
			dir, err := l.unpacked.Try(ctx, changed.key, func(ctx context.Context) (string, error) { return l.unpack(ctx, box, changed) })
			if err != nil {
				return nil // where marks cannot be made the whole of it can
			}
			trees = append(slices.Clone(on), laidTree{Stratum: changed, dir: dir})
			var noted []filetree.Stratum
			for _, one := range trees {
				noted = append(noted, one.Stratum)
			}
			l.noteOlder(box, s, noted)
			return trees
		}
	}
	return nil
}

// unpackedTrees returns trees that lie unpacked and are whole; none unless all of them are.
func (l *Local) unpackedTrees(ctx context.Context, box *sandbox.Box, s filetree.Stratum, keys []digest.Key) (trees []laidTree) {
	for i, key := range keys {
		if _, _, found := l.store.Snapshot(box.SnapshotFormat(), key); !found {
			return nil
		}
		text, _ := l.store.TreeEntries(key)
		entries, err := tree.DecodeEntries(string(text))
		if err != nil || layer.KeyOf(entries) != key {
			return nil
		}
		one := &olderTree{s.Title(), key, entries}
		if i > 0 {
			one.title = changesOf(s)
		}
		dir, err := l.unpacked.Try(ctx, key, func(ctx context.Context) (string, error) { return l.unpack(ctx, box, one) })
		if err != nil {
			return nil
		}
		trees = append(trees, laidTree{Stratum: one, dir: dir})
	}
	return trees
}

const olderNote = "imbricat unpacked 1"

func olderKey(box *sandbox.Box, s filetree.Stratum) digest.Key {
	return filetree.KeyOfText(fmt.Sprintf("%s\n%s\n%s", olderNote, box.SnapshotFormat(), s.Title()))
}

// older returns the trees that a stratum of that title was unpacked as, the latest ones first, each list the lowest first.
func (l *Local) older(box *sandbox.Box, s filetree.Stratum) (all [][]digest.Key) {
	text, _ := l.store.Note(olderKey(box, s))
	for line := range strings.Lines(string(text)) {
		var keys []digest.Key
		for _, word := range strings.Fields(line) {
			keys = append(keys, digest.Key(word))
		}
		if len(keys) > 0 && len(keys) <= 1+mostAbove {
			all = append(all, keys)
		}
	}
	return all
}

// noteOlder notes as which trees a stratum lies unpacked.
func (l *Local) noteOlder(box *sandbox.Box, s filetree.Stratum, trees []filetree.Stratum) {
	var keys []digest.Key
	for _, one := range trees {
		keys = append(keys, one.ID())
	}
	all := l.older(box, s)
	if len(all) > 0 && slices.Equal(all[0], keys) {
		return
	}
	// What the new ones begin with is not of use by itself any more.
	all = slices.DeleteFunc(all, func(old []digest.Key) bool { return old[0] == keys[0] })
	all = append([][]digest.Key{keys}, all[:min(len(all), mostOlder-1)]...)
	var text strings.Builder
	for _, keys := range all {
		for _, key := range keys {
			fmt.Fprintf(&text, "%s ", key)
		}
		fmt.Fprintln(&text)
	}
	_ = l.store.PutNote(olderKey(box, s), []byte(text.String())) // it only saves work
}

// changes are the part of a stratum that an older one does not have.
type changes struct {
	filetree.Stratum
	key     digest.Key
	entries []tree.Entry
}

func changesOf(s filetree.Stratum) string { return "what changed in " + s.Title() }

func (c *changes) Title() string                                 { return changesOf(c.Stratum) }
func (c *changes) ID() digest.Key                                { return c.key }
func (c *changes) Entries(context.Context) ([]tree.Entry, error) { return c.entries, nil }
func (c *changes) Offer(tree.Contents)                           {}

// olderTree lies unpacked; it cannot be unpacked again.
type olderTree struct {
	title   string
	key     digest.Key
	entries []tree.Entry
}

func (o *olderTree) Title() string                                 { return o.title }
func (o *olderTree) ID() digest.Key                                { return o.key }
func (o *olderTree) Entries(context.Context) ([]tree.Entry, error) { return o.entries, nil }
func (o *olderTree) Offer(tree.Contents)                           {}

// Feed tells that there is nobody who has the files.
func (o *olderTree) Feed(context.Context, []tree.Entry) filetree.Feed {
	return func(filetree.Put) error { return fmt.Errorf("%s is gone from the store", o.title) }
}
