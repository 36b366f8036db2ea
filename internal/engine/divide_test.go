package engine

import (
	"archive/zip"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/image"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
	"imbricat/internal/engine/layering"
	"imbricat/internal/ground/event"
	"imbricat/internal/spec/division"
	"imbricat/internal/spec/plan"
)

// stack builds with what a recipe says of the stack, and gives the layers of the one image, lowest first, as their files.
func (s *site) stack(t *testing.T, text string) (*Result, [][]string) {
	result, err := s.build(text)
	require.NoError(t, err)
	return result, s.filesOf(t, result)
}

func (s *site) filesOf(t *testing.T, result *Result) (layers [][]string) {
	m, err := image.ReadManifest(context.Background(), s.store, result.Images[0].Platforms[0].Descriptor)
	require.NoError(t, err)
	for _, l := range m.Layers {
		var files []string
		for _, e := range s.indexed(l).Entries {
			if e.Kind != tree.Folder {
				files = append(files, e.Path)
			}
		}
		layers = append(layers, files)
	}
	return layers
}

func outcomes(r *Result) (list []string) {
	for _, step := range r.Steps {
		list = append(list, step.Outcome.String())
	}
	return list
}

func TestRulesOfTheLockDivide(t *testing.T) {
	s := newSite(t)
	for name, content := range map[string]string{"app/almanac": "1", "app/lib/astro": "2", "app/lib/old": "3", "pages/a": "4", "pages/b": "5"} {
		s.write(name, content)
	}
	rules, err := division.New([][]string{{"/"}, {"/srv/lib/"}, {"/srv/pages/a", "/etc/"}})
	require.NoError(t, err)
	s.divisions = map[string]*division.Rules{"gauge": rules}
	text := gauge("copy: {from: app/, to: /srv}", "copy: {from: pages, to: /srv/pages}", `write: {to: /etc/gauge.conf, text: "x"}`, "remove: [/srv/lib/old]")
	first, layers := s.stack(t, text)
	require.Equal(t, [][]string{{"srv/almanac", "srv/pages/b"}, {"srv/lib/astro", "srv/lib/old"}, {"etc/gauge.conf", "srv/pages/a"}}, layers,
		"of what was deleted the deletion alone is left")
	require.Equal(t, []string{"ran", "ran", "ran", "ran"}, outcomes(first))
	second, _ := s.stack(t, text)
	require.Equal(t, first.Images[0].Descriptor, second.Images[0].Descriptor)
	require.Equal(t, []string{"reused", "reused", "reused", "reused"}, outcomes(second))
	s.write("pages/a", "other")
	third, _ := s.stack(t, text)
	require.Equal(t, []string{"reused", "ran", "ran", "reused"}, outcomes(third), "the layer of /srv/pages/a holds something of two steps")
	require.Equal(t, event.Packed{New: 1, Of: 2}, third.Steps[1].Reason)
	m, err := image.ReadManifest(context.Background(), s.store, third.Images[0].Platforms[0].Descriptor)
	require.NoError(t, err)
	config, err := image.ReadConfig(context.Background(), s.store, m)
	require.NoError(t, err)
	require.Equal(t, "copy pages to /srv/pages; write /etc/gauge.conf", config.History[2].CreatedBy)
	_, layers = s.stack(t, text+"    stack: {layers: 2}\n")
	require.Len(t, layers, 2, "never more than the limit")
	_, layers = s.stack(t, text+"    stack: {policy: none}\n")
	require.Len(t, layers, 4)
}

func TestNeverMoreLayersThanTheLimit(t *testing.T) {
	s := newSite(t)
	var steps []string
	for i := range 40 {
		steps = append(steps, fmt.Sprintf("write: {to: /etc/%02d.conf, text: %q}", i, fmt.Sprint(i)))
	}
	steps = append(steps, "remove: [/etc/03.conf]", `write: {to: /etc/04.conf, text: "again"}`)
	for limit, want := range map[string]int{"": 32, "    stack: {layers: 5}\n": 5, "    stack: {layers: 120}\n": 42} {
		_, layers := s.stack(t, gauge(steps...)+limit)
		require.Len(t, layers, want)
	}
}

