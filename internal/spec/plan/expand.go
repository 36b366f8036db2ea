package plan

import (
	"cmp"
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/notice"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
	"imbricat/internal/spec/retention"
)

// Options choose what of a recipe is planned.
type Options struct {
	Images    []string            // none: all
	Nothing   bool                // Images is none of them
	Stages    bool                // Images may name stages too
	Checks    bool                // stages that checks of the images name are planned too
	Unused    bool                // stages that nothing needs are planned too
	Platforms []platform.Platform // none: all that an image has
	Here      platform.Platform   // for images that name no platform
	// Scope gives what expressions of a folder's recipe know of a platform.
	Scope func(folder string, p platform.Platform) (*recipe.Scope, error)
	// Packages gives those of the project folder. It is asked where a recipe names one.
	Packages func() (*project.Graph, error)
}

// ErrChoice is wrapped by errors about images or platforms that were asked for and that the recipe does not have.
var ErrChoice = errors.New("not in the recipe")

// Expand makes the plan. The error is a *recipe.Errors with every problem found, or wraps ErrChoice.
func Expand(r *recipe.Recipe, o Options) (*Plan, error) {
	x := &expander{recipe: r, secrets: map[string]Secret{}, settling: &settling{}, tagged: map[string]string{}, options: o, units: map[UnitID]*Unit{}, scopes: map[scopeOf]*recipe.Scope{},
		problems: &recipe.Errors{File: r.File}}
	chosen, stages, err := x.choose()
	if err != nil {
		return nil, err
	}
	p := &Plan{File: r.File, Silence: r.Silence, Secrets: x.secrets}
	for _, i := range chosen {
		p.Images = append(p.Images, x.image(i))
	}
	if o.Checks {
		x.checks(p.Images)
	}
	if o.Unused {
		stages = append(stages, x.unplanned()...)
	}
	for _, name := range stages {
		for _, on := range x.stagePlatforms() {
			p.Stages = append(p.Stages, x.unit(name, on))
		}
	}
	if !o.Nothing {
		x.unused(stages)
	}
	slices.SortStableFunc(x.doubts, func(a, b Doubt) int { return cmp.Or(a.Pos.Line-b.Pos.Line, a.Pos.Column-b.Pos.Column) })
	p.Units, p.Doubts = x.order, x.doubts
	if r.Cache != nil {
		// It belongs to no image, so the platform is this machine's.
		e := x.evaluator("", o.Here)
		p.Share, p.Direction = e.text(r.Cache.Share), r.Cache.Direction
		if ref, err := reference.Parse(p.Share); p.Share != "" && (err != nil || ref.Kind != reference.Registry && ref.Kind != reference.Layout) {
			e.report(r.Cache.Pos, "%q is not a place for a shared cache: name a repository (HOST/REPOSITORY) or a folder (./DIR)", p.Share)
		}
	}
	for _, n := range r.Notify {
		p.Notify = append(p.Notify, x.notice(n, o.Here))
	}
	if len(x.problems.Problems) > 0 {
		return nil, x.problems
	}
	return p, nil
}

// notice evaluates an address that is told of runs. It belongs to no image, so its platform is this machine's.
func (x *expander) notice(n recipe.Notice, here platform.Platform) Notice {
	e := x.evaluator("", here)
	if e.scope == nil {
		return Notice{}
	}
	out := Notice{To: e.text(n.To), Secret: n.Secret, On: n.On}
	if err := notice.CheckAddress(out.To); err != nil && out.To != "" {
		e.report(n.To.Pos, "%s", err)
	}
	if n.Secret == "" {
		return out
	}
	e.secret(n.Secret)
	if s := x.secrets[n.Secret]; s.SSHAgent || s.Text != nil {
		e.report(n.Pos, "the secret %q cannot sign: one with env, file or command can", n.Secret)
	}
	return out
}

type expander struct {
	recipe   *recipe.Recipe
	options  Options
	units    map[UnitID]*Unit
	order    []*Unit
	scopes   map[scopeOf]*recipe.Scope
	problems *recipe.Errors
	secrets  map[string]Secret
	doubts   []Doubt
	settling *settling
	tagged   map[string]string // which image a tag of a repository is for
}

