package report

import (
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"imbricat/internal/output/receipt"
)

// The elements of a test report in the JUnit form, as readers of such reports agree on it.
type (
	testSuites struct {
		XMLName xml.Name    `xml:"testsuites"`
		Name    string      `xml:"name,attr"`
		counts              // of all
		Suites  []testSuite `xml:"testsuite"`
	}
	testSuite struct {
		Name string `xml:"name,attr"`
		counts
		Began string     `xml:"timestamp,attr"`
		Cases []testCase `xml:"testcase"`
	}
	counts struct {
		Tests    int    `xml:"tests,attr"`
		Failures int    `xml:"failures,attr"`
		Errors   int    `xml:"errors,attr"`
		Time     string `xml:"time,attr"` // seconds
	}
	testCase struct {
		Name    string      `xml:"name,attr"`
		Class   string      `xml:"classname,attr"`
		Time    string      `xml:"time,attr"`
		File    string      `xml:"file,attr,omitempty"`
		Line    int         `xml:"line,attr,omitempty"`
		Failure *testResult `xml:"failure"`
		Error   *testResult `xml:"error"`
		Said    string      `xml:"system-out,omitempty"`
	}
	testResult struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// JUnit returns the checks of a run as a test report: a suite for each image and platform, a case for each check. One that does not hold is a
// failure, one that this machine cannot decide an error.
func JUnit(r *receipt.Receipt) ([]byte, error) {
	all := testSuites{Name: "imbricat " + r.Command}
	var seconds []float64
	for _, c := range r.Checks {
		name := c.Image + " " + c.Platform
		if n := len(all.Suites); n == 0 || all.Suites[n-1].Name != name {
			all.Suites, seconds = append(all.Suites, testSuite{Name: name, Began: r.Began.UTC().Format("2006-01-02T15:04:05")}), append(seconds, 0)
		}
		s := &all.Suites[len(all.Suites)-1]
		one := testCase{Name: c.Check, Class: c.Image + "." + c.Platform, Time: inSeconds(c.Seconds), File: c.File, Line: c.Line}
		message, _, _ := strings.Cut(c.Detail, "\n")
		switch c.Outcome {
		case "fails":
			one.Failure = &testResult{message, c.Detail}
			s.Failures++
		case "unable":
			one.Error = &testResult{message, c.Detail}
			s.Errors++
		default:
			if one.Said = c.Detail; c.Found != nil {
				one.Said += "; found " + c.Found.UTC().Format(time.RFC3339) + " for the same digest"
			}
		}
		s.Tests++
		seconds[len(seconds)-1] += c.Seconds
		s.Cases = append(s.Cases, one)
	}
	var sum float64
	for i := range all.Suites {
		s := &all.Suites[i]
		s.Time = inSeconds(seconds[i])
		all.Tests, all.Failures, all.Errors, sum = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors, sum+seconds[i]
	}
	all.Time = inSeconds(sum)
	text, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}

func inSeconds(n float64) string { return fmt.Sprintf("%.3f", n) }
