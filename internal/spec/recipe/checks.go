package recipe

import (
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/platform"
)

// Check is what an image must fulfil before it is shipped.
type Check struct {
	Pos  Pos
	Only []platform.Platform // empty: for all
	When *Expression         // nil: always
	Do   Checked
}

// Checked is one of *TryCheck, *SizeCheck, *UserCheck, *SecretsCheck, *WasteCheck, *ForbidCheck, *NeedCheck, *BaseCheck, *StageCheck.
type Checked interface{ isCheck() }

// TryCheck runs the image: a command that must end well, or a port that must answer.
type TryCheck struct {
	Command []Template // in place of what the image runs
	// Arguments are given to the image's entrypoint, in place of its command.
	Arguments []Template
	Port      int      // 0: the command must end with Status
	Get       Template // path of a request; not given: a connection is enough
	Status    int      // of the answer (200), or of the command (0)
	Within    time.Duration
	Network   bool // this machine's, in place of a loopback of its own
	ReadOnly  bool // nothing can be written but in volumes
	Env       []Pair
}

// SizeCheck bounds an image's layers, in bytes; 0: no bound.
type SizeCheck struct{ Packed, Unpacked int64 }

// UserCheck names users that the image must not run as.
type UserCheck struct{ Not []string }

// SecretsCheck lets no file look like a secret, in any layer, but for those that patterns name.
type SecretsCheck struct{ LeaveOut []string }

// WasteCheck bounds what layers hold that other layers hide: bytes, or a share of all in percent.
type WasteCheck struct {
	Bytes   int64
	Percent int
	Share   bool // Percent counts
}

// ForbidCheck names paths that must not be there, as ignore patterns.
type ForbidCheck struct{ Paths []string }

// NeedCheck names paths that must be there, as ignore patterns of which each must match something.
type NeedCheck struct{ Paths []string }

// BaseCheck bounds how old a base may be.
type BaseCheck struct {
	Younger time.Duration // than this; 0: no bound
	Current bool          // the base's tag must stand on what was built from
}

// StageCheck names a stage that must be built: one of tests.
type StageCheck struct {
	Name string
	Pos  Pos
}

func (*TryCheck) isCheck()     {}
func (*SizeCheck) isCheck()    {}
func (*UserCheck) isCheck()    {}
func (*SecretsCheck) isCheck() {}
func (*WasteCheck) isCheck()   {}
func (*ForbidCheck) isCheck()  {}
func (*NeedCheck) isCheck()    {}
func (*BaseCheck) isCheck()    {}
func (*StageCheck) isCheck()   {}

// tryWithin is how long a try may take where the recipe does not say.
const tryWithin = 30 * time.Second

func (d *decoder) checks(n *yaml.Node) (list []Check) {
	d.flat(n, "checks", func(item *yaml.Node) {
		c := Check{Pos: at(d.deref(item))}
		before, kinds := len(d.problems), 0
		kind := func(key string, read func(n *yaml.Node) Checked) field {
			return field{key: key, read: func(n *yaml.Node) { kinds++; c.Do = read(n) }}
		}
		d.object(item, "a check", kind("try", d.tryCheck), kind("size", d.sizeCheck), kind("user", d.userCheck), kind("secrets", d.secretsCheck),
			kind("waste", d.wasteCheck), kind("forbid", d.forbidCheck), kind("need", d.needCheck), kind("base", d.baseCheck), kind("stage", d.stageCheck),
			field{key: "only", read: func(n *yaml.Node) { c.Only = d.platforms(n, "only") }},
			field{key: "when", read: func(n *yaml.Node) { c.When = d.when(n) }})
		if kinds != 1 && len(d.problems) == before {
			d.report(c.Pos, "a check is exactly one of try, size, user, secrets, waste, forbid, need, base, stage; this one has %d", kinds)
		}
		list = append(list, c)
	})
	return list
}