func (x *expander) report(pos recipe.Pos, format string, args ...any) {
	p := recipe.Problem{Pos: pos, Message: fmt.Sprintf(format, args...)}
	if !slices.Contains(x.problems.Problems, p) {
		x.problems.Problems = append(x.problems.Problems, p)
	}
}

// add keeps the problems of an error that has them, and any other error at pos.
func (x *expander) add(pos recipe.Pos, err error) {
	var list *recipe.Errors
	if !errors.As(err, &list) {
		x.report(pos, "%s", err)
		return
	}
	for _, p := range list.Problems {
		if !slices.Contains(x.problems.Problems, p) {
			x.problems.Problems = append(x.problems.Problems, p)
		}
	}
}

// choose returns the images and the names of the stages that are asked for.
func (x *expander) choose() (chosen []*recipe.Image, stages []string, err error) {
	if x.options.Nothing {
		return nil, nil, nil
	}
	var images, known []string
	for _, i := range x.recipe.Images {
		images = append(images, i.Name)
	}
	for _, s := range x.recipe.Stages {
		known = append(known, s.Name)
	}
	for _, wanted := range x.options.Images {
		isImage := slices.ContainsFunc(x.recipe.Images, func(i recipe.Image) bool { return i.Matches(wanted) })
		isStage := false
		for i := range x.recipe.Stages {
			if s := &x.recipe.Stages[i]; s.Matches(wanted) {
				if isStage = true; x.options.Stages && !slices.Contains(stages, s.Name) {
					stages = append(stages, s.Name)
				}
			}
		}
		if isImage || isStage && x.options.Stages {
			continue
		}
		var entries []string
		for _, i := range x.recipe.Images {
			if i.Of != "" && !slices.Contains(entries, i.Of) {
				entries = append(entries, i.Of)
			}
		}
		names := slices.Concat(entries, images)
		if x.options.Stages {
			names = slices.Concat(names, known)
		}
		hint := "it has " + strings.Join(names, ", ")
		elsewhere := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !strings.HasSuffix(name, "#"+wanted) })
		if near := recipe.Nearest(wanted, names); isStage {
			hint = "it is a stage"
		} else if len(elsewhere) > 0 {
			hint = "other recipes have " + strings.Join(elsewhere, ", ")
		} else if near != "" {
			hint = fmt.Sprintf("did you mean %q?", near)
		}
		return nil, nil, fmt.Errorf("image %q is %w: %s", wanted, ErrChoice, hint)
	}
	for i := range x.recipe.Images {
		img := &x.recipe.Images[i]
		if len(x.options.Images) == 0 || slices.ContainsFunc(x.options.Images, img.Matches) {
			chosen = append(chosen, img)
		}
	}
	for _, i := range chosen {
		if len(x.platformsOf(i)) == 0 {
			return nil, nil, fmt.Errorf("the image %q has none of the platforms asked for, it has %s: %w",
				i.Name, platformList(x.allPlatforms(i)), ErrChoice)
		}
	}
	return chosen, stages, nil
}

// stagePlatforms are the platforms for which a stage is built that is asked for by itself.
func (x *expander) stagePlatforms() []platform.Platform {
	if len(x.options.Platforms) > 0 {
		return x.options.Platforms
	}
	return []platform.Platform{x.options.Here}
}

// unplanned lists the stages of which nothing is planned yet.
func (x *expander) unplanned() (names []string) {
	for _, s := range x.recipe.Stages {
		if !slices.ContainsFunc(x.order, func(u *Unit) bool { return u.ID.Name == s.Name }) {
			names = append(names, s.Name)
		}
	}
	return names
}

// checks plans the stages that checks of images name. They may stand on the images themselves.
func (x *expander) checks(images []*Image) {
	for _, i := range images {
		for _, u := range i.Units {
			for n := range u.Checks {
				stage, is := u.Checks[n].Do.(*recipe.StageCheck)
				if !is {
					continue
				}
				_, needed := x.units[UnitID{stage.Name, u.ID.Platform}]
				one := x.unit(stage.Name, u.ID.Platform)
				if u.Checks[n].Stage = one; (!needed || len(one.ChecksOf) > 0) && !slices.Contains(one.ChecksOf, i.Name) {
					one.ChecksOf = append(one.ChecksOf, i.Name)
				}
			}
		}
	}
}

