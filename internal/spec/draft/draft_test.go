package draft

import (
	"flag"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"testing/fstest"

	"github.com/rogpeppe/go-internal/txtar"
	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

var update = flag.Bool("update", false, "write the drafts of testdata anew")

// headOf is the head of a program for Linux.
func headOf(machine byte) string {
	return "\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00" + string([]byte{machine}) + "\x00\x01\x00"
}

// project reads a project of testdata; what is named EXECUTABLE-ARCHITECTURE with the text "program" becomes one.
func project(t *testing.T, name string) (fstest.MapFS, *txtar.Archive) {
	archive, err := txtar.ParseFile(name)
	require.NoError(t, err)
	files := fstest.MapFS{}
	for _, f := range archive.Files {
		text := string(f.Data)
		if text == "program\n" {
			text = headOf(map[bool]byte{true: 0xb7, false: 0x3e}[strings.HasSuffix(f.Name, "arm64")])
		}
		if f.Name != "imbricat.yaml" {
			files[f.Name] = &fstest.MapFile{Data: []byte(text), Mode: 0o644}
		}
	}
	return files, archive
}

// expanded plans a draft, with references for all of its bases.
func expanded(t *testing.T, d *Draft) (*plan.Plan, error) {
	r, err := recipe.Parse("imbricat.yaml", []byte(d.Text))
	if err != nil {
		return nil, err
	}
	given := map[string]string{}
	for _, b := range d.Bases {
		given[b.Fact] = "registry.tideline.example/base/" + b.Name + ":1"
	}
	f, err := facts.Gather(r, facts.Options{Dir: t.TempDir(), Given: given, Now: time.Now, Lookup: func(string) (string, bool) { return "", false }})
	if err != nil {
		return nil, err
	}
	return plan.Expand(r, plan.Options{Here: platform.Here(), Checks: true, Scope: f.Scope})
}

// TestProjects drafts recipes for projects as they are found in the world: each draft is as in testdata, is valid, and says of every base that is
// not known what is to be written there.
func TestProjects(t *testing.T) {
	names, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(names), 18)
	for _, name := range names {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".txtar"), func(t *testing.T) {
			files, archive := project(t, name)
			o := Options{Bases: map[string]string{}}
			if strings.Contains(string(archive.Comment), "--to ") {
				_, o.To, _ = strings.Cut(strings.TrimSpace(string(archive.Comment)), "--to ")
			}
			d, err := Of(files, o)
			require.NoError(t, err)
			var said []string
			for _, f := range d.Findings {
				said = append(said, f.String())
			}
			got := "# " + strings.Join(said, "\n# ") + "\n" + d.Text
			i := sort.Search(len(archive.Files), func(int) bool { return true })
			for i < len(archive.Files) && archive.Files[i].Name != "imbricat.yaml" {
				i++
			}
			if *update {
				archive.Files = append(archive.Files[:i], txtar.File{Name: "imbricat.yaml", Data: []byte(got)})
				require.NoError(t, os.WriteFile(name, txtar.Format(archive), 0o644))
			} else {
				require.Less(t, i, len(archive.Files), "go test -update writes it")
				require.Equal(t, string(archive.Files[i].Data), got)
			}
			p, err := expanded(t, d)
			require.NoError(t, err, d.Text)
			require.Empty(t, p.Doubts)
			require.Len(t, p.Images, len(d.Findings))

			r, err := recipe.Parse("imbricat.yaml", []byte(d.Text))
			require.NoError(t, err)
			f, err := facts.Gather(r, facts.Options{Dir: t.TempDir(), Now: time.Now, Lookup: func(string) (string, bool) { return "", false }})
			require.NoError(t, err)
			_, err = f.Scope("", platform.Here())
			for _, b := range d.Bases {
				require.ErrorContains(t, err, b.Fact+" is to be filled in: "+b.What+"; write it here, or give --fact "+b.Fact+"=VALUE", "all at once")
			}
		})
	}
}

// TestNothing: a folder without anything that is known, and hostile ones, give an error or a valid draft, never a recipe that says something else.
func TestNothing(t *testing.T) {
	_, err := Of(fstest.MapFS{"notes.txt": {Data: []byte("x")}, "lib/go.mod": {Data: []byte("module a\n")}}, Options{})
	require.ErrorAs(t, err, new(NothingError), "a library is not a program")
	for name, files := range map[string]fstest.MapFS{
		"names with expressions":    {"package.json": {Data: []byte(`{"name": "${env.HOME}\"}\n  x: y", "main": "a ${facts.x}\n- b.js"}`)}},
		"a module with lines":       {"go.mod": {Data: []byte("module a.example/x\"}\n\ngo 1.26\n")}, "main.go": {Data: []byte("package main\n")}},
		"no JSON":                   {"package.json": {Data: []byte("{")}, "index.js": {Data: []byte("x")}},
		"a folder with an odd name": {"a: b #{}/requirements.txt": {Data: []byte("flask\n")}, "a: b #{}/main.py": {Data: []byte("x")}},
		"an odd file":               {"x.csproj": {Data: []byte(`<Project Sdk="Microsoft.NET.Sdk.Web"><AssemblyName>a"b${x}</AssemblyName>`)}},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := Of(files, Options{To: "registry.tideline.example/tides", Branch: `odd"branch`})
			require.NoError(t, err)
			_, err = expanded(t, d)
			require.NoError(t, err, d.Text)
		})
	}
}
