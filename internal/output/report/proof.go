package report

import (
	"fmt"
	"strings"
	"time"

	"imbricat/internal/content/causes"
	"imbricat/internal/content/differ"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/say"
)

// Proof is what became of making images again under other conditions.
type Proof struct {
	Reproducible bool          `json:"reproducible"`
	Images       []ProvenImage `json:"images"`
	Stages       []ProvenStage `json:"stages"` // that were named
	Rounds       int           `json:"rounds"` // how often all was made again
	Steps        int           `json:"steps"`  // that were done again in each, for each platform
	Commands     int           `json:"commands"`
	Varied       []Condition   `json:"varied"`
	Fixed        []Condition   `json:"fixed"`    // what the sandbox gives every command, as a probe found it
	Unvaried     []Condition   `json:"unvaried"` // what could not be varied here, and why
	Differing    []ProvenStep  `json:"differing"`
	// Follow counts steps that differ because one before them does.
	Follow  int     `json:"follow"`
	Seconds float64 `json:"seconds"`
	Built   float64 `json:"builtSeconds"` // of these, for building what is proved, where it was not there
}

// ProvenImage is an image that was made again.
type ProvenImage struct {
	Name      string         `json:"name"`
	Digest    digest.Digest  `json:"digest"` // of the index
	Again     digest.Digest  `json:"again"`  // what it was when it was made again; of several rounds the first that differs
	Platforms []string       `json:"platforms"`
	Settings  []differ.Value `json:"settings,omitempty"` // that differ
}

// ProvenStage is a stage that was made again for its own sake.
type ProvenStage struct {
	Name     string `json:"name"`
	Platform string `json:"platform"`
	Equal    bool   `json:"equal"` // all its steps laid down the same
}

// Condition is something that a command could notice.
type Condition struct {
	Name string `json:"name"`
	What string `json:"what"`
}

// ProvenStep is a step that does not do the same each time.
type ProvenStep struct {
	Place      string         `json:"place"` // almanac:3
	Step       string         `json:"step"`
	Platform   string         `json:"platform"`
	Failed     string         `json:"failed,omitempty"`     // under other conditions it did not end well
	Narrowed   int            `json:"narrowed,omitempty"`   // how often the command was run to find what causes it
	Brought    []string       `json:"brought,omitempty"`    // addresses that the command reached and that brought something else: that was not looked into further
	Unexplored string         `json:"unexplored,omitempty"` // why that was not done
	Files      []ProvenFile   `json:"files"`
	More       int            `json:"more,omitempty"` // files that differ and are not listed
	Causes     []causes.Cause `json:"causes"`
	Cures      []Cure         `json:"cures,omitempty"`
}

// ProvenFile is a file that a step leaves otherwise.
type ProvenFile struct {
	Path        string              `json:"path"`
	What        string              `json:"what"`            // content, mode, owner, link, kind, attributes, there only once
	Known       string              `json:"known,omitempty"` // what kind of file it is known to be
	Differences []causes.Difference `json:"differences,omitempty"`
	// Found are the conditions that change it alone, with everything else held; empty where none was found to.
	Found []causes.Cause `json:"found,omitempty"`
	// Despite tells that the file differs though everything is held that can be: times of files, /dev/urandom and chance are not.
	Despite bool   `json:"despite,omitempty"`
	Cure    string `json:"cure,omitempty"` // what is usually done, in words
}

// Cure is a change of a step.
type Cure struct {
	Change []string `json:"change"` // lines of the recipe
	Holds  bool     `json:"holds"`  // with it the step was the same under other conditions
	What   string   `json:"what,omitempty"`
}

// ProofText tells what was proved, or what differs and why. most bounds how many files of a step are listed; 0: all.
func ProofText(p Paint, d *Proof, most int) string {
	w := &strings.Builder{}
	for _, i := range d.Images {
		head, tail := p.Muted("○ equal   "), "  "+p.Digest(i.Digest)
		if i.Again != i.Digest {
			head, tail = p.Wrong("✗ differs "), "  "+p.Digest(i.Digest)+", again "+p.Digest(i.Again)
		}
		fmt.Fprintf(w, "%s%s %s%s\n", head, p.Bold(i.Name), strings.Join(i.Platforms, ", "), tail)
		for _, v := range i.Settings {
			fmt.Fprintf(w, "            %s: %s → %s\n", v.Name, orNone(v.Was), orNone(v.Now))
		}
	}
	for _, s := range d.Stages {
		head := p.Muted("○ equal   ")
		if !s.Equal {
			head = p.Wrong("✗ differs ")
		}
		fmt.Fprintf(w, "%s%s %s  stage\n", head, p.Bold(s.Name), s.Platform)
	}
	again := "once"
	if d.Rounds > 1 {
		again = fmt.Sprintf("%d times", d.Rounds)
	}
	fmt.Fprintf(w, "%s, %s of them commands, done again %s in another store, without reuse, in %s\n", Count(d.Steps, "step"), fmt.Sprint(d.Commands), again, Took(time.Duration(d.Seconds*float64(time.Second))))
	if !d.Reproducible && len(d.Differing) == 0 {
		fmt.Fprintf(w, "every step laid down the same; %s\n", d.elsewhere())
	}
	for _, s := range d.Differing {
		provenStep(w, p, &s, most)
	}
	if d.Follow > 0 {
		fmt.Fprintf(w, "\n%s\n", p.Muted(fmt.Sprintf("%s for that alone", Count(d.Follow, "later step")+" "+plural(d.Follow, "differs", "differ"))))
	}
	conditionsText(w, p, d)
	return w.String()
}

