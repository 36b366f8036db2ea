package weight

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"imbricat/internal/content/installed"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/content/tree/treetest"
)

// file is a file of a layer that a test lays down.
type file struct {
	name, text string
	mode       int64 // 0: 644
}

// layerOf packs files as another program would, and weighs them. Names that end in a slash are folders; a text of "-> x" is a hard link, "→ x" a
// symbolic one.
func layerOf(t require.TestingT, step string, files ...file) Layer {
	var blob bytes.Buffer
	z := gzip.NewWriter(&blob)
	w := tar.NewWriter(z)
	for _, f := range files {
		h := &tar.Header{Name: f.name, Typeflag: tar.TypeReg, Mode: max(f.mode, 0o644), Size: int64(len(f.text))}
		switch {
		case strings.HasSuffix(f.name, "/"):
			h.Typeflag = tar.TypeDir
		case strings.HasPrefix(f.text, "-> "):
			h.Typeflag, h.Linkname, h.Size = tar.TypeLink, f.text[3:], 0
		case strings.HasPrefix(f.text, "→ "):
			h.Typeflag, h.Linkname, h.Size = tar.TypeSymlink, f.text[4:], 0
		}
		require.NoError(t, w.WriteHeader(h))
		if h.Size > 0 {
			_, err := io.WriteString(w, f.text)
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	one := Layer{Size: int64(blob.Len()), Step: step, Evidence: installed.Evidence{}}
	var err error
	one.Index, one.Weights, err = layer.Weigh(&blob, func(e *tree.Entry, body io.Reader) error {
		found, err := installed.Look(e, body)
		if len(found) > 0 {
			one.Evidence[e.Path] = found
		}
		return err
	})
	require.NoError(t, err)
	return one
}

// text is so many bytes that nothing else has.
func text(name string, n int) string { return strings.Repeat(name+"\n", n/len(name)+1)[:n] }

// TestWaste plants waste of each kind, of known sizes.
func TestWaste(t *testing.T) {
	image, err := Of([]Layer{
		layerOf(t, "base",
			file{"srv/replaced", text("old", 1000), 0}, file{"srv/deleted/a", text("a", 2000), 0}, file{"srv/deleted/deep/b", text("b", 3000), 0}, file{"srv/gone", text("g", 500), 0},
			file{"srv/changed", text("c", 4000), 0}, file{"srv/kept", text("k", 700), 0}, file{"srv/hidden/x", text("x", 600), 0}, file{"srv/folder", text("f", 800), 0}, file{"srv/behind/y", text("y", 900), 0},
			file{"srv/linked", text("l", 1100), 0}, file{"srv/name", "-> srv/linked", 0}),
		layerOf(t, "step two",
			file{"srv/replaced", text("new", 1500), 0}, file{"srv/.wh.deleted", "", 0}, file{"srv/.wh.gone", "", 0}, file{"srv/changed", text("c", 4000), 0o755}, file{"srv/hidden/.wh..wh..opq", "", 0},
			file{"srv/folder/", "", 0}, file{"srv/behind", "→ kept", 0}, file{"srv/.wh.linked", "", 0},
			file{"srv/twice", text("1", 300), 0}, file{"srv/twice", text("2", 200), 0}),
		layerOf(t, "step three",
			file{"opt/copy", text("k", 700), 0}, file{"opt/tiny", "k", 0}, file{"opt/tiny2", "k", 0},
			file{"var/cache/apt/pkgcache.bin", text("p", 5000), 0}, file{"var/cache/apt/archives/x.deb", text("d", 6000), 0}, file{"root/.npm/_cacache/index", text("n", 1200), 0},
			file{"srv/app/.git/objects/1", text("o", 1300), 0}, file{"usr/lib/debug/x.debug", text("s", 1400), 0}, file{"usr/share/doc/tides/copyright", text("w", 1600), 0}, file{"usr/share/locale/de/tides.mo", text("t", 1700), 0}),
	})
	require.NoError(t, err)
	var got []string
	for _, one := range image.Waste {
		require.NotEmpty(t, one.Cure)
		got = append(got, fmt.Sprintf("%s %s %d in %d, layers %v %v by %d %s", one.Kind, one.Path, one.Unpacked, one.Files, one.Layers, one.Steps, one.By, one.ByStep))
	}
	require.ElementsMatch(t, []string{
		"replaced /srv 1800 in 2, layers [1] [base] by 2 step two", // srv/replaced, and srv/folder
		"replaced /srv/behind 900 in 1, layers [1] [base] by 2 step two",
		"deleted /srv/deleted 5000 in 2, layers [1] [base] by 2 step two",
		"deleted /srv/gone 500 in 1, layers [1] [base] by 2 step two",
		"deleted /srv/hidden 600 in 1, layers [1] [base] by 2 step two",
		"changed /srv/changed 4000 in 1, layers [1] [base] by 2 step two",
		"doubled /srv/twice 300 in 1, layers [2] [step two] by 0 ",
		"duplicate /opt/copy 700 in 1, layers [3] [step three] by 0 ",
		"cache /var/cache/apt 11000 in 2, layers [3] [step three] by 0 ",
		"cache /root/.npm/_cacache 1200 in 1, layers [3] [step three] by 0 ",
		"history /srv/app/.git 1300 in 1, layers [3] [step three] by 0 ",
		"debug /usr/lib/debug 1400 in 1, layers [3] [step three] by 0 ",
		"documents /usr/share/doc 1600 in 1, layers [3] [step three] by 0 ",
		"translated /usr/share/locale 1700 in 1, layers [3] [step three] by 0 ",
	}, got)
	require.EqualValues(t, 1800+900+5000+500+600+4000+300+700+11000+1200+1300+1400+1600+1700, image.Wasted.Unpacked)
	require.EqualValues(t, 1500+4000+700+1100+200+700+2+5000+6000+1200+1300+1400+1600+1700, image.Total.Unpacked, "a file that goes on under another name is seen")
}

// TestPackages: what lies in an image is told by the packages that it belongs to.
func TestPackages(t *testing.T) {
	status := "Package: tide\nStatus: install ok installed\nVersion: 1.2-3\n\nPackage: ebb\nStatus: deinstall ok config-files\nVersion: 1\n\nPackage: moon\nStatus: install ok installed\nVersion: 2\n"
	goText := "\x7fELF" + strings.Repeat("x", 1<<16) + "\xff Go buildinf:\x00\x00" + strings.Repeat("z", 15) + "\xff Go buildinf:\x08\x02" + strings.Repeat("\x00", 16) + "\x08go1.26.8"
	modules := strings.Repeat("0", 16) + "path\ttideline.example/gauge/cmd\nmod\ttideline.example/gauge\tv1.4.0\t\n" + strings.Repeat("1", 16)
	goText += string(rune(len(modules))) + modules
	var app bytes.Buffer
	jar := zip.NewWriter(&app)
	inside, err := jar.CreateHeader(&zip.FileHeader{Name: "lib/ebb-2.0.jar", Method: zip.Deflate})
	require.NoError(t, err)
	for n := range 3000 {
		_, err = fmt.Fprint(inside, n*n)
		require.NoError(t, err)
	}
	require.NoError(t, jar.Close())
	list, err := zip.NewReader(bytes.NewReader(app.Bytes()), int64(app.Len()))
	require.NoError(t, err)
	part := int64(list.File[0].CompressedSize64)
	image, err := Of([]Layer{
		layerOf(t, "base", file{"bin", "→ usr/bin", 0}, file{"usr/bin/tide", text("tide", 1000), 0o755}, file{"usr/bin/moon", text("moon", 2000), 0o755},
			file{"var/lib/dpkg/status", "Package: old\nStatus: install ok installed\nVersion: 0\n", 0}, file{"var/lib/dpkg/info/tide.list", "/.\n/bin\n/bin/tide\n", 0},
			file{"var/lib/dpkg/info/moon:amd64.list", "/usr/bin/moon\n", 0}, file{"var/lib/dpkg/info/ebb.list", "/usr/bin/ebb\n", 0}),
		layerOf(t, "more", file{"var/lib/dpkg/status", status, 0},
			file{"srv/node_modules/tides/package.json", `{"name":"tides","version":"3.0.0"}`, 0}, file{"srv/node_modules/tides/lib/index.js", text("js", 300), 0},
			file{"srv/node_modules/@sea/level/package.json", `{"name":"@sea/level","version":"0.1.0"}`, 0}, file{"srv/node_modules/tides/node_modules/deep/package.json", `{"name":"deep","version":"9.9.9"}`, 0},
			file{"srv/package.json", `{"name":"own","version":"1.0.0"}`, 0}, file{"srv/node_modules/broken/package.json", `{"name":`, 0},
			file{"usr/lib/python3/site-packages/tides-1.0.dist-info/METADATA", "Metadata-Version: 2.1\nName: Tides\nVersion: 1.0\n\nName: not this\n", 0},
			file{"usr/lib/python3/site-packages/tides-1.0.dist-info/RECORD", "tides/__init__.py,sha256=x,5\n\"tides/a,b.py\",,\n../../../../etc/passwd,,\n", 0},
			file{"usr/lib/python3/site-packages/tides/__init__.py", text("py", 400), 0}, file{"usr/lib/python3/site-packages/tides/a,b.py", text("ab", 500), 0},
			file{"usr/lib/ruby/specifications/ebb-flow-1.2.3.gemspec", "x", 0}, file{"usr/lib/ruby/gems/ebb-flow-1.2.3/lib/ebb.rb", text("rb", 600), 0},
			file{"opt/almanac-2.1.0.jar", text("jar", 700), 0}, file{"opt/app.jar", app.String(), 0}, file{"opt/gauge", goText, 0o755}),
		layerOf(t, "slim", file{"var/lib/dpkg/status.d/base", "Package: base-files\nVersion: 12\n", 0}, file{"var/lib/dpkg/status.d/base.md5sums", "0123  usr/share/base\n", 0}, file{"usr/share/base", text("base", 900), 0}),
		layerOf(t, "alpine", file{"lib/apk/db/installed", "C:x\nP:musl\nV:1.2.5\nF:lib\nR:ld-musl.so\na:0:0:755\n\nP:none\nV:1\n", 0}, file{"lib/ld-musl.so", text("musl", 800), 0o755}),
	})
	require.NoError(t, err)
	got := map[string]int64{}
	for _, p := range image.Packages {
		got[strings.TrimSpace(p.Manager+" "+p.Name+" "+p.Version)] = p.Unpacked
	}
	require.Equal(t, map[string]int64{"dpkg base-files 12": 900, "dpkg tide 1.2-3": 1000 + 18, "dpkg moon 2": 2000 + 14, "npm tides 3.0.0": 34 + 300, "npm @sea/level 0.1.0": 39, "npm deep 9.9.9": 33,
		"python Tides 1.0": 400 + 500 + 63 + 71, "gem ebb-flow 1.2.3": 600 + 1, "java almanac 2.1.0": 700, "java ebb 2.0": part, "java app": int64(app.Len()) - part, "go tideline.example/gauge v1.4.0": int64(len(goText)), "apk musl 1.2.5": 800}, got)
}

// TestSums: whatever the layers, all that they have is told of once.
func TestSums(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		var layers []Layer
		blobs := int64(0)
		for n := range 1 + r.IntN(4) {
			entries := treetest.Layer(r, n)
			one := Layer{Index: &layer.Indexed{Entries: entries}, Weights: &layer.Weights{Rest: int64(r.IntN(50))}}
			one.Size = one.Weights.Rest
			for range entries {
				packed := int64(r.IntN(1000))
				one.Weights.Packed, one.Size = append(one.Weights.Packed, packed), one.Size+packed
			}
			if r.IntN(3) == 0 {
				one.Weights.Doubled = []layer.Doubled{{Path: "twice", Packed: 7, Size: 9}}
				one.Size += 7
			}
			layers = append(layers, one)
			blobs += one.Size
		}
		image, err := Of(layers)
		if err != nil {
			t.Skip(err)
		}
		require.Equal(t, blobs, image.Total.Packed)
		sum := func(list []Share) (n int64) {
			for _, one := range list {
				n += one.Packed
			}
			return n
		}
		hidden := int64(0)
		for _, one := range image.Layers {
			hidden += one.Hidden
		}
		require.Equal(t, blobs, sum(image.Kinds)+hidden)
		require.Equal(t, "/", image.Folders[0].Name)
		require.Equal(t, blobs, image.Folders[0].Packed+hidden)
		seen, files := int64(0), 0
		for _, one := range tree.Squash(func() (all [][]tree.Entry) {
			for i := range layers {
				all = append(all, layers[i].Index.Entries)
			}
			return all
		}()) {
			if one.Kind == tree.File {
				seen, files = seen+one.Size, files+1
			}
		}
		require.Equal(t, seen, image.Total.Unpacked)
		require.Equal(t, files, image.Total.Files)
	})
}