func (d *decoder) tryCheck(n *yaml.Node) Checked {
	c, status := &TryCheck{Within: tryWithin}, false
	d.object(n, "try",
		field{key: "command", read: func(n *yaml.Node) { c.Command = d.texts(n, "command") }},
		field{key: "arguments", read: func(n *yaml.Node) { c.Arguments = d.texts(n, "arguments") }},
		field{key: "port", read: func(n *yaml.Node) { c.Port = d.number(n, "port", 1, 65535) }},
		field{key: "get", read: func(n *yaml.Node) { c.Get = d.text(n, "get") }},
		field{key: "status", read: func(n *yaml.Node) { c.Status, status = d.number(n, "status", 0, 599), true }},
		field{key: "within", read: func(n *yaml.Node) { c.Within = d.duration(n, "within") }},
		field{key: "network", read: func(n *yaml.Node) { c.Network = d.boolean(n, "network") }},
		field{key: "read-only", read: func(n *yaml.Node) { c.ReadOnly = d.boolean(n, "read-only") }},
		field{key: "env", read: func(n *yaml.Node) {
			c.Env = d.textPairs(n, "env")
			d.checkEnvNames(n)
		}})
	pos := at(d.deref(n))
	switch text, constant := c.Get.Constant(); {
	case c.Get.Given && c.Port == 0:
		d.report(c.Get.Pos, "get needs port: where is the request to go?")
	case c.Get.Given && constant && !strings.HasPrefix(text, "/"):
		d.report(c.Get.Pos, "get takes a path such as /health, not %q", text)
	case len(c.Command) > 0 && len(c.Arguments) > 0:
		d.report(pos, "command replaces the entrypoint, and arguments are given to it: write one of them")
	case c.Port == 0 && len(c.Command)+len(c.Arguments) == 0 && d.deref(n).Kind == yaml.MappingNode && len(d.problems) == 0:
		d.report(pos, "try needs a command that must end well, or a port that must answer")
	case c.Port > 0 && status && !c.Get.Given:
		d.report(pos, "status beside port needs get: only an answer to a request has one")
	}
	if c.Port > 0 && !status {
		c.Status = 200
	}
	return c
}

func (d *decoder) sizeCheck(n *yaml.Node) Checked {
	c := &SizeCheck{}
	d.object(n, "size",
		field{key: "packed", was: "at-most", read: func(n *yaml.Node) { c.Packed = d.size(n, "packed") }},
		field{key: "unpacked", read: func(n *yaml.Node) { c.Unpacked = d.size(n, "unpacked") }})
	if target := d.deref(n); target.Kind == yaml.MappingNode && len(target.Content) == 0 {
		d.report(at(target), "size needs packed or unpacked")
	}
	return c
}

func (d *decoder) userCheck(n *yaml.Node) Checked {
	c := &UserCheck{}
	d.object(n, "user", field{key: "not", need: true, read: func(n *yaml.Node) { c.Not = d.words(n, "not") }})
	return c
}

func (d *decoder) secretsCheck(n *yaml.Node) Checked {
	c := &SecretsCheck{}
	d.object(n, "secrets", field{key: "leave-out", was: "except", read: func(n *yaml.Node) { c.LeaveOut = d.words(n, "leave-out") }})
	return c
}

func (d *decoder) wasteCheck(n *yaml.Node) Checked {
	c := &WasteCheck{}
	d.object(n, "waste", field{key: "at-most", need: true, read: func(n *yaml.Node) {
		if c.Share = strings.HasSuffix(d.deref(n).Value, "%"); c.Share {
			c.Percent = d.percent(n, "at-most")
		} else {
			c.Bytes = d.size(n, "at-most")
		}
	}})
	return c
}

func (d *decoder) forbidCheck(n *yaml.Node) Checked {
	c := &ForbidCheck{Paths: d.words(n, "forbid")}
	if len(c.Paths) == 0 && d.deref(n).Kind == yaml.SequenceNode {
		d.report(at(d.deref(n)), "forbid names no path")
	}
	return c
}

func (d *decoder) needCheck(n *yaml.Node) Checked {
	c := &NeedCheck{Paths: d.words(n, "need")}
	if len(c.Paths) == 0 && d.deref(n).Kind == yaml.SequenceNode {
		d.report(at(d.deref(n)), "need names no path")
	}
	for _, p := range c.Paths {
		if strings.HasPrefix(p, "!") {
			d.report(at(d.deref(n)), "need cannot hold %q: what must not be there is for forbid", p)
		}
	}
	return c
}

func (d *decoder) baseCheck(n *yaml.Node) Checked {
	c := &BaseCheck{}
	d.object(n, "base",
		field{key: "younger", read: func(n *yaml.Node) { c.Younger = d.duration(n, "younger") }},
		field{key: "current", read: func(n *yaml.Node) { c.Current = d.boolean(n, "current") }})
	if target := d.deref(n); target.Kind == yaml.MappingNode && len(target.Content) == 0 {
		d.report(at(target), "base needs younger or current")
	}
	return c
}

func (d *decoder) stageCheck(n *yaml.Node) Checked {
	return &StageCheck{Name: d.meant(d.word(n, "stage")), Pos: at(d.deref(n))}
}
