package tree

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/ground/count"
	"imbricat/internal/ground/ignore"
)

// Source is a project folder that files are taken in from. Nothing outside it is ever read, wherever links lead.
type Source struct {
	root     *os.Root
	dir      string
	leave    ignore.Matcher
	honour   []string // .gitignore files in these folders and below are read too
	builtins []string

	mutex   sync.Mutex
	openers []*Opener
}

// SourceOptions say what of a project folder is left out.
type SourceOptions struct {
	Ignore  []Ignore
	Unnamed []string // paths that are left out unless a copy names them
}

// Ignore says what of a folder is left out. What is said of folders in it comes after.
type Ignore struct {
	In              string   // relative to the project folder; empty: that folder itself
	LeaveOut        []string // patterns with gitignore's semantics
	HonourGitignore bool
}

// OpenSource opens a project folder.
func OpenSource(dir string, o SourceOptions) (*Source, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("opening the project folder: %w", err)
	}
	s := &Source{root: root, dir: dir, builtins: o.Unnamed}
	for _, one := range o.Ignore {
		if s.leave = s.leave.With(one.In, one.LeaveOut...); one.HonourGitignore {
			s.honour = append(s.honour, one.In)
		}
	}
	return s, nil
}

// Close lets the folder go, and what its openers keep open of it.
func (s *Source) Close() error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for _, o := range s.openers {
		o.Close()
	}
	s.openers = nil
	return s.root.Close()
}

// PickOptions say how a copy takes things in.
type PickOptions struct {
	LeaveOut   []string // patterns beside the source's, relative to the folder copied
	Structure  bool     // what is taken keeps its path below the folder In
	In         string   // a folder of the project, in which all that is taken lies; empty: the project folder
	Follow     bool     // links give what they lead to, inside the project
	Attributes []string // patterns of the names of extended attributes to take in
}

// Picked is a path of the project folder that a copy takes in.
type Picked struct {
	Path   string // slashes, relative to the project folder; of a link that was followed what it leads to
	Rel    string // relative to the step's destination; "" is the destination itself
	Kind   Kind
	Mode   uint32
	Link   string // symbolic links
	Stat   Stat
	Twin   FileID // the same for hard links to one file; zero for what has one name
	Xattrs map[string]string
}

// FileID tells files of a machine apart.
type FileID struct{ Device, Inode uint64 }

// Stat is what tells that a file has not changed: size in bytes, times in nanoseconds, inode where the system has them.
type Stat struct {
	Size    int64
	ModTime int64
	Change  int64
	Inode   uint64
}

// Survey is what a copy takes in, sorted by Rel.
type Survey struct {
	Picked     []Picked
	LeftOut    []string // paths that patterns leave out; a folder stands for all in it
	Special    []string // sockets, pipes and devices, which no layer takes in
	SingleFile bool     // a file that was named takes the destination's name

	meant bool // something left out would have been taken
}

// Errors of Pick that callers tell apart.
var (
	ErrNoMatch    = errors.New("matches nothing")
	ErrAllLeftOut = errors.New("is left out entirely by the ignore patterns")
)

// notThere is a source that does not exist; it is an fs.ErrNotExist.
type notThere struct{ from, dir string }

func (n *notThere) Error() string { return fmt.Sprintf("%q does not exist in %s", n.from, n.dir) }

func (n *notThere) Is(target error) bool { return target == fs.ErrNotExist }

