package recipe

import (
	"regexp"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"
)

// How many layers an image has at most, those of its base included.
const (
	DefaultLayers = 32
	MostLayers    = 120 // what machines that run images take
)

// Policy says where the division of an image's files into layers comes from.
type Policy string

// The policies. The zero value is the lock where it has a division, else none.
const (
	FromLock  Policy = "lock"   // from the lock
	Following Policy = "follow" // from the image that was published last
	Cold      Policy = "none"   // from paths and sizes alone
)

// Stack is what a person says of an image's layers. The zero value says nothing.
type Stack struct {
	Layers int // at most; 0: DefaultLayers
	Policy Policy
	// Patterns of absolute paths that never change, or always do.
	Steady, Lively []string
	// Dead is the share of bytes, in percent, that copies which newer layers replace may take; 0: none.
	Dead int
}

// Hinted reports whether a person says something of the image's files.
func (s Stack) Hinted() bool { return len(s.Steady)+len(s.Lively) > 0 }

// MayLock reports whether the lock divides the image.
func (s Stack) MayLock() bool { return s.Policy == "" || s.Policy == FromLock }

func (d *decoder) stack(n *yaml.Node) (s Stack) {
	d.object(n, "stack",
		field{key: "layers", read: func(n *yaml.Node) { s.Layers = d.number(n, "layers", 1, MostLayers) }},
		field{key: "policy", read: func(n *yaml.Node) {
			s.Policy = Policy(d.oneOf(n, "policy", string(FromLock), string(Following), string(Cold)))
		}},
		field{key: "steady", read: func(n *yaml.Node) { s.Steady = d.imagePatterns(n, "steady") }},
		field{key: "lively", read: func(n *yaml.Node) { s.Lively = d.imagePatterns(n, "lively") }},
		field{key: "dead-copies", was: "dead", read: func(n *yaml.Node) { s.Dead = d.percent(n, "dead-copies") }})
	if s.Dead > 0 && s.Policy != Following {
		d.report(at(d.deref(n)), "dead-copies needs policy: follow: only what was published can stay")
	}
	return s
}

// imagePatterns reads patterns of paths in the image.
func (d *decoder) imagePatterns(n *yaml.Node, what string) (list []string) {
	d.each(n, what, true, func(item *yaml.Node) {
		before := len(d.problems)
		pattern := d.word(item, "an entry of "+what)
		switch {
		case len(d.problems) > before:
		case !strings.HasPrefix(pattern, "/"):
			d.report(at(d.deref(item)), "%s names paths in the image: %q must begin with a slash", what, pattern)
		case !doublestar.ValidatePattern(pattern):
			d.report(at(d.deref(item)), "%q is not a pattern", pattern)
		default:
			list = append(list, pattern)
		}
	})
	return list
}

// shares are those that dead copies may take.
var shares = regexp.MustCompile(`^(0|[1-9]|[1-4][0-9]|50)%$`)

// percent reads a share such as 10%.
func (d *decoder) percent(n *yaml.Node, what string) int {
	before := len(d.problems)
	text := d.word(n, what)
	if len(d.problems) > before {
		return 0
	}
	share, err := strconv.Atoi(strings.TrimSuffix(text, "%"))
	if !shares.MatchString(text) || err != nil {
		d.report(at(d.deref(n)), "%s must be a share from 0%% to 50%%, such as 10%%", what)
	}
	return share
}
