package report

import (
	"fmt"
	"strings"

	"imbricat/internal/output/receipt"
)

// RecipeCheck is what was found in a recipe that works.
type RecipeCheck struct {
	File     string          `json:"file"`
	Findings []RecipeFinding `json:"findings"`
}

// RecipeFinding is something that had better be otherwise.
type RecipeFinding struct {
	receipt.Position
	Code string `json:"code"`
	Text string `json:"text"`
}

// RecipeCheckText returns a line for each finding.
func RecipeCheckText(p Paint, d *RecipeCheck) string {
	w := &strings.Builder{}
	for _, f := range d.Findings {
		place := ""
		if f.Line > 0 {
			place = p.Bold(fmt.Sprintf("%s:%d:%d:", f.File, f.Line, f.Column)) + " "
		}
		fmt.Fprintf(w, "%s%s %s\n", place, f.Text, p.Muted("["+f.Code+"]"))
	}
	if len(d.Findings) == 0 {
		fmt.Fprintf(w, "%s is right\n", d.File)
	}
	return w.String()
}

// Formatted tells which files got another form, or would.
type Formatted struct {
	Formatted []string `json:"formatted"`
	Unchanged []string `json:"unchanged"`
}

// FormattedText returns a line for each file that has another form.
func FormattedText(d *Formatted, check bool) string {
	w := &strings.Builder{}
	verb := "formatted "
	if check {
		verb = "would format "
	}
	for _, name := range d.Formatted {
		fmt.Fprintln(w, verb+name)
	}
	if len(d.Formatted) == 0 {
		fmt.Fprintf(w, "%s in form\n", Count(len(d.Unchanged), "file"))
	}
	return w.String()
}

// Facts are what people may give by hand.
type Facts struct {
	Facts []Fact `json:"facts"`
}

// Fact is a value of a recipe that may be given by hand.
type Fact struct {
	Name    string   `json:"name"`
	Value   string   `json:"value,omitempty"`   // for this machine's platform; absent where it repeats a secret
	Given   bool     `json:"given"`             // by hand
	Default string   `json:"default,omitempty"` // as the recipe writes it; absent: it must be given
	Allowed []string `json:"allowed,omitempty"`
	About   string   `json:"about,omitempty"`
}

// FactsText returns a row for each fact.
func FactsText(p Paint, d *Facts) string {
	var rows [][]string
	for _, f := range d.Facts {
		from := "recipe"
		if f.Given {
			from = "given"
		}
		rows = append(rows, []string{f.Name, f.Value, from, strings.Join(f.Allowed, ", "), f.About})
	}
	return RowsText(p, "the recipe has no facts", []string{"fact", "value", "from", "allowed", ""}, rows)
}