func TestLargeStepsAreCutAlongFolders(t *testing.T) {
	s := newSite(t)
	r := rand.New(rand.NewPCG(3, 3))
	for _, name := range []string{"tables/one/a", "tables/one/b", "tables/two/c", "tables/three/d"} {
		var big strings.Builder
		for range 3 << 20 / 8 {
			fmt.Fprintf(&big, "%08x", r.Uint32())
		}
		s.write(name, big.String())
	}
	s.write("tables/small", "1")
	text := gauge("copy: {from: tables, to: /srv}", `write: {to: /etc/x, text: "x"}`)
	first, layers := s.stack(t, text)
	require.Equal(t, [][]string{{"srv/one/a", "srv/one/b", "srv/small"}, {"srv/three/d", "srv/two/c"}, {"etc/x"}}, layers)
	require.Equal(t, 2, first.Steps[0].Layers)
	s.later = 1 << 40
	for range 2 {
		again, _ := s.stack(t, text)
		require.Equal(t, first.Images[0].Descriptor, again.Images[0].Descriptor)
		require.Equal(t, []string{"reused", "reused"}, outcomes(again))
	}
	_, layers = s.stack(t, text+"    stack: {steady: /srv/two/**, lively: [/srv/one/a]}\n")
	require.Equal(t, [][]string{{"srv/two/c"}, {"srv/one/b", "srv/small", "srv/three/d"}, {"srv/one/a"}, {"etc/x"}}, layers,
		"hints part files, and order layers: what lies on the lively one is too small to matter")
}

// after is what follows a result that followed another one.
// lastIs knows the one image that others follow.
type lastIs struct{ last **layering.Predecessor }

func (l lastIs) Predecessor(context.Context, *plan.Unit) (*layering.Predecessor, error) {
	return *l.last, nil
}

func (s *site) after(t *testing.T, r *Result, last *layering.Predecessor) *layering.Predecessor {
	m, err := image.ReadManifest(context.Background(), s.store, r.Images[0].Platforms[0].Descriptor)
	require.NoError(t, err)
	next := &layering.Predecessor{Digest: r.Images[0].Platforms[0].Descriptor.Digest, Place: "registry.tideline.example/tides/gauge"}
	for _, l := range m.Layers {
		indexed := s.indexed(l)
		next.Layers = append(next.Layers, indexed.Entries)
		next.Stored = append(next.Stored, layering.StoredLayer{Descriptor: l, DiffID: indexed.DiffID, CreatedBy: "an earlier build"})
	}
	if last != nil {
		next.Follows = last.Digest
		next.Past = append(slices.Clone(last.Past), last.Layers)
	}
	return next
}

// TestDeadCopiesStayWithinTheirBound: over random versions the tree is that of a build that follows nothing, what was
// removed is in no layer, and dead copies take no more than their share.
func TestDeadCopiesStayWithinTheirBound(t *testing.T) {
	s := newSite(t)
	r := rand.New(rand.NewPCG(5, 5))
	names := []string{}
	for i := range 30 {
		names = append(names, fmt.Sprintf("tables/%d/t%02d", i%5, i))
	}
	there := map[string]bool{}
	change := func(name string) {
		s.write(name, strings.Repeat(fmt.Sprintf("%08x", r.Uint32()), 2000+r.IntN(2000)))
		there[name] = true
	}
	for _, name := range names {
		change(name)
	}
	text := gauge("copy: {from: tables, to: /srv}", `write: {to: /etc/gauge.conf, text: "x"}`)
	var last *layering.Predecessor
	s.predecessors = lastIs{&last}
	stayed := 0
	for range 25 {
		result, _ := s.stack(t, text+"    stack: {policy: follow, layers: 7, dead-copies: 10%}\n")
		next := s.after(t, result, last)
		require.LessOrEqual(t, len(next.Layers), 7)
		for _, step := range result.Steps {
			require.NotEqual(t, event.SameAsAnother, step.Reason, "what stays as it was published is the step's own")
		}
		plain, _ := s.stack(t, text)
		want, err := treetest.Flat(s.after(t, plain, nil).Layers...)
		require.NoError(t, err)
		got, err := treetest.Flat(next.Layers...)
		require.NoError(t, err)
		require.Equal(t, want, got)
		var all, live int64
		for _, entries := range next.Layers {
			for _, e := range entries {
				all += e.Size
				if e.Kind == tree.File && strings.HasPrefix(e.Path, "srv/") {
					require.True(t, there["tables/"+strings.TrimPrefix(e.Path, "srv/")], "%s was removed, and a layer has it", e.Path)
				}
			}
		}
		for _, e := range s.after(t, plain, nil).Layers[0] {
			live += e.Size
		}
		require.LessOrEqual(t, float64(all-live), 0.11*float64(all))
		if all > live+1 {
			stayed++
		}
		last = next
		for range 1 + r.IntN(4) {
			name := names[r.IntN(len(names))]
			switch {
			case r.IntN(6) > 0:
				change(name)
			case there[name]:
				require.NoError(t, os.Remove(filepath.Join(s.dir, name)))
				delete(there, name)
			}
		}
		if r.IntN(8) == 0 {
			require.NoError(t, os.Chmod(filepath.Join(s.dir, "tables/1"), []os.FileMode{0o755, 0o750}[r.IntN(2)]))
		}
	}
	require.Greater(t, stayed, 5, "some copies did stay")
}

