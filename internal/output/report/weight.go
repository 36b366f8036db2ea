package report

import (
	"cmp"
	_ "embed" // of schemas
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/weight"
	"imbricat/internal/ground/digest"
)

// WeighSchema is the JSON Schema of what weigh prints with --format json, CompareSchema that of compare.
var (
	//go:embed weigh.schema.json
	WeighSchema []byte
	//go:embed compare.schema.json
	CompareSchema []byte
)

// Weighed is where the bytes of an image for one platform are. Sizes are in bytes.
type Weighed struct {
	Reference   string        `json:"reference"`
	Digest      digest.Digest `json:"digest"`
	Platform    string        `json:"platform"`
	Platforms   []string      `json:"platforms"` // that the reference has
	Created     *time.Time    `json:"created,omitempty"`
	WastedShare float64       `json:"wastedShare"` // of the packed bytes, from 0 to 1
	BaseName    string        `json:"baseName,omitempty"`
	BaseDigest  digest.Digest `json:"baseDigest,omitempty"`
	Base        *Against      `json:"base,omitempty"` // where the base is at hand
	Against     *Against      `json:"against,omitempty"`
	Limits      []Limit       `json:"limits,omitempty"`
	Use         *weight.Use   `json:"use,omitempty"` // by the commands that were named
	*weight.Image
}

// Against is what an image costs a machine that has another one.
type Against struct {
	Reference string        `json:"reference"`
	Digest    digest.Digest `json:"digest"`
	Shared    int           `json:"shared"`   // layers that both have
	Fetched   int64         `json:"fetched"`  // packed bytes of the others
	Unpacked  int64         `json:"unpacked"` // of the others
	// Grown is how much more the image has than the other one, packed.
	Grown int64 `json:"grown"`
}

// Limit is what an image must not exceed, and whether it does.
type Limit struct {
	What   string `json:"what"`
	Holds  bool   `json:"holds"`
	Detail string `json:"detail"`
}

// barWidth is how many columns a bar has.
const barWidth = 10

// eighths are the ends of bars.
var eighths = []rune(" ▏▎▍▌▋▊▉")

// bar draws a share, to an eighth of a column; what is there at all is seen.
func (p Paint) bar(part, whole int64) string { return p.barOf(part, whole, barWidth) }

// barOf draws a part of a whole in a number of columns.
func (p Paint) barOf(part, whole int64, width int) string {
	if whole <= 0 || part <= 0 {
		return strings.Repeat(" ", width)
	}
	n := max(1, int(float64(part)/float64(whole)*float64(width)*8+0.5))
	n = min(n, width*8)
	bar := strings.Repeat("█", n/8)
	if n%8 > 0 {
		bar += string(eighths[n%8])
	}
	return p.Accent(bar) + strings.Repeat(" ", width-(n+7)/8)
}

func share(part, whole int64) string {
	switch share := 100 * float64(part) / float64(max(whole, 1)); {
	case part == 0:
		return "0 %"
	case share < 1:
		return "<1 %"
	default:
		return fmt.Sprintf("%.0f %%", share)
	}
}

// WeighedText tells where the bytes of an image are, so many lines of each list; 0: all.
func WeighedText(p Paint, one *Weighed, top int, now time.Time) string {
	w := &strings.Builder{}
	fmt.Fprintf(w, "%s  %s  %s\n", p.Bold(one.Reference), one.Platform, p.Digest(one.Digest))
	total := one.Total
	fmt.Fprintf(w, "%s packed, %s unpacked: %s in %s", Size(total.Packed), Size(total.Unpacked), Count(total.Files, "file"), Count(len(one.Layers), "layer"))
	if one.Created != nil {
		fmt.Fprintf(w, ", made %s", Ago(*one.Created, now))
	}
	fmt.Fprintln(w)
	if len(one.Platforms) > 1 {
		fmt.Fprintln(w, p.Muted("platforms: "+strings.Join(one.Platforms, ", ")))
	}
	if one.BaseName != "" && one.Base == nil {
		fmt.Fprintln(w, p.Muted("base: "+one.BaseName))
	}
	for i, a := range []*Against{one.Base, one.Against} {
		if a != nil {
			name := a.Reference
			if i == 0 {
				name = "the base " + name
			}
			fmt.Fprintf(w, "a machine that has %s fetches %s, %s of %s: %s\n", name, Size(a.Fetched), share(a.Fetched, total.Packed), Size(total.Packed), grown(a.Grown))
		}
	}
	if one.Wasted.Packed > 0 {
		fmt.Fprintf(w, "%s of it could go, %s: see waste below\n", share(one.Wasted.Packed, total.Packed), Size(one.Wasted.Packed))
	}
	for _, l := range one.Limits {
		if l.Holds {
			fmt.Fprintf(w, "%s %s: %s\n", p.Accent("holds"), l.What, l.Detail)
		} else {
			fmt.Fprintf(w, "%s %s: %s\n", p.Wrong("fails"), l.What, l.Detail)
		}
	}
	lines := weightLines{p, w, total.Packed, top}
	lines.layers(one.Layers)
	lines.folders(one.Folders)
	lines.shares("kinds of file", one.Kinds)
	lines.packages(one.Managers, one.Packages)
	lines.waste(one.Waste)
	lines.use(one.Use)
	return w.String()
}

