package report

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"imbricat/internal/content/differ"
	"imbricat/internal/ground/digest"
)

// Compared is how a second image differs from a first, for one platform.
type Compared struct {
	First    Side   `json:"first"`
	Second   Side   `json:"second"`
	Platform string `json:"platform"`
	*differ.Difference
	Texts []TextDifference `json:"texts,omitempty"`
}

// Unchanged is what became of an image that is the same.
const Unchanged = "unchanged"

// ComparedImage is what became of an image between two receipts.
type ComparedImage struct {
	Image string `json:"image"`
	What  string `json:"what"` // added, removed, changed, unchanged
	*Compared
}

// ComparedImagesText tells what became of images, and how those differ that changed.
func ComparedImagesText(p Paint, list []ComparedImage, top int) string {
	w := &strings.Builder{}
	for _, one := range list {
		fmt.Fprintf(w, "%s %s\n", p.Bold(one.Image), one.What)
	}
	for _, one := range list {
		if one.Compared != nil {
			fmt.Fprintf(w, "\n%s", ComparedText(p, one.Compared, top))
		}
	}
	return w.String()
}

// Side is one of two images.
type Side struct {
	Reference string        `json:"reference"`
	Root      digest.Digest `json:"root"`   // of the index, where there is one
	Digest    digest.Digest `json:"digest"` // of the image for the platform
	Platforms []string      `json:"platforms"`
}

// TextDifference is how two texts differ. Lines begin with a blank, - or +; … stands for lines that are left out.
type TextDifference struct {
	Path  string   `json:"path"`
	Lines []string `json:"lines"`
}

// ComparedText tells how two images differ, so many lines of each list; 0: all.
func ComparedText(p Paint, c *Compared, top int) string {
	w := &strings.Builder{}
	fmt.Fprintf(w, "%s → %s  %s\n", p.Bold(c.First.Reference), p.Bold(c.Second.Reference), c.Platform)
	if !slices.Equal(c.First.Platforms, c.Second.Platforms) {
		fmt.Fprintf(w, "platforms: %s → %s\n", strings.Join(c.First.Platforms, ", "), strings.Join(c.Second.Platforms, ", "))
	}
	if c.Same {
		if c.First.Digest == c.Second.Digest {
			fmt.Fprintf(w, "the same image, %s\n", p.Digest(c.First.Digest))
		} else {
			fmt.Fprintf(w, "the same layers and settings; what is said of them differs (%s, %s)\n", p.Digest(c.First.Digest), p.Digest(c.Second.Digest))
		}
		return w.String()
	}
	was, now := c.Totals[0], c.Totals[1]
	fmt.Fprintf(w, "%s packed → %s, %s unpacked → %s, %s → %s\n", Size(was.Packed), Size(now.Packed), Size(was.Unpacked), Size(now.Unpacked), Count(was.Files, "file"), Count(now.Files, "file"))
	fmt.Fprintf(w, "a node that has the first fetches %s and unpacks %s\n", Size(c.Fetched), Size(c.Unpacked))
	l := comparedLines{p, w, top}
	l.layers(c.Layers)
	l.values("setting", c.Settings)
	l.values("package", c.Packages)
	l.folders(c.Folders)
	l.files(c.Files, c.Counts)
	for _, text := range c.Texts {
		fmt.Fprintf(w, "\n%s\n", p.Muted(text.Path))
		for _, line := range text.Lines {
			fmt.Fprintln(w, "  "+l.sign(line[:1], line))
		}
	}
	return w.String()
}

type comparedLines struct {
	p   Paint
	w   *strings.Builder
	top int
}

func (l comparedLines) cut(n int) int {
	if l.top == 0 {
		return n
	}
	return min(n, l.top)
}

func (l comparedLines) head(name string) { fmt.Fprintf(l.w, "\n%s\n", l.p.Muted(name)) }

func (l comparedLines) more(n, told int, what string) {
	if n > told {
		fmt.Fprintf(l.w, "  %s\n", l.p.Muted(fmt.Sprintf("and %s; --top 0 lists all", Count(n-told, "more "+what))))
	}
}

// sign paints what is new and what is gone; the sign itself tells it too.
func (l comparedLines) sign(sign, text string) string {
	switch sign {
	case "+":
		return l.p.Accent(text)
	case "-", "…":
		return l.p.Muted(text)
	}
	return text
}

var signs = map[string]string{differ.Added: "+", differ.Removed: "-", differ.Changed: "~"}

