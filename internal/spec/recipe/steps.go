package recipe

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/event"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
)

// Action is one of *Copy, *Take, *Write, *Make, *Enrol, *Link, *Unpack, *Fetch, *Remove, *Run.
type Action interface {
	// Units are the stages and images of the recipe that it names.
	Units() []UnitUse
}

// UnitUse is where a stage or an image is named.
type UnitUse struct {
	Name string
	Pos  Pos
}

// noUnits is of actions that name no stages and images.
type noUnits struct{}

// Units implements Action.
func (noUnits) Units() []UnitUse { return nil }

// Units implements Action.
func (t *Take) Units() []UnitUse {
	if t.Unit == "" {
		return nil
	}
	return []UnitUse{{t.Unit, t.Pos}}
}

// Copy takes files of the project folder in.
type Copy struct {
	noUnits
	From []Template // paths and patterns; with Of packages, by their folders or names
	Of   Part
	To   Template
	Picking
	// CommitTimes gives each file the time of the last commit that touched it.
	CommitTimes bool
	risingTimes bool     // as it is written here; Step.RisingTimes counts
	Attributes  []string // patterns of extended attributes to take in
	Access
}

// Part is what of packages a copy takes, with all that they need of the project folder.
type Part string

// The parts.
const (
	NoPart    Part = "" // it names paths
	Manifests Part = "manifests"
	SourcesOf Part = "sources"
)

// Picking tells what of folders is taken, and what of its names stays.
type Picking struct {
	LeaveOut []string // patterns relative to the folder taken
	// Structure keeps each file's path below the top of where it comes from.
	Structure bool
	// Follow takes what links lead to instead of the links.
	Follow bool
}

// Take takes files out of a stage, an image of the recipe, or an image elsewhere.
type Take struct {
	Unit      string   // name of a stage or an image, or empty
	Reference Template // where Unit is empty
	Explicit  bool     // Reference is written as one, so that a plain name is the store's
	Pos       Pos
	Paths     []Template
	To        Template
	Picking
	Access
}

// Write makes a file from text in the recipe.
type Write struct {
	noUnits
	To    Template
	Text  Template
	After bool // the text comes after what the file has below
	Access
}

// Make makes empty folders.
type Make struct {
	noUnits
	Folders []Template
	Access
}

// Enrol adds a user with a group of the same name and number to the image's lists.
type Enrol struct {
	noUnits
	User   Template
	Number Template
	Home   Template
	Shell  Template
}

// Link makes a symbolic link.
type Link struct {
	noUnits
	At     Template
	Target Template
	Owner  Template
}

// Unpack lays down what an archive holds.
type Unpack struct {
	noUnits
	From     Template // a file of the project, or an address with http:// or https://
	SHA256   Template
	To       Template
	Strip    int // leading elements of names to drop
	LeaveOut []string
	Spread   []string // patterns of archives in it that become folders
	AtMost   int64    // bytes that the archive may unpack to; 0: the default
	Access
}

// Fetch lays down a file from an address.
type Fetch struct {
	noUnits
	From   Template
	SHA256 Template
	To     Template
	Access
}

// Remove deletes what lies below.
type Remove struct {
	noUnits
	Paths []Template
}

