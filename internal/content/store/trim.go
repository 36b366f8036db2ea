package store

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
)

// Usage is what a store holds, in bytes on the disk, and how many files that is.
type Usage struct {
	Amounts
	Files Amounts `json:"files"` // folders and links of trees count too
}

// Amounts are sums by what something is for.
type Amounts struct {
	Images   int64 `json:"images"`      // blobs of images that are listed
	Layers   int64 `json:"layers"`      // other blobs that records of finished steps need
	Other    int64 `json:"other"`       // blobs that nothing needs: bases, fetched files, images without a name
	Saved    int64 `json:"saved"`       // records, indexes of layers and notes
	Unpacked int64 `json:"unpacked"`    // trees that commands were run in
	Kept     int64 `json:"kept"`        // directories that outlive run steps
	Benches  int64 `json:"workbenches"` // files that workbenches took in, and what they know of their acts
	Unsorted int64 `json:"unsorted"`    // unfinished files
	Total    int64 `json:"total"`
}

// Trimming says what to trim.
type Trimming struct {
	UnusedFor time.Duration // what was used since is kept
	To        int64         // bytes; what is least useful goes first until the store has no more; 0: no bound
	DryRun    bool
}

// Trimmed is what trimming removed, or would.
type Trimmed struct {
	Files int   `json:"files"`
	Bytes int64 `json:"bytes"`
	Left  Usage `json:"left"`
	// Kept tells that what other processes use had to stay though it was due.
	Kept int `json:"inUse"`
}

// item is a file of a store.
type item struct {
	path  string
	size  int64 // on the disk, in bytes
	files int
	used  time.Time
	redo  time.Duration // what making it again takes, as far as that is known
	kind  string        // "image", "layer", "blob", "saved", "unpacked", "kept", "bench", "unfinished", "gone" (removed, but for its files)
}

// Size adds up what the store holds.
func (s *Store) Size(ctx context.Context) (Usage, error) {
	items, err := s.items(ctx)
	return usageOf(items), err
}

func usageOf(items []item) (u Usage) {
	for _, i := range items {
		u.add(i.kind, i.size)
		u.Files.add(i.kind, int64(i.files))
	}
	return u
}

func (a *Amounts) add(kind string, n int64) {
	to := &a.Unsorted
	switch kind {
	case "image":
		to = &a.Images
	case "layer":
		to = &a.Layers
	case "blob":
		to = &a.Other
	case "saved":
		to = &a.Saved
	case "unpacked":
		to = &a.Unpacked
	case "kept":
		to = &a.Kept
	case "bench":
		to = &a.Benches
	}
	*to += n
	a.Total += n
}

// uselessness is what keeping an item costs for what it may save: bytes that lie for long and are made again fast weigh most.
func (i item) uselessness(now time.Time) float64 {
	return (now.Sub(i.used).Hours() + 1) * float64(i.size) / (i.redo.Seconds() + 1)
}