func (l comparedLines) layers(all []differ.Layer) {
	counts := map[string]int{}
	for _, one := range all {
		counts[one.In]++
	}
	l.head(fmt.Sprintf("layers: %d in both, %d gone, %d new", counts["both"], counts["first"], counts["second"]))
	for _, one := range all {
		sign := map[string]string{"both": "=", "first": "-", "second": "+"}[one.In]
		fmt.Fprintf(l.w, "  %s\n", l.sign(sign, strings.TrimRight(fmt.Sprintf("%s %9s  %s  %s", sign, Size(one.Packed), l.p.Digest(one.Digest), firstLine(one.Step)), " ")))
		for _, run := range one.Ran {
			in := ""
			if run.Build > 0 {
				in = fmt.Sprint(" in build ", run.Build)
			}
			fmt.Fprintf(l.w, "      ran%s: %s\n", in, run.Why)
		}
	}
}

func (l comparedLines) values(what string, all []differ.Value) {
	if len(all) == 0 {
		return
	}
	l.head(what + "s")
	for _, one := range all[:l.cut(len(all))] {
		text := fmt.Sprintf("%s %s", signs[one.What], one.Name)
		plain := func(value *string) string { return shorten(*value, 60) }
		switch one.What {
		case differ.Added:
			text += "  " + plain(one.Now)
		case differ.Removed:
			text += "  " + plain(one.Was)
		default:
			text += "  " + plain(one.Was) + " → " + plain(one.Now)
		}
		fmt.Fprintf(l.w, "  %s\n", l.sign(signs[one.What], text))
	}
	l.more(len(all), l.cut(len(all)), what)
}

// folders tells the deepest folders that tell something: one whose change is all in a folder below is left out.
func (l comparedLines) folders(all []differ.Folder) {
	by := map[string]int64{}
	for _, one := range all {
		by[one.Name] = one.Now - one.Was
	}
	told := slices.DeleteFunc(slices.Clone(all), func(one differ.Folder) bool {
		return one.Name == "/" || slices.ContainsFunc(all, func(other differ.Folder) bool {
			return strings.HasPrefix(other.Name, one.Name+"/") && other.Now-other.Was == by[one.Name]
		})
	})
	if len(told) == 0 {
		return
	}
	l.head("folders, unpacked")
	for _, one := range told[:l.cut(len(told))] {
		grown := one.Now - one.Was
		sign := "+"
		if grown < 0 {
			sign, grown = "-", -grown
		}
		fmt.Fprintf(l.w, "  %s\n", l.sign(sign, fmt.Sprintf("%s %9s  %s  (%s → %s)", sign, Size(grown), one.Name, Size(one.Was), Size(one.Now))))
	}
	l.more(len(told), l.cut(len(told)), "folder")
}

func (l comparedLines) files(all []differ.File, counts map[string]int) {
	if len(all) == 0 {
		return
	}
	l.head(fmt.Sprintf("files: %s added, %s removed, %s changed", number(counts[differ.Added]), number(counts[differ.Removed]), number(counts[differ.Changed])))
	// What changed most comes first, of as much by path.
	sorted := slices.Clone(all)
	weight := func(f differ.File) int64 { return max(f.Now, f.Was) }
	slices.SortStableFunc(sorted, func(a, b differ.File) int { return int(min(max(weight(b)-weight(a), -1), 1)) })
	for _, one := range sorted[:l.cut(len(sorted))] {
		text := fmt.Sprintf("%s %s", signs[one.What], one.Path)
		switch {
		case one.What == differ.Changed && one.Was != one.Now:
			text += fmt.Sprintf("  %s, %s → %s", strings.Join(one.How, ", "), Size(one.Was), Size(one.Now))
		case one.What == differ.Changed:
			text += "  " + strings.Join(one.How, ", ")
		default:
			text += "  " + Size(weight(one))
		}
		if one.Detail != "" {
			text += " (" + one.Detail + ")"
		}
		fmt.Fprintf(l.w, "  %s\n", l.sign(signs[one.What], text))
		if one.Step != "" {
			fmt.Fprintf(l.w, "      %s\n", l.p.Muted(firstLine(one.Step)))
		}
	}
	l.more(counts[differ.Added]+counts[differ.Removed]+counts[differ.Changed], l.cut(len(sorted)), "file")
}

func number(n int) string { return humanize.Comma(int64(n)) }