// step reads one entry of steps: exactly one action, and what may stand beside it.
func (d *decoder) step(n *yaml.Node) (Step, bool) {
	target := d.deref(n)
	s := Step{Pos: at(target)}
	before := len(d.problems)
	actions := 0
	action := func(key string, read func(n *yaml.Node)) field {
		return field{key: key, read: func(n *yaml.Node) { actions++; read(n) }}
	}
	beside := &Run{} // what stands beside a run, whatever its place
	var command *Run
	besideKey := ""
	fields := []field{
		action("copy", func(n *yaml.Node) { s.Do = d.copyStep(n) }),
		action("take", func(n *yaml.Node) { s.Do = d.takeStep(n) }),
		action("write", func(n *yaml.Node) { s.Do = d.writeStep(n) }),
		action("make", func(n *yaml.Node) { s.Do = d.makeStep(n) }),
		action("enrol", func(n *yaml.Node) { s.Do = d.enrolStep(n) }),
		action("link", func(n *yaml.Node) { s.Do = d.linkStep(n) }),
		action("unpack", func(n *yaml.Node) { s.Do = d.unpackStep(n) }),
		action("fetch", func(n *yaml.Node) { s.Do = d.fetchStep(n) }),
		action("remove", func(n *yaml.Node) { s.Do = d.removeStep(n) }),
		action("run", func(n *yaml.Node) { command = d.runStep(n); s.Do = beside }),
		{key: "name", read: func(n *yaml.Node) { s.Name = d.word(n, "name") }},
		{key: "only", read: func(n *yaml.Node) { s.Only = d.platforms(n, "only") }},
		{key: "when", read: func(n *yaml.Node) { s.When = d.when(n) }},
		{key: "silence", read: func(n *yaml.Node) { s.Silence = d.silence(n) }},
		{key: "annotations", read: func(n *yaml.Node) { s.Annotations = d.textPairs(n, "annotations") }},
		{key: "times", read: func(n *yaml.Node) { s.RisingTimes = d.oneOf(n, "times", "constant", "rising") == "rising" }},
	}
	for _, f := range d.runFields(beside) {
		read := f.read
		f.read = func(n *yaml.Node) { besideKey = f.key; read(n) }
		fields = append(fields, f)
	}
	d.object(n, "a step", fields...)
	if actions != 1 && len(d.problems) == before {
		d.report(s.Pos, "a step does exactly one of copy, take, write, make, enrol, link, unpack, fetch, remove, run; this one has %d", actions)
	}
	if command == nil && besideKey != "" && len(d.problems) == before {
		d.report(s.Pos, "%s stands beside run alone", besideKey)
	}
	if c, is := s.Do.(*Copy); is {
		s.RisingTimes = s.RisingTimes || c.risingTimes
		if s.RisingTimes && c.CommitTimes {
			d.report(s.Pos, "times can be commit or rising, not both")
		}
	}
	if command != nil && len(command.Args) > 0 && (beside.LinesBy.Given || beside.Strict != nil) {
		d.report(s.Pos, "lines-by and strict are for lines of a shell, and a command runs without one")
	}
	if command != nil {
		beside.Lines, beside.Args, beside.Listed = command.Lines, command.Args, command.Listed
	}
	return s, s.Do != nil && actions == 1
}

func (d *decoder) access(a *Access) []field {
	return []field{
		{key: "owner", read: func(n *yaml.Node) { a.Owner = d.scalar(n, "owner") }},
		{key: "mode", read: func(n *yaml.Node) { a.Mode = d.scalar(n, "mode") }},
	}
}

func (d *decoder) picking(p *Picking) []field {
	return []field{
		{key: "leave-out", read: func(n *yaml.Node) { p.LeaveOut = d.words(n, "leave-out") }},
		{key: "structure", read: func(n *yaml.Node) { p.Structure = d.oneOf(n, "structure", "flat", "keep") == "keep" }},
		{key: "links", read: func(n *yaml.Node) { p.Follow = d.oneOf(n, "links", "keep", "follow") == "follow" }},
	}
}

func (d *decoder) copyStep(n *yaml.Node) Action {
	c := &Copy{}
	said := map[string]bool{}
	from := func(key string, of Part, read func(n *yaml.Node, what string) Template) field {
		return field{key: key, read: func(n *yaml.Node) {
			said[key] = true
			c.From, c.Of = d.entries(n, key, read), of
			if len(c.From) == 0 && d.deref(n).Kind == yaml.SequenceNode {
				d.report(at(d.deref(n)), "%s names nothing to copy", key)
			}
		}}
	}
	picking := d.picking(&c.Picking)
	for i, f := range picking {
		picking[i].read = func(n *yaml.Node) { said[f.key] = true; f.read(n) }
	}
	d.object(n, "copy", append(slices.Concat(d.access(&c.Access), picking),
		from("from", NoPart, d.source), from("manifests-of", Manifests, d.packageName), from("sources-of", SourcesOf, d.packageName),
		field{key: "to", need: true, read: func(n *yaml.Node) { c.To = d.target(n, "to") }},
		field{key: "times", read: func(n *yaml.Node) {
			times := d.oneOf(n, "times", "constant", "commit", "rising")
			c.CommitTimes, c.risingTimes = times == "commit", times == "rising"
		}},
		field{key: "attributes", read: func(n *yaml.Node) { c.Attributes = d.words(n, "attributes") }},
	)...)
	d.oneSource(n, c, said)
	return c
}

