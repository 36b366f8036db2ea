// Package page writes self-contained pages for a browser: one file, without a script and without anything that is fetched. It is given
// documents that other commands print as JSON; it works nothing out of images and builds, and reads no clock.
package page

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"strings"
	"sync"
	"time"

	"imbricat/internal/ground/printable"
	"imbricat/internal/output/report"
)

//go:embed *.html *.css
var files embed.FS

// About is of what and when a page was made.
type About struct {
	Program string
	Made    time.Time
}

var templates = sync.OnceValue(func() *template.Template {
	style, err := files.ReadFile("page.css")
	if err != nil {
		panic(err)
	}
	return template.Must(template.New("").Funcs(template.FuncMap{
		"style":  func() template.CSS { return template.CSS(style) },
		"bytes":  report.Size,
		"took":   func(s float64) string { return report.Took(time.Duration(s * float64(time.Second))) },
		"when":   func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") },
		"plain":  printable.Text, // names of files hold anything
		"join":   func(list []string) string { return strings.Join(list, ", ") },
		"count":  report.Count,
		"places": func(f float64) string { return fmt.Sprintf("%.2f", f) },
	}).ParseFS(files, "*.html"))
})

// write fills a template.
func write(name string, data any) ([]byte, error) {
	var out bytes.Buffer
	if err := templates().ExecuteTemplate(&out, name, data); err != nil {
		return nil, fmt.Errorf("writing the page: %w", err)
	}
	return out.Bytes(), nil
}

// percent is a part of a whole for the width of something; what is there at all is seen.
func percent(part, whole float64) float64 {
	if whole <= 0 || part <= 0 {
		return 0
	}
	return min(max(100*part/whole, 0.3), 100)
}
