package plan

import (
	"fmt"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"imbricat/internal/ground/reference"
	"imbricat/internal/spec/recipe"
)

// Action is one of Copy, Take, Write, Make, Enrol, Link, Unpack, Fetch, Remove, Run. It tells all that it names, so that nobody else need
// know which kinds there are. Paths in the image are absolute and clean.
type Action interface {
	// Sources are what it takes of the project folder.
	Sources() []Source
	// Units are the stages and images of the recipe that it takes files of.
	Units() []*Unit
	// References are the images elsewhere that it takes files of.
	References() []ImageUse
	// Downloads are what it takes from addresses.
	Downloads() []Download
	// Owners are those that it gives to files or runs as.
	Owners() []Owner
}

// Source is what an action takes of the project folder.
type Source struct {
	From       string // a path or a pattern, with slashes, relative to the project folder
	Pos        recipe.Pos
	In         string // the folder of the recipe
	Single     bool   // it is one file, and no pattern
	LeaveOut   []string
	Structure  bool
	Follow     bool
	Attributes []string
}

// ImageUse is an image elsewhere that an action takes files of.
type ImageUse struct {
	Reference reference.Reference
	Pos       recipe.Pos
}

// Download is a file from an address.
type Download struct {
	Address string
	SHA256  string // in lower case
}

// nothing is of what an action does not name.
type nothing struct{}

func (nothing) Sources() []Source      { return nil }
func (nothing) Units() []*Unit         { return nil }
func (nothing) References() []ImageUse { return nil }
func (nothing) Downloads() []Download  { return nil }
func (nothing) Owners() []Owner        { return nil }

// Copy takes files of the project folder in.
type Copy struct {
	nothing
	Taken       []Source
	Packages    *Packages // that Taken was worked out of; nil: it is as it was written
	To          Target
	CommitTimes bool
	Owner       Owner
	OwnerPos    recipe.Pos
	Mode        ModeRule
}

// Packages are those whose manifests or sources a copy takes.
type Packages struct {
	Of    recipe.Part
	Names []string // as they are written
	In    string   // the folder of the recipe
	// Without are patterns of what is left out, relative to the folder of each package.
	Without []string
}

// Take takes files out of another unit or of an image elsewhere.
type Take struct {
	nothing
	Unit      *Unit // nil: Reference
	Reference reference.Reference
	Pos       recipe.Pos
	Paths     []string // absolute, clean; may hold patterns
	PathPos   []recipe.Pos
	To        Target
	Owner     *Owner // nil: as it is there
	OwnerPos  recipe.Pos
	Mode      ModeRule
	recipe.Picking
}