// oneSource holds a copy to one way of saying what it takes.
func (d *decoder) oneSource(n *yaml.Node, c *Copy, said map[string]bool) {
	ways := 0
	for _, key := range []string{"from", "manifests-of", "sources-of"} {
		if said[key] {
			ways++
		}
	}
	switch {
	case d.deref(n).Kind != yaml.MappingNode:
	case ways == 0:
		d.report(at(d.deref(n)), "copy needs the key \"from\", or manifests-of or sources-of with a package")
	case ways > 1:
		d.report(at(d.deref(n)), "copy has one of from, manifests-of, sources-of")
	case c.Of != NoPart && said["structure"]:
		d.report(at(d.deref(n)), "packages keep their folders: structure stands beside from alone")
	}
	c.Structure = c.Structure || c.Of != NoPart
}

// packageName reads what a package is named by: its folder, or the name that its manifest has.
func (d *decoder) packageName(n *yaml.Node, what string) Template {
	t := d.text(n, what)
	text, constant := t.Constant()
	switch {
	case !constant || !t.Given:
	case text == "":
		d.report(t.Pos, "%s is empty; write . for the package of this folder", what)
	case strings.HasPrefix(text, "/"):
		d.report(t.Pos, "a package is named by its folder, relative to that of the recipe, or by the name that its manifest has: %q is absolute", text)
	}
	return t
}

func (d *decoder) takeStep(n *yaml.Node) Action {
	t := &Take{}
	d.object(n, "take", append(slices.Concat(d.access(&t.Access), d.picking(&t.Picking)),
		field{key: "from", need: true, read: func(n *yaml.Node) { d.origin(n, t) }},
		field{key: "paths", was: "path", need: true, read: func(n *yaml.Node) { t.Paths = d.targets(n, "paths") }},
		field{key: "to", need: true, read: func(n *yaml.Node) { t.To = d.target(n, "to") }},
	)...)
	return t
}

// origin reads where a take takes from. A plain name is a stage or an image of the recipe; the store's images are
// named with their tag or digest, or as {reference: NAME}, so that a slip in a stage's name is found here.
func (d *decoder) origin(n *yaml.Node, t *Take) {
	target := d.deref(n)
	t.Pos = at(target)
	if target.Kind == yaml.MappingNode {
		unit := func(n *yaml.Node) { t.Unit, t.Pos = d.meant(d.word(n, "from")), at(d.deref(n)) }
		d.object(n, "from",
			field{key: "stage", read: unit},
			field{key: "image", read: unit},
			field{key: "reference", read: func(n *yaml.Node) { t.Reference, t.Explicit = d.text(n, "reference"), true }},
		)
		if len(target.Content) != 2 {
			d.report(t.Pos, "from must be a name, a reference, {stage: NAME}, {image: NAME} or {reference: REFERENCE}")
		}
		return
	}
	template := d.text(n, "from")
	text, constant := template.Constant()
	switch {
	case !constant || !template.Given:
		t.Reference = template
	case d.ownName(text):
		t.Unit = d.meant(text)
	default:
		t.Reference = template
		d.checkReference(t.Pos, text)
	}
}

// ownName reports whether a text names a stage or an image of the recipe or its graph, or would, where they had one of that name.
func (d *decoder) ownName(text string) bool { return slices.Contains(d.units, text) || IsName(text) }

