package plan

import (
	"fmt"
	"strconv"
	"strings"
)

// ModeRule says which permissions a step gives. The zero value is the rule for files of the project folder: group and
// others get what the owner may read and execute, so that a person's umask changes nothing.
type ModeRule struct {
	text    string
	set     bool
	keep    bool // as it is where it comes from
	octal   uint32
	clauses []clause
}

type clause struct {
	who  uint32 // mask over the bits that the clause may touch
	op   byte   // '=', '+', '-'
	bits uint32 // r, w, x as 4, 2, 1
	exec bool   // X: execute for folders and for what somebody may execute already
	suid bool
	stk  bool
}

// ParseMode reads an octal mode ("0640"), clauses ("u=rwX,go=rX"), or keep.
func ParseMode(text string) (ModeRule, error) {
	rule := ModeRule{text: text, set: true, keep: text == "keep"}
	if rule.keep {
		return rule, nil
	}
	text = strings.TrimPrefix(text, "0o")
	if strings.Trim(text, "01234567") == "" && text != "" {
		octal, err := strconv.ParseUint(text, 8, 32)
		if err != nil || octal > 0o7777 {
			return rule, fmt.Errorf("%q is not a mode: an octal mode goes up to 7777", text)
		}
		rule.octal = uint32(octal)
		return rule, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		c, err := parseClause(part)
		if err != nil {
			return rule, fmt.Errorf("%q is not a mode: %w; write 0640, or u=rwX,go=rX, or keep", text, err)
		}
		rule.clauses = append(rule.clauses, c)
	}
	return rule, nil
}

func parseClause(text string) (clause, error) {
	c := clause{}
	i := strings.IndexAny(text, "=+-")
	if i < 0 {
		return c, fmt.Errorf("%q lacks one of = + -", text)
	}
	for _, who := range text[:i] {
		switch who {
		case 'u':
			c.who |= 0o4700
		case 'g':
			c.who |= 0o2070
		case 'o':
			c.who |= 0o1007
		case 'a':
			c.who |= 0o7777
		default:
			return c, fmt.Errorf("%q names nobody", string(who))
		}
	}
	if c.who == 0 {
		c.who = 0o7777
	}
	c.op = text[i]
	for _, right := range text[i+1:] {
		switch right {
		case 'r':
			c.bits |= 4
		case 'w':
			c.bits |= 2
		case 'x':
			c.bits |= 1
		case 'X':
			c.exec = true
		case 's':
			c.suid = true
		case 't':
			c.stk = true
		default:
			return c, fmt.Errorf("%q is not a right", string(right))
		}
	}
	return c, nil
}

// String is the text that the rule was read from, empty for the zero value.
func (r ModeRule) String() string { return r.text }

// Given reports whether a person asked for this rule.
func (r ModeRule) Given() bool { return r.set }

// Apply returns the permission bits for an entry that has the given ones.
func (r ModeRule) Apply(mode uint32, folder bool) uint32 {
	if r.keep {
		return mode & 0o7777
	}
	// Only the owner's bits of a source are free of the umask.
	owner := mode >> 6 & 7
	mode = owner<<6 | (owner&5)<<3 | owner&5
	switch {
	case !r.set:
		return mode
	case r.clauses == nil:
		return r.octal
	}
	for _, c := range r.clauses {
		mode = c.apply(mode, folder)
	}
	return mode
}

func (c clause) apply(mode uint32, folder bool) uint32 {
	bits := c.bits
	if c.exec && (folder || mode&0o111 != 0) {
		bits |= 1
	}
	full := bits<<6 | bits<<3 | bits
	if c.suid {
		full |= 0o6000
	}
	if c.stk {
		full |= 0o1000
	}
	full &= c.who
	switch c.op {
	case '+':
		return mode | full
	case '-':
		return mode &^ full
	}
	return mode&^c.who | full
}
