package store

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// A store is kept within a bound without looking at all of it each time: what the files of a folder take is remembered by the
// time of the folder, which moves when a file comes or goes.

// Bounding says how much a store may hold of what can be made again, or brought again.
type Bounding struct {
	Most   int64         // bytes on the disk
	Within time.Duration // about how long to work at it; the next one goes on
}

// Bounded tells what was done so that a store keeps within its bound.
type Bounded struct {
	Bytes int64 // removed
	Trees int   // of these, unpacked trees
	Files int   // removed, those of the trees too
	Over  int64 // bytes above the bound that are left
	Held  bool  // they are in use; else there was no time
}

// fewBytes is what a process that unpacks nothing may write without a look at whether the store is too large.
const fewBytes = 64 << 10

// Bound removes what can be made again and was not used for longest where the store has too much of that: unpacked trees first,
// then what trimming removes. What images that are listed need stays, and what processes use that have the store open, this
// one too. It returns nil where there is nothing to tell.
func (s *Store) Bound(ctx context.Context, b Bounding) (*Bounded, error) {
	if s.lease == nil || !s.unpacked.Load() && s.Written() < fewBytes {
		return nil, nil
	}
	ctx, cancel := context.WithTimeout(ctx, b.Within)
	defer cancel()
	s.removeHidden(ctx) // what there was no time for
	again, err := s.tally(ctx)
	if err != nil || again <= b.Most {
		return nil, ignoreTime(err)
	}
	named, err := s.namedBytes()
	if err != nil || again-named <= b.Most {
		return nil, err
	}
	oldest, err := s.oldestUse()
	if err != nil {
		return nil, err
	}
	out := &Bounded{Over: again - named - b.Most}
	given, err := s.giveUpTrees(ctx, out.Over, oldest)
	gone := usageOf(given)
	out.count(gone.Total, int(gone.Files.Total))
	out.Trees = len(given)
	s.removeHidden(ctx)
	if out.Over > 0 && err == nil && ctx.Err() == nil {
		// What lies below an age goes only as far as the size asks for it.
		trimmed, trimErr := s.trim(ctx, Trimming{UnusedFor: 1 << 62, To: b.Most + named}, oldest, s.putAway)
		if err = trimErr; trimmed != nil {
			out.count(trimmed.Bytes, trimmed.Files)
			out.Held = out.Over > 0 && err == nil
		}
		s.removeHidden(ctx)
	}
	return out, ignoreTime(err)
}

func ignoreTime(err error) error {
	if errors.Is(err, context.DeadlineExceeded) {
		return nil
	}
	return err
}

// count adds what was removed.
func (b *Bounded) count(bytes int64, files int) {
	b.Bytes, b.Files, b.Over = b.Bytes+bytes, b.Files+files, max(0, b.Over-bytes)
}

// putAway takes a folder out of sight; its files are removed as far as there is time.
func (s *Store) putAway(dir string) error {
	_, err := s.hide(dir)
	return err
}

// oldestUse is since when somebody who has the store open may have used things, this process too.
func (s *Store) oldestUse() (time.Time, error) {
	oldest, err := s.oldestLease()
	if own := leaseTime(filepath.Base(s.lease.Path())); own.Before(oldest) {
		oldest = own
	}
	return oldest, err
}

// giveUpTrees removes unpacked trees, those first that were not used for longest, until so much is gone.
func (s *Store) giveUpTrees(ctx context.Context, bytes int64, oldest time.Time) (removed []item, err error) {
	found, err := filepath.Glob(s.path("imbricat", snapshots, "*", "*"))
	if err != nil {
		return nil, err
	}
	var trees []item
	for _, path := range found {
		below, _ := filepath.Rel(s.Dir(), path)
		if one, whole := s.folder(path, filepath.ToSlash(below)); whole && one.used.Before(oldest) {
			trees = append(trees, one)
		}
	}
	slices.SortFunc(trees, func(a, b item) int { return a.used.Compare(b.used) })
	for _, one := range trees {
		if bytes <= 0 || ctx.Err() != nil {
			break
		}
		gone, _, err := s.removeAll(context.WithoutCancel(ctx), []item{one}, s.putAway)
		if err != nil {
			return removed, err
		}
		removed, bytes = append(removed, gone...), bytes-usageOf(gone).Total
	}
	return removed, ctx.Err()
}