// items lists every file of the store with what it is for.
func (s *Store) items(ctx context.Context) ([]item, error) {
	named, err := s.reachable()
	if err != nil {
		return nil, err
	}
	layers, redo := map[string]bool{}, map[string]time.Duration{}
	if err := s.eachFile("imbricat/records", func(path string) error {
		text, err := os.ReadFile(path)
		var r Record
		if err == nil && Unseal(text, &r) == nil {
			layers[string(r.Layer.Digest)] = true
			redo[r.Layer.Digest.Encoded()] += time.Duration(r.Millis) * time.Millisecond
		}
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	if err := s.eachFile(filepath.Join("imbricat", runs), func(path string) error {
		text, err := os.ReadFile(path)
		var r Run
		if err == nil && Unseal(text, &r) == nil {
			redo[hexOf(string(r.Tree))] = max(redo[hexOf(string(r.Tree))], time.Duration(r.Millis)*time.Millisecond)
		}
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	var all []item
	err = filepath.WalkDir(s.Dir(), func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		below, _ := filepath.Rel(s.Dir(), path)
		if d != nil && d.IsDir() {
			if one, whole := s.folder(path, filepath.ToSlash(below)); whole {
				if one.kind != "" {
					one.redo = redo[filepath.Base(path)]
					all = append(all, one)
				}
				return fs.SkipDir
			}
		}
		if err != nil || d.IsDir() {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return nil // gone meanwhile
		}
		if kind := kindOf(filepath.ToSlash(below), named, layers); kind != "" {
			all = append(all, item{path: path, size: diskSize(info), files: 1, used: usedAt(kind, info), redo: redo[filepath.Base(path)], kind: kind})
		}
		return ctx.Err()
	})
	if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	return all, nil
}

// folder returns a folder that stays or goes as one: an unpacked tree, a kept directory, what is unfinished. Who owns what
// is in it may be no concern of ours, so what cannot be read counts nothing.
func (s *Store) folder(path, below string) (item, bool) {
	parts := strings.Split(below, "/")
	switch {
	case len(parts) == 4 && parts[0] == "imbricat" && parts[1] == snapshots:
		text, err := os.ReadFile(filepath.Join(path, snapshotFile))
		info, statErr := os.Stat(filepath.Join(path, snapshotFile))
		var about snapshot
		if err != nil || statErr != nil || Unseal(text, &about) != nil {
			return item{path: path, files: 1, used: time.Unix(0, 0), kind: "unpacked"}, true
		}
		return item{path: path, size: about.Bytes, files: about.Files, used: info.ModTime(), kind: "unpacked"}, true
	case len(parts) == 4 && parts[0] == "imbricat" && parts[1] == keptKind:
		one := item{path: path, kind: "kept"}
		one.size, one.files = folderSize(filepath.Join(path, "data"))
		if info, err := os.Stat(filepath.Join(path, "holder.json")); err == nil {
			one.used = info.ModTime()
		}
		return one, true
	case len(parts) == 3 && parts[0] == "imbricat" && parts[1] == "tmp":
		info, err := os.Stat(path)
		if err != nil {
			return item{}, true
		}
		one := item{path: path, used: info.ModTime(), kind: "unfinished"}
		one.size, one.files = folderSize(path)
		if strings.HasPrefix(filepath.Base(path), hiddenPrefix) {
			one.kind, one.used = "gone", time.Time{}
		}
		return one, true
	}
	return item{}, false
}

func folderSize(dir string) (bytes int64, files int) {
	_ = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return fs.SkipDir
		}
		if info, err := d.Info(); err == nil {
			bytes, files = bytes+diskSize(info), files+1
		}
		return nil
	})
	return bytes, files
}

// kindOf tells what a file of the store is for; what it needs to work is empty.
func kindOf(below string, named map[digest.Digest]bool, layers map[string]bool) string {
	parts := strings.Split(below, "/")
	switch {
	case parts[0] == "blobs" && len(parts) == 3:
		id := parts[1] + ":" + parts[2]
		switch {
		case named[digest.Digest(id)]:
			return "image"
		case layers[id]:
			return "layer"
		}
		return "blob"
	case parts[0] == "imbricat" && len(parts) == 4 && parts[1] == elsewhere && named[digest.Digest("sha256:"+parts[2]+strings.TrimSuffix(parts[3], ".json"))]:
		return "image"
	case parts[0] == "imbricat" && len(parts) > 2 && slices.Contains(saved, parts[1]) && parts[1] != claims && parts[1] != origins:
		return "saved"
	case parts[0] == "imbricat" && len(parts) > 3 && parts[1] == benches:
		return "bench"
	case parts[0] == "imbricat" && len(parts) > 2 && parts[1] == "tmp":
		return "unfinished"
	}
	return ""
}

// reachable returns every blob that a listed image needs.
func (s *Store) reachable() (map[digest.Digest]bool, error) {
	list, err := s.List()
	if err != nil {
		return nil, err
	}
	seen := map[digest.Digest]bool{}
	for _, image := range list {
		s.reach(image.Descriptor.Digest, seen, 0)
	}
	return seen, nil
}

func (s *Store) reach(d digest.Digest, seen map[digest.Digest]bool, depth int) {
	if seen[d] || depth > 5 {
		return
	}
	seen[d] = true
	if _, document := s.Document(d); !document {
		return
	}
	for _, need := range s.needs(d) {
		s.reach(need.Digest, seen, depth+1)
	}
}