func grown(by int64) string {
	switch {
	case by > 0:
		return Size(by) + " larger"
	case by < 0:
		return Size(-by) + " smaller"
	}
	return "as large"
}

// weightLines writes lists of what has bytes.
type weightLines struct {
	p     Paint
	w     *strings.Builder
	whole int64
	top   int
}

func (l weightLines) head(name string) {
	fmt.Fprintf(l.w, "\n%s\n", l.p.Muted(fmt.Sprintf("%-26s %9s %9s  %s", "", "packed", "unpacked", name)))
}

func (l weightLines) line(b weight.Bytes, name string) {
	fmt.Fprintf(l.w, "  %s %9s %9s %9s  %s\n", l.p.bar(b.Packed, l.whole), share(b.Packed, l.whole), Size(b.Packed), Size(b.Unpacked), name)
}

// cut returns how many of a list are told, and tells of the others.
func (l weightLines) more(n, told int, what string) {
	if n > told {
		fmt.Fprintf(l.w, "  %s\n", l.p.Muted(fmt.Sprintf("and %s; --top 0 lists all", Count(n-told, "more "+what))))
	}
}

func (l weightLines) cut(n int) int {
	if l.top == 0 {
		return n
	}
	return min(n, l.top)
}

func (l weightLines) layers(all []weight.LayerShare) {
	l.head("layers")
	for i, one := range all {
		said := fmt.Sprintf("%d", i+1)
		if one.Step != "" {
			said += "  " + firstLine(one.Step)
		}
		if one.Shared {
			said += l.p.Muted("  (there already)")
		}
		if one.Hidden > 0 {
			said += l.p.Muted(fmt.Sprintf("  (%s hidden)", Size(one.Hidden)))
		}
		l.line(one.Bytes, said)
	}
}

// folders draws the folders as a tree, as deep as it tells something: a folder that is almost all in one below is told as that one.
func (l weightLines) folders(all []weight.Share) {
	below := map[string][]weight.Share{}
	for _, one := range all {
		if one.Name != "/" {
			below[path.Dir(one.Name)] = append(below[path.Dir(one.Name)], one)
		}
	}
	l.head("folders")
	left := l.top
	if left == 0 {
		left = len(all)
	}
	// The largest are told, wherever they are; so those are chosen first, and drawn in the order of the tree.
	chosen := map[string]bool{}
	for _, one := range all {
		if left > 0 && one.Name != "/" && !l.within(one, below[one.Name]) {
			chosen[one.Name] = true
			left--
		}
	}
	var draw func(dir string, depth int, shown string)
	draw = func(dir string, depth int, shown string) {
		for _, one := range below[dir] {
			name := strings.TrimPrefix(one.Name, strings.TrimSuffix(shown, "/")+"/")
			if !chosen[one.Name] {
				draw(one.Name, depth, shown)
				continue
			}
			if depth == 0 {
				name = "/" + name
			}
			l.line(one.Bytes, strings.Repeat("  ", depth)+name)
			draw(one.Name, depth+1, one.Name)
		}
	}
	draw("/", 0, "/")
}

// within reports whether almost all of a folder is in one below it.
func (l weightLines) within(one weight.Share, below []weight.Share) bool {
	return len(below) > 0 && float64(below[0].Packed) > 0.95*float64(one.Packed)
}

func (l weightLines) shares(head string, all []weight.Share) {
	l.head(head)
	for _, one := range all[:l.cut(len(all))] {
		l.line(one.Bytes, one.Name)
	}
	l.more(len(all), l.cut(len(all)), "kind")
}

