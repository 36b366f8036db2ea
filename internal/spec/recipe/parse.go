package recipe

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/notice"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/ground/say"
)

// Parse reads a recipe. name is the file as messages show it. The error is an *Errors with every problem found.
// Further recipes that it names are not read: that is ParseGraph.
func Parse(name string, text []byte) (*Recipe, error) { return ParseGraph(name, text, nil) }

// parse reads a recipe from the nodes of its texts, the first of which names the others.
func parse(file *File, documents []document) (*Recipe, []Problem) {
	r := &Recipe{File: file}
	var problems []Problem
	combined := 0
	first := documents[0].root
	for _, one := range documents {
		root := one.root
		d := &decoder{file: file, in: one.text, beside: map[*Expression]bool{}, units: append(namesBelow(root, "stages"), namesBelow(root, "images")...),
			secretNames: namesBelow(root, "secrets"), defaults: valueOf(root, "defaults"), combined: combined}
		// What the first recipe says of facts and secrets holds in all.
		d.compiler = &compiler{file: file, folder: one.text.folder, report: d.report, factNames: namesOf(root, first, "facts"), secrets: namesOf(root, first, "secrets")}
		d.recipe(root, r)
		problems, combined = append(problems, d.problems...), d.combined
	}
	names := &decoder{file: file}
	names.checkNames(r)
	return r, append(problems, names.problems...)
}

// namesOf looks ahead for the names below a key of a recipe and of the first one, each once.
func namesOf(root, first *yaml.Node, key string) []string {
	names := namesBelow(root, key)
	for _, name := range namesBelow(first, key) {
		if !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	return names
}

// namesBelow looks ahead for the names below a key of the recipe, so that they are known wherever they are used.
func namesBelow(root *yaml.Node, key string) (names []string) {
	if value := valueOf(root, key); value != nil && value.Kind == yaml.MappingNode {
		for i := 0; i < len(value.Content); i += 2 {
			names = append(names, value.Content[i].Value)
		}
	}
	return names
}

// valueOf looks ahead for the value of a key of the recipe; nil where it is not there.
func valueOf(root *yaml.Node, key string) *yaml.Node {
	for i := 0; i+1 < len(root.Content) && root.Kind == yaml.MappingNode; i += 2 {
		if root.Content[i].Value == key {
			return root.Content[i+1]
		}
	}
	return nil
}

var (
	unitName = regexp.MustCompile(`^[a-z0-9]+([._-][a-z0-9]+)*$`)
	factName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)
)

func (d *decoder) recipe(n *yaml.Node, r *Recipe) {
	var silence []string
	d.object(n, "the recipe",
		field{key: "imbricat", need: true, read: d.version},
		field{key: "sources", read: func(n *yaml.Node) {
			s := Sources{In: d.in.folder}
			d.sources(n, &s)
			r.Sources = append(r.Sources, s)
		}},
		field{key: "facts", read: func(n *yaml.Node) {
			d.named(n, "facts", func(key, value *yaml.Node) {
				d.checkName(key, "fact", factName)
				r.Facts = append(r.Facts, d.fact(key, value))
			})
		}},
		field{key: "secrets", read: func(n *yaml.Node) { d.secrets(n, r) }},
		field{key: "stages", read: func(n *yaml.Node) {
			d.named(n, "stages", func(key, value *yaml.Node) { r.Stages = append(r.Stages, d.stage(key, value)) })
		}},
		field{key: "images", need: !d.mayLack(n), read: func(n *yaml.Node) {
			before, wrong := len(r.Images), len(d.problems)
			d.named(n, "images", func(key, value *yaml.Node) { r.Images = append(r.Images, d.images(key, value)...) })
			if len(r.Images) == before && len(d.problems) == wrong {
				d.report(at(n), "images names no image")
			}
		}},
		field{key: "silence", read: func(n *yaml.Node) { silence = d.silence(n) }},
		field{key: "shared", read: func(*yaml.Node) {}},   // a place for anchors: what they mark is read where it is used
		field{key: "defaults", read: func(*yaml.Node) {}}, // of every unit, which reads them
		field{key: "cache", read: func(n *yaml.Node) {
			if d.in.folder != "" {
				d.report(at(n), "one cache serves all recipes: it is named in %s, which names this one", d.file.Name)
				return
			}
			r.Cache = &Cache{Pos: at(n), Direction: "both"}
			d.object(n, "cache", field{key: "share", need: true, read: func(n *yaml.Node) { r.Cache.Share = d.text(n, "share") }}, field{key: "direction", was: "mode", read: func(n *yaml.Node) {
				r.Cache.Direction = d.oneOf(n, "direction", "read", "write", "both")
			}})
		}},
		field{key: "notify", read: func(n *yaml.Node) {
			if d.in.folder != "" {
				d.report(at(n), "runs are told of once for all recipes: write notify in %s, which names this one", d.file.Name)
				return
			}
			d.each(n, "notify", true, func(item *yaml.Node) { r.Notify = append(r.Notify, d.notice(item)) })
		}},
		field{key: "authorities", read: func(n *yaml.Node) {
			d.each(n, "authorities", true, func(item *yaml.Node) {
				one := Authority{at(d.deref(item)), d.word(item, "an entry of authorities")}
				if one.File != "" && !fs.ValidPath(one.File) {
					d.report(one.Pos, "authorities are files of the project: %q leads out of it; your own settings may name others", one.File)
				}
				one.File = path.Join(d.in.folder, one.File)
				r.Authorities = append(r.Authorities, one)
			})
		}},
		field{key: "recipes", read: d.recipes},
		field{key: "include", read: d.includes},
	)
	if d.in.folder == "" {
		r.Silence = silence
		return
	}
	for _, s := range r.units(d.in.folder) { // the silence of this recipe is no other's
		s.silence(silence)
	}
}

