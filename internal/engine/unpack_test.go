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
)

func tarred(t require.TestingT, headers ...*tar.Header) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write(bytes.Repeat([]byte{'x'}, int(h.Size)))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func zipped(t require.TestingT, files ...*zip.FileHeader) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, h := range files {
		f, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = io.WriteString(f, h.Comment)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

func unixFile(name string, mode os.FileMode, content string) *zip.FileHeader {
	h := &zip.FileHeader{Name: name, Method: zip.Deflate, Comment: content}
	h.SetMode(mode)
	return h
}

func TestUnpackZip(t *testing.T) {
	s := newSite(t)
	s.write("data.zip", string(zipped(t, unixFile("top/bin/tool", 0o755, "tool"), unixFile("top/link", 0o777|os.ModeSymlink, "bin/tool"),
		unixFile("top/empty/", 0o750|os.ModeDir, ""), &zip.FileHeader{Name: `top\old\name.txt`, Comment: "made elsewhere"})))
	r, err := s.build(gauge("unpack: {from: data.zip, to: /opt, strip: 1, owner: 7}"))
	require.NoError(t, err)
	require.Equal(t, []string{"opt 755 7, opt/bin 755 0, opt/bin/tool 755 7, opt/empty 750 7, opt/link 777 7, opt/old 755 0, opt/old/name.txt 644 7"}, s.entries(r))
	s.write("empty.zip", string(zipped(t)))
	_, err = s.build(gauge("unpack: {from: empty.zip, to: /opt}"))
	require.NoError(t, err)
}

// TestHostileArchives: what climbs out, lies about its size, or is none of a file tree is refused, and nothing is laid
// down through a link of the archive.
func TestHostileArchives(t *testing.T) {
	file := func(name string) *tar.Header {
		return &tar.Header{Name: name, Typeflag: tar.TypeReg, Size: 3, Mode: 0o644}
	}
	for name, c := range map[string]struct {
		content []byte
		want    string
	}{
		"climbs out":          {tarred(t, file("../../etc/passwd")), "leads out of its root"},
		"climbs out of a zip": {zipped(t, unixFile("../../etc/passwd", 0o644, "x")), "leads out of its root"},
		"hard link out":       {tarred(t, &tar.Header{Name: "a", Typeflag: tar.TypeLink, Linkname: "../x"}), "leads out of its root"},
		"hard link nowhere":   {tarred(t, &tar.Header{Name: "a", Typeflag: tar.TypeLink, Linkname: "x"}), "which is no file of it"},
		"through a link":      {tarred(t, &tar.Header{Name: "a", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, file("a/passwd")), "is a link of the same step"},
		"a device":            {tarred(t, &tar.Header{Name: "dev/sda", Typeflag: tar.TypeBlock, Devmajor: 8}), `leave it out with leave-out: ["/dev/sda"]`},
		"a layer":             {tarred(t, file(".wh.etc")), "is a layer of an image"},
		"a mark":              {tarred(t, file("a/.wh..wh.plnk")), "mark of an unknown kind"},
		"no archive":          {[]byte(strings.Repeat("this is none ", 100)), "malformed"},
		"no zip":              {append([]byte("PK\x03\x04"), bytes.Repeat([]byte{1}, 600)...), "malformed"},
		"cut off":             {tarred(t, file("a"), file("b"))[:1200], "malformed"},
		"a zip's device":      {zipped(t, unixFile("tty", 0o644|os.ModeDevice, "")), "neither a file nor a folder"},
		"too large":           {bomb(t), "it unpacks to more than 1000000 bytes"},
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
	s.write("archive", string(tarred(t, &tar.Header{Name: "dev/sda", Typeflag: tar.TypeBlock, Devmajor: 8}, file("a"))))
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
