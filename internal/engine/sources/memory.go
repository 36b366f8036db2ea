// Package sources reads what copies take of the project folder: which files, and what they hold, each once. Digests of files
// that did not change are remembered. It writes nothing into the project.
package sources

import (
	"context"
	"fmt"
	"hash"
	"io"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"imbricat/internal/content/census"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/count"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
)

// Memory remembers the digests of a project folder's files by their size, times and inode, so that an unchanged file is
// not read again. A file whose times are not well in the past is never remembered: a later change might not show.
type Memory struct {
	store    *store.Store
	name     string
	now      func() time.Time
	load     sync.Once
	objectOf ObjectNames
	room     atomic.Int64 // for small files that are held, in bytes

	mutex sync.Mutex
	known byPath // as it was on disk
	seen  byPath // what this run met
	fresh bool   // seen has something that known lacks

	objectsOnce sync.Once
	objects     byPath // by names of version control; Stat is empty
	newObjects  bool
}

// remembered is what a file's bytes are, as long as its stat stays the same.
type remembered struct {
	Stat    tree.Stat
	Content digest.Content
	Mark    census.Class
}

// byPath is what is known of files. Several maps share what they lead to, which nobody changes.
type byPath map[string]*remembered

// of returns what is known of a file; of an unknown one it is empty.
func (b byPath) of(path string) remembered {
	if one := b[path]; one != nil {
		return *one
	}
	return remembered{}
}

// ObjectNames gives what version control calls the bytes of a file in some state, or nothing.
type ObjectNames func(path string, s tree.Stat) string

// MemoryOptions are what a memory may be given.
type MemoryOptions struct {
	Names ObjectNames      // may be nil
	Now   func() time.Time // by which files are too young to be remembered; nil: time.Now
}

// OpenMemory returns the memory of a project folder (its absolute path). It is read when it is first needed; one that is
// missing or damaged is empty.
func OpenMemory(s *store.Store, dir string, o MemoryOptions) *Memory {
	if o.Now == nil {
		o.Now = time.Now
	}
	m := &Memory{store: s, now: o.Now, objectOf: o.Names, name: "files-" + digest.FromBytes([]byte(dir)).Encoded()[:32], seen: byPath{}}
	m.room.Store(mostHeld)
	return m
}

func (m *Memory) recall(path string) (*remembered, bool) {
	m.load.Do(func() {
		text, _ := m.store.Memo(m.name)
		m.known = decodeMemory(string(text))
	})
	one, known := m.known[path]
	return one, known
}

// memoryHead is the first line of a memory; another one is not read.
const memoryHead = "imbricat file memory 2"

// decodeMemory reads what encodeMemory wrote. Anything else makes an empty memory.
func decodeMemory(text string) byPath {
	head, rest, _ := strings.Cut(text, "\n")
	if head != memoryHead {
		return byPath{}
	}
	all := make([]remembered, 0, strings.Count(rest, "\n")+1)
	known := make(byPath, cap(all))
	for line := range strings.Lines(rest) {
		path, one, ok := decodeRemembered(strings.TrimSuffix(line, "\n"))
		if !ok {
			return byPath{}
		}
		all = append(all, one)
		known[path] = &all[len(all)-1]
	}
	return known
}

func decodeRemembered(line string) (string, remembered, bool) {
	var one remembered
	fields := strings.SplitN(line, " ", 7)
	if len(fields) != 7 {
		return "", one, false
	}
	var numbers [4]int64
	for i := range numbers {
		n, err := strconv.ParseInt(fields[i+1], 10, 64)
		if err != nil {
			return "", one, false
		}
		numbers[i] = n
	}
	path, err := strconv.Unquote(fields[6])
	one.Content, one.Mark = digest.Content(fields[0]), census.Class(fields[5])
	one.Stat = tree.Stat{Size: numbers[0], ModTime: numbers[1], Change: numbers[2], Inode: uint64(numbers[3])}
	return path, one, err == nil && one.Content.Valid()
}