// fact reads a fact: its value, or a mapping that also says which values it may have.
func (d *decoder) fact(key, value *yaml.Node) Fact {
	f := Fact{In: d.in.folder, Name: key.Value, Pos: at(key)}
	if d.deref(value).Kind != yaml.MappingNode {
		f.Value = d.scalar(value, "the fact "+key.Value)
		return f
	}
	d.object(value, "the fact "+key.Value,
		field{key: "default", read: func(n *yaml.Node) { f.Value = d.scalar(n, "default") }},
		field{key: "allowed", read: func(n *yaml.Node) {
			d.each(n, "allowed", true, func(item *yaml.Node) {
				target := d.deref(item)
				if target.Kind != yaml.ScalarNode || target.Tag == "!!null" {
					d.wrongType(target, "an entry of allowed", "text")
					return
				}
				f.Allowed = append(f.Allowed, target.Value)
			})
			if len(f.Allowed) == 0 {
				d.report(at(n), "allowed names no value")
			}
		}},
		field{key: "about", read: func(n *yaml.Node) { f.About = d.word(n, "about") }})
	if text, constant := f.Value.Constant(); constant && f.Value.Given && len(f.Allowed) > 0 && !slices.Contains(f.Allowed, text) {
		d.report(f.Value.Pos, "the default %q is not among those that are allowed: %s", text, strings.Join(f.Allowed, ", "))
	}
	return f
}

// mayLack reports whether a recipe may be without images: others have them.
func (d *decoder) mayLack(n *yaml.Node) bool {
	return d.in.folder != "" || valueOf(d.deref(n), "recipes") != nil
}

func (d *decoder) version(n *yaml.Node) {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag != "!!int" {
		d.wrongType(n, "imbricat", "the number of the recipe's format")
		return
	}
	if n.Value != "1" {
		d.report(at(n), "this recipe has format %s; this version of imbricat reads format %d", n.Value, Version)
	}
}

func (d *decoder) checkName(key *yaml.Node, what string, form *regexp.Regexp) {
	if !form.MatchString(key.Value) || len(key.Value) > 100 {
		allowed := "lower-case letters, digits, and single . _ - between them"
		if form == factName {
			allowed = "letters, digits and _"
		}
		d.report(at(key), "%q is not a valid name for %s: use %s", key.Value, article(what), allowed)
	}
}

