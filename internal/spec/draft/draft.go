// Package draft recognises what kind of project lies in a folder, from its manifests, and drafts a recipe for it, as text with comments.
//
// It reads the folder through an fs.FS, a bounded number of files of bounded size, and nothing else. It runs nothing, writes nothing, and never
// asks a network. What it cannot know, such as the base of your registry, stays a fact whose error says what is to be written there.
package draft

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"imbricat/internal/ground/say"
)

// Options are what a person knows and the project does not tell.
type Options struct {
	// Bases are references by the names that drafts give them: build, run, or those of a language, such as go.
	Bases map[string]string
	To    string // the repository that images go to; empty: publishing is left as a comment
	// Branch is the one whose newest commit has the moving tag.
	Branch string
}

// Finding is something that was recognised, and what tells it.
type Finding struct {
	Dir  string // of the part of the project; "." for its top
	What string // "Go program gauge"
	Why  []string
}

// Draft is a drafted recipe.
type Draft struct {
	Text     string
	Findings []Finding
	Bases    []Base // that the recipe names; those without a reference are to be filled in
}

// Base is a base that a draft needs.
type Base struct {
	Name      string // as Options.Bases has it
	Fact      string // of the recipe
	What      string // "an image with Go 1.26 or newer"
	Reference string // empty: it is not known
}

// NothingError is that no kind of project was recognised. It tells what is looked for.
type NothingError struct{}

// Error implements error.
func (NothingError) Error() string {
	return "nothing is recognised here: looked for go.mod, package.json, pom.xml, build.gradle, *.csproj, pyproject.toml, requirements.txt, Cargo.toml, Gemfile, composer.json, index.html and programs for Linux, in this folder and three levels below"
}

// part is a piece of the project that becomes an image.
type part struct {
	dir     string // with slashes; "." for the top
	name    string
	what    string
	why     []string
	leave   []string // patterns of what is made anew
	bases   []Base
	build   []string // lines of the stage, below its name; none: nothing is built
	here    bool     // the stage runs on this machine for every platform
	base    string   // of the image
	steps   []string // lines below steps:
	entry   []string
	command []string
	env     [][2]string // values as YAML has them
	workDir string      // where it runs
	port    int
	portIn  string // the file that tells it
	foreign bool   // other platforms need nothing but this machine
}

// detector recognises one kind of project in a folder; nil: it is none of the kind.
type detector func(f *folder) *part

// detectors are asked in this order; of one folder the first that recognises something counts.
var detectors = []detector{goModule, node, maven, gradle, dotnet, python, rust, ruby, php, staticSite, programs}

// Of drafts a recipe for what lies in a folder.
func Of(files fs.FS, o Options) (*Draft, error) {
	parts, err := find(files)
	if err != nil {
		return nil, err
	}
	if len(parts) == 0 {
		return nil, NothingError{}
	}
	distinct(parts)
	for _, p := range parts { // what manifests say may hold anything, and comments end with their lines
		p.what, p.portIn = oneLine(p.what), oneLine(p.portIn)
		for i := range p.why {
			p.why[i] = oneLine(p.why[i])
		}
		for i := range p.bases {
			p.bases[i].What = oneLine(p.bases[i].What)
		}
	}
	w := &writer{o: o}
	w.write(parts, hasFile(files, ".gitignore"))
	d := &Draft{Text: w.out.String(), Bases: w.bases}
	for _, p := range parts {
		d.Findings = append(d.Findings, Finding{Dir: p.dir, What: p.what, Why: p.why})
	}
	return d, nil
}

// distinct has each image have a name of its own.
func distinct(parts []*part) {
	taken := map[string]bool{}
	for _, p := range parts {
		name := unitName(p.name)
		for n := 2; taken[name]; n++ {
			name = fmt.Sprintf("%s-%d", unitName(p.name), n)
		}
		taken[name], p.name = true, name
	}
}

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// unitName makes a name that an image of a recipe may have.
func unitName(text string) string {
	text = strings.Trim(notName.ReplaceAllString(strings.ToLower(path.Base(text)), "-"), "-")
	if text == "" {
		return "app"
	}
	return text[:min(len(text), 60)]
}

// writer writes a recipe.
type writer struct {
	o     Options
	out   strings.Builder
	bases []Base
}

func (w *writer) line(indent int, format string, args ...any) {
	fmt.Fprintf(&w.out, "%s%s\n", strings.Repeat("  ", indent), fmt.Sprintf(format, args...))
}

func (w *writer) lines(indent int, all []string) {
	for _, one := range all {
		w.line(indent, "%s", one)
	}
}

func (w *writer) write(parts []*part, ignores bool) {
	var what []string
	for _, p := range parts {
		what = append(what, p.what)
	}
	w.line(0, "# Drafted by `imbricat init`, which found: %s.", strings.Join(what, ", "))
	w.line(0, "# Every line is yours to change; `imbricat plan` tells what a build would do.")
	w.line(0, "imbricat: 1")
	w.line(0, "")
	w.sources(parts, ignores)
	w.facts(parts)
	w.stages(parts)
	w.line(0, "images:")
	for i, p := range parts {
		if i > 0 {
			w.line(0, "")
		}
		w.image(p)
	}
}

func (w *writer) sources(parts []*part, ignores bool) {
	leave := []string{"*.log", ".env"}
	for _, p := range parts {
		for _, one := range p.leave {
			if !slices.Contains(leave, one) {
				leave = append(leave, one)
			}
		}
	}
	w.line(0, "sources:")
	w.line(1, "leave-out: [%s] # never taken in, as in a .gitignore", quoted(leave))
	if ignores {
		w.line(1, "honour-gitignore: true")
	}
	w.line(0, "")
}

