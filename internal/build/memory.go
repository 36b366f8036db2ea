package build

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"runtime"
	"strconv"
	"strings"
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
	Stat   tree.Stat
	Digest digest.Digest
}

// OpenMemory reads the memory of a project folder (its absolute path). One that is missing or damaged is empty.
func OpenMemory(s *store.Store, dir string) *Memory {
	m := &Memory{store: s, name: "files-" + digest.FromBytes([]byte(dir)).Encoded()[:32],
		seen: map[string]remembered{}}
	text, _ := s.Memo(m.name)
	m.known = decodeMemory(string(text))
	return m
}

// memoryHead is the first line of a memory; another one is not read.
const memoryHead = "imbricat file memory 1"

// decodeMemory reads what encodeMemory wrote. Anything else makes an empty memory.
func decodeMemory(text string) map[string]remembered {
	head, rest, _ := strings.Cut(text, "\n")
	known := make(map[string]remembered, strings.Count(rest, "\n"))
	if head != memoryHead {
		return known
	}
	for line := range strings.SplitSeq(strings.TrimSuffix(rest, "\n"), "\n") {
		fields := strings.SplitN(line, " ", 6)
		if len(fields) != 6 {
			return map[string]remembered{}
		}
		var numbers [4]int64
		for i := range numbers {
			n, err := strconv.ParseInt(fields[i+1], 10, 64)
			if err != nil {
				return map[string]remembered{}
			}
			numbers[i] = n
		}
		path, err := strconv.Unquote(fields[5])
		d := digest.Digest("sha256:" + fields[0])
		if err != nil || d.Validate() != nil {
			return map[string]remembered{}
		}
		known[path] = remembered{tree.Stat{Size: numbers[0], ModTime: numbers[1], Change: numbers[2], Inode: uint64(numbers[3])}, d}
	}
	return known
}

// encodeMemory writes a line for each file: digest, size, times in nanoseconds, inode, quoted path.
func encodeMemory(known map[string]remembered) []byte {
	out := []byte(memoryHead + "\n")
	for path, r := range known {
		out = append(out, r.Digest.Encoded()...)
		for _, n := range []int64{r.Stat.Size, r.Stat.ModTime, r.Stat.Change, int64(r.Stat.Inode)} {
			out = strconv.AppendInt(append(out, ' '), n, 10)
		}
		out = append(strconv.AppendQuote(append(out, ' '), path), '\n')
	}
	return out
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
	_ = m.store.PutMemo(m.name, encodeMemory(m.seen))
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