func (l weightLines) packages(managers []weight.Share, all []weight.PackageShare) {
	if len(all) == 0 {
		return
	}
	l.head("packages")
	for _, one := range managers {
		name := one.Name
		if name == "" {
			name = "in no package that is known"
		} else {
			n := 0
			for _, p := range all {
				if p.Manager == one.Name {
					n++
				}
			}
			name = fmt.Sprintf("%s: %s", name, Count(n, "package"))
		}
		l.line(one.Bytes, l.p.Bold(name))
	}
	for _, one := range all[:l.cut(len(all))] {
		l.line(one.Bytes, strings.TrimRight(one.Manager+" "+one.Name+" "+one.Version, " "))
	}
	l.more(len(all), l.cut(len(all)), "package")
}

func (l weightLines) waste(all []weight.Waste) {
	if len(all) == 0 {
		return
	}
	l.head("waste")
	told := map[string]bool{}
	for _, one := range all[:l.cut(len(all))] {
		l.line(one.Bytes, l.p.Bold(one.Kind)+" "+one.Path)
		said := Count(one.Files, "file") + " in layer"
		if len(one.Layers) > 1 {
			said += "s"
		}
		for i, n := range one.Layers {
			said += fmt.Sprintf("%s %d", map[bool]string{true: ","}[i > 0], n)
		}
		if len(one.Steps) > 0 {
			said += ": " + firstLine(one.Steps[0])
		}
		if len(one.Steps) > 1 {
			said += fmt.Sprintf(" and %s", Count(len(one.Steps)-1, "more step"))
		}
		if one.By > 0 {
			said += fmt.Sprintf("; hidden by layer %d", one.By)
			if one.ByStep != "" {
				said += ", " + firstLine(one.ByStep)
			}
		}
		fmt.Fprintf(l.w, "    %s\n", l.p.Muted(said))
		if !told[one.Kind] {
			told[one.Kind] = true
			fmt.Fprintf(l.w, "    → %s\n", one.Cure)
		}
	}
	l.more(len(all), l.cut(len(all)), "place")
}

// use tells what commands never opened.
func (l weightLines) use(u *weight.Use) {
	if u == nil {
		return
	}
	var named []string
	for _, one := range u.Commands {
		named = append(named, cmp.Or(one, "what the image runs"))
	}
	l.head("never opened by " + shorten(strings.Join(named, ", "), 40))
	l.line(u.Never, l.p.Bold("all of it"))
	for _, one := range u.Folders[:l.cut(len(u.Folders))] {
		l.line(one.Bytes, one.Name)
	}
	l.more(len(u.Folders), l.cut(len(u.Folders)), "folder")
	for _, one := range u.Packages[:l.cut(len(u.Packages))] {
		l.line(one.Bytes, strings.TrimRight(one.Manager+" "+one.Name+" "+one.Version, " "))
	}
	l.more(len(u.Packages), l.cut(len(u.Packages)), "package")
	fmt.Fprintln(l.w, "  what did not happen this time may be needed another time: not run is not unused")
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return shorten(line, 60)
}

// WeighedSideText compares images that were weighed, or whose documents tell something, in a table: sizes, layers, age, platforms.
func WeighedSideText(p Paint, all []*Weighed, now time.Time) string {
	w := &strings.Builder{}
	head := []string{"image", "packed", "unpacked", "layers", "waste", "made", "platforms"}
	least := slices.MinFunc(all, func(a, b *Weighed) int { return int(min(max(a.Total.Packed-b.Total.Packed, -1), 1)) })
	var rows [][]string
	for _, one := range all {
		waste, made := "?", "unknown"
		if one.Total.Unpacked >= 0 {
			waste = share(one.Wasted.Packed, one.Total.Packed)
		}
		if one.Created != nil {
			made = Ago(*one.Created, now)
		}
		packed := Size(one.Total.Packed)
		if one.Total.Packed > least.Total.Packed && least.Total.Packed > 0 {
			packed += fmt.Sprintf(" (%.1f×)", float64(one.Total.Packed)/float64(least.Total.Packed))
		}
		rows = append(rows, []string{one.Reference, packed, Size(one.Total.Unpacked), fmt.Sprint(len(one.Layers)), waste, made, strings.Join(one.Platforms, " ")})
	}
	Table(w, p, head, rows)
	return w.String()
}