// Write makes a file.
type Write struct {
	nothing
	To       Target
	Text     string
	After    bool // the text comes after what the file has below, and what is not given stays as it is there
	Owner    Owner
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Make makes empty folders.
type Make struct {
	nothing
	Folders  []Target
	Owner    *Owner // nil: as they are below; of new ones the root's
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Enrol adds a user with a group of the same name and number to the lists that lie below.
type Enrol struct {
	nothing
	User   string
	Number int
	Home   string // absolute and clean; empty: none is made
	Shell  string
	Pos    recipe.Pos
}

// Link makes a symbolic link.
type Link struct {
	nothing
	At       Target
	Target   string
	Owner    Owner
	OwnerPos recipe.Pos
}

// Unpack lays down what an archive holds.
type Unpack struct {
	nothing
	From     string // of the project folder; empty: Address
	FromPos  recipe.Pos
	Address  string
	SHA256   string // of the archive, in lower case; may be empty for one of the project
	To       Target
	Strip    int
	LeaveOut []string
	Spread   []string
	AtMost   int64  // bytes that it may unpack to
	Owner    *Owner // nil: as the archive says
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Fetch lays down a file from an address.
type Fetch struct {
	nothing
	Address  string
	Pos      recipe.Pos
	SHA256   string
	To       Target
	Owner    Owner
	OwnerPos recipe.Pos
	Mode     ModeRule
}

// Remove deletes what lies below.
type Remove struct {
	nothing
	Paths   []string // absolute, clean; may hold patterns
	PathPos []recipe.Pos
}

// Run runs a command in what lies below.
type Run struct {
	nothing
	Lines      []string // of a shell, each of which must succeed
	Args       []string // a program with its arguments, where there are no lines
	LinesBy    string   // the shell of lines, absolute and clean
	LinesByPos recipe.Pos
	Strict     bool // lines end at the first error, also inside a pipeline, and at a variable that is not set
	// WorkingDir is absolute and clean; empty: as the base says.
	WorkingDir    string
	WorkingDirPos recipe.Pos

	User     *Owner // nil: as the base says
	UserPos  recipe.Pos
	Env      map[string]string
	Keep     []Keep // sorted by name, so that no two steps wait for each other in a circle
	Secrets  []SecretUse
	Lent     []Lent
	Network  bool     // the machine's
	Hosts    []string // that it may reach where it does not have that, as hosts.Pattern writes them, sorted; none: a loopback alone
	FreshTmp bool
	// FixedClock has the wall clock begin at the one time of all files, Sorted has folders listed in the order of names.
	FixedClock bool
	Sorted     bool
	Within     time.Duration
	Retry      int           // how often it is tried again where it fails
	Expires    time.Duration // 0: never
}

// Outside reports whether a command reaches anything but its own loopback.
func (r Run) Outside() bool { return r.Network || len(r.Hosts) > 0 }

// Lent is a folder that a command sees and that is in no layer of its step.
type Lent struct {
	At       string // absolute, clean
	Writable bool   // what the command leaves there is thrown away; else it can leave nothing
	Lay      Step   // a Copy or a Take that lays down there what the command sees
}

// Sources implements Action.
func (r Run) Sources() (all []Source) {
	for _, l := range r.Lent {
		all = append(all, l.Lay.Do.Sources()...)
	}
	return all
}

// Units implements Action.
func (r Run) Units() (all []*Unit) {
	for _, l := range r.Lent {
		all = append(all, l.Lay.Do.Units()...)
	}
	return all
}

// References implements Action.
func (r Run) References() (all []ImageUse) {
	for _, l := range r.Lent {
		all = append(all, l.Lay.Do.References()...)
	}
	return all
}

// Sources implements Action.
func (c Copy) Sources() []Source { return c.Taken }

// names are what the copy takes, as it was written.
func (c Copy) names() string {
	if c.Packages != nil {
		return string(c.Packages.Of) + " of " + strings.Join(c.Packages.Names, " ")
	}
	var all []string
	for _, s := range c.Taken {
		all = append(all, s.From)
	}
	return strings.Join(all, " ")
}

// Units implements Action.
func (t Take) Units() []*Unit {
	if t.Unit == nil {
		return nil
	}
	return []*Unit{t.Unit}
}

// References implements Action.
func (t Take) References() []ImageUse {
	if t.Unit != nil {
		return nil
	}
	return []ImageUse{{t.Reference, t.Pos}}
}

// Sources implements Action.
func (u Unpack) Sources() []Source {
	if u.From == "" {
		return nil
	}
	return []Source{{From: u.From, Pos: u.FromPos, Single: true}}
}

// Downloads implements Action.
func (u Unpack) Downloads() []Download {
	if u.Address == "" {
		return nil
	}
	return []Download{{u.Address, u.SHA256}}
}

// Downloads implements Action.
func (f Fetch) Downloads() []Download { return []Download{{f.Address, f.SHA256}} }

// step evaluates a step. label is built from what it does.
func (e *evaluator) step(s *recipe.Step, defaults recipe.Defaults) Step {
	out := Step{Label: s.Name, Pos: s.Pos, Silence: s.Silence, RisingTimes: s.RisingTimes, Annotations: e.pairs(s.Annotations)}
	label, d := "", defaults.Access
	switch do := s.Do.(type) {
	case *recipe.Copy:
		c := e.copy(do, do.Access.Or(d))
		out.Do, label = c, "copy "+c.names()+" to "+c.To.Path
	case *recipe.Take:
		t := e.take(do, do.Access.Or(defaults.For("take")))
		from := do.Unit
		if from == "" {
			from = t.Reference.String()
		}
		out.Do, label = t, "take "+strings.Join(t.Paths, " ")+" from "+from+" to "+t.To.Path
	case *recipe.Write:
		a := do.Access.Or(d)
		if do.After {
			a = do.Access // the file has an owner and a mode already
		}
		w := Write{To: e.target(do.To), After: do.After, Mode: e.mode(a.Mode), Owner: e.owner(a.Owner), OwnerPos: a.Owner.Pos}
		if w.To.Folder {
			e.report(do.To.Pos, "write makes a file: %q must not end with a slash", w.To.Path+"/")
		}
		out.Do, out.Late = settled(e, func(e *evaluator) Action {
			own := w
			own.Text = e.text(do.Text)
			return own
		})
		label = "write " + w.To.Path
	case *recipe.Make:
		m := Make{}
		m.Owner, m.OwnerPos, m.Mode = e.asked(do.Access.Or(recipe.Access{Owner: d.Owner}))
		var paths []string
		for _, template := range e.present(do.Folders) {
			m.Folders = append(m.Folders, e.target(template))
			paths = append(paths, m.Folders[len(m.Folders)-1].Path)
		}
		out.Do, label = m, "make "+strings.Join(paths, " ")
	case *recipe.Enrol:
		n := e.enrol(do)
		out.Do, label = n, fmt.Sprintf("enrol %s %d", n.User, n.Number)
	case *recipe.Link:
		a := recipe.Access{Owner: do.Owner}.Or(d)
		l := Link{At: e.target(do.At), Target: e.text(do.Target), Owner: e.owner(a.Owner), OwnerPos: a.Owner.Pos}
		if l.Target == "" {
			e.report(do.Target.Pos, "target is empty")
		}
		out.Do, label = l, "link "+l.At.Path+" to "+l.Target
	case *recipe.Unpack:
		u := e.unpack(do, do.Access.Or(defaults.For("unpack")))
		out.Do, label = u, "unpack "+u.From+u.Address+" to "+u.To.Path
	case *recipe.Fetch:
		a := do.Access.Or(d)
		f := Fetch{Address: e.text(do.From), Pos: do.From.Pos, SHA256: e.checksum(do.SHA256), To: e.target(do.To),
			Mode: e.mode(a.Mode), Owner: e.owner(a.Owner), OwnerPos: a.Owner.Pos}
		e.checkAddress(f.Pos, f.Address)
		out.Do, label = f, "fetch "+f.Address+" to "+f.To.Path
	case *recipe.Remove:
		r := Remove{}
		for _, template := range e.present(do.Paths) {
			r.Paths, r.PathPos = append(r.Paths, e.target(template).Path), append(r.PathPos, template.Pos)
		}
		out.Do, label = r, "remove "+strings.Join(r.Paths, " ")
	case *recipe.Run:
		r := e.run(do, defaults)
		out.Do, out.Late = settled(e, func(e *evaluator) Action {
			own := r
			own.Env = e.runEnv(do, defaults)
			return own
		})
		e.words(do, s)
		label = "run " + shortened(strings.Join(do.Args, " ")+strings.Join(do.Lines, "; "))
	}
	if out.Label == "" {
		out.Label = strings.Join(strings.Fields(label), " ")
	}
	return out
}

// noLogin is the shell of users that nobody is to log in as.
const noLogin = "/sbin/nologin"

var userForm = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)

func (e *evaluator) enrol(do *recipe.Enrol) Enrol {
	n := Enrol{User: e.text(do.User), Shell: noLogin, Pos: do.User.Pos}
	if !userForm.MatchString(n.User) {
		e.report(do.User.Pos, "%q is not a valid name for a user: use lower-case letters, digits, _ and -, 32 at most", n.User)
	}
	number := e.text(do.Number)
	parsed, err := strconv.ParseUint(number, 10, 31)
	if err != nil {
		e.report(do.Number.Pos, "%q is not a number of a user", number)
	}
	n.Number = int(parsed)
	for _, path := range []struct {
		given recipe.Template
		to    *string
	}{{do.Home, &n.Home}, {do.Shell, &n.Shell}} {
		if !path.given.Given {
			continue
		}
		if *path.to = e.target(path.given).Path; strings.ContainsAny(*path.to, ":\n") {
			e.report(path.given.Pos, "%q cannot stand in a list of users", *path.to)
		}
	}
	return n
}

func (e *evaluator) copy(do *recipe.Copy, a recipe.Access) Copy {
	c := Copy{To: e.severally(e.target(do.To), do.From), Mode: e.mode(a.Mode), Owner: e.owner(a.Owner), OwnerPos: a.Owner.Pos, CommitTimes: do.CommitTimes}
	if do.Of != recipe.NoPart {
		c.Packages = &Packages{Of: do.Of, In: e.in, Without: do.LeaveOut}
	}
	like := Source{In: e.in, LeaveOut: do.LeaveOut, Structure: do.Structure, Follow: do.Follow, Attributes: do.Attributes}
	names := e.present(do.From)
	if c.Packages != nil && len(names) > 0 {
		like.Pos = names[0].Pos
		c.Taken = e.ofPackages(c.Packages, names, like)
		return c
	}
	for _, template := range names {
		one := like
		one.Pos, one.From = template.Pos, e.source(template.Pos, e.text(template))
		c.Taken = append(c.Taken, one)
	}
	return c
}

// defaultAtMost bounds what an archive unpacks to unless the recipe says otherwise, in bytes.
const defaultAtMost = 4 << 30

func (e *evaluator) unpack(do *recipe.Unpack, a recipe.Access) Unpack {
	u := Unpack{FromPos: do.From.Pos, To: e.target(do.To), Strip: do.Strip, LeaveOut: do.LeaveOut, Spread: do.Spread, AtMost: do.AtMost}
	if u.AtMost == 0 {
		u.AtMost = defaultAtMost
	}
	if do.SHA256.Given {
		u.SHA256 = e.checksum(do.SHA256)
	}
	from := e.text(do.From)
	switch {
	case !recipe.IsAddress(from):
		u.From = e.source(do.From.Pos, from)
	case u.SHA256 == "":
		e.report(do.From.Pos, "what comes from an address needs its checksum: add sha256:")
	default:
		u.Address = from
		e.checkAddress(u.FromPos, from)
	}
	u.Owner, u.OwnerPos, u.Mode = e.asked(a)
	return u
}

func (e *evaluator) checksum(t recipe.Template) string {
	text := e.text(t)
	if !recipe.IsSHA256(text) {
		e.report(t.Pos, "sha256 must be 64 hexadecimal digits")
	}
	return strings.ToLower(text)
}

func (e *evaluator) checkAddress(pos recipe.Pos, text string) {
	address, err := url.Parse(text)
	switch {
	case !recipe.IsAddress(text) || err != nil || address.Host == "":
		e.report(pos, "%q is not an address: it starts with https:// or http://", text)
	case address.User != nil:
		e.report(pos, "an address in a recipe cannot hold a password")
	}
}

// asked works out an owner and a mode that may be left as they are where things come from.
func (e *evaluator) asked(a recipe.Access) (owner *Owner, pos recipe.Pos, mode ModeRule) {
	if a.Owner.Given {
		o := e.owner(a.Owner)
		owner, pos = &o, a.Owner.Pos
	}
	return owner, pos, e.mode(a.Mode)
}

func (e *evaluator) take(do *recipe.Take, a recipe.Access) Take {
	t := Take{Pos: do.Pos, To: e.severally(e.target(do.To), do.Paths), Picking: do.Picking}
	if do.Unit != "" {
		t.Unit = e.unit(do.Unit, e.platform)
	} else {
		t.Reference = e.reference(do.Pos, e.text(do.Reference), do.Explicit)
	}
	t.Owner, t.OwnerPos, t.Mode = e.asked(a)
	for _, template := range e.present(do.Paths) {
		t.Paths = append(t.Paths, e.target(template).Path)
		t.PathPos = append(t.PathPos, template.Pos)
	}
	return t
}

// owners lists those that are given.
func owners(list ...*Owner) (all []Owner) {
	for _, o := range list {
		if o != nil {
			all = append(all, *o)
		}
	}
	return all
}

// Owners implements Action.
func (c Copy) Owners() []Owner { return owners(&c.Owner) }

// Owners implements Action.
func (t Take) Owners() []Owner { return owners(t.Owner) }

// Owners implements Action.
func (w Write) Owners() []Owner { return owners(&w.Owner) }

// Owners implements Action.
func (m Make) Owners() []Owner { return owners(m.Owner) }

// Owners implements Action.
func (l Link) Owners() []Owner { return owners(&l.Owner) }

// Owners implements Action.
func (u Unpack) Owners() []Owner { return owners(u.Owner) }

// Owners implements Action.
func (f Fetch) Owners() []Owner { return owners(&f.Owner) }

// Owners implements Action.
func (r Run) Owners() []Owner { return owners(r.User) }
