package page

import (
	"fmt"
	"strings"
	"testing"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/html"

	"imbricat/internal/content/differ"
	"imbricat/internal/content/weight"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/report"
)

var about = About{Program: "imbricat 0.1", Made: time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)}

// hostile is a name that would be more than text where it was not escaped.
const hostile = "</title></style>\"'><script>alert(1)</script><img src=http://evil.example/x>\x1b[2J"

// The bounds of a page.
const (
	mostBytes    = 5 << 20
	mostElements = 5000
)

// check reads a page as a browser does: it runs nothing, asks for nothing, is within its bounds, and can be read by who does not see it.
func check(t *testing.T, text []byte) string {
	t.Helper()
	require.LessOrEqual(t, len(text), mostBytes)
	root, err := html.Parse(strings.NewReader(string(text)))
	require.NoError(t, err)
	elements, words := 0, strings.Builder{}
	count := map[string]int{}
	for n := range root.Descendants() {
		if n.Type == html.TextNode {
			words.WriteString(n.Data + " ")
		}
		if n.Type != html.ElementNode {
			continue
		}
		elements++
		count[n.Data]++
		attributes := map[string]string{}
		for _, a := range n.Attr {
			attributes[a.Key] = a.Val
			require.False(t, strings.HasPrefix(a.Key, "on"), "%s of %s", a.Key, n.Data)
			require.NotContains(t, []string{"src", "srcset", "action", "poster", "data"}, a.Key)
		}
		if link := attributes["href"]; link != "" {
			require.True(t, strings.HasPrefix(link, "#"), link)
		}
		switch n.Data {
		case "script", "link", "img", "iframe", "object", "embed", "form", "base":
			t.Fatalf("there is a %s", n.Data)
		case "th":
			require.NotEmpty(t, attributes["scope"])
		case "svg":
			require.Equal(t, "img", attributes["role"])
			require.NotEmpty(t, attributes["aria-label"])
		case "html":
			require.Equal(t, "en", attributes["lang"])
		}
	}
	require.LessOrEqual(t, elements, mostElements)
	for name, n := range map[string]int{"title": 1, "h1": 1, "main": 1, "header": 1, "footer": 1} {
		require.GreaterOrEqual(t, count[name], n, name)
	}
	require.Equal(t, 1, count["h1"])
	require.NotContains(t, string(text), "\x1b")
	return words.String()
}

func weighed() (*report.Weighed, *inspect.Image) {
	size := func(packed int64) weight.Bytes { return weight.Bytes{Packed: packed, Unpacked: 3 * packed, Files: 7} }
	return &report.Weighed{Reference: "gauge", Digest: "sha256:11", Platform: "linux/amd64", Platforms: []string{"linux/amd64", "linux/arm64"}, BaseName: "registry.tideline.example/base/slim:4",
			Image: &weight.Image{Total: size(1000), Wasted: size(20),
				Layers:   []weight.LayerShare{{Step: "of the base", Shared: true, Bytes: size(600)}, {Step: hostile, Hidden: 12, Bytes: size(400)}},
				Folders:  []weight.Share{{Name: "/", Bytes: size(1000)}, {Name: "/usr", Bytes: size(900)}, {Name: "/usr/" + hostile, Bytes: size(800)}},
				Kinds:    []weight.Share{{Name: "programs", Bytes: size(700)}},
				Packages: []weight.PackageShare{{Manager: "dpkg", Name: hostile, Version: "1.4", Bytes: size(300)}},
				Waste:    []weight.Waste{{Kind: "documents", Path: "/usr/" + hostile, Bytes: size(20), Steps: []string{hostile}, Cure: "leave it out"}}}},
		&inspect.Image{Platforms: []inspect.Platform{{Platform: "linux/amd64", Digest: "sha256:12", Packed: 1000, Layers: make([]inspect.Layer, 2),
			Settings: v1.ImageConfig{Entrypoint: []string{"/usr/bin/gauge"}, Env: []string{"A=" + hostile}, Labels: map[string]string{"b": "2", "a": "1"}, ExposedPorts: map[string]struct{}{"80/tcp": {}}}},
			{Platform: "linux/arm64", Digest: "sha256:13", Packed: 500}}}
}