// encodeMemory writes a line for each file: content, size, times in nanoseconds, inode, mark, quoted path.
func encodeMemory(known byPath) []byte {
	out := []byte(memoryHead + "\n")
	for path, r := range known {
		out = append(out, r.Content...)
		for _, n := range []int64{r.Stat.Size, r.Stat.ModTime, r.Stat.Change, int64(r.Stat.Inode)} {
			out = strconv.AppendInt(append(out, ' '), n, 10)
		}
		out = append(append(append(out, ' '), r.Mark...), ' ')
		out = append(strconv.AppendQuote(out, path), '\n')
	}
	return out
}

// Save keeps what was learnt. Files that were not met are kept while they exist. A failure costs time at the next build
// and nothing else.
func (m *Memory) Save(source *tree.Source) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if !m.fresh {
		return
	}
	for path, old := range m.known {
		if _, newer := m.seen[path]; !newer && source.Exists(path) {
			m.seen[path] = old
		}
	}
	_ = m.store.PutMemo(m.name, encodeMemory(m.seen))
	if m.newObjects {
		_ = m.store.PutMemo(objectsMemo, encodeMemory(m.objects))
	}
}

// objectsMemo holds the digests of what version control knows, for every project: a fresh checkout has new inodes and
// times, and the same objects.
const objectsMemo = "objects"

// mostObjects bounds them; beyond that they are gathered anew.
const mostObjects = 500_000

// object returns the digest of a file that version control vouches for, and the name of its bytes there.
func (m *Memory) object(path string, s tree.Stat) (remembered, string, bool) {
	// What a file is called may count beside what it holds.
	if m.objectOf == nil || census.NameDecides(path) {
		return remembered{}, "", false
	}
	id := m.objectOf(path, s)
	if id == "" {
		return remembered{}, "", false
	}
	m.objectsOnce.Do(func() {
		text, _ := m.store.Memo(objectsMemo)
		if m.objects = decodeMemory(string(text)); len(m.objects) > mostObjects {
			m.objects = byPath{}
		}
	})
	m.mutex.Lock()
	defer m.mutex.Unlock()
	_, known := m.objects[id]
	one := m.objects.of(id)
	one.Stat = s
	return one, id, known
}

// keepObject remembers the digest of what version control calls id.
func (m *Memory) keepObject(id string, one remembered) {
	one.Stat = tree.Stat{}
	m.objects[id], m.newObjects = &one, true
}

// files is what digests tells of the files it was asked for, by path.
type files struct {
	known   byPath
	held    *held
	settled bool // a later change of any of them shows in its stat
}

// digests returns the content of each file among picked, with what the file was like when it was read. With fresh every
// file is read again.
func (m *Memory) digests(ctx context.Context, source *tree.Source, picked []tree.Picked, fresh bool, done *event.Counter) (*files, error) {
	out := &files{known: make(byPath, len(picked)), settled: true}
	var todo []string
	for i := range picked {
		p := &picked[i]
		if p.Kind != tree.File {
			continue
		}
		if old, known := m.recall(p.Path); known && old.Stat == p.Stat && !fresh {
			out.known[p.Path] = old
			continue
		}
		if one, _, known := m.object(p.Path, p.Stat); known && !fresh && p.Stat.Settled(m.now()) {
			out.known[p.Path] = &one
			m.mutex.Lock()
			m.fresh = true
			m.mutex.Unlock()
			continue
		}
		todo = append(todo, p.Path)
	}
	out.held = &held{room: &m.room, files: make(map[string][]byte, len(todo))}
	m.meet(out, len(todo))
	group, ctx := errgroup.WithContext(ctx)
	var turn atomic.Int64
	next := func() []string {
		begin := min(len(todo), int(turn.Add(1)-1)*batch)
		return todo[begin:min(len(todo), begin+batch)]
	}
	for range min(runtime.GOMAXPROCS(0), (len(todo)+batch-1)/batch) {
		group.Go(func() error { return m.hashAll(ctx, source, next, out, done) })
	}
	return out, group.Wait()
}