func (x *expander) allPlatforms(i *recipe.Image) []platform.Platform {
	if len(i.Platforms) == 0 {
		return []platform.Platform{x.options.Here}
	}
	return i.Platforms
}

func (x *expander) platformsOf(i *recipe.Image) []platform.Platform {
	all := x.allPlatforms(i)
	if len(x.options.Platforms) == 0 {
		return all
	}
	var kept []platform.Platform
	for _, p := range all {
		if slices.Contains(x.options.Platforms, p) {
			kept = append(kept, p)
		}
	}
	return kept
}

func platformList(list []platform.Platform) string {
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = p.String()
	}
	return strings.Join(words, ", ")
}

// scopeOf is whose values a scope gives.
type scopeOf struct {
	folder   string
	platform platform.Platform
}

// evaluator returns one for values of a folder's recipe. Its scope is nil where that cannot be made, which is reported.
func (x *expander) evaluator(folder string, p platform.Platform) *evaluator {
	of := scopeOf{folder, p}
	s, known := x.scopes[of]
	if !known {
		var err error
		if s, err = x.options.Scope(folder, p); err != nil {
			x.add(recipe.Pos{}, err)
		}
		x.scopes[of] = s
	}
	return &evaluator{expander: x, scope: s, platform: p, in: folder}
}

func (x *expander) image(i *recipe.Image) *Image {
	out := &Image{Name: i.Name}
	for _, p := range x.platformsOf(i) {
		out.Units = append(out.Units, x.unit(i.Name, p))
	}
	for _, d := range i.Publish {
		to := x.destinations(i, d)
		x.apartFromOthers(i, d, to)
		out.Destinations = append(out.Destinations, to...)
	}
	return out
}

// apartFromOthers reports tags that images share in a repository: the one that is pushed last would have them.
func (x *expander) apartFromOthers(i *recipe.Image, d recipe.Destination, all []Destination) {
	for n := range all {
		for _, tag := range all[n].Tags {
			name := all[n].Repository.String() + ":" + tag
			if tag == "" || all[n].Repository.Repository == "" {
				continue // what is wrong with it is told elsewhere
			}
			if other, taken := x.tagged[name]; taken && other != i.Name {
				x.report(d.Pos, "%s would stand on the image %s and on %s: give each a repository or a tag of its own", name, other, i.Name)
				return
			}
			x.tagged[name] = i.Name
		}
	}
}

// unit plans a stage or an image for a platform, and before it what it needs. The parser has refused circles.
func (x *expander) unit(name string, p platform.Platform) *Unit {
	id := UnitID{name, p}
	if u, known := x.units[id]; known {
		return u
	}
	u := &Unit{ID: id, Machine: p}
	x.units[id] = u
	for i := range x.recipe.Stages {
		if s := &x.recipe.Stages[i]; s.Name == name {
			e := x.evaluator(s.In, p)
			if e.scope == nil {
				return u
			}
			if s.Here {
				u.Machine = x.options.Here
			}
			e.stage(u, s, e.variant(s))
		}
	}
	for i := range x.recipe.Images {
		if img := &x.recipe.Images[i]; img.Name == name {
			e := x.evaluator(img.In, p)
			if e.scope == nil {
				return u
			}
			if len(img.Platforms) > 0 && !slices.Contains(img.Platforms, p) {
				x.report(img.Pos, "the image %q is needed for %s, and it has only %s", name, p, platformList(img.Platforms))
			}
			u.IsImage, u.Compression, u.Stack = true, img.Compression, img.Stack
			u.Of, e.scope = img.Of, e.scope.With(img.Each)
			variant := e.variant(&img.Stage)
			e.stage(u, &img.Stage, variant)
			u.Values, u.Late = settled(e, func(e *evaluator) ImageValues {
				return ImageValues{e.settings(&img.Settings).With(e.settings(&variant.Settings)), e.pairs(img.Annotations), places(&img.Settings, &variant.Settings)}
			})
			u.Checks = e.checks(slices.Concat(img.Checks, variant.Checks))
			for _, d := range img.Publish {
				for _, c := range e.checks(d.Checks) {
					c.Destination = d.Name
					u.Checks = append(u.Checks, c)
				}
			}
			if version, ok := e.scope.Facts["version"].(string); ok {
				u.Version = version
			}
		}
	}
	x.order = append(x.order, u)
	return u
}

