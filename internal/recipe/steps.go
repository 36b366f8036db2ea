package recipe

import (
	"strings"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/reference"
)

// step reads one entry of steps: exactly one action, and what may stand beside it.
func (d *decoder) step(n *yaml.Node) (Step, bool) {
	target := d.deref(n)
	s := Step{Pos: at(target)}
	before := len(d.problems)
	actions := 0
	action := func(key string, later bool, read func(n *yaml.Node)) field {
		return field{key: key, later: later, read: func(n *yaml.Node) { actions++; read(n) }}
	}
	d.object(n, "a step",
		action("copy", false, func(n *yaml.Node) { s.Do = d.copyStep(n) }),
		action("take", false, func(n *yaml.Node) { s.Do = d.takeStep(n) }),
		action("write", false, func(n *yaml.Node) { s.Do = d.writeStep(n) }),
		action("link", false, func(n *yaml.Node) { s.Do = d.linkStep(n) }),
		action("unpack", true, d.unpackStep),
		action("fetch", true, d.fetchStep),
		action("remove", true, func(n *yaml.Node) { d.texts(n, "remove", true) }),
		action("run", true, func(n *yaml.Node) { d.words(n, "run", true) }),
		field{key: "name", read: func(n *yaml.Node) { s.Name = d.word(n, "name") }},
		field{key: "only", read: func(n *yaml.Node) { s.Only = d.platforms(n, "only") }},
		field{key: "in", later: true, read: func(n *yaml.Node) { d.text(n, "in") }},
		field{key: "user", later: true, read: func(n *yaml.Node) { d.scalar(n, "user") }},
		field{key: "env", later: true, read: func(n *yaml.Node) { d.textPairs(n, "env") }},
		field{key: "keep", later: true, read: d.keep},
		field{key: "secrets", later: true, read: d.secretUses},
		field{key: "network", later: true, read: func(n *yaml.Node) { d.boolean(n, "network") }},
		field{key: "expires", later: true, read: func(n *yaml.Node) { d.word(n, "expires") }},
	)
	if actions != 1 && len(d.problems) == before {
		d.report(s.Pos, "a step does exactly one of copy, take, write, link, unpack, fetch, remove, run; this one has %d", actions)
	}
	return s, s.Do != nil && actions == 1
}

func (d *decoder) access(a *Access) []field {
	return []field{
		{key: "owner", read: func(n *yaml.Node) { a.Owner = d.scalar(n, "owner") }},
		{key: "mode", read: func(n *yaml.Node) { a.Mode = d.scalar(n, "mode") }},
	}
}

func (d *decoder) copyStep(n *yaml.Node) Action {
	c := &Copy{}
	d.object(n, "copy", append(d.access(&c.Access),
		field{key: "from", need: true, read: func(n *yaml.Node) {
			c.From = d.texts(n, "from", true)
			if len(c.From) == 0 && d.deref(n).Kind == yaml.SequenceNode {
				d.report(at(d.deref(n)), "from names nothing to copy")
			}
		}},
		field{key: "to", need: true, read: func(n *yaml.Node) { c.To = d.text(n, "to") }},
		field{key: "leave-out", read: func(n *yaml.Node) { c.LeaveOut = d.words(n, "leave-out", true) }},
		field{key: "structure", later: true, read: func(n *yaml.Node) { d.oneOf(n, "structure", "keep", "flat") }},
		field{key: "links", later: true, read: func(n *yaml.Node) { d.oneOf(n, "links", "keep", "follow") }},
		field{key: "times", later: true, read: func(n *yaml.Node) { d.oneOf(n, "times", "constant", "commit") }},
	)...)
	return c
}

func (d *decoder) takeStep(n *yaml.Node) Action {
	t := &Take{}
	d.object(n, "take", append(d.access(&t.Access),
		field{key: "from", need: true, read: func(n *yaml.Node) { d.origin(n, t) }},
		field{key: "path", need: true, read: func(n *yaml.Node) { t.Paths = d.texts(n, "path", true) }},
		field{key: "to", need: true, read: func(n *yaml.Node) { t.To = d.text(n, "to") }},
	)...)
	return t
}

// origin reads where a take takes from. A plain name is a stage or an image of the recipe; the store's images are
// named with their tag or digest, or as {reference: NAME}, so that a slip in a stage's name is found here.
func (d *decoder) origin(n *yaml.Node, t *Take) {
	target := d.deref(n)
	t.Pos = at(target)
	if target.Kind == yaml.MappingNode {
		unit := func(n *yaml.Node) { t.Unit, t.Pos = d.word(n, "from"), at(d.deref(n)) }
		d.object(n, "from",
			field{key: "stage", read: unit},
			field{key: "image", read: unit},
			field{key: "reference", read: func(n *yaml.Node) { t.Reference = d.text(n, "reference") }},
		)
		if len(target.Content) != 2 {
			d.report(t.Pos, "from must be a name, a reference, {stage: NAME}, {image: NAME} or {reference: REFERENCE}")
		}
		return
	}
	template := d.text(n, "from")
	text, constant := template.Constant()
	if !constant || !template.Given {
		t.Reference = template
		return
	}
	ref, err := reference.Parse(text)
	if err != nil {
		d.report(t.Pos, "%s", err)
		return
	}
	if _, prefix := ref.DigestPrefix(); ref.Kind == reference.Store && ref.Tag == "" && ref.Digest == "" && !prefix {
		t.Unit = text
		return
	}
	t.Reference = template
}