func TestFollowingKeepsWhatDidNotChange(t *testing.T) {
	s := newSite(t)
	for i := range 12 {
		s.write(fmt.Sprintf("tables/%d/t", i), strings.Repeat(fmt.Sprint(i), 100_000))
	}
	text := gauge("copy: {from: tables, to: /srv}") + "    stack: {policy: follow, layers: 6}\n"
	var last *layering.Predecessor
	s.predecessors = lastIs{&last}
	follow := func(r *Result) { last = s.after(t, r, last) }
	first, before := s.stack(t, text)
	require.Len(t, before, 3, "a part is at least 256 KiB")
	follow(first)
	s.write("tables/3/t", "changed")
	second, after := s.stack(t, text)
	kept := 0
	for _, layer := range before {
		if slices.ContainsFunc(after, func(l []string) bool { return slices.Equal(l, layer) }) {
			kept++
		}
	}
	require.Equal(t, len(before)-1, kept, "%v\n%v", before, after)
	require.LessOrEqual(t, len(after), 6)
	m, err := image.ReadManifest(context.Background(), s.store, second.Images[0].Platforms[0].Descriptor)
	require.NoError(t, err)
	require.Equal(t, string(last.Digest), m.Annotations[layering.FollowsKey])
	again, _ := s.stack(t, text)
	require.Equal(t, second.Images[0].Descriptor, again.Images[0].Descriptor, "the same predecessor gives the same digest")
	follow(second)
	third, _ := s.stack(t, text)
	require.Equal(t, second.Images[0].Descriptor, third.Images[0].Descriptor, "what did not change is the image that was published")
}

func TestSpreadOutArchives(t *testing.T) {
	s := newSite(t)
	lib := treetest.Zip(t, treetest.ZipFile("astro/Moon.class", 0o644, "moon"))
	war := treetest.Zip(t, treetest.ZipFile("WEB-INF/lib/astro.jar", 0o644, string(lib)), treetest.ZipFile("WEB-INF/classes/Tide.class", 0o644, "tide"))
	s.write("almanac.zip", string(treetest.Zip(t, treetest.ZipFile("almanac.war", 0o644, string(war)), treetest.ZipFile("readme", 0o644, "r"))))
	for spread, want := range map[string]string{
		"":                         "opt opt/almanac.war opt/readme",
		", spread: '*.war'":        "opt opt/almanac.war opt/almanac.war/WEB-INF opt/almanac.war/WEB-INF/classes opt/almanac.war/WEB-INF/classes/Tide.class opt/almanac.war/WEB-INF/lib opt/almanac.war/WEB-INF/lib/astro.jar opt/readme",
		", spread: [/nothing.war]": "opt opt/almanac.war opt/readme",
	} {
		r, err := s.build(gauge("unpack: {from: almanac.zip, to: /opt" + spread + "}"))
		require.NoError(t, err)
		var paths []string
		for _, e := range s.indexed(r.Steps[0].Layer).Entries {
			paths = append(paths, e.Path)
		}
		require.Equal(t, want, strings.Join(paths, " "))
	}
	r, err := s.build(gauge("unpack: {from: almanac.zip, to: /opt, spread: ['*.war', '*.jar']}"))
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(s.indexed(r.Steps[0].Layer).Entries, func(e tree.Entry) bool {
		return e.Path == "opt/almanac.war/WEB-INF/lib/astro.jar/astro/Moon.class"
	}))
	_, err = s.build(gauge("unpack: {from: almanac.zip, to: /opt, spread: readme}"))
	require.ErrorContains(t, err, `spreading out "readme"`)
	big := &zip.FileHeader{Name: "big.war", Method: zip.Deflate, Comment: strings.Repeat("x", 4000)}
	s.write("big.zip", string(treetest.Zip(t, big)))
	_, err = s.build(gauge("unpack: {from: big.zip, to: /opt, spread: '*.war', at-most: 1kB}"))
	require.ErrorContains(t, err, "more than 1000 bytes")
}
