package report

import (
	"fmt"
	"strings"
)

// Stack is the layers of an image for one platform, with what a change is expected to cost. Sizes are in bytes, shares from
// 0 to 1.
type Stack struct {
	Image    string       `json:"image"`
	Platform string       `json:"platform"`
	Policy   string       `json:"policy"`  // lock, follow or none
	History  string       `json:"history"` // what tells how files change: registry, git, store, or empty
	Versions int          `json:"versions"`
	Shallow  bool         `json:"shallow"` // version control lacks older commits
	Base     int          `json:"baseLayers"`
	Layers   []StackLayer `json:"layers"` // lowest first, those of the base left out
	Costs    []StackCost  `json:"costs"`
	Unknown  string       `json:"unknown,omitempty"` // why the layers are not known yet

	Described string     `json:"-"` // the history in words
	Volatile  []Volatile `json:"volatility,omitempty"`
}

// StackLayer is a layer of a stack.
type StackLayer struct {
	Label      string  `json:"step"`
	Items      int     `json:"items"`      // files and other things that are not on the way to others
	Unpacked   int64   `json:"unpacked"`   // bytes
	Packed     int64   `json:"packed"`     // bytes; 0: not packed yet
	Volatility float64 `json:"volatility"` // expected share of versions in which it differs
}

// StackCost is what a version is expected to cost, in bytes.
type StackCost struct {
	Name     string `json:"name"`
	Layers   int    `json:"layers"`
	Pushed   int64  `json:"pushed"`
	Pulled   int64  `json:"pulled"`
	Unpacked int64  `json:"unpacked"`
}

// Volatile is a path, or a folder with the files directly in it, with how often it changed.
type Volatile struct {
	Path    string   `json:"path"`
	Step    string   `json:"step"`
	Items   int      `json:"items"`
	Bytes   int64    `json:"bytes"`
	Changes int      `json:"changes"`
	Share   float64  `json:"volatility"`
	Hint    string   `json:"hint,omitempty"`
	With    []string `json:"with"` // what changes along with it
}

// StacksText draws stacks, the lowest layer first, and what a change costs. A platform whose stack is like that of the one
// before has one line.
func StacksText(p Paint, stacks []Stack) string {
	w := &strings.Builder{}
	for n, s := range stacks {
		if n > 0 && alike(stacks[n-1], s) {
			fmt.Fprintf(w, "%s %s  %s\n", p.Bold(s.Image), s.Platform, p.Muted("the same"))
			continue
		}
		how := map[string]string{"lock": "divided by the lock", "follow": "divided after the image published last", "none": "cut by paths and sizes"}[s.Policy]
		if s.Unknown != "" {
			fmt.Fprintf(w, "\n%s %s  stack: %s\n", p.Bold(s.Image), s.Platform, p.Muted("not known yet, it depends "+s.Unknown))
			continue
		}
		fmt.Fprintf(w, "\n%s %s  stack, lowest first: %s\n", p.Bold(s.Image), s.Platform, how)
		if s.Base > 0 {
			fmt.Fprintln(w, p.Muted(fmt.Sprintf("   – %s of the base", Count(s.Base, "layer"))))
		}
		writeStack(w, p, s)
	}
	return w.String()
}

// alike reports whether two stacks of an image tell the same.
func alike(a, b Stack) bool {
	if a.Image != b.Image || a.Unknown != b.Unknown || len(a.Layers) != len(b.Layers) || a.Base != b.Base {
		return false
	}
	for i := range a.Layers {
		if a.Layers[i].Items != b.Layers[i].Items || Size(a.Layers[i].Unpacked) != Size(b.Layers[i].Unpacked) || a.Layers[i].Volatility != b.Layers[i].Volatility {
			return false
		}
	}
	return true
}

func writeStack(w *strings.Builder, p Paint, s Stack) {
	most := int64(1)
	for _, l := range s.Layers {
		most = max(most, l.Unpacked)
	}
	for i, l := range s.Layers {
		tile := strings.Repeat("▆", 1+int(l.Unpacked*15/most))
		chance := l.Volatility
		if s.Versions == 0 {
			chance = 0
		}
		fmt.Fprintf(w, "  %2d %s%s %9s %s  %s\n", i+1, p.tile(tile, chance), strings.Repeat(" ", 16-len([]rune(tile))), Size(l.Unpacked),
			volatility(s, l), shorten(l.Label, 60)+p.Muted("  "+Count(l.Items, "file")))
	}
	if s.Versions == 0 {
		fmt.Fprintln(w, p.Muted("  how often files change is not known yet: fewer than two versions are published, committed or built here"))
		return
	}
	fmt.Fprintf(w, "  expected of a version that changes the image, packed, from %s:\n", s.Described)
	fmt.Fprintln(w, p.Muted(fmt.Sprintf("  %-22s %7s %10s %10s %10s", "", "layers", "to push", "to pull", "to unpack")))
	for i, c := range s.Costs {
		line := fmt.Sprintf("  %-22s %7d %10s %10s %10s", c.Name, c.Layers, Size(c.Pushed), Size(c.Pulled), Size(c.Unpacked))
		if i == 0 {
			line = p.Bold(line)
		}
		fmt.Fprintln(w, line)
	}
}

// tile draws a layer; what changes in more than one version of four stands out.
func (p Paint) tile(text string, volatility float64) string {
	if volatility > 0.25 {
		return p.Accent(text)
	}
	return p.Muted(text)
}

func volatility(s Stack, l StackLayer) string {
	if s.Versions == 0 {
		return "    –"
	}
	return fmt.Sprintf("%4.0f%%", 100*l.Volatility)
}

// shorten cuts a text at so many characters.
func shorten(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// VolatilityText lists how often what images hold changes, what costs most first.
func VolatilityText(p Paint, stacks []Stack) string {
	w := &strings.Builder{}
	for n, s := range stacks {
		if n > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%s %s  volatility, from %s\n", p.Bold(s.Image), s.Platform, s.Described)
		if s.Unknown != "" {
			fmt.Fprintln(w, p.Muted("  what it holds is not known yet: it depends "+s.Unknown))
			continue
		}
		for _, v := range s.Volatile {
			share := fmt.Sprintf("%3.0f%%", 100*v.Share)
			if v.Share > 0.25 {
				share = p.Accent(share)
			}
			line := fmt.Sprintf("  %s %9s  %s", share, Size(v.Bytes), v.Path)
			if v.Items > 1 {
				line += p.Muted("  " + Count(v.Items, "file"))
			}
			if v.Hint != "" {
				line += p.Muted("  " + v.Hint + ", says the recipe")
			}
			if len(v.With) > 0 {
				line += p.Muted("  with " + strings.Join(v.With, ", "))
			}
			fmt.Fprintln(w, line)
		}
	}
	return w.String()
}
