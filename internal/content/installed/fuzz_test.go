package installed

import (
	"archive/zip"
	"bytes"
	"debug/elf"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
)

// FuzzLook: whatever stands in a record, reading it ends, and paths that it names stay in the tree.
func FuzzLook(f *testing.F) {
	paths := []string{"var/lib/dpkg/status", "var/lib/dpkg/status.d/tide", "var/lib/dpkg/status.d/tide.md5sums", "var/lib/dpkg/info/tide.list", "lib/apk/db/installed", "var/lib/rpm/rpmdb.sqlite",
		"srv/node_modules/tide/package.json", "usr/lib/python3/tide-1.dist-info/METADATA", "usr/lib/python3/tide-1.dist-info/RECORD", "usr/lib/ruby/specifications/tide-1.0.gemspec", "opt/tide-1.0.jar", "opt/tide", "var/lib/rpm/Packages", "var/lib/rpm/Packages.db"}
	for i, text := range []string{"Package: tide\nVersion: 1\nStatus: install ok installed\n", "Package: tide\n", "0  usr/bin/tide\n", "/.\n/usr/../../etc\n", "P:tide\nV:1\nF:usr\nR:../../x\n", "SQLite format 3\x00", `{"name":"tide","version":"1"}`,
		"Name: tide\nVersion: 1\n\n", "../../../../../../x,,\n\"a", "x", "x", "\x7fELF\xff Go buildinf:\x08\x02\x00"} {
		f.Add(uint8(i), []byte(text))
	}
	f.Add(uint8(10), jarOf(f, jarFile{"lib/ebb-1.jar", jarOf(f, jarFile{"META-INF/MANIFEST.MF", []byte("Bundle-Version: 1\n"), zip.Deflate, false}), zip.Store, true}))
	f.Add(uint8(11), rustProgram(f, elf.ELFCLASS64, zipped(f, `{"packages":[{"name":"tide","root":true}]}`), 100, 100))
	f.Fuzz(func(t *testing.T, which uint8, text []byte) {
		e := &tree.Entry{Path: paths[int(which)%len(paths)], Kind: tree.File, Mode: 0o755, Size: int64(len(text))}
		if e.Path == "opt/tide" {
			e.Size = 1 << 20
		}
		found, err := Look(e, bytes.NewReader(text))
		require.NoError(t, err)
		require.LessOrEqual(t, len(found), len(text)+1)
		for _, p := range found {
			require.NotEmpty(t, p.Manager)
			for _, file := range append(p.Files, p.Folder) {
				clean, err := tree.CleanPath(file)
				require.NoError(t, err)
				require.Equal(t, clean, file)
			}
		}
	})
}