// IsName reports whether a reference is a name alone, which in a recipe is always one of the recipe's own.
func IsName(text string) bool {
	ref, err := reference.Parse(text)
	if err != nil || ref.Kind != reference.Store || ref.Tag != "" || ref.Digest != "" {
		return false
	}
	_, prefix := ref.DigestPrefix()
	return !prefix
}

func (d *decoder) writeStep(n *yaml.Node) Action {
	w := &Write{}
	d.object(n, "write", append(d.access(&w.Access),
		field{key: "to", need: true, read: func(n *yaml.Node) {
			w.To = d.target(n, "to")
			if text, constant := w.To.Constant(); constant && w.To.Given && strings.HasSuffix(text, "/") {
				d.report(w.To.Pos, "write makes a file: %q must not end with a slash", text)
			}
		}},
		field{key: "text", need: true, read: func(n *yaml.Node) { d.late(func() { w.Text = d.text(n, "text") }) }},
		field{key: "after", read: func(n *yaml.Node) { w.After = d.oneOf(n, "after", "existing") == "existing" }},
	)...)
	return w
}

func (d *decoder) makeStep(n *yaml.Node) Action {
	m := &Make{}
	d.object(n, "make", append(d.access(&m.Access),
		field{key: "folder", need: true, read: func(n *yaml.Node) {
			if m.Folders = d.targets(n, "folder"); len(m.Folders) == 0 && d.deref(n).Kind == yaml.SequenceNode {
				d.report(at(d.deref(n)), "folder names nothing to make")
			}
		}},
	)...)
	return m
}

func (d *decoder) enrolStep(n *yaml.Node) Action {
	e := &Enrol{}
	d.object(n, "enrol",
		field{key: "user", need: true, read: func(n *yaml.Node) { e.User = d.text(n, "user") }},
		field{key: "number", need: true, read: func(n *yaml.Node) { e.Number = d.scalar(n, "number") }},
		field{key: "home", read: func(n *yaml.Node) { e.Home = d.target(n, "home") }},
		field{key: "shell", read: func(n *yaml.Node) { e.Shell = d.target(n, "shell") }},
	)
	return e
}

func (d *decoder) linkStep(n *yaml.Node) Action {
	l := &Link{}
	d.object(n, "link",
		field{key: "at", was: "to", need: true, read: func(n *yaml.Node) { l.At = d.target(n, "at") }},
		field{key: "target", need: true, read: func(n *yaml.Node) {
			l.Target = d.text(n, "target")
			if text, constant := l.Target.Constant(); constant && l.Target.Given && text == "" {
				d.report(l.Target.Pos, "target is empty")
			}
		}},
		field{key: "owner", read: func(n *yaml.Node) { l.Owner = d.scalar(n, "owner") }},
	)
	return l
}

func (d *decoder) unpackStep(n *yaml.Node) Action {
	u := &Unpack{}
	d.object(n, "unpack", append(d.access(&u.Access),
		field{key: "from", need: true, read: func(n *yaml.Node) { u.From = d.source(n, "from") }},
		field{key: "to", need: true, read: func(n *yaml.Node) { u.To = d.target(n, "to") }},
		field{key: "sha256", read: func(n *yaml.Node) { u.SHA256 = d.checksum(n) }},
		field{key: "strip", read: func(n *yaml.Node) { u.Strip = d.number(n, "strip", 0, 100) }},
		field{key: "leave-out", read: func(n *yaml.Node) { u.LeaveOut = d.words(n, "leave-out") }},
		field{key: "spread", read: func(n *yaml.Node) { u.Spread = d.words(n, "spread") }},
		field{key: "at-most", read: func(n *yaml.Node) { u.AtMost = d.size(n, "at-most") }},
	)...)
	if text, constant := u.From.Constant(); constant && u.From.Given && IsAddress(text) && !u.SHA256.Given {
		d.report(u.From.Pos, "what comes from an address needs its checksum: add sha256:")
	}
	return u
}

