package installed

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"imbricat/internal/content/tree"
)

// maxRecord bounds a record of a package manager that is read, in bytes.
const maxRecord = 64 << 20

// maxOwned bounds the paths that one record may name.
const maxOwned = 2_000_000

// Look returns what a file tells of packages; nothing where it is no record that is known. The body is read as far as it is looked at.
func Look(e *tree.Entry, body io.Reader) ([]Package, error) {
	if e.Kind != tree.File || e.Size == 0 {
		return nil, nil
	}
	for _, one := range readers {
		if one.is(e) {
			text := &limited{r: body, left: maxRecord}
			found := one.read(e.Path, text)
			return found, text.err
		}
	}
	return nil, nil
}

// limited reads no more than so much, and keeps the error that is the reader's own: what stands in a record is no error of anybody who
// reads it.
type limited struct {
	r    io.Reader
	left int64
	err  error
}

func (l *limited) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, io.EOF
	}
	n, err := l.r.Read(p[:min(int64(len(p)), l.left)])
	if l.left -= int64(n); err != nil && err != io.EOF {
		l.err = err
	}
	return n, err
}

// readers are the kinds of records. The first whose is answers true reads a file.
var readers = []struct {
	is   func(e *tree.Entry) bool
	read func(p string, text io.Reader) []Package
}{
	{at("var/lib/dpkg/status"), func(_ string, text io.Reader) []Package { return dpkgStatus(text) }},
	{in("var/lib/dpkg/status.d", ""), dpkgPart},
	{in("var/lib/dpkg/info", ".list"), dpkgList},
	{either(at("lib/apk/db/installed"), at("usr/lib/apk/db/installed")), func(_ string, text io.Reader) []Package { return apkInstalled(text) }},
	{either(at("var/lib/rpm/rpmdb.sqlite"), at("usr/lib/sysimage/rpm/rpmdb.sqlite"), at("var/lib/rpm/Packages"), at("var/lib/rpm/Packages.db"), at("usr/lib/sysimage/rpm/Packages.db"), at("usr/lib/sysimage/rpm/Packages")), func(_ string, text io.Reader) []Package { return rpmDatabase(text) }},
	{isNPM, npmManifest},
	{named(".dist-info/METADATA"), pythonMetadata},
	{named(".dist-info/RECORD"), pythonRecord},
	{isGem, gemSpecification},
	{func(e *tree.Entry) bool { return isJar(e.Path) }, jar},
	{func(e *tree.Entry) bool { return e.Mode&0o111 != 0 && e.Size > 1<<16 }, program},
}

func at(p string) func(*tree.Entry) bool {
	return func(e *tree.Entry) bool { return e.Path == p }
}

func in(folder, end string) func(*tree.Entry) bool {
	return func(e *tree.Entry) bool { return tree.Parent(e.Path) == folder && strings.HasSuffix(e.Path, end) }
}

func named(end string) func(*tree.Entry) bool {
	return func(e *tree.Entry) bool { return strings.HasSuffix(e.Path, end) }
}

func either(any ...func(*tree.Entry) bool) func(*tree.Entry) bool {
	return func(e *tree.Entry) bool {
		return slices.ContainsFunc(any, func(is func(*tree.Entry) bool) bool { return is(e) })
	}
}

// lines visits the lines of a text. Those that are longer than any record has end it.
func lines(text io.Reader, visit func(line string)) {
	s := bufio.NewScanner(text)
	s.Buffer(make([]byte, 64<<10), 1<<20)
	for n := 0; s.Scan() && n < maxOwned; n++ {
		visit(s.Text())
	}
}

// paragraphs visits the paragraphs of a control file, by the fields that are on one line.
func paragraphs(text io.Reader, visit func(fields map[string]string)) {
	fields := map[string]string{}
	end := func() {
		if len(fields) > 0 {
			visit(fields)
			fields = map[string]string{}
		}
	}
	lines(text, func(line string) {
		if line == "" {
			end()
			return
		}
		if name, value, is := strings.Cut(line, ":"); is && line[0] != ' ' && line[0] != '\t' {
			if _, twice := fields[name]; !twice {
				fields[name] = strings.TrimSpace(value)
			}
		}
	})
	end()
}

func dpkgStatus(text io.Reader) (all []Package) {
	paragraphs(text, func(f map[string]string) {
		// Of what was removed the settings may still be there.
		if status := strings.Fields(f["Status"]); f["Package"] != "" && (len(status) == 0 || len(status) == 3 && status[2] != "not-installed" && status[2] != "config-files") {
			all = append(all, Package{Manager: Dpkg, Name: f["Package"], Version: f["Version"]})
		}
	})
	return all
}