func (e *evaluator) checks(list []recipe.Check) (out []Check) {
	for _, c := range list {
		if !e.applies(c.Only, c.When) {
			continue
		}
		one := Check{Pos: c.Pos, Do: c.Do}
		if try, is := c.Do.(*recipe.TryCheck); is {
			one.Command, one.Arguments, one.Get = e.texts(try.Command), e.texts(try.Arguments), e.text(try.Get)
			for _, p := range try.Env {
				one.Env = append(one.Env, p.Key+"="+e.text(p.Value))
			}
			slices.Sort(one.Env)
		}
		out = append(out, one)
	}
	return out
}

// variant returns what a stage or an image has besides for this platform.
func (e *evaluator) variant(s *recipe.Stage) *recipe.Variant {
	for i := range s.For {
		if s.For[i].Platform == e.platform {
			return &s.For[i]
		}
	}
	return &recipe.Variant{}
}

// places finds where the settings stand that count, the later ones first.
func places(all ...*recipe.Settings) (p Places) {
	for _, s := range slices.Backward(all) {
		for _, one := range []struct {
			given []recipe.Template
			to    *recipe.Pos
		}{{[]recipe.Template{s.User}, &p.User}, {[]recipe.Template{s.WorkingDir}, &p.WorkingDir}, {slices.Concat(s.Entrypoint, s.Command), &p.Program}} {
			if len(one.given) > 0 && one.given[0].Given && *one.to == (recipe.Pos{}) {
				*one.to = one.given[0].Pos
			}
		}
	}
	return p
}

// destinations evaluates where an image goes: its index, which has one name for all platforms, so that the answers must agree, and then
// the images for the platforms that have tags of their own.
func (x *expander) destinations(i *recipe.Image, d recipe.Destination) []Destination {
	var all []Destination
	var own []Destination
	platforms := x.platformsOf(i)
	for n, p := range platforms {
		e := x.evaluator(i.In, p)
		if e.scope == nil {
			return all
		}
		e.scope = e.scope.With(i.Each)
		got := e.destination(d, platform.Platform{})
		if n == 0 {
			all = append(all, got)
		} else if first := all[0]; got.Repository != first.Repository || got.OnFailure != first.OnFailure || !slices.Equal(got.Tags, first.Tags) {
			x.report(d.Pos, "the destination %q differs between %s and %s; all platforms share one index and its tags (a tag with for: PLATFORM stands on the image for that platform)",
				d.Name, platforms[0], p)
		}
		if slices.ContainsFunc(d.Tags, func(t recipe.Tag) bool { return slices.Contains(t.For, p) }) {
			own = append(own, e.destination(d, p))
		}
	}
	x.forPlatforms(i, d)
	for _, p := range d.Requires {
		if !slices.Contains(i.Platforms, p) {
			x.report(d.Pos, "the destination %q requires %s, and the image %s is not for that", d.Name, p, i.Name)
		}
	}
	all = append(all, own...)
	x.apart(d, all)
	return all
}

// forPlatforms reports tags for platforms that the image is not for.
func (x *expander) forPlatforms(i *recipe.Image, d recipe.Destination) {
	for _, t := range d.Tags {
		for _, p := range t.For {
			if !slices.Contains(i.Platforms, p) {
				x.report(t.Name.Pos, "the tag is for %s, and the image %s is for %s", p, i.Name, platformList(i.Platforms))
			}
		}
	}
}

// apart reports tags that would stand on two things at once.
func (x *expander) apart(d recipe.Destination, all []Destination) {
	stands := map[string]string{}
	for n := range all {
		on := "the index"
		if p := all[n].Single(); p != "" {
			on = "the image for " + p
		}
		for _, tag := range all[n].Tags {
			if other, twice := stands[tag]; twice {
				x.report(d.Pos, "the tag %q would stand on %s and on %s: with ${platform.architecture} in it each has its own", tag, other, on)
			}
			stands[tag] = on
		}
	}
}

