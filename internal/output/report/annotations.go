package report

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"imbricat/internal/output/receipt"
	"imbricat/internal/spec/recipe"
)

// Annotation is something to be told at a line of a file.
type Annotation struct {
	receipt.Position
	Title   string
	Message string // of any number of lines
}

// Annotations returns what a run says of lines of the recipe: its mistakes, steps that failed, and checks that do not hold.
func Annotations(r *receipt.Receipt, err error) (list []Annotation) {
	var wrong *recipe.Errors
	if errors.As(err, &wrong) {
		for _, p := range wrong.Problems {
			list = append(list, Annotation{receipt.PositionAt(wrong.File.Place(p.Pos)), "recipe", p.Message})
		}
	}
	for _, s := range r.Steps {
		if s.Outcome == "failed" && s.File != "" {
			list = append(list, Annotation{s.Position, s.Place + " " + s.Platform, s.Reason})
		}
	}
	for _, c := range r.Checks {
		if c.Outcome != "holds" {
			list = append(list, Annotation{c.Position, c.Image + " " + c.Platform + ": " + c.Check, c.Detail})
		}
	}
	return list
}

// percentEncoded is how texts of several lines are written into one by what reads lines of logs.
var percentEncoded = strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A")

// AnnotationsText writes each annotation as a line of the given form, in which {file}, {line}, {column}, {title} and {message} stand for what
// it says, {message} being its first line, and {encoded} for all of the message with %, CR and LF as %25, %0D and %0A.
func AnnotationsText(form string, list []Annotation) string {
	var out strings.Builder
	for _, a := range list {
		first, _, _ := strings.Cut(a.Message, "\n")
		line := strings.NewReplacer("{file}", a.File, "{line}", strconv.Itoa(max(a.Line, 1)), "{column}", strconv.Itoa(max(a.Column, 1)),
			"{title}", withoutLineEnds.Replace(a.Title), "{message}", withoutLineEnds.Replace(first), "{encoded}", percentEncoded.Replace(a.Message)).Replace(form)
		out.WriteString(line + "\n")
	}
	return out.String()
}

var withoutLineEnds = strings.NewReplacer("\r", " ", "\n", " ")

// LooksText tells where images lie, without a tag, of which a check does not hold.
func LooksText(p Paint, r *receipt.Receipt) string {
	w := &strings.Builder{}
	for _, i := range r.Images {
		for _, d := range i.Destinations {
			if d.OnFailure && d.Reference != "" {
				fmt.Fprintf(w, "for a look: %s %s\n", p.Bold(i.Name), d.Reference)
			}
		}
	}
	return w.String()
}

// MachineLine tells in one line where a run is, for its log.
func MachineLine(program string, m *receipt.Machine) string {
	text := m.Name + ", " + m.Platform
	for _, word := range []string{m.System, m.Kernel} {
		if word != "" {
			text += ", " + word
		}
	}
	user := map[string]string{"root": "root", "ordinary": "an ordinary user"}[m.User]
	return text + ", " + Count(m.Processors, "processor") + ", " + user + ", sandbox " + m.Sandbox + ", " + program + " (" + m.Go + ")"
}
