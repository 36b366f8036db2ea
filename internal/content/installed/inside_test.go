package installed

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"compress/zlib"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
)

// look shows Look a file.
func look(t testing.TB, p string, content []byte) []Package {
	found, err := Look(&tree.Entry{Path: p, Kind: tree.File, Mode: 0o755, Size: int64(len(content))}, bytes.NewReader(content))
	require.NoError(t, err)
	return found
}

// TestRPMHash: a table that Berkeley DB wrote, one header in its page and one in pages of its own.
func TestRPMHash(t *testing.T) {
	packed, err := os.Open("testdata/Packages.gz")
	require.NoError(t, err)
	defer packed.Close()
	r, err := gzip.NewReader(packed)
	require.NoError(t, err)
	content, err := io.ReadAll(r)
	require.NoError(t, err)
	got := map[string]int{}
	for _, p := range look(t, "var/lib/rpm/Packages", content) {
		got[p.Manager+" "+p.Name+" "+p.Version+" "+p.Files[0]] = len(p.Files)
	}
	require.Equal(t, map[string]int{"rpm ebb 1.2-3 usr/share/ebb": 3, "rpm tide 1.2-3 usr/share/tide": 401}, got)
	// Pages in a circle, and one that is named twice, end.
	for at := 8192; at < len(content); at += 8192 {
		if content[at+25] == pageOverflow {
			circle := bytes.Clone(content)
			binary.LittleEndian.PutUint32(circle[at+16:], uint32(at/8192))
			require.LessOrEqual(t, len(look(t, "var/lib/rpm/Packages", circle)), 2)
		}
	}
}

// TestRPMSlots: a database of slots, of which one is free, one points outside and one at a blob of another number.
func TestRPMSlots(t *testing.T) {
	content := make([]byte, 4096+4096)
	copy(content, "RpmP")
	binary.LittleEndian.PutUint32(content[12:], 1)
	header := headerOf(map[uint32][]string{rpmName: {"tide"}, rpmVersion: {"1.2"}, rpmBaseNames: {"tide"}, rpmDirNames: {"/usr/bin/"}}, map[uint32][]uint32{rpmDirIndexes: {0}})
	slot := func(at int, index, block uint32) {
		copy(content[at:], "Slot")
		binary.LittleEndian.PutUint32(content[at+4:], index)
		binary.LittleEndian.PutUint32(content[at+8:], block)
	}
	slot(32, 0, 256)
	slot(48, 7, 256)
	slot(64, 8, 1<<30)
	slot(80, 9, 256)
	copy(content[4096:], "BlbS")
	binary.LittleEndian.PutUint32(content[4096+4:], 7)
	binary.LittleEndian.PutUint32(content[4096+12:], uint32(len(header)))
	copy(content[4096+16:], header)
	want := []Package{{Manager: RPM, Name: "tide", Version: "1.2", Files: []string{"usr/bin/tide"}}}
	require.Equal(t, want, look(t, "usr/lib/sysimage/rpm/Packages.db", content))
	binary.LittleEndian.PutUint32(content[4096+12:], 1<<31)
	require.Empty(t, look(t, "usr/lib/sysimage/rpm/Packages.db", content))
}

// zipped packs the list of crates of a program.
func zipped(t testing.TB, text string) []byte {
	var out bytes.Buffer
	w := zlib.NewWriter(&out)
	_, err := io.WriteString(w, text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.Bytes()
}

// rustProgram is a program with a section that begins at a place of its own, and its table of sections at the end.
func rustProgram(t testing.TB, class elf.Class, crates []byte, before int, claimed uint64) []byte {
	content := make([]byte, before)
	copy(content, elf.ELFMAG)
	content[elf.EI_CLASS], content[elf.EI_DATA] = byte(class), byte(elf.ELFDATA2LSB)
	content = append(append(content, crates...), strings.Repeat("\x78\x9c", 500)...)
	content = append(content, make([]byte, (1<<16)+1)...)
	table := len(content)
	if class == elf.ELFCLASS64 {
		binary.LittleEndian.PutUint64(content[40:], uint64(table))
		binary.LittleEndian.PutUint16(content[60:], 2)
		content = append(content, make([]byte, 2*64)...)
		binary.LittleEndian.PutUint64(content[table+64+24:], claimed)
	} else {
		binary.LittleEndian.PutUint32(content[32:], uint32(table))
		binary.LittleEndian.PutUint16(content[48:], 2)
		content = append(content, make([]byte, 2*40)...)
		binary.LittleEndian.PutUint32(content[table+40+16:], uint32(claimed))
	}
	return content
}

// TestCargo: the crate that a program was built for, where a section of it begins with the list, and nowhere else.
func TestCargo(t *testing.T) {
	crates := zipped(t, `{"packages":[{"name":"ebb","version":"0.1.0","source":"crates.io"},{"name":"gauge","version":"1.4.0","source":"local","root":true,"dependencies":[0]}]}`)
	want := []Package{{Manager: Cargo, Name: "gauge", Version: "1.4.0", Folder: "usr/bin/gauge"}}
	for _, before := range []int{100, step - 1, step, step + ahead, 2*step + 1, 3*step - 7} {
		for _, class := range []elf.Class{elf.ELFCLASS32, elf.ELFCLASS64} {
			require.Equal(t, want, look(t, "usr/bin/gauge", rustProgram(t, class, crates, before, uint64(before))), "%d bytes before it, %s", before, class)
		}
	}
	require.Empty(t, look(t, "usr/bin/gauge", rustProgram(t, elf.ELFCLASS64, crates, 100, 96)), "a list that no section begins with is somebody's text")
	require.Empty(t, look(t, "usr/bin/gauge", rustProgram(t, elf.ELFCLASS64, zipped(t, `{"packages":[{"name":"ebb"}]}`), 100, 100)))
	require.Empty(t, look(t, "usr/bin/gauge", rustProgram(t, elf.ELFCLASS64, crates[:30], 100, 100)))
}

// jarFile is an entry of a jar that a test packs: as its tools do that know sizes before, or behind the entry.
type jarFile struct {
	name    string
	content []byte
	method  uint16
	known   bool
}

func jarOf(t testing.TB, files ...jarFile) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.name, Method: f.method}
		if !f.known {
			into, err := w.CreateHeader(h)
			require.NoError(t, err)
			_, err = into.Write(f.content)
			require.NoError(t, err)
			continue
		}
		packed := f.content
		if f.method == zip.Deflate {
			packed = deflated(t, f.content)
		}
		h.CompressedSize64, h.UncompressedSize64 = uint64(len(packed)), uint64(len(f.content))
		into, err := w.CreateRaw(h)
		require.NoError(t, err)
		_, err = into.Write(packed)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// deflated packs a text as an entry of a zip archive has it: what zlib writes, without its head and sum.
