package retention

import (
	"fmt"
	"regexp"
	"strings"
	"time"
)

// Group is a part of a rule for images with certain tags, which are counted by themselves.
type Group struct {
	// Match is a pattern of tags: * any text, ? one sign, [0-9] one of some. What stands in parentheses tells the groups apart: (*)-* counts
	// what is before the last dash by itself, such as each branch of BRANCH-COMMIT.
	Match   string
	Newest  int           // so many images of the group stay, the youngest
	Younger time.Duration // and what is younger than this
	form    *regexp.Regexp
}

// compile translates the pattern.
func (g *Group) compile() error {
	if g.form != nil {
		return nil
	}
	var out strings.Builder
	out.WriteString("^")
	for i := 0; i < len(g.Match); i++ {
		switch c := g.Match[i]; c {
		case '*':
			out.WriteString(".*")
		case '?':
			out.WriteString(".")
		case '(', ')':
			out.WriteByte(c)
		case '[':
			end := strings.IndexByte(g.Match[i:], ']')
			if end < 0 {
				return fmt.Errorf("the pattern %q is malformed", g.Match)
			}
			out.WriteString(g.Match[i : i+end+1])
			i += end
		default:
			out.WriteString(regexp.QuoteMeta(string(c)))
		}
	}
	form, err := regexp.Compile(out.String() + "$")
	if err != nil || g.Match == "" {
		return fmt.Errorf("the pattern %q is malformed", g.Match)
	}
	g.form = form
	return nil
}

// of returns which of its groups a tag is of; "" where it is of none.
func (g *Group) of(tag string) string {
	name, cycle := plain(tag)
	if g.form == nil && g.compile() != nil {
		return ""
	}
	m := g.form.FindStringSubmatch(name)
	if m == nil {
		return ""
	}
	return g.Match + "\x00" + strings.Join(m[1:], "\x00") + "\x00" + cycle
}

// called is how people see a group.
func (g *Group) called(key string) string {
	if parts := strings.Split(key, "\x00"); len(parts) > 2 && parts[1] != "" {
		return parts[1]
	}
	return g.Match
}

// cycleMark parts a tag's name from the number of the cycle of a simulation that it is pushed in. No tag holds it.
const cycleMark = "\x00"

// plain is a tag's name as patterns see it, and the cycle of a simulation.
func plain(tag string) (name, cycle string) {
	name, cycle, _ = strings.Cut(tag, cycleMark)
	return name, cycle
}