func TestImage(t *testing.T) {
	one, shown := weighed()
	shown.Digest = "sha256:99"
	tags := []report.Tag{{Tag: "1.3", Packed: 500, Created: about.Made.Add(-time.Hour)}, {Tag: hostile, Packed: 250}, {Tag: "1.4", Packed: 1000, Alone: 77, Digest: "sha256:99", Pushed: about.Made}}
	text, err := Image(about, one, shown, tags)
	require.NoError(t, err)
	words := check(t, text)
	for _, part := range []string{"gauge", "linux/amd64, also for linux/arm64", "1.0 kB", "of the base", "It is based on registry.tideline.example/base/slim:4.", "400 B packed, 7 files, 12 B hidden", "/usr/bin/gauge", "80/tcp", "a=1 ", "leave it out", "sha256:13",
		"<script>alert(1)</script>", "2026-11-30 09:00:00 UTC"} {
		require.Contains(t, words, part)
	}
	require.Less(t, strings.Index(words, "of it nobody"), strings.Index(words, "of the base"))
	require.Contains(t, string(text), `<span class="tile below" style="width: 100.00%">`)
	require.Contains(t, string(text), `<span class="tile" style="width: 66.67%">`)
	bare, err := Image(about, &report.Weighed{Image: &weight.Image{}}, &inspect.Image{}, nil)
	require.NoError(t, err)
	require.Contains(t, check(t, bare), "none: it has neither")

	require.Contains(t, words, "1.4   this image")
	require.Less(t, strings.Index(words, "1.4   this image"), strings.Index(words, "1.3 "))
	require.Contains(t, words, "77 B")
	require.NotContains(t, string(bare), "Tags of the repository")

	// An image of 100,000 files.
	var many []report.Tag
	large, _ := weighed()
	for i := range 30_000 {
		large.Folders = append(large.Folders, weight.Share{Name: fmt.Sprintf("/usr/folder-%d/of-a-long-name-%d", i/100, i), Bytes: weight.Bytes{Packed: int64(30_000 - i)}})
		large.Packages = append(large.Packages, weight.PackageShare{Name: fmt.Sprint("package ", i)})
		large.Waste = append(large.Waste, weight.Waste{Kind: "twice", Path: fmt.Sprint("/file ", i), Steps: []string{"a", "b"}})
		large.Layers = append(large.Layers, weight.LayerShare{Step: fmt.Sprint("step ", i)})
		many = append(many, report.Tag{Tag: fmt.Sprint(i)})
		large.Kinds = append(large.Kinds, weight.Share{Name: fmt.Sprint("kind ", i)})
	}
	text, err = Image(about, large, shown, many)
	require.NoError(t, err)
	words = check(t, text)
	require.Contains(t, words, "and 29821 more, which take less")
}

