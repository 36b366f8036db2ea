package project

import (
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Gradle's scripts are programs. What counts of them are calls with plain texts; a call that names projects by an expression is an error,
// since what it names is not known.
var (
	gradleComment  = regexp.MustCompile(`(?s)/\*.*?\*/|(^|[^:"'])//[^\n]*`)
	gradleInclude  = regexp.MustCompile(`(?m)(?:^|[;{\s])include\b\s*(\(?)\s*((?:[^\n;)]*,\s*\n)*[^\n;)]*)`)
	gradleBuild    = regexp.MustCompile(`\bincludeBuild\s*\(?\s*["']([^"'$]+)["']`)
	gradleFolder   = regexp.MustCompile(`project\s*\(\s*["'](:[^"']+)["']\s*\)\s*\.\s*projectDir\s*=\s*(?:new\s+File|file|File)\s*\(\s*(?:(?:rootDir|settingsDir|rootProject\.projectDir)\s*,\s*)?["'](?:\$rootDir/|\$\{rootDir\}/)?([^"'$]+)["']`)
	gradleMoved    = regexp.MustCompile(`\.\s*projectDir\s*=`)
	gradleText     = regexp.MustCompile(`^["']([^"'$]+)["']$`)
	gradleProject  = regexp.MustCompile(`\bproject\s*\(\s*(?:path\s*[:=]\s*)?["']([^"'$]*)["']`)
	gradleUnknown  = regexp.MustCompile(`(?:implementation|api|compileOnly|runtimeOnly|annotationProcessor|testImplementation)\s*\(?\s*project\s*\(\s*(?:path\s*[:=]\s*)?(?:[^"'\sp:)]|["'][^"']*\$)`)
	gradleAccessor = regexp.MustCompile(`\bprojects((?:\.[a-zA-Z_][a-zA-Z0-9_]*)+)`)
	gradleApplied  = regexp.MustCompile(`\bapply\s*\(?\s*from\s*[:=]\s*["']([^"']+)["']`)
)

// gradleFiles are what each run reads of the top of a build.
var gradleFiles = []string{"settings.gradle", "settings.gradle.kts", "build.gradle", "build.gradle.kts", "gradle.properties", "gradle", "gradlew", "gradlew.bat", "gradle.lockfile", "buildSrc"}

var gradleScripts = []string{"build.gradle", "build.gradle.kts"}

// gradle is one build of several projects.
type gradle struct {
	*repository
	dir    string // of the settings
	byPath map[string]*Package
	all    []*Package
}

// gradleProjects reads the settings of Gradle builds, and the scripts of their projects.
func gradleProjects(r *repository) (all []*Package) {
	in := map[string]bool{}
	for _, settings := range r.named("settings.gradle", "settings.gradle.kts") {
		g := &gradle{repository: r, dir: path.Dir(settings), byPath: map[string]*Package{}}
		g.read(settings)
		all = append(all, g.all...)
		for _, p := range g.all {
			in[p.Manifest] = true
		}
	}
	for _, script := range r.named(gradleScripts...) { // a build of one project needs no settings
		if dir := path.Dir(script); !in[script] && path.Base(dir) != "buildSrc" {
			g := &gradle{repository: r, dir: dir, byPath: map[string]*Package{}}
			g.project(":", dir, script)
			g.link()
			all = append(all, g.all...)
		}
	}
	return all
}

// text reads a script without its comments; their lines stay.
func (g *gradle) text(file string) (string, error) {
	text, err := g.content(file)
	return gradleComment.ReplaceAllStringFunc(string(text), func(c string) string {
		kept := ""
		if !strings.HasPrefix(c, "/") {
			_, size := utf8.DecodeRuneInString(c)
			kept = c[:size]
		}
		return kept + strings.Repeat("\n", strings.Count(strings.TrimPrefix(c, kept), "\n"))
	}), err
}

// project adds a project of the build, once.
func (g *gradle) project(name, dir, manifest string) {
	if g.byPath[name] != nil {
		return
	}
	p := &Package{Kind: Gradle, Name: name, Dir: dir, Manifest: manifest, group: string(Gradle) + " " + g.dir}
	g.byPath[name], g.all = p, append(g.all, p)
}

// read reads the settings.
func (g *gradle) read(settings string) {
	text, failure := g.text(settings)
	script := g.first(g.dir, gradleScripts...)
	if script == "" {
		script = settings
	}
	g.project(":", g.dir, script)
	moved := map[string]string{}
	for _, found := range gradleFolder.FindAllStringSubmatch(text, -1) {
		moved[found[1]] = found[2]
	}
	at := func(offset int) place { return place{settings, offsetLine([]byte(text), int64(offset))} }
	if others := gradleMoved.FindAllStringIndex(text, -1); len(others) > len(moved) && failure == nil {
		failure = at(others[0][0]).errorf("a project's folder is set by an expression, so it is not known")
	}
	var missing []need
	for _, found := range gradleInclude.FindAllStringSubmatchIndex(text, -1) {
		for one := range strings.SplitSeq(text[found[4]:found[5]], ",") {
			one = strings.TrimSpace(one)
			if one == "" {
				continue
			}
			name := gradleText.FindStringSubmatch(one)
			if name == nil {
				if failure == nil {
					failure = at(found[4]).errorf("projects are included by an expression (%s), so they are not known", one)
				}
				continue
			}
			if !g.include(name[1], moved) {
				missing = append(missing, need{at: at(found[4]), name: "the project " + name[1]})
			}
		}
	}
	var builds []string
	for _, found := range gradleBuild.FindAllStringSubmatch(text, -1) {
		builds = append(builds, path.Join(g.dir, found[1]))
	}
	for _, p := range g.all {
		p.along = g.all
		p.own = append(p.own, builds...)
		p.needs = append(p.needs, missing...)
		if p.Failure == nil {
			p.Failure = failure
		}
	}
	g.link()
}

// include adds a project and reports whether its folder is there.
func (g *gradle) include(name string, moved map[string]string) bool {
	name = ":" + strings.Trim(strings.ReplaceAll(name, "/", ":"), ":")
	dir := g.dir
	parts := strings.Split(name[1:], ":")
	for i := range parts {
		if to, is := moved[":"+strings.Join(parts[:i+1], ":")]; is {
			dir = path.Join(g.dir, to)
		} else {
			dir = path.Join(dir, parts[i])
		}
	}
	if len(g.below(dir)) == 0 {
		return false
	}
	script := g.first(dir, append(slices.Clone(gradleScripts), parts[len(parts)-1]+".gradle", parts[len(parts)-1]+".gradle.kts")...)
	if script == "" {
		script = g.first(g.dir, "settings.gradle", "settings.gradle.kts") // the scripts above it say all of it
	}
	g.project(name, dir, script)
	return true
}

// link finds what the projects need: by their own scripts, the top's, and those that both apply or that build logic has.
func (g *gradle) link() {
	top := g.byPath[":"]
	var logic []string
	for _, file := range g.below(path.Join(g.dir, "buildSrc")) {
		if slices.Contains([]string{".gradle", ".kts", ".kt", ".groovy", ".java"}, path.Ext(file)) {
			logic = append(logic, file)
		}
	}
	for _, p := range g.all {
		p.own = append(p.own, g.some(g.dir, gradleFiles...)...)
		p.own = append(p.own, g.some(p.Dir, "gradle.properties", "gradle.lockfile")...)
		if p != top {
			p.needs = append(p.needs, need{at: place{file: top.Manifest}, name: top.Name, to: top, manifest: true})
		}
		seen := map[string]bool{}
		g.script(p, p.Manifest, seen)
		for _, file := range logic {
			if p == top {
				g.script(p, file, seen)
			}
		}
	}
}

// script adds what a script of a project names.
func (g *gradle) script(p *Package, file string, seen map[string]bool) {
	if seen[file] || strings.HasPrefix(path.Base(file), "settings.") {
		return
	}
	seen[file] = true
	text, err := g.text(file)
	if err != nil {
		p.Failure = place{file: file}.malformed(err)
		return
	}
	at := func(offset int) place { return place{file, offsetLine([]byte(text), int64(offset))} }
	add := func(at place, name string, to *Package) {
		if to != p {
			p.needs = append(p.needs, need{at: at, name: "the project " + name, to: to})
		}
	}
	for _, found := range gradleProject.FindAllStringSubmatchIndex(text, -1) {
		name := text[found[2]:found[3]]
		if !strings.HasPrefix(name, ":") {
			name = strings.TrimSuffix(p.Name, ":") + ":" + name
		}
		add(at(found[0]), name, g.byPath[name])
	}
	for _, found := range gradleAccessor.FindAllStringSubmatchIndex(text, -1) {
		name := text[found[2]:found[3]]
		if to := g.accessed(name); to != nil || strings.HasSuffix(file, ".kts") || strings.HasSuffix(file, ".gradle") {
			add(at(found[0]), "projects"+name, to)
		}
	}
	if found := gradleUnknown.FindStringIndex(text); found != nil {
		p.Failure = at(found[0]).errorf("it needs a project that is named by an expression, so it is not known")
	}
	for _, found := range gradleApplied.FindAllStringSubmatch(text, -1) {
		name, dir := found[1], path.Dir(file)
		for _, prefix := range []string{"$rootDir/", "${rootDir}/", "$rootProject.projectDir/", "${rootProject.projectDir}/"} {
			if rest, is := strings.CutPrefix(name, prefix); is {
				name, dir = rest, g.dir
			}
		}
		if to := path.Join(dir, name); g.has(to) {
			p.own = append(p.own, to)
			g.script(p, to, seen)
		}
	}
}

// accessed returns the project of an accessor, such as .common.astroMath; what follows may be called on it.
func (g *gradle) accessed(name string) *Package {
	parts := strings.Split(strings.Trim(name, "."), ".")
	for n := len(parts); n > 0; n-- {
		wanted := strings.ToLower(strings.Join(parts[:n], ":"))
		for _, p := range g.all {
			if strings.ToLower(strings.NewReplacer("-", "", "_", "").Replace(strings.TrimPrefix(p.Name, ":"))) == strings.ReplaceAll(wanted, "_", "") {
				return p
			}
		}
	}
	return nil
}