// evaluator computes the values of one unit.
type evaluator struct {
	*expander
	scope    *recipe.Scope
	platform platform.Platform
	in       string   // the folder of the recipe
	missing  *missing // of values that may be settled later
}

func (e *evaluator) text(t recipe.Template) string {
	if !t.Given || e.tooEarly(t) {
		return ""
	}
	text, err := t.Text(e.scope)
	if err != nil {
		e.add(t.Pos, err)
	}
	return text
}

func (e *evaluator) texts(list []recipe.Template) []string {
	if list == nil {
		return nil
	}
	out := []string{}
	for _, t := range e.present(list) {
		out = append(out, e.text(t))
	}
	return out
}

// present returns the entries of a list whose conditions hold and that are known by now.
func (e *evaluator) present(list []recipe.Template) []recipe.Template {
	return slices.DeleteFunc(slices.Clone(list), func(t recipe.Template) bool { return !e.holds(t.When) || e.tooEarly(t) })
}

func (e *evaluator) pairs(list []recipe.Pair) map[string]string {
	out := make(map[string]string, len(list))
	for _, p := range list {
		out[p.Key] = e.text(p.Value)
	}
	return out
}

func (e *evaluator) stage(u *Unit, s *recipe.Stage, variant *recipe.Variant) {
	u.Pos = s.Pos
	base := s.Base
	if variant.Base != nil {
		base = *variant.Base
	}
	u.Base = Base{Kind: base.Kind, Pos: base.Pos}
	switch base.Kind {
	case recipe.ImageBase, recipe.StageBase:
		u.Base.Unit = e.unit(base.Name, u.Machine)
	case recipe.ReferenceBase:
		text := e.text(base.Reference)
		if text == "none" {
			u.Base.Kind = recipe.NoBase
			break
		}
		u.Base.Reference = e.reference(base.Pos, text, base.Explicit)
	}
	for _, step := range slices.Concat(s.Steps, variant.Steps) {
		if e.applies(step.Only, step.When) && !e.nothingLeft(step.Do) {
			u.Steps = append(u.Steps, e.step(&step, s.Defaults))
		}
	}
}

// reference reads a reference. An expression must not give a name alone unless it is said to be a reference: such a name would
// look like one of the recipe's own.
func (e *evaluator) reference(pos recipe.Pos, text string, explicit bool) reference.Reference {
	ref, err := reference.Parse(text)
	if err != nil {
		e.report(pos, "%s", err)
	} else if !explicit && recipe.IsName(text) {
		e.report(pos, "the expression gives the name %q alone; an image of the store is named with its tag, such as %s:1, or as {reference: …}", text, text)
	}
	if err == nil && ref.Kind == reference.Registry && ref.Identifier() == "" {
		e.report(pos, "%q needs a tag or a digest: none is assumed", text)
	}
	if (ref.Kind == reference.Layout || ref.Kind == reference.Archive) && e.in != "" && !path.IsAbs(ref.Path) {
		if ref.Path = path.Join(e.in, ref.Path); !strings.HasPrefix(ref.Path, "../") {
			ref.Path = "./" + ref.Path
		}
	}
	return ref
}

// source checks a path of the recipe's folder and returns it as one of the project folder in its clean form, "." for that folder itself.
func (e *evaluator) source(pos recipe.Pos, text string) string {
	clean, folder := path.Clean(text), "the project folder"
	if e.in != "" {
		folder = e.in + ", the folder of its recipe"
	}
	switch {
	case text == "":
		e.report(pos, "from is empty; write . for the whole folder")
	case path.IsAbs(text):
		e.report(pos, "from is relative to %s: %q is absolute", folder, text)
	case clean == ".." || strings.HasPrefix(clean, "../"):
		e.report(pos, "from must stay inside %s: %q leads out of it", folder, text)
		return clean
	}
	return path.Join(e.in, clean)
}