// namedBytes is what the blobs of images take that are listed.
func (s *Store) namedBytes() (bytes int64, err error) {
	named, err := s.reachable()
	for d := range named {
		if path, pathErr := s.BlobPath(d); pathErr == nil {
			if info, statErr := os.Stat(path); statErr == nil {
				bytes += diskSize(info)
			}
		}
	}
	return bytes, err
}

// talliedFolder is what the files of a folder took when it had a time of change.
type talliedFolder struct {
	Time  int64 `json:"time"` // in nanoseconds
	Bytes int64 `json:"bytes"`
	Leaf  bool  `json:"leaf,omitempty"` // it has no folders
}

// tally adds up what the store takes on the disk but for what it needs to work.
type tally struct {
	store *Store
	known map[string]talliedFolder // by path below the store, as it was
	now   map[string]talliedFolder
	began time.Time
	err   error
}

const tallyMemo = "tally.json"

// tally is what the store takes, in bytes. What was counted when the time was over is remembered.
func (s *Store) tally(ctx context.Context) (bytes int64, err error) {
	t := &tally{store: s, known: map[string]talliedFolder{}, now: map[string]talliedFolder{}, began: time.Now()}
	text, _ := s.Memo(tallyMemo)
	_ = json.Unmarshal(text, &t.known) // what is damaged is counted again
	bytes = t.folder(ctx, "blobs")
	for _, kind := range append(slices.Clone(saved), "tmp") {
		bytes += t.folder(ctx, filepath.Join("imbricat", kind))
	}
	bytes += t.each(ctx, snapshots, func(path string, info fs.FileInfo) int64 {
		one, _ := s.folder(s.path(path), filepath.ToSlash(path))
		return one.size
	}, snapshotFile)
	bytes += t.each(ctx, keptKind, func(path string, _ fs.FileInfo) int64 {
		n, _ := folderSize(s.path(path))
		return n
	}, "holder.json")
	if t.err != nil { // the next one goes on from here
		for path, one := range t.known {
			if _, counted := t.now[path]; !counted {
				t.now[path] = one
			}
		}
	}
	if text, err := json.Marshal(t.now); err == nil {
		_ = s.PutMemo(tallyMemo, text)
	}
	return bytes, t.err
}

// settled is how old a change must be to be told from one that follows.
const settled = 2 * time.Second

// keep remembers a sum, unless another change might have the same time.
func (t *tally) keep(path string, changed time.Time, one talliedFolder) {
	if one.Time = changed.UnixNano(); t.began.Sub(changed) > settled {
		t.now[path] = one
	}
}

// folder adds up the files of a folder and of those in it.
func (t *tally) folder(ctx context.Context, path string) (bytes int64) {
	info, err := os.Stat(t.store.path(path))
	if t.err = errors.Join(t.err, ctx.Err()); err != nil || t.err != nil {
		return 0
	}
	known, was := t.known[path]
	same := was && known.Time == info.ModTime().UnixNano()
	if same && known.Leaf {
		t.keep(path, info.ModTime(), known)
		return known.Bytes
	}
	one := talliedFolder{Leaf: true}
	entries, _ := os.ReadDir(t.store.path(path))
	for _, e := range entries {
		switch {
		case e.IsDir():
			one.Leaf = false
			bytes += t.folder(ctx, filepath.Join(path, e.Name()))
		case !same:
			if info, err := e.Info(); err == nil {
				one.Bytes += diskSize(info)
			}
		}
	}
	if same {
		one.Bytes = known.Bytes
	}
	t.keep(path, info.ModTime(), one)
	return bytes + one.Bytes
}

// each adds up folders that stay or go as one, of a kind. A file in each tells by its time whether it may have changed.
func (t *tally) each(ctx context.Context, kind string, size func(path string, info fs.FileInfo) int64, teller string) (bytes int64) {
	found, _ := filepath.Glob(t.store.path("imbricat", kind, "*", "*"))
	for _, path := range found {
		info, err := os.Stat(filepath.Join(path, teller))
		if t.err = errors.Join(t.err, ctx.Err()); t.err != nil {
			return bytes
		}
		if err != nil {
			continue // of no use, or never used
		}
		below := strings.TrimPrefix(strings.TrimPrefix(path, t.store.Dir()), string(filepath.Separator))
		one, was := t.known[below]
		if !was || one.Time != info.ModTime().UnixNano() {
			one = talliedFolder{Bytes: size(below, info)}
		}
		t.keep(below, info.ModTime(), one)
		bytes += one.Bytes
	}
	return bytes
}
