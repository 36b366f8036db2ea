package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
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

// Grew reports whether this process has put so much into the store that it may be too large now.
func (s *Store) Grew() bool { return s.lease != nil && (s.unpacked.Load() || s.Written() >= fewBytes) }

// Bound removes what can be made again and was not used for longest where the store has too much of that: unpacked trees first,
// then what trimming removes. What images that are listed need stays, and what processes use that have the store open, this
// one too. It returns nil where there is nothing to tell.
func (s *Store) Bound(ctx context.Context, b Bounding) (*Bounded, error) {
	if !s.Grew() {
		return nil, nil
	}
	ctx, cancel := context.WithTimeout(ctx, b.Within)
	defer cancel()
	s.removeHidden(ctx) // what there was no time for
	again, err := s.tally(ctx)
	if err != nil || again <= b.Most {
		return nil, ignoreTime(err)
	}
	named, err := s.reachable()
	if err != nil {
		return nil, err
	}
	needed := s.bytesOf(named)
	if again-needed <= b.Most {
		return nil, nil
	}
	oldest, err := s.oldestUse()
	if err != nil {
		return nil, err
	}
	out := &Bounded{Over: again - needed - b.Most}
	given, err := s.giveUpTrees(ctx, out.Over, oldest)
	gone := usageOf(given)
	out.count(gone.Total, int(gone.Files.Total))
	out.Trees = len(given)
	s.removeHidden(ctx)
	if out.Over > 0 && err == nil && ctx.Err() == nil {
		// What lies below an age goes only as far as the size asks for it.
		part, cancel := context.WithTimeout(ctx, b.Within/3)
		trimmed, trimErr := s.trim(part, Trimming{UnusedFor: 1 << 62, To: b.Most + needed}, oldest, s.putAway)
		cancel()
		if trimmed != nil {
			out.count(trimmed.Bytes, trimmed.Files)
			out.Held = out.Over > 0 && trimErr == nil
		}
		s.removeHidden(ctx)
		if err = ignoreTime(trimErr); out.Over > 0 && trimErr != nil && err == nil { // too many files to look at them all
			given, err = s.giveUpBlobs(ctx, out.Over, oldest, named)
			gone := usageOf(given)
			out.count(gone.Total, int(gone.Files.Total))
		}
	}
	return out, ignoreTime(err)
}

// giveUpBlobs removes blobs that no image needs until so much is gone: of as many as there is time to look at, those that were not used
// for longest, and of a part of them at most half.
func (s *Store) giveUpBlobs(ctx context.Context, bytes int64, oldest time.Time, named map[digest.Digest]bool) ([]item, error) {
	const algorithm = "sha256"
	names, err := namesIn(s.path("blobs", algorithm))
	if err != nil || len(names) == 0 {
		return nil, err
	}
	end := time.Now().Add(time.Hour)
	if deadline, is := ctx.Deadline(); is {
		end = time.Now().Add(time.Until(deadline) / 2)
	}
	var due []item
	first, seen := rand.IntN(len(names)), 0
	for ; seen < len(names) && time.Now().Before(end); seen++ {
		name := names[(first+seen)%len(names)]
		path := s.path("blobs", algorithm, name)
		info, err := os.Stat(path)
		if err != nil {
			continue
		}
		if used := accessed(info); !named[digest.Digest(algorithm+":"+name)] && used.Before(oldest) {
			due = append(due, item{path: path, size: diskSize(info), files: 1, used: used, kind: "blob"})
		}
	}
	slices.SortFunc(due, func(a, b item) int { return a.used.Compare(b.used) })
	if seen < len(names) {
		due = due[:(len(due)+1)/2]
	}
	for n := range due {
		if bytes <= 0 {
			due = due[:n]
			break
		}
		bytes -= due[n].size
	}
	removed, _, err := s.removeAll(ctx, due, s.putAway)
	return removed, err
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

// bytesOf is what blobs take.
func (s *Store) bytesOf(blobs map[digest.Digest]bool) (bytes int64) {
	for d := range blobs {
		if path, pathErr := s.BlobPath(d); pathErr == nil {
			if info, statErr := os.Stat(path); statErr == nil {
				bytes += diskSize(info)
			}
		}
	}
	return bytes
}

// talliedFolder is what the files of a folder took when it had a time of change.
type talliedFolder struct {
	Time  int64 `json:"time"` // in nanoseconds; of blobs, a hash of their names
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
	bytes = t.blobs(ctx, "sha256")
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

// blobs adds up blobs. They are many in one folder, and never change, so what is remembered is what those take whose names begin alike, by
// a hash of the names.
func (t *tally) blobs(ctx context.Context, algorithm string) (bytes int64) {
	names, err := namesIn(t.store.path("blobs", algorithm))
	if err != nil {
		t.err = errors.Join(t.err, err)
		return 0
	}
	slices.Sort(names)
	for len(names) > 0 {
		n := 1
		for n < len(names) && alike(names[0], names[n]) {
			n++
		}
		sum := fnv.New64a()
		for _, name := range names[:n] {
			_, _ = io.WriteString(sum, name)
		}
		key := path.Join("blobs", algorithm, names[0][:min(2, len(names[0]))])
		one, was := t.known[key]
		if !was || one.Time != int64(sum.Sum64()) {
			one = talliedFolder{Time: int64(sum.Sum64())}
			for _, name := range names[:n] {
				if info, err := os.Stat(t.store.path("blobs", algorithm, name)); err == nil {
					one.Bytes += diskSize(info)
				}
			}
			if t.err = errors.Join(t.err, ctx.Err()); t.err != nil {
				return bytes
			}
		}
		t.now[key] = one
		bytes, names = bytes+one.Bytes, names[n:]
	}
	return bytes
}

// alike reports whether two names of blobs are summed up together.
func alike(a, b string) bool { return len(a) > 1 && len(b) > 1 && a[:2] == b[:2] }

func namesIn(dir string) ([]string, error) {
	f, err := os.Open(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	defer f.Close()
	return f.Readdirnames(-1)
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