// target checks a path of the image.
func (e *evaluator) target(t recipe.Template) Target {
	if e.tooEarly(t) {
		return Target{Path: "/"}
	}
	text := e.text(t)
	if !path.IsAbs(text) {
		e.report(t.Pos, "a path in the image is absolute: write %q", "/"+text)
	}
	if slices.Contains(strings.Split(text, "/"), "..") {
		e.report(t.Pos, "a path in the image cannot hold %q: %s", "..", text)
	}
	if len(text) > 4096 {
		e.report(t.Pos, "a path of %d bytes is longer than any system takes (4096)", len(text))
	}
	return Target{Path: path.Clean("/" + text), Folder: strings.HasSuffix(text, "/")}
}

func (e *evaluator) mode(t recipe.Template) ModeRule {
	if !t.Given {
		return ModeRule{}
	}
	rule, err := ParseMode(e.text(t))
	if err != nil {
		e.report(t.Pos, "%s", err)
	}
	return rule
}

var ownerForm = regexp.MustCompile(`^([0-9]+|[A-Za-z_][A-Za-z0-9_.-]*\$?)(:([0-9]+|[A-Za-z_][A-Za-z0-9_.-]*))?$`)

// owner reads USER or USER:GROUP, each a number or a name. A number alone is the group's too; a name alone stands for
// the user's primary group.
func (e *evaluator) owner(t recipe.Template) Owner {
	if !t.Given {
		return Owner{}
	}
	text := e.text(t)
	parts := ownerForm.FindStringSubmatch(text)
	if parts == nil {
		e.report(t.Pos, "%q is not an owner: write 1000, 1000:1000 or names such as gauge:gauge", text)
		return Owner{}
	}
	o := Owner{GID: -1}
	o.UID, o.User = e.id(t.Pos, parts[1])
	switch {
	case parts[3] != "":
		o.GID, o.Group = e.id(t.Pos, parts[3])
	case o.User == "":
		o.GID = o.UID
	}
	return o
}

// id reads a number, or gives the name back.
func (e *evaluator) id(pos recipe.Pos, text string) (int, string) {
	if text[0] < '0' || text[0] > '9' {
		return 0, text
	}
	n, err := strconv.ParseUint(text, 10, 32)
	if err != nil || n >= 1<<31 {
		e.report(pos, "owner %q is beyond what systems take", text)
	}
	return int(n), ""
}

var portForm = regexp.MustCompile(`^([0-9]{1,5})(/(tcp|udp|sctp))?$`)

func (e *evaluator) settings(s *recipe.Settings) image.Settings {
	e.doubtful(s)
	out := image.Settings{
		Entrypoint: e.texts(s.Entrypoint), Command: e.texts(s.Command),
		Env: e.pairs(s.Env), Labels: e.pairs(s.Labels),
		User: e.text(s.User), StopSignal: e.text(s.StopSignal), Author: e.text(s.Author), NoPorts: s.NoPorts, NoVolumes: s.NoVolumes,
	}
	e.checkSignal(s.StopSignal, out.StopSignal)
	if s.WorkingDir.Given {
		out.WorkingDir = e.target(s.WorkingDir).Path
	}
	for _, t := range e.present(s.Volumes) {
		out.Volumes = append(out.Volumes, e.target(t).Path)
	}
	for _, t := range e.present(s.Ports) {
		port := e.text(t)
		match := portForm.FindStringSubmatch(port)
		if number, err := strconv.Atoi(strings.Split(port, "/")[0]); match == nil || err != nil || number < 1 || number > 65535 {
			e.report(t.Pos, "%q is not a port: write 8080/tcp", port)
			continue
		}
		if match[2] == "" {
			port += "/tcp"
		}
		out.Ports = append(out.Ports, port)
	}
	return out
}

