package draft

import (
	"io"
	"io/fs"
	"path"
	"regexp"
	"sort"
	"strings"

	"imbricat/internal/content/census"
)

// What is taken in as it is: pages, and programs that were built elsewhere.

func staticSite(f *folder) *part {
	dir := ""
	for _, one := range []string{".", "public", "site", "htdocs"} {
		if f.below(path.Join(one, "index.html")) {
			dir = one
			break
		}
	}
	if dir == "" {
		return nil
	}
	p := &part{name: path.Base(f.dir), what: "site of files", why: []string{path.Join(dir, "index.html")}}
	if p.name == "." {
		p.name = "site"
	}
	p.steps = []string{"- copy: {from: " + f.from(dir) + ", to: /srv/pages}"}
	served(p, "", "")
	return p
}

// architectureIn is an architecture at the end of a file's name.
var architectureIn = regexp.MustCompile(`^(.*?)[-_.](?:linux[-_.])?(amd64|x86_64|arm64|aarch64)$`)

// programs finds programs for Linux that were built elsewhere, beside each other for several architectures.
func programs(f *folder) *part {
	for _, dir := range []string{".", "bin", "dist", "out"} {
		entries, err := fs.ReadDir(f.files, path.Join(f.dir, dir))
		if err != nil {
			continue
		}
		found := map[string][]string{} // name without architecture → files
		for _, e := range entries {
			info, err := e.Info()
			if err != nil || !info.Mode().IsRegular() || architectureOf(f.files, path.Join(f.dir, dir, e.Name())) == "" {
				continue
			}
			name := e.Name()
			if m := architectureIn.FindStringSubmatch(name); m != nil {
				name = m[1]
			}
			found[name] = append(found[name], e.Name())
		}
		if len(found) > 0 {
			return programPart(f, dir, found)
		}
	}
	return nil
}

func programPart(f *folder, dir string, found map[string][]string) *part {
	var names []string
	for name := range found {
		names = append(names, name)
	}
	sort.Strings(names)
	name := names[0]
	files := found[name]
	p := &part{name: name, what: "program " + name + ", built elsewhere", why: []string{path.Join(dir, files[0]) + " is a program for " + architectureOf(f.files, path.Join(f.dir, dir, files[0]))}, base: "none # where the program needs a C library: an image that has it"}
	from := quoteText(path.Join(f.dir, dir, files[0]))
	for _, architecture := range []string{"amd64", "arm64"} {
		if cut, is := strings.CutSuffix(files[0], architecture); is && len(files) > 1 {
			from, p.foreign = strings.TrimSuffix(quoteText(path.Join(f.dir, dir, cut)), `"`)+`${platform.architecture}"`, true
		}
	}
	p.steps = []string{"- copy: {from: " + from + ", to: /usr/bin/" + p.unit() + ", mode: \"0755\"}"}
	p.entry = []string{"/usr/bin/" + p.unit()}
	return p
}

// architectureOf is what a file is a program for; empty where it is none for Linux.
func architectureOf(files fs.FS, name string) string {
	file, err := files.Open(name)
	if err != nil {
		return ""
	}
	defer file.Close()
	head := make([]byte, 20)
	if _, err := io.ReadFull(file, head); err != nil {
		return ""
	}
	return census.Architecture(head)
}
