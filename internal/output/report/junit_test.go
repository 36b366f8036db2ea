package report

import (
	"encoding/xml"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/output/receipt"
	"imbricat/internal/spec/recipe"
)

func checked() *receipt.Receipt {
	at := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	where := receipt.Position{File: "imbricat.yaml", Line: 12, Column: 9}
	return &receipt.Receipt{Command: "ship", Began: at, Steps: []receipt.Step{{Place: "gauge:2", Platform: "linux/amd64", Outcome: "failed", Reason: "it ended with status 2", Position: where},
		{Place: "gauge:1", Outcome: "ran"}}, Checks: []receipt.Check{
		{Image: "gauge", Platform: "linux/amd64", Check: "size at most 2 MB packed", Outcome: "holds", Detail: "44 kB packed", Seconds: 0.25, Found: &at},
		{Image: "gauge", Platform: "linux/amd64", Check: "try /usr/bin/gauge", Outcome: "fails", Detail: "it ended with status 3; it printed:\nno <tide> at 50%\r\n\x00", Seconds: 1.5, Position: where},
		{Image: "gauge", Platform: "linux/arm64", Check: "try /usr/bin/gauge", Outcome: "unable", Detail: "there is no emulator", Position: where},
	}}
}

// TestJUnit: what other programs read of the report: suites and cases with their counts, what failed with all that was printed, and where.
func TestJUnit(t *testing.T) {
	text, err := JUnit(checked())
	require.NoError(t, err)
	var got struct {
		Tests, Failures, Errors int `xml:",attr"`
	}
	require.NoError(t, xml.Unmarshal([]byte(strings.NewReplacer("tests=", "Tests=", "failures=", "Failures=", "errors=", "Errors=").Replace(string(text))), &got))
	require.Equal(t, [3]int{3, 1, 1}, [3]int{got.Tests, got.Failures, got.Errors})
	for _, part := range []string{
		`<testsuite name="gauge linux/amd64" tests="2" failures="1" errors="0" time="1.750" timestamp="2026-06-01T12:00:00">`,
		`<testsuite name="gauge linux/arm64" tests="1" failures="0" errors="1"`,
		`<testcase name="try /usr/bin/gauge" classname="gauge.linux/amd64" time="1.500" file="imbricat.yaml" line="12">`,
		`<failure message="it ended with status 3; it printed:">it ended with status 3; it printed:&#xA;no &lt;tide&gt; at 50%&#xD;&#xA;` + "\uFFFD" + `</failure>`,
		`<error message="there is no emulator">`,
		`<system-out>44 kB packed; found 2026-06-01T12:00:00Z for the same digest</system-out>`,
	} {
		require.Contains(t, string(text), part)
	}
}

// TestAnnotations: mistakes, steps and checks are told at their lines, each as one line whatever it says.
func TestAnnotations(t *testing.T) {
	_, err := recipe.Parse("imbricat.yaml", []byte("imbricat: 1\nimages:\n  gauge: {base: none, bse: none}\n"))
	list := Annotations(checked(), errors.Join(errors.New("other"), err))
	require.Equal(t, `error imbricat.yaml:3:23 recipe|`+list[0].Message+`|`+list[0].Message+`
error imbricat.yaml:12:9 gauge:2 linux/amd64|it ended with status 2|it ended with status 2
error imbricat.yaml:12:9 gauge linux/amd64: try /usr/bin/gauge|it ended with status 3; it printed:|it ended with status 3; it printed:%0Ano <tide> at 50%25%0D%0A`+"\x00"+`
error imbricat.yaml:12:9 gauge linux/arm64: try /usr/bin/gauge|there is no emulator|there is no emulator
`, AnnotationsText("error {file}:{line}:{column} {title}|{message}|{encoded}", list))
	require.Contains(t, list[0].Message, "bse")
}
