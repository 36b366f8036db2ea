package draft

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Bounds on what is looked at.
const (
	mostDepth   = 3       // folders below the top
	mostFolders = 2000    // in all
	mostRead    = 1 << 20 // bytes of a file
	mostSources = 200     // files that are searched for a port
)

// skipped are folders that hold no sources of the project.
var skipped = []string{"node_modules", "vendor", "target", "build", "dist", "out", "bin", "obj", "testdata", "test", "tests", "venv", "__pycache__", "docs", "examples", "example"}

// folder is a folder of the project, as detectors look at it.
type folder struct {
	files fs.FS
	dir   string // "." for the top
	names []string
}

// find returns the parts of a project. What lies below a part belongs to it, unless that is a folder of a repository of several.
func find(files fs.FS) (parts []*part, err error) {
	folders := 0
	var visit func(dir string, depth int) error
	visit = func(dir string, depth int) error {
		if folders++; folders > mostFolders {
			return nil
		}
		entries, err := fs.ReadDir(files, dir)
		if err != nil {
			if dir == "." {
				return err
			}
			return nil // what may not be read is not recognised
		}
		f := &folder{files: files, dir: dir}
		var below []string
		for _, e := range entries {
			if e.IsDir() && !strings.HasPrefix(e.Name(), ".") && !slices.Contains(skipped, e.Name()) {
				below = append(below, path.Join(dir, e.Name()))
			}
			if e.Type().IsRegular() {
				f.names = append(f.names, e.Name())
			}
		}
		for _, detect := range detectors {
			if p := detect(f); p != nil {
				if p.dir = dir; p.name == "" {
					p.name = path.Base(dir)
				}
				parts = append(parts, p)
				return nil
			}
		}
		for _, one := range below {
			if depth < mostDepth {
				if err := visit(one, depth+1); err != nil {
					return err
				}
			}
		}
		return nil
	}
	return parts, visit(".", 0)
}

func (f *folder) has(name string) bool { return slices.Contains(f.names, name) }

// first returns the first of some files that is there; empty for none.
func (f *folder) first(names ...string) string {
	for _, name := range names {
		if f.has(name) {
			return name
		}
	}
	return ""
}

// like returns the files of a pattern, in order.
func (f *folder) like(pattern string) (all []string) {
	for _, name := range f.names {
		if matched, _ := path.Match(pattern, name); matched {
			all = append(all, name)
		}
	}
	return all
}

// below reports whether a file or a folder is there, by its path in the folder.
func (f *folder) below(name string) bool {
	_, err := fs.Stat(f.files, path.Join(f.dir, name))
	return err == nil
}

// text reads a file of the folder, as far as its bound goes; empty where it is not there, or is no file: a pipe would never end.
func (f *folder) text(name string) string {
	if info, err := fs.Stat(f.files, path.Join(f.dir, name)); err != nil || !info.Mode().IsRegular() {
		return ""
	}
	file, err := f.files.Open(path.Join(f.dir, name))
	if err != nil {
		return ""
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, mostRead))
	if err != nil {
		return ""
	}
	return string(text)
}

// json reads a manifest into a value, which stays empty where it is none.
func (f *folder) json(name string, into any) { _ = json.Unmarshal([]byte(f.text(name)), into) }

// match returns the first group of a pattern in a file; empty where it matches nothing.
func (f *folder) match(name, pattern string) string {
	found := regexp.MustCompile(pattern).FindStringSubmatch(f.text(name))
	if len(found) < 2 {
		return ""
	}
	return strings.TrimSpace(found[1])
}

// from is a path of the folder as a step names it.
func (f *folder) from(names ...string) string {
	var all []string
	for _, name := range names {
		all = append(all, quote(path.Join(f.dir, name)))
	}
	if len(all) == 1 {
		return all[0]
	}
	return "[" + strings.Join(all, ", ") + "]"
}

// errEnough ends a search.
var errEnough = errors.New("enough")

// each visits the files of the folder and below with some endings, in order, as far as the bound goes.
func (f *folder) each(endings []string, visit func(name, text string) bool) {
	seen := 0
	_ = fs.WalkDir(f.files, f.dir, func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if d.IsDir() {
			if p != f.dir && (strings.HasPrefix(d.Name(), ".") || slices.Contains(skipped, d.Name()) && d.Name() != "bin") {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() || !slices.Contains(endings, path.Ext(p)) {
			return nil
		}
		if seen++; seen > mostSources {
			return errEnough
		}
		name := strings.TrimPrefix(p, f.dir+"/")
		if visit(name, f.text(name)) {
			return errEnough
		}
		return nil
	})
}

// listens are how sources say where they listen: ":8080", listen(3000, PORT || 3000, port=5000.
var listens = regexp.MustCompile(`(?i)(?:ListenAndServe(?:TLS)?\(\s*"[^":]*:|listen\(\s*|\bPORT["']?\s*(?:\]|\))?\s*(?:\|\||\?\?|,|:)\s*["']?|\bport\s*=\s*["']?|"(?:0\.0\.0\.0|localhost|127\.0\.0\.1)?:)([1-9][0-9]{1,4})\b`)

// port looks for the port that sources listen at, and tells the file; 0 for none.
func (f *folder) port(endings ...string) (port int, in string) {
	f.each(endings, func(name, text string) bool {
		if strings.HasSuffix(name, "_test.go") || strings.Contains(name, ".test.") || strings.Contains(name, ".spec.") {
			return false
		}
		if found := listens.FindStringSubmatch(text); found != nil {
			if n, err := strconv.Atoi(found[1]); err == nil && n < 65536 {
				port, in = n, name
				return true
			}
		}
		return false
	})
	return port, in
}

func hasFile(files fs.FS, name string) bool {
	info, err := fs.Stat(files, name)
	return err == nil && info.Mode().IsRegular()
}