func article(noun string) string {
	if strings.ContainsRune("aeiou", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}

func (d *decoder) sources(n *yaml.Node, s *Sources) {
	d.object(n, "sources",
		field{key: "leave-out", read: func(n *yaml.Node) { s.LeaveOut = d.words(n, "leave-out") }},
		field{key: "honour-gitignore", read: func(n *yaml.Node) { s.HonourGitignore = d.boolean(n, "honour-gitignore") }},
	)
}

// unitFields are the keys that stages and images share, and begins with the recipe's defaults.
func (d *decoder) unitFields(s *Stage, image bool) []field {
	if d.defaults != nil {
		d.defaultsOf(d.defaults, &s.Defaults)
	}
	return []field{
		{key: "base", need: true, read: func(n *yaml.Node) { s.Base = d.base(n) }},
		{key: "steps", read: func(n *yaml.Node) { s.Steps = d.steps(n) }},
		{key: "for", read: func(n *yaml.Node) { d.variants(n, &s.For, image) }},
		{key: "defaults", read: func(n *yaml.Node) { d.defaultsOf(n, &s.Defaults) }},
	}
}

// defaultsOf reads defaults over those that are there.
func (d *decoder) defaultsOf(n *yaml.Node, to *Defaults) {
	d.object(n, "defaults", append(d.access(&to.Access),
		field{key: "also-for", read: func(n *yaml.Node) {
			to.AlsoFor = nil
			d.each(n, "also-for", true, func(item *yaml.Node) {
				to.AlsoFor = append(to.AlsoFor, d.oneOf(item, "an entry of also-for", "take", "unpack"))
			})
		}},
		field{key: "lines-by", read: func(n *yaml.Node) { to.LinesBy = d.target(n, "lines-by") }},
		field{key: "strict", read: func(n *yaml.Node) { strict := d.boolean(n, "strict"); to.Strict = &strict }},
		field{key: "working-dir", was: "in", read: func(n *yaml.Node) { to.WorkingDir = d.target(n, "working-dir") }},
		field{key: "user", read: func(n *yaml.Node) { to.User = d.scalar(n, "user") }},
		field{key: "env", read: func(n *yaml.Node) { to.Env = append(to.Env, d.runEnv(n)...) }})...)
}

// besideContent reads something of an image that makes no part of what it holds.
func (d *decoder) besideContent(read func()) {
	begun := len(d.file.expressions)
	read()
	for _, e := range d.file.expressions[begun:] {
		d.beside[e] = true
	}
}

// gatherResults begins a unit; what it returns ends it, and notes its expressions, and which units its values take results of.
func (d *decoder) gatherResults(s *Stage) func() {
	begun := len(d.file.expressions)
	return func() {
		s.all = d.file.expressions[begun:len(d.file.expressions):len(d.file.expressions)]
		for _, e := range s.all {
			s.results = append(s.results, e.results...)
			if !d.beside[e] {
				s.content = append(s.content, e)
			}
		}
	}
}

func (d *decoder) steps(n *yaml.Node) []Step {
	var list []Step
	d.flat(n, "steps", func(item *yaml.Node) {
		if step, ok := d.step(item); ok {
			list = append(list, step)
		}
	})
	return list
}

func (d *decoder) stage(key, value *yaml.Node) (s Stage) {
	s = Stage{Name: d.own(key.Value), In: d.in.folder, Pos: at(key), Said: d.said(value), Held: d.held(value)}
	d.checkName(key, "stage", unitName)
	defer d.gatherResults(&s)()
	d.object(value, "the stage "+key.Value, append(d.unitFields(&s, false),
		field{key: "machine", read: func(n *yaml.Node) { s.Here = d.oneOf(n, "machine", "here", "wanted") == "here" }},
	)...)
	return s
}

// images reads an entry of images, which may stand for several.
func (d *decoder) images(key, value *yaml.Node) []Image {
	d.compiler.each = d.eachOf(value)
	i, each := d.image(key, value)
	d.compiler.each = nil
	all := d.variantsOf(i, each)
	for n := range all {
		all[n].Name, all[n].Of = d.own(all[n].Name), d.own(all[n].Of)
	}
	return all
}

func (d *decoder) image(key, value *yaml.Node) (i Image, lists *each) {
	i = Image{Stage: Stage{Name: key.Value, In: d.in.folder, Pos: at(key), Said: d.said(value), Held: d.held(value)}}
	d.checkName(key, "image", unitName)
	defer d.gatherResults(&i.Stage)()
	d.object(value, "the image "+key.Value, append(append(d.unitFields(&i.Stage, true), below("settings", d.settingsFields(&i.Settings))...),
		field{key: "each", read: func(n *yaml.Node) { lists = d.lists(n) }},
		field{key: "platforms", read: func(n *yaml.Node) { i.Platforms = d.platforms(n, "platforms") }},
		field{key: "settings", read: func(n *yaml.Node) { d.settings(n, &i.Settings) }},
		field{key: "annotations", read: func(n *yaml.Node) { d.late(func() { i.Annotations = d.textPairs(n, "annotations") }) }},
		field{key: "publish", read: func(n *yaml.Node) {
			d.besideContent(func() {
				d.named(n, "publish", func(key, value *yaml.Node) {
					i.Publish = append(i.Publish, d.destination(key, value))
				})
			})
		}},
		field{key: "compression", read: func(n *yaml.Node) { i.Compression = d.oneOf(n, "compression", "gzip", "zstd", "none") }},
		field{key: "stack", read: func(n *yaml.Node) { i.Stack = d.stack(n) }},
		field{key: "checks", read: func(n *yaml.Node) { d.besideContent(func() { i.Checks = d.checks(n) }) }},
		field{key: "also-needs", read: func(n *yaml.Node) { i.AlsoNeeds = d.patterns(n, "also-needs") }},
	)...)
	for _, v := range i.For {
		if len(i.Platforms) > 0 && !slices.Contains(i.Platforms, v.Platform) {
			d.report(v.Pos, "the image %q is not for %s: name it under platforms", i.Name, v.Platform)
		}
	}
	return i, lists
}

func (d *decoder) base(n *yaml.Node) Base {
	target := d.deref(n)
	b := Base{Pos: at(target)}
	if target.Kind != yaml.MappingNode {
		b.Kind, b.Reference = ReferenceBase, d.text(n, "base")
		text, constant := b.Reference.Constant()
		switch {
		case text == "none":
			b.Kind = NoBase
		case constant && b.Reference.Given && d.ownName(text):
			b = Base{Kind: ImageBase, Pos: b.Pos, Name: d.meant(text), plain: true}
		case constant && b.Reference.Given:
			d.checkReference(b.Pos, text)
		}
		return b
	}
	d.object(n, "base",
		field{key: "image", read: func(n *yaml.Node) { b.Kind, b.Name, b.Pos = ImageBase, d.meant(d.word(n, "image")), at(d.deref(n)) }},
		field{key: "stage", read: func(n *yaml.Node) { b.Kind, b.Name, b.Pos = StageBase, d.meant(d.word(n, "stage")), at(d.deref(n)) }},
		field{key: "reference", read: func(n *yaml.Node) {
			b.Kind, b.Explicit, b.Reference = ReferenceBase, true, d.text(n, "reference")
			b.Pos = b.Reference.Pos
			if text, constant := b.Reference.Constant(); constant && b.Reference.Given {
				d.checkReference(b.Pos, text)
			}
		}},
	)
	if len(target.Content) != 2 {
		d.report(at(target), "base must be a name, a reference, none, {image: NAME}, {stage: NAME} or {reference: REFERENCE}")
	}
	return b
}

func (d *decoder) checkReference(pos Pos, text string) {
	if _, err := reference.Parse(text); err != nil {
		d.report(pos, "%s", err)
	}
}

func (d *decoder) platforms(n *yaml.Node, what string) []platform.Platform {
	var list []platform.Platform
	seen := map[platform.Platform]bool{}
	d.each(n, what, true, func(item *yaml.Node) {
		before := len(d.problems)
		text := d.word(item, "a platform")
		if len(d.problems) > before {
			return
		}
		p, err := platform.Parse(text)
		switch {
		case err != nil:
			d.report(at(d.deref(item)), "%s", err)
		case seen[p]:
			d.report(at(d.deref(item)), "the platform %s stands twice", p)
		default:
			seen[p] = true
			list = append(list, p)
		}
	})
	if target := d.deref(n); target.Kind == yaml.SequenceNode && len(target.Content) == 0 {
		d.report(at(target), "%s names no platform", what)
	}
	return list
}

func (d *decoder) settings(n *yaml.Node, s *Settings) {
	d.late(func() { d.object(n, "settings", d.settingsFields(s)...) })
}

func (d *decoder) settingsFields(s *Settings) []field {
	return []field{
		{key: "entrypoint", read: func(n *yaml.Node) { s.Entrypoint = d.texts(n, "entrypoint") }},
		{key: "command", read: func(n *yaml.Node) { s.Command = d.texts(n, "command") }},
		{key: "env", read: func(n *yaml.Node) {
			s.Env = d.droppable(n, "env")
			d.checkEnvNames(n)
		}},
		{key: "user", read: func(n *yaml.Node) { s.User = d.scalar(n, "user") }},
		{key: "working-dir", read: func(n *yaml.Node) { s.WorkingDir = d.target(n, "working-dir") }},
		{key: "ports", read: func(n *yaml.Node) {
			s.Ports, s.NoPorts = d.orNone(n, "ports", d.scalar)
		}},
		{key: "volumes", read: func(n *yaml.Node) {
			s.Volumes, s.NoVolumes = d.orNone(n, "volumes", d.target)
		}},
		{key: "labels", read: func(n *yaml.Node) { s.Labels = d.droppable(n, "labels") }},
		{key: "author", read: func(n *yaml.Node) { s.Author = d.text(n, "author") }},
		{key: "stop-signal", read: func(n *yaml.Node) { s.StopSignal = d.text(n, "stop-signal") }},
	}
}

// orNone reads a list in which none stands for dropping what is inherited.
func (d *decoder) orNone(n *yaml.Node, what string, read func(n *yaml.Node, what string) Template) (list []Template, none bool) {
	d.each(n, what, true, func(item *yaml.Node) {
		if target := d.deref(item); target.Kind == yaml.ScalarNode && target.Tag == "!!str" && target.Value == "none" {
			none = true
		} else {
			list = append(list, d.entry(item, "an entry of "+what, read))
		}
	})
	return list, none
}

func (d *decoder) checkEnvNames(n *yaml.Node) {
	if n = d.deref(n); n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i < len(n.Content); i += 2 {
		if strings.Contains(n.Content[i].Value, "=") {
			d.report(at(n.Content[i]), "an environment variable's name cannot hold '='")
		}
	}
}

// Outcomes are those of runs that notices can be sent on, and DefaultOutcomes those that they are sent on where nobody says which.
var (
	Outcomes        = []string{"done", "nothing", "failed", "interrupted"}
	DefaultOutcomes = []string{"done", "failed"}
)

func (d *decoder) notice(n *yaml.Node) Notice {
	one := Notice{Pos: at(d.deref(n)), On: DefaultOutcomes}
	d.object(n, "an entry of notify",
		field{key: "to", need: true, read: func(n *yaml.Node) {
			one.To = d.text(n, "to")
			if text, constant := one.To.Constant(); constant && one.To.Given {
				if err := notice.CheckAddress(text); err != nil {
					d.report(one.To.Pos, "%s", err)
				}
			}
		}},
		field{key: "secret", read: func(n *yaml.Node) {
			name := d.word(n, "secret")
			if one.Secret = d.secret(name); name != "" && !slices.Contains(d.secretNames, name) {
				d.report(at(d.deref(n)), "no secret is named %q%s", name, suggest(name, d.secretNames))
			}
		}},
		field{key: "on", read: func(n *yaml.Node) {
			one.On = nil
			d.each(n, "on", true, func(item *yaml.Node) { one.On = append(one.On, d.oneOf(item, "on", Outcomes...)) })
		}})
	return one
}

func (d *decoder) destination(key, value *yaml.Node) Destination {
	dest := Destination{Name: key.Value, Pos: at(key)}
	d.object(value, "the destination "+key.Value,
		field{key: "to", need: true, read: func(n *yaml.Node) { dest.To = d.repository(n, "to") }},
		field{key: "tags", need: true, read: func(n *yaml.Node) {
			d.flat(n, "tags", func(item *yaml.Node) { dest.Tags = append(dest.Tags, d.tag(item)) })
		}},
		field{key: "fixed", read: func(n *yaml.Node) {
			d.each(n, "fixed", true, func(item *yaml.Node) {
				pattern := d.word(item, "an entry of fixed")
				if _, err := path.Match(pattern, ""); err != nil {
					d.report(at(item), "%q is not a pattern of tags: * stands for any text, ? for one sign, [0-9] for one of some", pattern)
				}
				dest.Fixed = append(dest.Fixed, pattern)
			})
		}},
		field{key: "invalid", read: func(n *yaml.Node) { dest.Refuse = d.oneOf(n, "invalid", "mend", "refuse") == "refuse" }},
		field{key: "requires", read: func(n *yaml.Node) { dest.Requires = d.platforms(n, "requires") }},
		field{key: "checks", read: func(n *yaml.Node) { dest.Checks = d.checks(n) }},
		field{key: "on-failure", read: func(n *yaml.Node) { dest.OnFailure = d.repository(n, "on-failure") }},
	)
	return dest
}

func (d *decoder) repository(n *yaml.Node, key string) Template {
	to := d.text(n, key)
	if text, constant := to.Constant(); constant && to.Given {
		if _, err := reference.ParseRepository(text); err != nil {
			d.report(to.Pos, "%s", err)
		}
	}
	return to
}

func (d *decoder) tag(n *yaml.Node) Tag {
	var t Tag
	before := len(d.problems)
	name := func(n *yaml.Node, what string) { d.within(tagPlace, func() { t.Name = d.scalar(n, what) }) }
	if d.deref(n).Kind != yaml.MappingNode {
		name(n, "a tag")
	} else {
		d.object(n, "a tag",
			field{key: "tag", need: true, read: func(n *yaml.Node) { name(n, "tag") }},
			field{key: "when", read: func(n *yaml.Node) { d.within(tagPlace, func() { t.When = d.when(n) }) }},
			field{key: "prefixes", read: func(n *yaml.Node) { t.Prefixes = d.boolean(n, "prefixes") }},
			field{key: "for", read: func(n *yaml.Node) { t.For = d.platforms(n, "for") }},
		)
	}
	if text, constant := t.Name.Constant(); constant && t.Name.Given && len(d.problems) == before {
		if err := reference.CheckTag(text); err != nil {
			d.report(t.Name.Pos, "%s", err)
		}
	}
	return t
}

// when reads a condition. A mistake is reported and gives nil.
func (d *decoder) when(n *yaml.Node) *Expression {
	target := d.deref(n)
	text := d.condition(n)
	if text != "" {
		at, place := at(target), early // what lies below is no condition
		if d.compiler.place == tagPlace {
			place = tagPlace
		}
		var e *Expression
		d.within(place, func() { e = d.compiler.compile(at, text, true) })
		return e
	}
	if target.Kind == yaml.ScalarNode && target.Tag == "!!str" {
		d.report(at(target), "when is empty: write a condition, such as git.branch == \"trunk\"")
	}
	return nil
}

// condition reads an expression written bare; true and false stand for themselves.
func (d *decoder) condition(n *yaml.Node) string {
	n = d.deref(n)
	if n.Kind == yaml.ScalarNode && n.Tag == "!!bool" {
		return strings.ToLower(n.Value)
	}
	return d.word(n, "when")
}

// unit is a stage or an image as it names others: with all its variants.
type unit struct {
	pos     Pos
	image   bool
	bases   []*Base
	steps   [][]Step
	results []UnitUse
	checks  []UnitUse // stages that checks name; they may need the unit itself
}

// checkNames finds names that nothing bears, names borne twice, and units that need themselves.
func (d *decoder) checkNames(r *Recipe) {
	units := map[string]*unit{}
	var names []string
	add := func(s *Stage, image bool) *unit {
		if other := units[s.Name]; other != nil {
			what := "names a stage and an image; give one of them another name"
			if other.image {
				what = "is the name of two images, of which one comes of each: give one of them another name"
			}
			d.report(s.Pos, "%q %s", s.Name, what)
		}
		u := &unit{pos: s.Pos, image: image, bases: []*Base{&s.Base}, steps: [][]Step{s.Steps}, results: s.results}
		for _, v := range s.For {
			if u.steps = append(u.steps, v.Steps); v.Base != nil {
				u.bases = append(u.bases, v.Base)
			}
		}
		units[s.Name] = u
		names = append(names, s.Name)
		return u
	}
	for i := range r.Stages {
		add(&r.Stages[i], false)
	}
	d.several = map[string][]string{}
	for i := range r.Images {
		if of := r.Images[i].Of; of != "" {
			d.several[of] = append(d.several[of], r.Images[i].Name)
		}
		u := add(&r.Images[i].Stage, true)
		checks := slices.Clone(r.Images[i].Checks)
		for _, to := range r.Images[i].Publish {
			checks = append(checks, to.Checks...)
		}
		for _, v := range r.Images[i].For {
			checks = append(checks, v.Checks...)
		}
		for _, c := range checks {
			if stage, is := c.Do.(*StageCheck); is && stage.Name != "" {
				u.checks = append(u.checks, UnitUse{stage.Name, stage.Pos})
			}
		}
	}
	d.checkTold(r)
	d.checkSecretTexts(r)
	for _, name := range names {
		d.checkUses(units[name], units, names)
		for _, steps := range units[name].steps {
			d.checkSecretUses(r, steps)
		}
	}
	d.checkCycles(names, units)
	r.needs = map[string][]string{}
	for name, u := range units {
		r.needs[name] = u.needs()
		for _, c := range u.checks {
			r.needs[name] = append(r.needs[name], c.Name)
		}
	}
}

// checkTold finds images of different recipes that could not be told apart in the values of a receipt, which have a name for each.
func (d *decoder) checkTold(r *Recipe) {
	of := map[string]*Image{}
	for i := range r.Images {
		one := &r.Images[i]
		as := strings.NewReplacer(".", "-", "_", "-", "/", "-", "#", "-").Replace(strings.ToLower(one.Name))
		if other := of[as]; other != nil && other.In != one.In {
			d.report(one.Pos, "the names %s and %s differ in signs alone, and values of a receipt have none: rename one of them", other.Name, one.Name)
		}
		of[as] = one
	}
}

func (d *decoder) checkUses(u *unit, units map[string]*unit, names []string) {
	for _, base := range u.bases {
		switch other, known := units[base.Name]; {
		case base.Name == "":
		case !known:
			d.report(base.Pos, "%s", d.unknownUnit(base.Name, names))
		case base.plain:
			base.Kind = map[bool]BaseKind{true: ImageBase, false: StageBase}[other.image]
		case other.image != (base.Kind == ImageBase):
			kind := map[bool]string{true: "image", false: "stage"}[other.image]
			d.report(base.Pos, "%q is %s: write {%s: %s}", base.Name, article(kind), kind, base.Name)
		}
	}
	for _, c := range u.checks {
		switch other := units[c.Name]; {
		case other == nil:
			d.report(c.Pos, "%s", d.unknownUnit(c.Name, names))
		case other.image:
			d.report(c.Pos, "%q is an image, and a check builds a stage", c.Name)
		}
	}
	u.eachUse(func(use UnitUse) {
		if units[use.Name] == nil {
			d.report(use.Pos, "%s", d.unknownUnit(use.Name, names))
		}
	})
}

// unknownUnit says that a name is none of the recipe's, and how images of the store are named.
func (d *decoder) unknownUnit(name string, names []string) string {
	if several := d.several[name]; len(several) > 0 {
		return fmt.Sprintf("%s is several images: name one of %s", name, say.Some(several))
	}
	if near := Nearest(name, names); near != "" {
		return fmt.Sprintf("no stage or image is named %q; did you mean %q?", name, near)
	}
	if folder, own, is := strings.Cut(name, "#"); is {
		var others []string
		for _, other := range names {
			if rest, its := strings.CutPrefix(other, folder+"#"); its {
				others = append(others, rest)
			}
		}
		if len(others) == 0 {
			return fmt.Sprintf("no recipe of the graph is in %q: recipes: names those that are", folder)
		}
		return fmt.Sprintf("the recipe in %s has no stage or image %q: it has %s", folder, own, say.Some(others))
	}
	return fmt.Sprintf("no stage or image is named %q; an image of a registry is named with its host, such as registry.tideline.example/%s:1, and one of the store with its tag, such as %s:1, or as {reference: %s}", name, name, name, name)
}

// eachUse visits what steps and values take of other units.
func (u *unit) eachUse(visit func(UnitUse)) {
	for _, use := range u.results {
		visit(use)
	}
	for _, steps := range u.steps {
		for _, step := range steps {
			if step.Do == nil {
				continue // it is told elsewhere
			}
			for _, use := range step.Do.Units() {
				visit(use)
			}
		}
	}
}

// needs lists the units that a unit's bases and steps name.
func (u *unit) needs() []string {
	var names []string
	for _, base := range u.bases {
		if base.Name != "" {
			names = append(names, base.Name)
		}
	}
	u.eachUse(func(use UnitUse) { names = append(names, use.Name) })
	return names
}

func (d *decoder) checkCycles(names []string, units map[string]*unit) {
	const visiting, done = 1, 2
	state := map[string]int{}
	var visit func(name string, path []string)
	visit = func(name string, path []string) {
		unit, known := units[name]
		if !known || state[name] == done {
			return
		}
		path = append(path, name)
		if state[name] == visiting {
			d.report(unit.pos, "%q needs itself: %s", name, strings.Join(path, " needs "))
			return
		}
		state[name] = visiting
		for _, next := range unit.needs() {
			visit(next, path)
		}
		state[name] = done
	}
	for _, name := range names {
		visit(name, nil)
	}
}
