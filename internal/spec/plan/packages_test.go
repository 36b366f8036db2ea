package plan

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/ignore"
	"imbricat/internal/ground/platform"
	"imbricat/internal/spec/project"
	"imbricat/internal/spec/recipe"
)

// goModules are the texts of go.mod files by their folders.
type goModules map[string]string

func (m goModules) Paths() (all []string, err error) {
	for dir := range m {
		all = append(all, dir+"/go.mod")
	}
	return all, nil
}

func (m goModules) Read(name string) ([]byte, error) {
	return []byte(m[name[:len(name)-len("/go.mod")]]), nil
}

// TestPackages: the sources of packages are folders without those in them that are not needed, by patterns that match nothing else.
func TestPackages(t *testing.T) {
	files := goModules{
		"gauge":             "module gauge\nrequire tide v1.0.0\nreplace tide => ./parts/tide",
		"gauge/parts/tide":  "module tide",
		"gauge/[x] #1":      "module odd",
		"gauge/[x] #1/deep": "module deep",
	}
	of := func(step string) (Copy, error) {
		r, err := recipe.Parse("r.yaml", fmt.Appendf(nil, "imbricat: 1\nimages: {a: {base: none, platforms: [linux/amd64], steps: [{copy: {%s, to: /src}}]}}\n", step))
		require.NoError(t, err)
		p, err := Expand(r, Options{Packages: func() (*project.Graph, error) { return project.Read(files) },
			Scope: func(string, platform.Platform) (*recipe.Scope, error) { return &recipe.Scope{}, nil }})
		if err != nil {
			return Copy{}, err
		}
		return p.Units[0].Steps[0].Do.(Copy), nil
	}
	got, err := of(`sources-of: gauge, leave-out: ["*.log"]`)
	require.NoError(t, err)
	require.Len(t, got.Taken, 1, "a package that is needed lies in it")
	require.Equal(t, "gauge", got.Taken[0].From)
	require.Equal(t, "*.log", got.Taken[0].LeaveOut[0])
	out := ignore.New(got.Taken[0].LeaveOut...)
	require.True(t, out.Match("[x] #1", true))
	require.False(t, out.Match("x #1", true) || out.Match("[x] #1", false) || out.Match("parts/[x] #1", true))
	require.True(t, got.Taken[0].Structure)

	got, err = of(`manifests-of: [gauge, odd], leave-out: [tide/]`)
	require.NoError(t, err)
	var from []string
	for _, s := range got.Taken {
		from = append(from, s.From)
	}
	require.Equal(t, []string{"gauge/[x] #1/go.mod", "gauge/go.mod", "gauge/parts/tide/go.mod"}, from, "patterns are relative to the package")

	_, err = of(`sources-of: gaug`)
	require.ErrorContains(t, err, `"gaug" is neither the folder nor the name of a package; did you mean "gauge"?`)
}
