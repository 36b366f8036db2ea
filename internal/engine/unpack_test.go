package engine

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree/treetest"
)

func TestUnpackZip(t *testing.T) {
	s := newSite(t)
	s.write("data.zip", string(treetest.Zip(t, treetest.ZipFile("top/bin/tool", 0o755, "tool"), treetest.ZipFile("top/link", 0o777|os.ModeSymlink, "bin/tool"),
		treetest.ZipFile("top/empty/", 0o750|os.ModeDir, ""), &zip.FileHeader{Name: `top\old\name.txt`, Comment: "made elsewhere"})))
	r, err := s.build(gauge("unpack: {from: data.zip, to: /opt, strip: 1, owner: 7}"))
	require.NoError(t, err)
	require.Equal(t, []string{"opt 755 7, opt/bin 755 7, opt/bin/tool 755 7, opt/empty 750 7, opt/link 777 7, opt/old 755 7, opt/old/name.txt 644 7"}, s.entries(r))
	s.write("empty.zip", string(treetest.Zip(t)))
	_, err = s.build(gauge("unpack: {from: empty.zip, to: /opt}"))
	require.NoError(t, err)
}

// TestHostileArchives: what climbs out, lies about its size, or is none of a file tree is refused, and nothing is laid
// down through a link of the archive.
func TestHostileArchives(t *testing.T) {
	file := func(name string) *tar.Header {
		return &tar.Header{Name: name, Typeflag: tar.TypeReg, Size: 3, Mode: 0o644}
	}
	device := func(name string) *tar.Header {
		return &tar.Header{Name: name, Typeflag: tar.TypeBlock, Devmajor: 8}
	}
	for name, c := range map[string]struct {
		content []byte
		want    string
	}{
		"climbs out":          {treetest.Tar(t, file("../../etc/passwd")), "leads out of its root"},
		"climbs out of a zip": {treetest.Zip(t, treetest.ZipFile("../../etc/passwd", 0o644, "x")), "leads out of its root"},
		"hard link out":       {treetest.Tar(t, &tar.Header{Name: "a", Typeflag: tar.TypeLink, Linkname: "../x"}), "leads out of its root"},
		"hard link nowhere":   {treetest.Tar(t, &tar.Header{Name: "a", Typeflag: tar.TypeLink, Linkname: "x"}), "which is not a file of it"},
		"through a link":      {treetest.Tar(t, &tar.Header{Name: "a", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, file("a/passwd")), "is a link of the same step"},
		"a device":            {treetest.Tar(t, &tar.Header{Name: "dev/sda", Typeflag: tar.TypeBlock, Devmajor: 8}), `holds the device dev/sda, and images have none: add leave-out: ["/dev/sda"]`},
		"devices": {treetest.Tar(t, device("dev/sda"), device("dev/sdb"), device("dev/sdc"), device("dev/sdd"), device("null")),
			`holds 5 devices (dev/sda, dev/sdb, dev/sdc and 2 more), and images have none: add leave-out: ["/dev/*", "/null"]`},
		"a layer":        {treetest.Tar(t, file(".wh.etc")), "is a layer of an image"},
		"a mark":         {treetest.Tar(t, file("a/.wh..wh.plnk")), "mark of an unknown kind"},
		"no archive":     {[]byte(strings.Repeat("this is none ", 100)), "archive: not a valid archive: it has what is not a header of tar"},
		"no zip":         {append([]byte("PK\x03\x04"), bytes.Repeat([]byte{1}, 600)...), "its list of files is not that of a zip"},
		"cut off":        {treetest.Tar(t, file("a"), file("b"))[:1200], "not a valid archive: it ends in the middle"},
		"a zip's device": {treetest.Zip(t, treetest.ZipFile("tty", 0o644|os.ModeDevice, "")), "neither a file nor a folder"},
		"too large":      {bomb(t), "it unpacks to more than 1000000 bytes"},
	} {
		s := newSite(t)
		s.write("archive", string(c.content))
		_, err := s.build(gauge("unpack: {from: archive, to: /x, at-most: 1MB}"))
		require.ErrorContains(t, err, c.want, name)
		left, err := filepath.Glob(filepath.Join(s.store.Dir(), "imbricat/tmp/*"))
		require.NoError(t, err)
		require.Empty(t, left, name)
		t.Log("held: " + name)
	}
	s := newSite(t)
	s.write("archive", string(treetest.Tar(t, &tar.Header{Name: "dev/sda", Typeflag: tar.TypeBlock, Devmajor: 8}, file("a"))))
	_, err := s.build(gauge("unpack: {from: archive, to: /x, leave-out: [/dev]}"))
	require.NoError(t, err)
	_, err = s.build(gauge("unpack: {from: archive, to: /x, strip: 7}"))
	require.ErrorContains(t, err, "nothing of archive is left when 7 leading elements are dropped")
}

// bomb is a small archive of one large file.
func bomb(t *testing.T) []byte {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	w := tar.NewWriter(z)
	require.NoError(t, w.WriteHeader(&tar.Header{Name: "zeros", Typeflag: tar.TypeReg, Size: 1 << 30}))
	_, err := io.CopyN(w, zero{}, 4<<20)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return out.Bytes()
}

type zero struct{}

func (zero) Read(p []byte) (int, error) { clear(p); return len(p), nil }