// IsAddress reports whether a from names something on the network.
func IsAddress(text string) bool {
	return strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://")
}

func (d *decoder) fetchStep(n *yaml.Node) Action {
	f := &Fetch{}
	d.object(n, "fetch", append(d.access(&f.Access),
		field{key: "from", need: true, read: func(n *yaml.Node) {
			f.From = d.text(n, "from")
			if text, constant := f.From.Constant(); constant && f.From.Given && !IsAddress(text) {
				d.report(f.From.Pos, "%q is not an address: it starts with https:// or http://", text)
			}
		}},
		field{key: "to", need: true, read: func(n *yaml.Node) { f.To = d.target(n, "to") }},
		field{key: "sha256", need: true, read: func(n *yaml.Node) { f.SHA256 = d.checksum(n) }},
	)...)
	return f
}

func (d *decoder) removeStep(n *yaml.Node) Action {
	r := &Remove{Paths: d.targets(n, "remove")}
	if len(r.Paths) == 0 && d.deref(n).Kind == yaml.SequenceNode {
		d.report(at(d.deref(n)), "remove names nothing to remove")
	}
	return r
}

var sha256Form = regexp.MustCompile(`^[0-9a-fA-F]{64}$`)

// IsSHA256 reports whether a text is a checksum.
func IsSHA256(text string) bool { return sha256Form.MatchString(text) }

func (d *decoder) checksum(n *yaml.Node) Template {
	t := d.scalar(n, "sha256")
	if text, constant := t.Constant(); constant && t.Given && !IsSHA256(text) {
		d.report(t.Pos, "sha256 must be 64 hexadecimal digits")
	}
	return t
}

func (d *decoder) number(n *yaml.Node, what string, least, most int) int {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag != "!!int" {
		d.wrongType(n, what, "a number")
		return 0
	}
	number, err := strconv.Atoi(n.Value)
	if err != nil || number < least || number > most {
		d.report(at(n), "%s must be a number from %d to %d", what, least, most)
	}
	return number
}

// size reads a number of bytes, such as 40MB.
func (d *decoder) size(n *yaml.Node, what string) int64 {
	n = d.deref(n)
	if n.Kind != yaml.ScalarNode || n.Tag != "!!str" && n.Tag != "!!int" {
		d.wrongType(n, what, "a size, such as 40MB")
		return 0
	}
	size, err := humanize.ParseBytes(n.Value)
	if err != nil || size == 0 || size > 1<<50 {
		d.report(at(n), "%s must be a size, such as 40MB", what)
		return 0
	}
	return int64(size)
}

// silence reads codes of warnings.
func (d *decoder) silence(n *yaml.Node) []string {
	var codes []string
	d.each(n, "silence", true, func(item *yaml.Node) {
		if code := d.oneOf(item, "a code of silence", event.Codes...); code != "" {
			codes = append(codes, code)
		}
	})
	return codes
}

// variants reads what differs by platform, of a stage or an image.
func (d *decoder) variants(n *yaml.Node, to *[]Variant, image bool) {
	d.named(n, "for", func(key, value *yaml.Node) {
		v := Variant{Pos: at(key)}
		var err error
		if v.Platform, err = platform.Parse(key.Value); err != nil {
			d.report(at(key), "%s", err)
		}
		if slices.ContainsFunc(*to, func(o Variant) bool { return o.Platform == v.Platform }) {
			d.report(at(key), "the platform %s stands twice", v.Platform)
		}
		fields := []field{
			{key: "base", read: func(n *yaml.Node) { base := d.base(n); v.Base = &base }},
			{key: "steps", read: func(n *yaml.Node) { v.Steps = d.steps(n) }}}
		if image {
			fields = append(fields, field{key: "settings", read: func(n *yaml.Node) { d.settings(n, &v.Settings) }},
				field{key: "checks", read: func(n *yaml.Node) { v.Checks = d.checks(n) }})
		}
		d.object(value, "for "+key.Value, fields...)
		*to = append(*to, v)
	})
}
