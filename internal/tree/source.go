package tree

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/ignore"
)

// Source is a project folder that files are taken in from. Nothing outside it is ever read, wherever links lead.
type Source struct {
	root     *os.Root
	dir      string
	leave    ignore.Matcher
	honour   bool // .gitignore files are read too
	builtins []string
}

// SourceOptions say what of a project folder is left out.
type SourceOptions struct {
	LeaveOut        []string // patterns with gitignore's semantics
	HonourGitignore bool
	Unnamed         []string // paths that are left out unless a copy names them
}

// OpenSource opens a project folder.
func OpenSource(dir string, o SourceOptions) (*Source, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, fmt.Errorf("opening the project folder: %w", err)
	}
	return &Source{root: root, dir: dir, honour: o.HonourGitignore, builtins: o.Unnamed, leave: ignore.New(o.LeaveOut...)}, nil
}

// Close lets the folder go.
func (s *Source) Close() error { return s.root.Close() }

// Picked is a path of the project folder that a copy takes in.
type Picked struct {
	Path string // slashes, relative to the project folder
	Rel  string // relative to the step's destination; "" is the destination itself
	Kind Kind
	Mode uint32
	Link string // symbolic links
	Stat Stat
}

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
// match under its own name. leave is added to the source's patterns, relative to the folder copied.
func (s *Source) Pick(from string, leave []string) (*Survey, error) {
	w := &walk{source: s, survey: &Survey{}}
	base, pattern := from, ""
	if strings.ContainsAny(from, `*?[{\`) && !s.exists(from) {
		base, pattern = doublestar.SplitPattern(from)
		if !doublestar.ValidatePattern(from) {
			return nil, fmt.Errorf("%q is no valid pattern", from)
		}
	}
	w.base, w.pattern = base, pattern
	info, err := s.root.Lstat(filepath.FromSlash(base))
	if err == nil && info.IsDir() {
		w.top, err = s.root.OpenRoot(filepath.FromSlash(base))
	}
	if w.top != nil {
		defer w.top.Close()
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) && pattern != "":
		return nil, fmt.Errorf("the pattern %q %w", from, ErrNoMatch)
	case errors.Is(err, fs.ErrNotExist):
		return nil, &notThere{from, s.dir}
	case err != nil:
		return nil, fmt.Errorf("reading %q: %w", from, plain(err))
	}
	if w.matcher, err = s.matcherFor(base, info.IsDir(), leave); err != nil {
		return nil, err
	}
	if s.leftOutAbove(w, base, info.IsDir()) {
		return nil, fmt.Errorf("%q %w", from, ErrAllLeftOut)
	}
	if !info.IsDir() {
		w.survey.SingleFile = true
		if err := w.take(s.root, base, base, path.Base(base), info); err != nil {
			return nil, err
		}
		return w.survey, nil
	}
	if err := w.folder(w.top, base, "", pattern == "", 0); err != nil {
		return nil, err
	}
	return w.survey, w.finish(from)
}

func (s *Source) exists(name string) bool {
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
	if s.honour {
		// The ignore files of the folders above the one that is copied hold there too.
		for _, dir := range above(top) {
			var err error
			if m, err = s.withFile(m, dir); err != nil {
				return m, err
			}
		}
	}
	return m.With(top, leave...), nil
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

func (s *Source) leftOutAbove(w *walk, base string, folder bool) bool {
	return base != "." && w.matcher.MatchAll(base, folder)
}

// walk carries the state of one Pick.
type walk struct {
	top     *os.Root // the folder that is walked; nil for a file
	source  *Source
	matcher ignore.Matcher
	base    string // folder that the pattern is relative to
	pattern string
	survey  *Survey
	meant   bool // something left out would have been taken
}

func (w *walk) matches(p string) bool {
	if w.base != "." {
		p = strings.TrimPrefix(p, w.base+"/")
	}
	matched, _ := doublestar.Match(w.pattern, p)
	return matched
}

// folder visits what an open folder holds. dir is its path, rel where it lands; inside tells that everything below is
// taken. Names are looked up in the open folder, so that each costs one call however deep it lies.
func (w *walk) folder(open *os.Root, dir, rel string, inside bool, depth int) error {
	matcher := w.matcher
	if w.source.honour && depth > 0 {
		var err error
		if w.matcher, err = w.source.withFile(w.matcher, dir); err != nil {
			return err
		}
	}
	defer func() { w.matcher = matcher }()
	f, err := open.Open(".")
	if err != nil {
		return fmt.Errorf("reading %q: %w", dir, plain(err))
	}
	names, err := f.Readdirnames(-1)
	f.Close()
	if err != nil {
		return fmt.Errorf("reading %q: %w", dir, plain(err))
	}
	sort.Strings(names)
	for _, name := range names {
		if err := w.entry(open, strings.TrimPrefix(Join(dir, name), "./"), rel, name, inside, depth); err != nil {
			return err
		}
	}
	return nil
}

func (w *walk) entry(open *os.Root, p, rel, name string, inside bool, depth int) error {
	info, err := open.Lstat(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil // it went away between the listing and now
	}
	if err != nil {
		return fmt.Errorf("reading %q: %w", p, plain(err))
	}
	matched := inside || w.matches(p)
	if w.matcher.Match(p, info.IsDir()) {
		w.survey.LeftOut = append(w.survey.LeftOut, p)
		w.meant = w.meant || matched
		return nil
	}
	to := Join(rel, name)
	if matched {
		if err := w.take(open, name, p, to, info); err != nil {
			return err
		}
	}
	if !info.IsDir() {
		return nil
	}
	if !matched {
		// Without "**" a pattern reaches no deeper than its elements.
		if !strings.Contains(w.pattern, "**") && depth+1 > strings.Count(w.pattern, "/") {
			return nil
		}
		to = ""
	}
	below, err := open.OpenRoot(name)
	if err != nil {
		return fmt.Errorf("reading %q: %w", p, plain(err))
	}
	defer below.Close()
	return w.folder(below, p, to, matched, depth+1)
}

// take adds what is called name in an open folder.
func (w *walk) take(open *os.Root, name, p, rel string, info fs.FileInfo) error {
	picked := Picked{Path: p, Rel: rel, Mode: permissions(info.Mode()), Stat: statOf(info)}
	switch mode := info.Mode(); {
	case mode.IsRegular():
		picked.Kind = File
	case mode.IsDir():
		picked.Kind = Folder
	case mode&fs.ModeSymlink != 0:
		target, err := open.Readlink(filepath.FromSlash(name))
		if err != nil {
			return fmt.Errorf("reading the link %q: %w", p, plain(err))
		}
		picked.Kind, picked.Link = Symlink, filepath.ToSlash(target)
	default:
		w.survey.Special = append(w.survey.Special, p)
		return nil
	}
	w.survey.Picked = append(w.survey.Picked, picked)
	return nil
}

func (w *walk) finish(from string) error {
	s := w.survey
	sort.SliceStable(s.Picked, func(i, j int) bool { return s.Picked[i].Rel < s.Picked[j].Rel })
	switch {
	case len(s.Picked) > 0:
		return nil
	case w.meant:
		return fmt.Errorf("%q %w", from, ErrAllLeftOut)
	case w.pattern != "":
		return fmt.Errorf("the pattern %q %w", from, ErrNoMatch)
	}
	return nil
}

func permissions(mode fs.FileMode) uint32 {
	bits := uint32(mode.Perm())
	for flag, bit := range map[fs.FileMode]uint32{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if mode&flag != 0 {
			bits |= bit
		}
	}
	return bits
}

// Open opens a file of the project folder for reading and tells what it is like at that moment.
func (s *Source) Open(p string) (*os.File, Stat, error) {
	f, err := s.root.Open(filepath.FromSlash(p))
	if err != nil {
		return nil, Stat{}, fmt.Errorf("reading %q: %w", p, plain(err))
	}
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, Stat{}, fmt.Errorf("reading %q: it is no regular file any more", p)
	}
	return f, statOf(info), nil
}

// StatFile tells what an open file is like now.
func StatFile(f *os.File) (Stat, error) {
	info, err := f.Stat()
	if err != nil {
		return Stat{}, plain(err)
	}
	return statOf(info), nil
}

// Measure counts the files at and below a path, and their bytes.
func (s *Source) Measure(p string) (files int, bytes int64, err error) {
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

// Covers gives what tells whether a copy of from would take a path in if it were there, by the patterns alone.
func (s *Source) Covers(from string, leave []string) func(p string) bool {
	base, pattern := from, ""
	if strings.ContainsAny(from, `*?[{\`) && !s.exists(from) {
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

// matchesAbove tells whether a pattern matches a path or a folder that it lies in.
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

func statOf(info fs.FileInfo) Stat {
	s := Stat{Size: info.Size(), ModTime: info.ModTime().UnixNano()}
	s.system(info)
	return s
}

// Settled tells whether a file's times lie well before now, so that a later change must show in them. Where the system
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