// dpkgPart is a file of a folder with a record for each package, and the sums of its files beside it.
func dpkgPart(p string, text io.Reader) []Package {
	name, sums := strings.CutSuffix(path.Base(p), ".md5sums")
	if !sums {
		all := dpkgStatus(text)
		for i := range all {
			all[i].Of = name // which need not be the package's
		}
		return all
	}
	one := Package{Manager: Dpkg, Of: name}
	lines(text, func(line string) {
		if _, file, is := strings.Cut(line, "  "); is {
			one.Files = append(one.Files, clean(file))
		}
	})
	return []Package{one}
}

func dpkgList(p string, text io.Reader) []Package {
	name, _, _ := strings.Cut(strings.TrimSuffix(path.Base(p), ".list"), ":")
	one := Package{Manager: Dpkg, Of: name, Files: []string{clean(p)}}
	lines(text, func(line string) {
		if file := clean(line); file != "" {
			one.Files = append(one.Files, file)
		}
	})
	return []Package{one}
}

func apkInstalled(text io.Reader) (all []Package) {
	var one Package
	folder := ""
	end := func() {
		if one.Name != "" {
			one.Manager = APK
			all = append(all, one)
		}
		one, folder = Package{}, ""
	}
	lines(text, func(line string) {
		if line == "" {
			end()
			return
		}
		name, value, _ := strings.Cut(line, ":")
		switch name {
		case "P":
			one.Name = value
		case "V":
			one.Version = value
		case "F":
			folder = value
		case "R":
			one.Files = append(one.Files, clean(folder+"/"+value))
		}
	})
	end()
	return all
}

// isNPM reports whether a file is the manifest of a package that was installed, not one of a project.
func isNPM(e *tree.Entry) bool {
	dir, is := strings.CutSuffix(e.Path, "/package.json")
	if !is {
		return false
	}
	above := tree.Parent(dir)
	if strings.HasPrefix(path.Base(above), "@") {
		above = tree.Parent(above)
	}
	return path.Base(above) == "node_modules"
}

func npmManifest(p string, text io.Reader) []Package {
	var said struct {
		Name    string `json:"name"`
		Version string `json:"version"`
	}
	if json.NewDecoder(text).Decode(&said) != nil || said.Name == "" {
		return nil
	}
	return []Package{{Manager: NPM, Name: said.Name, Version: said.Version, Folder: tree.Parent(p)}}
}

func pythonMetadata(p string, text io.Reader) []Package {
	fields := map[string]string{}
	headed := true
	lines(text, func(line string) {
		headed = headed && line != ""
		if name, value, is := strings.Cut(line, ":"); is && headed && fields[name] == "" {
			fields[name] = strings.TrimSpace(value)
		}
	})
	if fields["Name"] == "" {
		return nil
	}
	return []Package{{Manager: Python, Name: fields["Name"], Version: fields["Version"], Folder: tree.Parent(p)}}
}

func pythonRecord(p string, text io.Reader) []Package {
	info := tree.Parent(p)
	one := Package{Manager: Python, Of: info, Folder: info}
	r := csv.NewReader(text)
	r.FieldsPerRecord, r.LazyQuotes, r.ReuseRecord = -1, true, true
	for len(one.Files) < maxOwned {
		fields, err := r.Read()
		if err != nil {
			break
		}
		if file := path.Join(tree.Parent(info), fields[0]); !path.IsAbs(fields[0]) && !strings.HasPrefix(file, "../") {
			one.Files = append(one.Files, strings.Clone(clean(file)))
		}
	}
	return []Package{one}
}

var gemName = regexp.MustCompile(`^(.+?)-([0-9][0-9A-Za-z.]*(?:-[A-Za-z0-9_.-]+)?)\.gemspec$`)

func isGem(e *tree.Entry) bool {
	return path.Base(tree.Parent(e.Path)) == "specifications" && gemName.MatchString(path.Base(e.Path))
}

func gemSpecification(p string, _ io.Reader) []Package {
	parts := gemName.FindStringSubmatch(path.Base(p))
	full := strings.TrimSuffix(path.Base(p), ".gemspec")
	return []Package{{Manager: Gem, Name: parts[1], Version: parts[2], Folder: tree.Join(tree.Parent(tree.Parent(p)), "gems/"+full)}}
}