// Pick finds what one from of a copy takes in. A folder gives what it holds; a file gives itself; a pattern gives each
// match under its own name.
func (s *Source) Pick(from string, o PickOptions) (*Survey, error) {
	base, pattern := from, ""
	if strings.ContainsAny(from, `*?[{\`) && !s.Exists(from) {
		base, pattern = doublestar.SplitPattern(from)
		if !doublestar.ValidatePattern(from) {
			return nil, fmt.Errorf("%q is not a valid pattern", from)
		}
	}
	info, err := s.root.Lstat(filepath.FromSlash(base))
	if err == nil && info.Mode()&fs.ModeSymlink != 0 && o.Follow {
		info, err = s.root.Stat(filepath.FromSlash(base))
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) && pattern != "":
		return nil, fmt.Errorf("the pattern %q %w", from, ErrNoMatch)
	case errors.Is(err, fs.ErrNotExist):
		return nil, &notThere{from, s.dir}
	case err != nil:
		return nil, fmt.Errorf("reading %q: %w", from, plain(err))
	}
	matcher, err := s.matcherFor(base, info.IsDir(), o.LeaveOut)
	if err != nil {
		return nil, err
	}
	if base != "." && matcher.MatchAll(base, info.IsDir()) {
		return nil, fmt.Errorf("%q %w", from, ErrAllLeftOut)
	}
	w := newWalk(s, o, base, pattern)
	survey := &Survey{}
	if info.IsDir() {
		err = w.whole(matcher, survey)
	} else {
		survey.SingleFile = true
		err = w.single(survey)
	}
	if err != nil {
		return nil, err
	}
	return survey, survey.check(from, pattern)
}

// check sorts what was found, and says where it is nothing.
func (s *Survey) check(from, pattern string) error {
	byRel := func(a, b Picked) int { return strings.Compare(a.Rel, b.Rel) }
	if !slices.IsSortedFunc(s.Picked, byRel) {
		slices.SortStableFunc(s.Picked, byRel)
	}
	switch {
	case len(s.Picked) > 0 || len(s.Special) > 0:
		return nil
	case s.meant:
		return fmt.Errorf("%q %w", from, ErrAllLeftOut)
	case pattern != "":
		return fmt.Errorf("the pattern %q %w", from, ErrNoMatch)
	}
	return nil
}

// Exists reports whether a path of the project folder is there.
func (s *Source) Exists(name string) bool {
	_, err := s.root.Lstat(filepath.FromSlash(name))
	return err == nil
}

// matcherFor puts the patterns in their order: those that always hold, the recipe's, the copy's own.
func (s *Source) matcherFor(base string, folder bool, leave []string) (ignore.Matcher, error) {
	m := ignore.Matcher{}
	for _, unnamed := range s.builtins {
		if base != unnamed && !strings.HasPrefix(base+"/", unnamed+"/") && path.Base(base) != unnamed {
			pattern := unnamed
			if unnamed != ".git" {
				pattern = "/" + unnamed
			}
			m = m.With("", pattern)
		}
	}
	m = m.Append(s.leave)
	top := base
	if !folder {
		top = Parent(base)
	}
	if top == "." {
		top = ""
	}
	// The ignore files of the folders above the one that is copied hold there too.
	for _, dir := range above(top) {
		if s.honours(dir) {
			var err error
			if m, err = s.withFile(m, dir); err != nil {
				return m, err
			}
		}
	}
	return m.With(top, leave...), nil
}

// honours reports whether a folder's ignore file is read.
func (s *Source) honours(dir string) bool {
	return slices.ContainsFunc(s.honour, func(in string) bool { return in == "" || dir == in || strings.HasPrefix(dir, in+"/") })
}

// keeps is what a path keeps of itself where structure is kept.
func (o PickOptions) keeps(path string) string {
	if path == o.In {
		return ""
	}
	return strings.TrimPrefix(path, o.In+"/")
}

// above lists the root, the folders on the way to dir, and dir.
func above(dir string) []string {
	list := []string{""}
	for i, c := range dir {
		if c == '/' {
			list = append(list, dir[:i])
		}
	}
	if dir != "" {
		list = append(list, dir)
	}
	return list
}

// withFile adds the patterns of a folder's .gitignore.
func (s *Source) withFile(m ignore.Matcher, dir string) (ignore.Matcher, error) {
	f, err := s.root.Open(filepath.FromSlash(Join(dir, ".gitignore")))
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err != nil {
		return m, fmt.Errorf("reading %s: %w", Join(dir, ".gitignore"), plain(err))
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, 1<<20))
	if err != nil {
		return m, fmt.Errorf("reading %s: %w", Join(dir, ".gitignore"), plain(err))
	}
	return m.With(dir, ignore.Lines(string(text))...), nil
}

// opened counts the files of project folders that were opened.
var opened = count.New("files opened")

// Opener returns what opens the source's files. It may be used until the source is closed.
func (s *Source) Opener() *Opener {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	o := &Opener{source: s}
	s.openers = append(s.openers, o)
	return o
}

// Measure counts the files at and below a path, and their bytes.
func (s *Source) Measure(p string) (files int, bytes int64, err error) {
	info, err := s.root.Lstat(filepath.FromSlash(p))
	switch {
	case errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission):
		return 0, 0, nil
	case err != nil:
		return 0, 0, err
	case info.Mode().IsRegular():
		return 1, info.Size(), nil
	case !info.IsDir():
		return 0, 0, nil // a link is no more than itself, wherever it leads
	}
	err = fs.WalkDir(s.root.FS(), p, func(_ string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
			return nil // gone meanwhile, or none of ours: it is left out anyway
		}
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		if info, err := d.Info(); err == nil {
			files++
			bytes += info.Size()
		}
		return nil
	})
	return files, bytes, err
}

// Covers returns what tells whether a copy of from would take a path in if it were there, by the patterns alone.
func (s *Source) Covers(from string, leave []string) func(p string) bool {
	base, pattern := from, ""
	if strings.ContainsAny(from, `*?[{\`) && !s.Exists(from) {
		base, pattern = doublestar.SplitPattern(from)
	}
	info, err := s.root.Lstat(filepath.FromSlash(base))
	matcher, problem := s.matcherFor(base, err == nil && info.IsDir(), leave)
	return func(p string) bool {
		below := p
		if base != "." {
			rest, inside := strings.CutPrefix(p, base)
			if !inside || rest != "" && rest[0] != '/' {
				return false
			}
			below = strings.TrimPrefix(rest, "/")
		}
		return matchesAbove(pattern, below) && problem == nil && !matcher.MatchAll(p, false)
	}
}

// LeavesOut returns what tells whether the patterns leave a folder of the project out, whatever a copy names.
func (s *Source) LeavesOut() func(dir string) bool {
	matcher, err := s.matcherFor("", true, nil)
	return func(dir string) bool { return err == nil && matcher.MatchAll(dir, true) }
}

// matchesAbove reports whether a pattern matches a path or a folder that it lies in.
func matchesAbove(pattern, p string) bool {
	if pattern == "" {
		return true
	}
	for i := 0; i <= len(p); i++ {
		if i == len(p) || p[i] == '/' {
			if matched, _ := doublestar.Match(pattern, p[:i]); matched {
				return true
			}
		}
	}
	return false
}

// Settled reports whether a file's times lie well before now, so that a later change must show in them. Where the system
// has no change time, which nobody can set, nothing is sure: the modification time may be put back.
func (s Stat) Settled(now time.Time) bool {
	limit := now.Add(-2 * time.Second).UnixNano()
	return s.Change != 0 && s.ModTime < limit && s.Change < limit
}

// plain drops the repeated operation and path of a file error.
func plain(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