func (d *decoder) writeStep(n *yaml.Node) Action {
	w := &Write{}
	d.object(n, "write", append(d.access(&w.Access),
		field{key: "to", need: true, read: func(n *yaml.Node) { w.To = d.text(n, "to") }},
		field{key: "text", need: true, read: func(n *yaml.Node) { w.Text = d.text(n, "text") }},
	)...)
	return w
}

func (d *decoder) linkStep(n *yaml.Node) Action {
	l := &Link{}
	d.object(n, "link",
		field{key: "to", need: true, read: func(n *yaml.Node) { l.To = d.text(n, "to") }},
		field{key: "target", need: true, read: func(n *yaml.Node) { l.Target = d.text(n, "target") }},
		field{key: "owner", read: func(n *yaml.Node) { l.Owner = d.scalar(n, "owner") }},
	)
	return l
}

// What follows reads keys whose work comes later: their shape is checked, their values are dropped.

func (d *decoder) textField(key string, need bool) field {
	return field{key: key, need: need, read: func(n *yaml.Node) { d.text(n, key) }}
}

func (d *decoder) pairsField(key string) field {
	return field{key: key, read: func(n *yaml.Node) { d.textPairs(n, key) }}
}

func (d *decoder) numberField(key string) field {
	return field{key: key, read: func(n *yaml.Node) {
		if n = d.deref(n); n.Kind != yaml.ScalarNode || n.Tag != "!!int" {
			d.wrongType(n, key, "a number")
		}
	}}
}

func (d *decoder) checksum(n *yaml.Node) {
	text := d.word(n, "sha256")
	if text != "" && (len(text) != 64 || strings.Trim(strings.ToLower(text), "0123456789abcdef") != "") {
		d.report(at(d.deref(n)), "sha256 must be 64 hexadecimal digits")
	}
}

func (d *decoder) unpackStep(n *yaml.Node) {
	d.object(n, "unpack", append(d.access(&Access{}), d.textField("from", true), d.textField("to", true),
		d.numberField("strip"), field{key: "sha256", read: d.checksum})...)
}

func (d *decoder) fetchStep(n *yaml.Node) {
	d.object(n, "fetch", append(d.access(&Access{}), d.textField("from", true), d.textField("to", true),
		field{key: "sha256", need: true, read: d.checksum})...)
}

func (d *decoder) keep(n *yaml.Node) {
	d.each(n, "keep", false, func(item *yaml.Node) {
		d.object(item, "a kept directory", d.textField("name", true), d.textField("at", true),
			field{key: "hand-out", read: func(n *yaml.Node) { d.oneOf(n, "hand-out", "turns", "at-once") }})
	})
}

func (d *decoder) secretUses(n *yaml.Node) {
	d.each(n, "secrets", false, func(item *yaml.Node) {
		d.object(item, "a secret", d.textField("name", true), d.textField("at", true))
	})
}

func (d *decoder) secrets(n *yaml.Node) {
	d.named(n, "secrets", func(key, value *yaml.Node) {
		d.object(value, "the secret "+key.Value, d.textField("env", false), d.textField("file", false),
			field{key: "command", read: func(n *yaml.Node) { d.words(n, "command", false) }})
	})
}

func (d *decoder) perPlatform(n *yaml.Node) {
	d.named(n, "for", func(key, value *yaml.Node) {
		d.platforms(key, "for")
		var s Stage
		var settings Settings
		d.object(value, "for "+key.Value, append(d.unitFields(&s)[1:],
			field{key: "base", read: func(n *yaml.Node) { d.base(n) }},
			field{key: "settings", read: func(n *yaml.Node) { d.settings(n, &settings) }})...)
	})
}

func (d *decoder) stack(n *yaml.Node) {
	d.object(n, "stack", d.numberField("layers"),
		field{key: "policy", read: func(n *yaml.Node) { d.oneOf(n, "policy", "lock", "follow") }},
		field{key: "steady", read: func(n *yaml.Node) { d.words(n, "steady", true) }},
		field{key: "lively", read: func(n *yaml.Node) { d.words(n, "lively", true) }},
		d.textField("dead", false))
}

func (d *decoder) checks(n *yaml.Node) {
	d.each(n, "checks", false, func(item *yaml.Node) {
		d.object(item, "a check",
			field{key: "try", read: func(n *yaml.Node) {
				d.object(n, "try", field{key: "command", read: func(n *yaml.Node) { d.texts(n, "command", false) }},
					d.numberField("port"), d.textField("get", false), d.numberField("status"), d.textField("within", false))
			}},
			field{key: "size", read: func(n *yaml.Node) { d.object(n, "size", d.textField("at-most", true)) }},
			field{key: "user", read: func(n *yaml.Node) { d.object(n, "user", d.textField("not", true)) }})
	})
}
