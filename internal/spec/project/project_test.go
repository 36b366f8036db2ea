package project

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"
)

// repositoryFiles are the files of an archive.
type repositoryFiles struct{ fstest.MapFS }

func (f repositoryFiles) Paths() (all []string, err error) {
	for name := range f.MapFS {
		all = append(all, name)
	}
	return all, nil
}

func (f repositoryFiles) Read(name string) ([]byte, error) { return f.ReadFile(name) }

func filesOf(a *txtar.Archive) repositoryFiles {
	files := repositoryFiles{fstest.MapFS{}}
	for _, f := range a.Files {
		files.MapFS[f.Name] = &fstest.MapFile{Data: f.Data}
	}
	return files
}

// selected finds a package and gathers what it needs.
func selected(g *Graph, name string) (*Selection, error) {
	found, err := g.Find(name, "")
	if err != nil {
		return nil, err
	}
	return g.Select(found)
}

// TestSelect: each archive has lines that say what packages select: "packages NAME = FOLDERS", "manifests NAME = FILES", "folders NAME =
// FOLDERS(WITHOUT)", "fails NAME = ERROR".
func TestSelect(t *testing.T) {
	archives, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, archives)
	for _, name := range archives {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(name)
			require.NoError(t, err)
			g, err := Read(filesOf(archive))
			require.NoError(t, err)
			said := 0
			for line := range strings.Lines(string(archive.Comment)) {
				left, want, is := strings.Cut(strings.TrimSpace(line), " = ")
				what, of, _ := strings.Cut(left, " ")
				if !is {
					continue
				}
				said++
				s, err := selected(g, of)
				if what == "fails" {
					require.EqualError(t, err, want, line)
					continue
				}
				require.NoError(t, err, line)
				require.Equal(t, want, told(s, what), line)
			}
			require.Positive(t, said)
		})
	}
}

// told writes a selection as the archives have it.
func told(s *Selection, what string) string {
	var all []string
	switch what {
	case "packages":
		for _, p := range s.Packages {
			all = append(all, p.Dir)
		}
		all = slices.Compact(all)
	case "manifests":
		all = s.Manifests
	case "folders":
		for _, f := range s.Folders {
			if all = append(all, f.Dir); len(f.Without) > 0 {
				all[len(all)-1] += "(" + strings.Join(f.Without, " ") + ")"
			}
		}
	}
	return strings.Join(all, " ")
}

// FuzzManifests: whatever a manifest says, nothing is selected that the repository does not have, and the same each time.
func FuzzManifests(f *testing.F) {
	archives, err := filepath.Glob("testdata/*.txtar")
	require.NoError(f, err)
	for _, name := range archives {
		archive, err := txtar.ParseFile(name)
		require.NoError(f, err)
		for _, file := range archive.Files {
			if len(file.Data) > 0 {
				f.Add(filepath.Base(file.Name), string(file.Data))
			}
		}
	}
	f.Fuzz(func(t *testing.T, name, text string) {
		if !strings.ContainsAny(name, ".") || strings.ContainsAny(name, "/\x00") || name == "." || name == ".." {
			return
		}
		files := repositoryFiles{fstest.MapFS{}}
		for _, dir := range []string{"", "a/", "b/", "a/c/"} {
			files.MapFS[dir+name] = &fstest.MapFile{Data: []byte(text)}
		}
		files.MapFS["a/package.json"] = &fstest.MapFile{Data: []byte(`{"name": "a"}`)}
		files.MapFS["b/go.mod"] = &fstest.MapFile{Data: []byte("module b\n")}
		g, err := Read(files)
		require.NoError(t, err)
		again, err := Read(files)
		require.NoError(t, err)
		for i, p := range g.Packages {
			s, err := g.Select([]*Package{p})
			same, sameErr := again.Select([]*Package{again.Packages[i]})
			require.Equal(t, err == nil, sameErr == nil)
			if err != nil {
				require.Equal(t, err.Error(), sameErr.Error())
				continue
			}
			require.Equal(t, told(s, "manifests")+told(s, "folders"), told(same, "manifests")+told(same, "folders"))
			for _, m := range s.Manifests {
				require.Contains(t, files.MapFS, m)
			}
			require.Contains(t, s.Packages, p)
		}
	})
}