func TestBuild(t *testing.T) {
	at := func(s float64) *float64 { return &s }
	began := time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	b := &report.PastBuild{Number: 12, Project: "/tideline", Command: "imbricat build " + hostile, Started: began, Seconds: 10, Outcome: "failed", Error: "it failed: " + hostile, Ran: 2, Reused: 1, Facts: map[string]string{"version": hostile},
		Images: []report.PastImage{{Name: "gauge", Digest: "sha256:11", Packed: 99}},
		Steps: []report.PastStep{{Unit: "gauge", Platform: "linux/amd64", Place: "gauge:1", Step: "copy", Outcome: "ran", Reason: hostile, Details: []string{hostile}, Began: at(5), Seconds: 5},
			{Unit: "gauge", Platform: "linux/arm64", Place: "gauge:1", Step: "copy", Outcome: "reused", Began: at(1)},
			{Unit: "gauge", Platform: "linux/amd64", Place: "gauge:2", Step: "render", Outcome: "failed", Logged: true, Began: at(2), Seconds: 1},
			{Unit: "tools", Platform: "linux/amd64", Place: "tools:1", Step: "old", Outcome: "ran"}}}
	text, err := Build(about, BuildOf{Build: b, Past: []report.PastBuild{{Number: 11, Started: began, Outcome: "built", Seconds: 20}, *b}, Log: func(step int) string {
		require.Equal(t, 2, step)
		return "first line\n" + strings.Repeat("page\n", mostLog) + "\x1b[31mlast\x1b[0m line"
	}})
	require.NoError(t, err)
	words := check(t, text)
	for _, part := range []string{"build 12 of /tideline", "✗ failed", "2 of 3", "gauge linux/arm64", "(the beginning is left out)", "last line", "gauge:1 copy: ran, 5.0 s", "<script>alert(1)</script>"} {
		require.Contains(t, words, part)
	}
	require.NotContains(t, words, "first line")
	// From the middle of the chart to its end, in the first lane.
	require.Contains(t, string(text), `<rect class="ran" x="665.00" y="26.00" width="425.00"`)
	require.Contains(t, string(text), `<rect class="reused" x="325.00" y="46.00" width="2.00"`)
	require.Contains(t, string(text), `<span class="bar" style="width: 50.00%">`)

	var steps []report.PastStep
	for i := range 40_000 {
		steps = append(steps, report.PastStep{Unit: fmt.Sprint("unit ", i/10), Platform: "linux/amd64", Place: "x:1", Outcome: []string{"ran", "reused"}[min(i/3000, 1)], Logged: true, Began: at(float64(i)), Seconds: 1})
	}
	b.Steps = steps
	text, err = Build(about, BuildOf{Build: b, Log: func(int) string { return strings.Repeat("x\n", 20_000) }})
	require.NoError(t, err)
	words = check(t, text)
	require.True(t, strings.Contains(words, "and 39,550 steps more"), "it tells how many are left out")
	require.False(t, strings.Contains(words, "unit 300 "), "what ran comes before what was reused")
	bare, err := Build(about, BuildOf{Build: &report.PastBuild{}})
	require.NoError(t, err)
	check(t, bare)
}

func TestCompared(t *testing.T) {
	was, now := "1.3", hostile
	c := &report.Compared{First: report.Side{Reference: "gauge:1.3", Digest: "sha256:11"}, Second: report.Side{Reference: hostile, Digest: "sha256:12"}, Platform: "linux/amd64", Difference: &differ.Difference{
		Layers:   []differ.Layer{{In: "both", Step: "of the base"}, {In: "first", Step: "gone", Packed: 5}, {In: "second", Step: hostile, Packed: 1500, Ran: []differ.Run{{Why: "new content"}, {Why: "first time"}}}},
		Settings: []differ.Value{{What: "added", Name: "env A", Now: &now}}, Packages: []differ.Value{{What: "changed", Name: "dpkg tides", Was: &was, Now: &now}},
		Folders: []differ.Folder{{Name: "/usr", Was: 5000, Now: 2000}, {Name: "/srv", Now: 2000}}, Counts: map[string]int{"added": 12, "removed": 1},
		Files: []differ.File{{Path: "/small", What: "added", Now: 7}, {Path: "/" + hostile, What: "removed", Was: 900}}, Fetched: 1500, Totals: [2]weight.Bytes{{Packed: 5, Files: 3}, {Packed: 1500, Files: 3}}}}
	text, err := Compared(about, c)
	require.NoError(t, err)
	words := check(t, text)
	for _, part := range []string{"1.5 kB", "was 5 B", "as before", "− removed", "+ added", "in both", "new content; first time", "env A", "dpkg tides", "−3.0 kB", "+2.0 kB", "and 11 more", "A node that has the first fetches 1.5 kB"} {
		require.Contains(t, words, part)
	}
	require.Less(t, strings.Index(string(text), "900 B"), strings.Index(string(text), "/small"), "the largest first")
	for i := range 10_000 {
		c.Files = append(c.Files, differ.File{Path: fmt.Sprint("/file ", i), What: "added"})
		c.Folders = append(c.Folders, differ.Folder{Name: fmt.Sprint("/", i)})
		c.Settings = append(c.Settings, differ.Value{Name: fmt.Sprint(i)})
		c.Packages = append(c.Packages, differ.Value{Name: fmt.Sprint(i)})
		c.Layers = append(c.Layers, differ.Layer{In: "second"})
	}
	text, err = Compared(about, c)
	require.NoError(t, err)
	check(t, text)
	text, err = Compared(about, &report.Compared{Difference: differ.None(), First: report.Side{Digest: "sha256:11"}, Second: report.Side{Digest: "sha256:12"}})
	require.NoError(t, err)
	require.Contains(t, check(t, text), "The layers and the settings are the same; what is said of the images differs.")
}
