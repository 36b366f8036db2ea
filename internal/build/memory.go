package build

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/digest"
	"imbricat/internal/layer"
	"imbricat/internal/store"
	"imbricat/internal/tree"
)

// Memory remembers the digests of a project folder's files by their size, times and inode, so that an unchanged file is
// not read again. A file whose times are not well in the past is never remembered: a later change might not show.
type Memory struct {
	store *store.Store
	name  string
	fresh bool

	mutex sync.Mutex
	known map[string]remembered
	seen  map[string]remembered
}

type remembered struct {
	Stat   tree.Stat     `json:"t"`
	Digest digest.Digest `json:"d"`
}

// OpenMemory reads the memory of a project folder (its absolute path). One that is missing or damaged is empty.
func OpenMemory(s *store.Store, dir string) *Memory {
	m := &Memory{store: s, name: "files-" + digest.FromBytes([]byte(dir)).Encoded()[:32] + ".json",
		known: map[string]remembered{}, seen: map[string]remembered{}}
	if text, found := s.Memo(m.name); found {
		if json.Unmarshal(text, &m.known) != nil {
			m.known = map[string]remembered{}
		}
	}
	return m
}

// Save keeps what was learnt. A failure costs time at the next build and nothing else.
func (m *Memory) Save() {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if !m.fresh {
		return
	}
	for path, old := range m.known {
		if _, newer := m.seen[path]; !newer {
			m.seen[path] = old
		}
	}
	if text, err := json.Marshal(m.seen); err == nil {
		_ = m.store.PutMemo(m.name, text)
	}
}

// Digests gives the digest of each file among picked, and what the file was like when it was taken.
func (m *Memory) Digests(ctx context.Context, source *tree.Source, picked []tree.Picked, done *progress) (map[string]digest.Digest, map[string]tree.Stat, error) {
	digests := make(map[string]digest.Digest, len(picked))
	stats := make(map[string]tree.Stat, len(picked))
	var todo []string
	for i := range picked {
		p := &picked[i]
		if p.Kind != tree.File {
			continue
		}
		if old, known := m.known[p.Path]; known && old.Stat == p.Stat {
			digests[p.Path], stats[p.Path] = old.Digest, p.Stat
			continue
		}
		todo = append(todo, p.Path)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for part := range batches(todo, 64) {
		group.Go(func() error {
			buffer := make([]byte, 128<<10)
			for _, path := range part {
				if err := ctx.Err(); err != nil {
					return err
				}
				d, stat, err := hashFile(source, path, buffer, done)
				if err != nil {
					return err
				}
				m.mutex.Lock()
				digests[path], stats[path] = d, stat
				if stat.Settled(time.Now()) {
					m.seen[path], m.fresh = remembered{stat, d}, true
				}
				m.mutex.Unlock()
			}
			return nil
		})
	}
	return digests, stats, group.Wait()
}

// batches cuts a list into parts of at most n.
func batches(list []string, n int) func(yield func([]string) bool) {
	return func(yield func([]string) bool) {
		for len(list) > 0 {
			size := min(n, len(list))
			if !yield(list[:size]) {
				return
			}
			list = list[size:]
		}
	}
}

// hashFile reads a file once and notices when it changes meanwhile.
func hashFile(source *tree.Source, path string, buffer []byte, done *progress) (digest.Digest, tree.Stat, error) {
	f, before, err := source.Open(path)
	if err != nil {
		return "", before, err
	}
	defer f.Close()
	sum := sha256.New()
	n, err := io.CopyBuffer(struct{ io.Writer }{sum}, struct{ io.Reader }{&counted{f, done}}, buffer)
	if err != nil {
		return "", before, fmt.Errorf("reading %q: %w", path, err)
	}
	after, err := tree.StatFile(f)
	if err != nil {
		return "", before, fmt.Errorf("reading %q: %w", path, err)
	}
	if after != before || n != before.Size {
		return "", before, fmt.Errorf("%s %w; build again when nothing writes to it", path, layer.ErrChanged)
	}
	return digest.FromHash(sum), before, nil
}