// meet keeps what an earlier run knew and this one used, and makes room for more.
func (m *Memory) meet(f *files, more int) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	if len(m.seen) == 0 {
		m.seen = make(byPath, len(f.known)+more)
	}
	for path, one := range f.known {
		m.seen[path] = one
	}
}

// batch is how many files one goroutine reads in turn: neighbours lie in one folder.
const batch = 64

// hashAll reads the files that next gives, until it gives none.
func (m *Memory) hashAll(ctx context.Context, source *tree.Source, next func() []string, out *files, done *event.Counter) error {
	opener := source.Opener()
	defer opener.Close()
	buffer, sum, slab := make([]byte, 128<<10), digest.NewContent(), slab{held: out.held}
	for paths := next(); len(paths) > 0; paths = next() {
		began := m.now()
		found := make([]remembered, 0, len(paths))
		for _, path := range paths {
			if err := ctx.Err(); err != nil {
				return err
			}
			one, err := hashFile(opener, path, sum, buffer, done)
			if err != nil {
				return err
			}
			if one.Stat.Size > 0 && one.Stat.Size <= smallFile {
				slab.hold(path, buffer[:one.Stat.Size])
			}
			found = append(found, one)
		}
		m.learn(paths, found, began, out)
	}
	return nil
}

// learn keeps what was read. A file is remembered when it was settled before anybody began to read it: one that changed between that and now
// might change again without a sign.
func (m *Memory) learn(paths []string, found []remembered, began time.Time, out *files) {
	ids := make([]string, len(paths))
	if m.objectOf != nil {
		for i, path := range paths {
			_, ids[i], _ = m.object(path, found[i].Stat)
		}
	}
	m.mutex.Lock()
	defer m.mutex.Unlock()
	for i, path := range paths {
		one := &found[i]
		out.known[path] = one
		if !one.Stat.Settled(began) {
			out.settled = false
			continue
		}
		if ids[i] != "" {
			m.keepObject(ids[i], *one)
		}
		m.seen[path], m.fresh = one, true
	}
}

// fill reads until the buffer is full or so many bytes are there; then, or at the end of the file, the error is io.EOF.
func fill(f io.Reader, buffer []byte, size int64) (int, error) {
	if size <= 0 || size >= int64(len(buffer)) { // empty ones are asked too: some file systems know no sizes
		n, err := io.ReadFull(f, buffer)
		if err == io.ErrUnexpectedEOF {
			err = io.EOF
		}
		return n, err
	}
	n, err := io.ReadFull(f, buffer[:size])
	if err == nil || err == io.ErrUnexpectedEOF {
		err = io.EOF // whether it has more bytes than that is told by its size afterwards
	}
	return n, err
}

var hashed = count.New("bytes of files hashed")

// hashFile reads a file once and notices when it changes meanwhile. A file that is smaller than the buffer is left in it.
func hashFile(opener *tree.Opener, path string, sum hash.Hash, buffer []byte, done *event.Counter) (remembered, error) {
	var one remembered
	f, before, err := opener.Open(path)
	if err != nil {
		return one, err
	}
	defer f.Close()
	sum.Reset()
	read := int64(0)
	for err == nil {
		var n int
		n, err = fill(f, buffer, before.Size-read)
		if read == 0 {
			one.Mark = census.ClassOf(path, buffer[:n])
		}
		sum.Write(buffer[:n])
		read += int64(n)
		done.Add(int64(n))
	}
	if err != io.EOF {
		return one, fmt.Errorf("reading %q: %w", path, err)
	}
	after, err := f.Stat()
	if err != nil {
		return one, fmt.Errorf("reading %q: %w", path, err)
	}
	if after != before || read != before.Size {
		return one, fmt.Errorf("%s %w; build again when nothing writes to it", path, layer.ErrChanged)
	}
	hashed.Add(read)
	one.Stat, one.Content = before, digest.ContentOf(sum)
	return one, nil
}
