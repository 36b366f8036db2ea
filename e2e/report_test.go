package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestPagesInABrowser: a browser shows pages without an error, in light and dark, and who does not see them can use them: the rules of a
// peer find nothing.
func TestPagesInABrowser(t *testing.T) {
	browser := need(t, "chromium")
	rules := os.Getenv("IMBRICAT_TEST_ACCESSIBILITY")
	if rules == "" && os.Getenv("CI") == "" {
		t.Skip("IMBRICAT_TEST_ACCESSIBILITY is not set: scripts/accessibility-rules fetches the rules")
	}
	axe, err := os.ReadFile(rules)
	require.NoError(t, err)
	r := newRun(t)
	r.busybox()
	r.write("imbricat.yaml", `imbricat: 1
stages: {tools: {base: none, steps: [{copy: {from: bin, to: /bin}}]}}
images:
  gauge:
    base: {stage: tools}
    steps:
      - {run: {command: [/bin/busybox, sh, -c, "echo computing; echo 3.42 > /level"]}, network: false}
      - copy: {from: pages, to: /srv}
    settings: {entrypoint: [/bin/busybox], env: {STATION: north-pier}}
`)
	r.write("pages/a", "one")
	r.ok("build")
	r.ok("store", "name", "gauge", "gauge:before")
	r.write("pages/a", "two")
	r.ok("build")
	pages := map[string][]string{"image": {"gauge"}, "build": {"--build", "1"}, "compared": {"gauge:before", "gauge"}}
	look := func(name string, flags ...string) string {
		c := exec.Command(browser, append(append([]string{"--headless", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--user-data-dir=" + t.TempDir(), "--enable-logging=stderr", "--virtual-time-budget=20000", "--dump-dom"}, flags...),
			"file://"+filepath.Join(r.dir, name))...)
		c.Env = append(os.Environ(), "HOME="+t.TempDir())
		var problems strings.Builder
		c.Stderr = &problems
		timer := time.AfterFunc(2*time.Minute, func() { _ = c.Process.Kill() })
		defer timer.Stop()
		out, err := c.Output()
		require.NoError(t, err, problems.String())
		for line := range strings.Lines(problems.String()) {
			require.NotContains(t, line, "CONSOLE", "%s: %s", name, line)
		}
		return string(out)
	}
	policy := regexp.MustCompile(`<meta http-equiv="Content-Security-Policy"[^>]*>`)
	check := func(name, text string) {
		text = strings.ReplaceAll(policy.ReplaceAllString(text, ""), "<details", "<details open")
		text = strings.Replace(text, "</body>", "<script>"+strings.ReplaceAll(string(axe), "</script>", `<\/script>`)+`</script><script>axe.run().then(r => { document.body.innerText = "FOUND " + JSON.stringify(r.violations.map(v => [v.id, v.nodes.map(n => n.html)])) })</script></body>`, 1)
		r.write(name+"-checked.html", text)
		for _, scheme := range []int{0, 1} { // dark, light
			found := look(name+"-checked.html", fmt.Sprintf("--blink-settings=preferredColorScheme=%d", scheme))
			require.Contains(t, found, "FOUND", name)
			require.Contains(t, found, "FOUND []", name)
		}
	}
	for name, args := range pages {
		r.ok(append([]string{"report", "--to", name + ".html"}, args...)...)
		shown := look(name + ".html")
		require.Contains(t, shown, "<h1>", name)
		text, err := os.ReadFile(filepath.Join(r.dir, name+".html"))
		require.NoError(t, err)
		check(name, string(text))
	}
	bad := `<!doctype html><html lang="en"><head><title>bad</title></head><body><main><h1>bad</h1><img src="data:,"></main></body></html>`
	r.write("bad-checked.html", strings.Replace(bad, "</body>", "<script>"+strings.ReplaceAll(string(axe), "</script>", `<\/script>`)+`</script><script>axe.run().then(r => { document.body.innerText = "FOUND " + JSON.stringify(r.violations.map(v => v.id)) })</script></body>`, 1))
	require.Contains(t, look("bad-checked.html"), "image-alt", "the rules find something")
}
