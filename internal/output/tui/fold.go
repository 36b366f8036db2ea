package tui

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"imbricat/internal/output/report"
)

// Fold is how the reader of a log marks sections that can be folded: lines before and after one. In them {title} is the
// line that stays to be seen, {name} a word that is the section's alone, and {time} the seconds since 1970.
type Fold struct {
	Open, Close string
	Now         func() time.Time
}

// escapes are what people cannot type as an argument.
var escapes = strings.NewReplacer(`\e`, "\x1b", `\r`, "\r", `\n`, "\n", `\t`, "\t", `\\`, `\`)

// ParseFold reads OPEN|CLOSE, as in "[[ {title}|]]".
func ParseFold(text string) (*Fold, error) {
	open, end, found := strings.Cut(text, "|")
	if !found || !strings.Contains(open, "{title}") {
		return nil, errors.New("it takes OPEN|CLOSE, the lines around a section, with {title} in the first of them")
	}
	return &Fold{Open: escapes.Replace(open), Close: escapes.Replace(end), Now: time.Now}, nil
}

var noWord = regexp.MustCompile(`[^a-z0-9]+`)

// write writes a section in one piece.
func (f *Fold) write(w io.Writer, title string, one *folded) {
	name := strings.Trim(noWord.ReplaceAllString(strings.ToLower(report.Where(one.task)), "-"), "-")
	line := func(form string) string {
		return strings.NewReplacer("{title}", title, "{name}", name, "{time}", fmt.Sprint(f.Now().Unix())).Replace(form)
	}
	var out strings.Builder
	fmt.Fprintln(&out, line(f.Open))
	for text := range strings.Lines(one.text.String()) {
		fmt.Fprintln(&out, lastState(text))
	}
	fmt.Fprintln(&out, line(f.Close))
	fmt.Fprint(w, out.String())
}