func (w *writer) facts(parts []*part) {
	w.line(0, "facts:")
	w.line(1, "version: ${git.tag ?? git.short ?? \"0.0.0\"}")
	for _, p := range parts {
		for _, b := range p.bases {
			if slices.ContainsFunc(w.bases, func(o Base) bool { return o.Fact == b.Fact }) {
				continue
			}
			if b.Reference = w.o.Bases[b.Name]; b.Reference != "" {
				w.line(1, "%s: %s # %s", b.Fact, quote(b.Reference), b.What)
			} else {
				w.line(1, "%s: %s", b.Fact, single("${needed("+quoteText(b.What)+")}"))
			}
			w.bases = append(w.bases, b)
		}
	}
	w.line(0, "")
}

func (w *writer) stages(parts []*part) {
	if !slices.ContainsFunc(parts, func(p *part) bool { return len(p.build) > 0 }) {
		return
	}
	w.line(0, "stages:")
	for _, p := range parts {
		if len(p.build) == 0 {
			continue
		}
		w.line(1, "%s:", p.stage())
		w.lines(2, p.build)
		w.line(0, "")
	}
}

// stage names what is built for a part.
func (p *part) stage() string { return p.name + "-build" }

func (w *writer) image(p *part) {
	w.line(1, "%s:", p.name)
	w.line(2, "base: %s", p.base)
	if p.foreign {
		w.line(2, "platforms: [linux/amd64, linux/arm64]")
	} else {
		w.line(2, "# platforms: [linux/amd64, linux/arm64] # others than this machine's need an emulator, or a machine of each kind and `imbricat join`")
	}
	if len(p.steps) > 0 {
		w.line(2, "steps:")
		for _, step := range p.steps {
			w.line(3, "%s", strings.Replace(step, "{from: STAGE,", "{from: "+p.stage()+",", 1))
		}
	}
	w.line(2, "settings:")
	if len(p.entry) > 0 {
		w.line(3, "entrypoint: [%s]", quoted(p.entry))
	}
	if len(p.command) > 0 {
		w.line(3, "command: [%s]", quoted(p.command))
	}
	if len(p.entry)+len(p.command) == 0 {
		w.line(3, "# entrypoint: [PROGRAM, ARGUMENT] # nothing tells what it is to run")
	}
	if len(p.env) > 0 {
		w.line(3, "env:")
		for _, pair := range p.env {
			w.line(4, "%s: %s", pair[0], pair[1])
		}
	}
	w.line(3, "user: \"10001:10001\" # not root, and no user that anything else has")
	if p.workDir != "" {
		w.line(3, "working-dir: %s", p.workDir)
	}
	switch {
	case p.port > 0:
		w.line(3, "ports: %d/tcp # %s tells it", p.port, p.portIn)
	default:
		w.line(3, "# ports: 8080/tcp")
	}
	w.line(2, "checks: # what `imbricat ship` holds before it pushes")
	w.line(3, "- user: {not: root}")
	w.line(3, "- secrets: {} # no private key and no token in any layer")
	w.line(3, "# - try: {arguments: [--version], within: 10s}")
	w.publish(p)
}

func (w *writer) publish(p *part) {
	to, mark := w.o.To, ""
	if to == "" {
		to, mark = "HOST/REPOSITORY", "# "
	} else if !strings.HasSuffix(to, "/"+p.name) {
		to += "/" + p.name
	}
	branch := w.o.Branch
	if branch == "" {
		branch = "main"
	}
	w.line(2, "%spublish:", mark)
	w.line(2, "%s  main:", mark)
	w.line(2, "%s    to: %s", mark, quote(to))
	w.line(2, "%s    fixed: [\"[0-9]*.*\", \"v[0-9]*.*\"] # versions never move to another digest", mark)
	w.line(2, "%s    tags:", mark)
	w.line(2, "%s      - ${facts.version}", mark)
	w.line(2, "%s      - {tag: newest, when: %s}", mark, single("git.branch == "+quoteText(branch)+" && !git.dirty"))
}

// plainScalar is what YAML reads as the same text without quotes.
var plainScalar = regexp.MustCompile(`^[A-Za-z/][A-Za-z0-9._/@-]*(:[A-Za-z0-9._/-]+)*$`)

// quote writes a text as YAML. Words that YAML takes for something else are quoted.
func quote(text string) string {
	if plainScalar.MatchString(text) && !slices.Contains([]string{"true", "false", "yes", "no", "on", "off", "null", "none", "y", "n"}, strings.ToLower(text)) {
		return text
	}
	return quoteText(text)
}

// oneLine is a text without line ends and other signs that are none, of bounded length.
func oneLine(text string) string {
	text = strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return ' '
		}
		return r
	}, text)), " ")
	if letters := []rune(text); len(letters) > 120 {
		return string(letters[:119]) + "…"
	}
	return text
}

// word is what a shell and a path take as it is.
var word = regexp.MustCompile(`^[A-Za-z0-9_./+-]+$`)

// quoteText writes a text in double quotes, as YAML, JSON and expressions read it; what would be an expression is none.
func quoteText(text string) string {
	text = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`, "${", "$${").Replace(text)
	return `"` + strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, text) + `"`
}

// single writes a text in single quotes, in which an expression stands as it is.
func single(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

func quoted(all []string) string {
	var out []string
	for _, one := range all {
		out = append(out, quote(one))
	}
	return strings.Join(out, ", ")
}

// String is a line for people of what was found.
func (f Finding) String() string {
	where := ""
	if f.Dir != "." {
		where = " in " + f.Dir + "/"
	}
	return f.What + where + ": " + say.Some(f.Why)
}