// needs lists what a manifest or an index names.
func (s *Store) needs(d digest.Digest) []digest.Descriptor {
	path, err := s.BlobPath(d)
	if err != nil {
		return nil
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	var both struct {
		Manifests []digest.Descriptor `json:"manifests"`
		Config    *digest.Descriptor  `json:"config"`
		Layers    []digest.Descriptor `json:"layers"`
		Subject   *digest.Descriptor  `json:"subject"`
	}
	if json.Unmarshal(text, &both) != nil {
		return nil
	}
	all := append(both.Manifests, both.Layers...)
	for _, one := range []*digest.Descriptor{both.Config, both.Subject} {
		if one != nil {
			all = append(all, *one)
		}
	}
	return all
}

// Trim removes what no listed image needs and nobody has used for long. What a process that has the store open has used
// is spared, whatever its age.
func (s *Store) Trim(ctx context.Context, t Trimming) (*Trimmed, error) {
	oldest, err := s.oldestLease()
	if err != nil {
		return nil, err
	}
	return s.trim(ctx, t, oldest, s.removeFolder)
}

// trim is Trim that spares what was used since a time, and disposes of folders in one way or another.
func (s *Store) trim(ctx context.Context, t Trimming, oldest time.Time, dispose func(dir string) error) (*Trimmed, error) {
	now := time.Now()
	items, err := s.items(ctx)
	if err != nil {
		return nil, err
	}
	// What is due by its age comes first, then what is least useful.
	old := func(i item) bool { return now.Sub(i.used) >= t.UnusedFor }
	slices.SortFunc(items, func(a, b item) int {
		if old(a) != old(b) {
			return map[bool]int{true: -1, false: 1}[old(a)]
		}
		return cmp.Or(cmp.Compare(b.uselessness(now), a.uselessness(now)), strings.Compare(a.path, b.path))
	})
	total := usageOf(items).Total // what is left when all that is due is gone
	out := &Trimmed{}
	var left, due []item
	for _, i := range items {
		large := t.To > 0 && total > t.To
		switch {
		case i.kind == "image" || i.kind == "bench" || i.kind == "unfinished" && now.Sub(i.used) < 24*time.Hour || !old(i) && !large:
			left = append(left, i)
		case !i.used.Before(oldest):
			out.Kept++
			left = append(left, i)
		default:
			due, total = append(due, i), total-i.size
		}
	}
	if !t.DryRun {
		var spared []item
		due, spared, err = s.removeAll(ctx, due, dispose)
		left, out.Kept = append(left, spared...), out.Kept+len(spared)
	}
	gone := usageOf(due)
	out.Files, out.Bytes, out.Left = int(gone.Files.Total), gone.Total, usageOf(left)
	return out, err
}

// usedAt is when something of a kind was used, by the file that tells it.
func usedAt(kind string, info fs.FileInfo) time.Time {
	switch kind {
	case "image", "layer", "blob": // their modification time tells something else
		return accessed(info)
	case "gone":
		return time.Time{}
	}
	return info.ModTime()
}

// stamp is the file whose time tells when an item was used.
func (i item) stamp() string {
	switch i.kind {
	case "unpacked":
		return filepath.Join(i.path, snapshotFile)
	case "kept":
		return filepath.Join(i.path, "holder.json")
	}
	return i.path
}

func (s *Store) remove(i item, dispose func(dir string) error) bool {
	switch i.kind {
	case "unpacked":
		return dispose(i.path) == nil
	case "kept":
		gone, err := s.dropKept(filepath.Base(filepath.Dir(i.path)), filepath.Base(i.path), dispose)
		return gone && err == nil
	}
	return s.Discard(i.path) == nil
}

// removeAll removes files that nobody has used or named meanwhile, some at a time, so that others wait little.
func (s *Store) removeAll(ctx context.Context, due []item, dispose func(dir string) error) (removed, spared []item, err error) {
	for part := range slices.Chunk(due, 256) {
		lock := s.trimLock()
		if _, err := lock.TryLockContext(ctx, 10*time.Millisecond); err != nil {
			return removed, spared, fmt.Errorf("waiting for other users of the store: %w", err)
		}
		// Images may have got names since the list was made.
		named, err := s.reachable()
		for _, i := range part {
			info, statErr := os.Stat(i.stamp())
			id := filepath.Base(filepath.Dir(i.path)) + ":" + filepath.Base(i.path)
			switch {
			case errors.Is(statErr, fs.ErrNotExist):
			case err != nil || statErr != nil || usedAt(i.kind, info).After(i.used) || named[digest.Digest(id)]:
				spared = append(spared, i)
			case s.remove(i, dispose):
				removed = append(removed, i)
			default: // somebody has it
				spared = append(spared, i)
			}
		}
		lock.Close()
		if err != nil {
			return removed, spared, err
		}
	}
	return removed, spared, nil
}