// conditionsText tells under what all was done again: of a proof that holds in full, since that is what it says.
func conditionsText(w *strings.Builder, p Paint, d *Proof) {
	if !d.Reproducible {
		names := func(list []Condition) string {
			var all []string
			for _, c := range list {
				all = append(all, c.Name)
			}
			return strings.Join(all, ", ")
		}
		fmt.Fprintf(w, "\n%s\n", p.Muted("varied: "+names(d.Varied)+"; not varied here: "+names(d.Unvaried)))
		return
	}
	for _, part := range []struct {
		name string
		list []Condition
	}{{"varied", d.Varied}, {"the same for every command", d.Fixed}, {"not varied here", d.Unvaried}} {
		if len(part.list) == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s\n", p.Muted(part.name))
		width := 0
		for _, c := range part.list {
			width = max(width, len(c.Name))
		}
		for _, c := range part.list {
			fmt.Fprintf(w, "  %-*s  %s\n", width, c.Name, c.What)
		}
	}
}

// elsewhere tells in what images differ whose steps do not.
func (d *Proof) elsewhere() string {
	for _, i := range d.Images {
		if len(i.Settings) > 0 {
			return "what differs is said by settings: a fact of the environment, such as ${env.USER}, or the time of the image"
		}
	}
	return "the layers are divided or packed otherwise"
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

func orNone(value *string) string {
	if value == nil {
		return "none"
	}
	return fmt.Sprintf("%q", *value)
}

func provenStep(w *strings.Builder, p Paint, s *ProvenStep, most int) {
	fmt.Fprintf(w, "\n%s%s %s  %s\n", p.Wrong("✗ differs "), p.Bold(s.Place), s.Platform, s.Step)
	if s.Failed != "" {
		fmt.Fprintf(w, "  %s\n", s.Failed)
	}
	listed := s.Files
	if most > 0 && len(listed) > most {
		listed = listed[:most]
	}
	for _, f := range listed {
		known := ""
		if f.Known != "" {
			known = "  " + p.Muted(f.Known)
		}
		fmt.Fprintf(w, "  %s  %s%s\n", p.Bold(f.Path), f.What, known)
		for _, one := range f.Differences {
			fmt.Fprintf(w, "    %s\n", one.Where)
			if one.Was+one.Now != "" {
				fmt.Fprintf(w, "      %s\n      %s\n", p.Muted("was "+one.Was), p.Accent("now "+one.Now))
			}
		}
		if cause := causeOf(f); cause != "" {
			fmt.Fprintf(w, "    %s\n", cause)
		}
		if f.Cure != "" {
			fmt.Fprintf(w, "    usual cure: %s\n", f.Cure)
		}
	}
	if more := len(s.Files) - len(listed) + s.More; more > 0 {
		fmt.Fprintf(w, "  %s\n", p.Muted(fmt.Sprintf("and %s; --top 0 lists all", Count(more, "more file"))))
	}
	switch {
	case len(s.Brought) > 0:
		fmt.Fprintf(w, "  %s brought something else; take it by `fetch` with its sha256, which is the same each time\n", say.Some(s.Brought))
	case s.Unexplored != "":
		fmt.Fprintf(w, "  %s\n", p.Muted("what causes it was not narrowed down: "+s.Unexplored))
	case s.Narrowed > 0:
		fmt.Fprintf(w, "  %s\n", p.Muted(fmt.Sprintf("narrowed down by running the command %s", Count(s.Narrowed, "more time"))))
	}
	for _, c := range s.Cures {
		if !c.Holds {
			fmt.Fprintf(w, "  %s\n", p.Muted("no known change cures it; tried, and not enough ("+c.What+"): "+strings.Join(c.Change, ", ")))
			continue
		}
		fmt.Fprintln(w, "  a change that was tried, and holds:")
		for _, line := range c.Change {
			fmt.Fprintf(w, "      %s\n", p.Accent(line))
		}
	}
}

// causeOf tells what makes a file differ: what runs found, else what it looks like.
func causeOf(f ProvenFile) string {
	words := func(all []causes.Cause) string {
		var list []string
		for _, c := range all {
			list = append(list, causes.Words[c])
		}
		return strings.Join(list, ", ")
	}
	if len(f.Found) > 0 {
		return "caused by " + words(f.Found) + ": it changes with that alone"
	}
	seen := map[causes.Cause]bool{}
	var looks []causes.Cause
	for _, d := range f.Differences {
		if d.Cause != causes.Other && !seen[d.Cause] {
			seen[d.Cause] = true
			looks = append(looks, d.Cause)
		}
	}
	despite := ""
	if f.Despite {
		despite = "; it differs with all else held, so it comes from times of files, /dev/urandom, or chance"
	}
	if len(looks) > 0 {
		return "looks like " + words(looks) + despite
	}
	return strings.TrimPrefix(despite, "; ")
}