func deflated(t testing.TB, content []byte) []byte {
	packed := zipped(t, string(content))
	return packed[2 : len(packed)-4]
}

// TestJar: a jar that brings others along, in each way that entries are written.
func TestJar(t *testing.T) {
	class := jarFile{"sea/Tide.class", bytes.Repeat([]byte("PK\x03\x04 tide"), 5000), zip.Deflate, false}
	pom := func(name, version string) jarFile {
		return jarFile{"META-INF/maven/sea/" + name + "/pom.properties", fmt.Appendf(nil, "groupId=sea\nartifactId=%s\nversion=%s\n", name, version), zip.Deflate, true}
	}
	ebb := jarOf(t, class, pom("ebb", "2.0"))
	moon := jarOf(t, jarFile{"META-INF/MANIFEST.MF", []byte("Manifest-Version: 1.0\r\nImplementation-Version: 0.9\r\n\r\nName: x\r\nImplementation-Version: 7\r\n"), zip.Deflate, false})
	war := jarOf(t, class, jarFile{"WEB-INF/lib/deep-4.jar", moon, zip.Store, true})
	content := jarOf(t, jarFile{"META-INF/", nil, zip.Store, true}, class, pom("almanac", "1.4.0"),
		jarFile{"BOOT-INF/lib/ebb.jar", ebb, zip.Store, true}, jarFile{"lib/moon.jar", moon, zip.Deflate, false}, jarFile{"lib/tables-3.1.jar", []byte("no zip"), zip.Deflate, true}, jarFile{"web.war", war, zip.Deflate, true})
	got := map[string]int64{}
	for _, p := range look(t, "opt/app.jar", content) {
		require.Equal(t, Java, p.Manager)
		got[p.Name+" "+p.Version+" "+p.Folder+p.Inside] = p.Size
	}
	sizes := map[string]int64{}
	r, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	require.NoError(t, err)
	for _, f := range r.File {
		sizes[f.Name] = int64(f.CompressedSize64)
	}
	require.Equal(t, map[string]int64{
		"almanac 1.4.0 opt/app.jar":                           0,
		"ebb 2.0 opt/app.jar!/BOOT-INF/lib/ebb.jar":           sizes["BOOT-INF/lib/ebb.jar"],
		"moon 0.9 opt/app.jar!/lib/moon.jar":                  sizes["lib/moon.jar"],
		"tables 3.1 opt/app.jar!/lib/tables-3.1.jar":          sizes["lib/tables-3.1.jar"],
		"web  opt/app.jar!/web.war":                           sizes["web.war"],
		"deep 4 opt/app.jar!/web.war!/WEB-INF/lib/deep-4.jar": 0,
	}, got)
	// One that was put together of several keeps its own name, and has the others in it.
	got = map[string]int64{}
	for _, p := range look(t, "opt/all-1.jar", jarOf(t, pom("ebb", "2.0"), pom("all", "1.1"), class)) {
		got[p.Name+" "+p.Version+" "+p.Folder+p.Inside] = p.Size
	}
	require.Equal(t, map[string]int64{"all 1.1 opt/all-1.jar": 0, "ebb 2.0 opt/all-1.jar!/ebb": 0}, got)
	// What unpacks to much more than there is ends it.
	bomb := jarOf(t, jarFile{"zeros", make([]byte, 2*jarUnpacked), zip.Deflate, false}, pom("late", "1"))
	require.Equal(t, []Package{{Manager: Java, Name: "bomb", Version: "1", Folder: "opt/bomb-1.jar"}}, look(t, "opt/bomb-1.jar", bomb))
}
