package page

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/differ"
	"imbricat/internal/output/report"
)

// How much of each list a page about two images has.
const (
	mostChangedFiles = 300
	mostChanges      = 120
)

type comparedPage struct {
	About
	Title    string
	Compared *report.Compared
	Figures  []changedFigure
	Layers   *list[changedLayer]
	Values   []changedValues // settings, packages
	Folders  *list[changedFolder]
	Files    *list[differ.File]
}

type changedFigure struct{ Name, Was, Now string }

type changedLayer struct {
	differ.Layer
	What, Why string
}

type changedValues struct {
	Name string
	List *list[changedValue]
}

type changedValue struct{ Name, Was, Now string }

type changedFolder struct{ Name, By string }

// Compared writes the page of how a second image differs from a first.
func Compared(about About, c *report.Compared) ([]byte, error) {
	p := comparedPage{About: about, Title: c.First.Reference + " → " + c.Second.Reference, Compared: c}
	was, now := c.Totals[0], c.Totals[1]
	p.Figures = []changedFigure{{"packed", report.Size(was.Packed), report.Size(now.Packed)}, {"unpacked", report.Size(was.Unpacked), report.Size(now.Unpacked)},
		{"files", strconv.Itoa(was.Files), strconv.Itoa(now.Files)}}
	for i := range p.Figures {
		if one := &p.Figures[i]; one.Was == one.Now {
			one.Was = "as before"
		} else {
			one.Was = "was " + one.Was
		}
	}
	var layers []changedLayer
	for _, l := range c.Layers {
		one := changedLayer{l, map[string]string{"first": differ.Removed, "second": differ.Added, "both": "in both"}[l.In], ""}
		var why []string
		for _, r := range l.Ran {
			why = append(why, r.Why)
		}
		one.Why = strings.Join(why, "; ")
		layers = append(layers, one)
	}
	p.Layers = upTo(layers, mostChanges)
	for _, one := range []struct {
		name string
		all  []differ.Value
	}{{"Settings", c.Settings}, {"Packages", c.Packages}} {
		var all []changedValue
		for _, v := range one.all {
			all = append(all, changedValue{v.Name, text(v.Was), text(v.Now)})
		}
		if some := upTo(all, mostChanges); some != nil {
			p.Values = append(p.Values, changedValues{one.name, some})
		}
	}
	var folders []changedFolder
	for _, f := range c.Folders {
		by := "+" + report.Size(f.Now-f.Was)
		if f.Now < f.Was {
			by = "−" + report.Size(f.Was-f.Now)
		}
		folders = append(folders, changedFolder{f.Name, by})
	}
	p.Folders = upTo(folders, mostChanges)
	files := slices.SortedStableFunc(slices.Values(c.Files), func(a, b differ.File) int { return cmp.Compare(max(b.Was, b.Now), max(a.Was, a.Now)) })
	if p.Files = upTo(files, mostChangedFiles); p.Files != nil {
		all := 0
		for _, n := range c.Counts {
			all += n
		}
		p.Files.More = max(p.Files.More, all-len(p.Files.List)) // not all that differ are listed
	}
	return write("compared", p)
}

// text is a value that may be none.
func text(v *string) string {
	if v == nil {
		return "–"
	}
	return *v
}