// destination evaluates a destination with the tags of one platform's image, or of the index.
func (e *evaluator) destination(d recipe.Destination, only platform.Platform) Destination {
	out := Destination{Name: d.Name, Fixed: d.Fixed, Platform: only, Repository: e.repository(d.To)}
	if out.Whole() {
		out.Requires = d.Requires
		if d.OnFailure.Given {
			out.OnFailure = e.repository(d.OnFailure)
		}
	}
	for _, t := range d.Tags {
		if out.Whole() != (len(t.For) == 0) || !out.Whole() && !slices.Contains(t.For, only) {
			continue
		}
		if !e.holds(t.When) {
			// The name of a tag that is held back need not be known here.
			name, err := t.Name.TagText(e.scope, !d.Refuse)
			if err != nil {
				name = t.Name.Source()
			}
			out.Held = append(out.Held, Held{name, t.When.Text, t.When.Uses("git")})
			continue
		}
		before := len(e.problems.Problems)
		name := e.tag(t.Name, !d.Refuse)
		if err := reference.CheckTag(name); err != nil && len(e.problems.Problems) == before {
			e.report(t.Name.Pos, "%s", err)
		}
		if !slices.Contains(out.Tags, name) {
			out.Tags = append(out.Tags, name)
		}
		if e.namesCommit(t.Name, name) {
			out.Named = append(out.Named, name)
		}
		if t.Prefixes {
			out.Prefixes = append(out.Prefixes, retention.Prefixes(name)...)
		}
	}
	// What is written as a tag of its own is none that moves with versions.
	out.Prefixes = slices.DeleteFunc(out.Prefixes, func(name string) bool { return slices.Contains(out.Tags, name) })
	out.Tags = append(out.Tags, out.Prefixes...)
	return out
}

func (e *evaluator) repository(t recipe.Template) reference.Reference {
	text := e.text(t)
	repository, err := reference.ParseRepository(text)
	if err != nil && text != "" {
		e.report(t.Pos, "%s", err)
	}
	return repository
}

// namesCommit reports whether a tag was made of the commit, or of a tag of version control on it, and shows that.
func (e *evaluator) namesCommit(t recipe.Template, text string) bool {
	shows := false
	for _, name := range []string{"short", "tag"} {
		value, _ := e.scope.Git[name].(string)
		value = strings.TrimPrefix(recipe.MendTag(value), "v")
		shows = shows || value != "" && strings.Contains(text, value)
	}
	return shows && e.usesCommit(t, map[string]bool{})
}

// usesCommit reports whether a template needs the commit or its tag, by itself or by a fact.
func (e *evaluator) usesCommit(t recipe.Template, seen map[string]bool) bool {
	for _, x := range t.Expressions() {
		if slices.ContainsFunc(x.Uses("git"), func(name string) bool { return name == "commit" || name == "short" || name == "tag" }) {
			return true
		}
		for _, name := range x.Uses("facts") {
			for _, fact := range e.recipe.Facts {
				if fact.Name == name && (fact.In == e.in || fact.In == "") && !seen[fact.In+"#"+name] {
					seen[fact.In+"#"+name] = true
					if e.usesCommit(fact.Value, seen) {
						return true
					}
				}
			}
		}
	}
	return false
}

func (e *evaluator) tag(t recipe.Template, mend bool) string {
	text, err := t.TagText(e.scope, mend)
	if err != nil {
		e.add(t.Pos, err)
	}
	return text
}

// applies reports whether a step or a check is for this platform and its condition holds.
func (e *evaluator) applies(only []platform.Platform, when *recipe.Expression) bool {
	return (len(only) == 0 || slices.Contains(only, e.platform)) && e.holds(when)
}

// nothingLeft reports whether an action names things by a list of which no entry's condition holds.
func (e *evaluator) nothingLeft(do recipe.Action) bool {
	var list []recipe.Template
	switch do := do.(type) {
	case *recipe.Copy:
		list = do.From
	case *recipe.Take:
		list = do.Paths
	case *recipe.Remove:
		list = do.Paths
	case *recipe.Make:
		list = do.Folders
	}
	return len(list) > 0 && len(e.present(list)) == 0
}

// severally is a target for what a list names: where conditions leave one entry of several, that lies in it all the same.
func (e *evaluator) severally(to Target, list []recipe.Template) Target {
	to.Folder = to.Folder || len(list) > 1 && len(e.present(list)) == 1
	return to
}

func (e *evaluator) holds(when *recipe.Expression) bool {
	if when == nil {
		return true
	}
	holds, err := when.EvalBool(e.scope)
	if err != nil {
		e.add(when.Pos, err)
	}
	return holds
}
