package causes

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"debug/elf"
	"encoding/binary"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
)

var (
	early = time.Date(2026, 6, 21, 9, 30, 0, 0, time.UTC)
	late  = time.Date(2028, 1, 4, 5, 12, 6, 0, time.UTC)
	clues = Clues{Clocks: [2]Span{{early.Add(-time.Minute), early.Add(time.Minute)}, {late.Add(-time.Minute), late.Add(time.Minute)}},
		Names: [2][]string{{"6.18.44-plain"}, {"skerry"}}}
)

func gzipped(content string, at time.Time) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.ModTime = at
	_, _ = w.Write([]byte(content))
	_ = w.Close()
	return out.Bytes()
}

func zstdOf(content []byte) []byte {
	w, _ := zstd.NewWriter(nil)
	return w.EncodeAll(content, nil)
}

// tarOf makes an archive of names with contents; a name may be followed by its owner.
func tarOf(at time.Time, pairs ...string) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for i := 0; i < len(pairs); i += 2 {
		name, owner, _ := strings.Cut(pairs[i], " ")
		_ = w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(pairs[i+1])), ModTime: at, Uname: owner})
		_, _ = w.Write([]byte(pairs[i+1]))
	}
	_ = w.Close()
	return out.Bytes()
}

func zipOf(at time.Time, pairs ...string) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for i := 0; i < len(pairs); i += 2 {
		f, _ := w.CreateHeader(&zip.FileHeader{Name: pairs[i], Modified: at})
		_, _ = f.Write([]byte(pairs[i+1]))
	}
	_ = w.Close()
	return out.Bytes()
}

func arOf(at time.Time, names ...string) []byte {
	out := []byte("!<arch>\n")
	for _, name := range names {
		out = append(out, fmt.Sprintf("%-16s%-12d%-6d%-6d%-8s%-10d`\n%s", name+"/", at.Unix(), 0, 0, "100644", 4, "tide")...)
	}
	return out
}

func pycOf(at time.Time, code string) []byte {
	out := append([]byte{0xa7, 0x0d, '\r', '\n', 0, 0, 0, 0}, binary.LittleEndian.AppendUint32(nil, uint32(at.Unix()))...)
	return append(append(out, 1, 0, 0, 0), code...)
}

// elfWith returns this test program with a text of one of its sections replaced.
func elfWith(t *testing.T, from, to string) []byte {
	text, err := os.ReadFile("/proc/self/exe")
	if err != nil {
		t.Skip(err)
	}
	f, err := elf.NewFile(bytes.NewReader(text))
	require.NoError(t, err)
	s := f.Section(".rodata")
	at := bytes.Index(text[s.Offset:s.Offset+s.Size], []byte(from))
	require.Positive(t, at)
	copy(text[int(s.Offset)+at:], to)
	return text
}

const marked = "the mark of the test was made at 2026-06-21 09:30:00"

// TestBetween: of each format the field is told that differs, and what it looks like.
func TestBetween(t *testing.T) {
	require.NotEmpty(t, fmt.Sprint(marked))
	seconds := func(at time.Time, order binary.AppendByteOrder) []byte {
		return append(order.AppendUint32([]byte{0, 1, 2, 3, 4, 5, 6, 7}, uint32(at.Unix())), 0xff, 0, 0xfe, 0)
	}
	for _, c := range []struct {
		path     string
		was, now []byte
		where    string
		cause    Cause
		form     Form
	}{
		{"a.gz", gzipped("tide", early), gzipped("tide", late), "gzip header: modification time", Clock, Gzip},
		{"a.gz", gzipped("at "+early.Format(time.DateTime), early), gzipped("at "+late.Format(time.DateTime), early), "line 1", Clock, Text},
		{"a.zst", zstdOf(tarOf(early, "a", "1")), zstdOf(tarOf(late, "a", "1")), "tar entry a: modification time", Clock, Tar},
		{"a.tar", tarOf(early, "a", "1", "b", "2"), tarOf(early, "b", "2", "a", "1"), "tar: the order of its entries, from entry 1 on", Listing, Tar},
		{"a.tar", tarOf(early, "a", "1", "b", "2"), tarOf(early, "a", "1"), "tar: its entries", Other, Tar},
		{"a.tar", tarOf(early, "a keeper", "1"), tarOf(early, "a root", "1"), "tar entry a: owner", Machine, Tar},
		{"a.tar.gz", gzipped(string(tarOf(early, "d/a.gz", string(gzipped("x", early)))), early), gzipped(string(tarOf(early, "d/a.gz", string(gzipped("x", late)))), early), "tar entry d/a.gz: gzip header: modification time", Clock, Gzip},
		{"a.jar", zipOf(early, "a", "1"), zipOf(late, "a", "1"), "zip entry a: modification time", Clock, Zip},
		{"a.zip", zipOf(early, "a", "1", "b", "2"), zipOf(early, "b", "2", "a", "1"), "zip: the order of its entries, from entry 1 on", Listing, Zip},
		{"lib.a", arOf(early, "tide.o"), arOf(late, "tide.o"), "ar entry tide.o: modification time", Clock, Archive},
		{"a.pyc", pycOf(early, "code"), pycOf(late, "code"), "header, bytes 8 to 11: time of the source", Clock, ByteCode},
		{"a.pyc", pycOf(early, "abcd"), pycOf(early, "bacd"), "byte-code: the order of a set, or of constants", Random, ByteCode},
		{"a.pdf", []byte("%PDF-1.7\n/CreationDate (D:20260621)/x"), []byte("%PDF-1.7\n/CreationDate (D:20280104)/x"), "PDF /CreationDate", Clock, PDF},
		{"a.txt", []byte("a\nb\nc"), []byte("a\nc\nb"), "the order of its lines, from line 2 on", Listing, Text},
		{"a.txt", []byte("x\nbuilt 2026-06-21T09:30:00Z by"), []byte("x\nbuilt 2028-01-04T05:12:06Z by"), "line 2", Clock, Text},
		{"a.txt", fmt.Appendf(nil, "stamp=%d", early.Unix()), fmt.Appendf(nil, "stamp=%d", late.Unix()), "line 1", Clock, Text},
		{"a.txt", fmt.Appendf(nil, "stamp=%d", early.UnixMilli()), fmt.Appendf(nil, "stamp=%d", late.UnixMilli()), "line 1", Clock, Text},
		{"a.txt", []byte("id e0cfcdda-9511-4ea6-aac4-bd00628f09ae"), []byte("id d7ab4ece-013a-44b3-b88a-337943e04300"), "line 1", Random, Text},
		{"a.txt", []byte("in /tmp/tmp.DMtX6LEB4I"), []byte("in /tmp/tmp.EE99lytVGE"), "line 1", Random, Text},
		{"a.txt", []byte("at 0x7f8cd7674180"), []byte("at 0x7f36a03f0180"), "line 1", Addresses, Text},
		{"a.txt", []byte("Linux 6.18.44-plain x"), []byte("Linux 6.18.44-skerry x"), "line 1", Machine, Text},
		{"a.txt", []byte("ebb, neap, flood"), []byte("neap, flood, ebb"), "line 1", Listing, Text},
		{"a.txt", []byte("1 2"), []byte("1 3"), "line 1", Other, Text},
		{"a.txt", []byte("a\nb\n"), []byte("a\nb\nc\n"), "line 3", Other, Text},
		{"a.bin", seconds(early, binary.LittleEndian), seconds(late, binary.LittleEndian), "bytes 8 to 11", Clock, Bytes},
		{"a.bin", seconds(early, binary.BigEndian), seconds(late, binary.BigEndian), "bytes 8 to 11", Clock, Bytes},
		{"a.bin", []byte("\x00\x01\x02"), []byte("\x00\x01\x02\x03"), "its size", Other, Bytes},
		{"a.bin", []byte("\x00\x01\x02\x00"), []byte("\x00\x01\x03\x00"), "byte 2", Other, Bytes},
		{"program", elfWith(t, marked, marked), elfWith(t, marked, strings.Replace(marked, "2026-06", "2028-01", 1)), "ELF section .rodata: a text", Clock, GoBuild},
	} {
		all := Between(c.path, c.was, c.now, clues)
		require.NotEmpty(t, all, c.where)
		require.Contains(t, all[0].Where, c.where)
		require.Equal(t, c.cause, all[0].Cause, "%s: %+v", c.where, all)
		require.Equal(t, c.form, all[0].Form, "%s: %+v", c.where, all)
		require.Empty(t, Between(c.path, c.was, c.was, clues))
		require.Equal(t, c.cause != Other, UsualCure(all, nil) != "", "%+v: %s", all, UsualCure(all, nil))
	}
	for cause := range Words {
		require.NotEmpty(t, Words[cause])
	}
}

// TestKnown: paths are known by the habits of tools, wherever a home folder is.
func TestKnown(t *testing.T) {
	for path, want := range map[string]string{"var/log/dpkg.log": "logs of the package manager", "var/log/apt/term.log": "logs of the package manager", "var/cache/ldconfig/aux-cache": "a cache of the loader",
		"home/keeper/.npm/_logs/x.log": "logs of npm", "root/.npm/_cacache/index-v5/a": "caches of npm", "usr/lib/python3/__pycache__/a.pyc": "python byte-code", "etc/ssh/ssh_host_rsa_key": "keys of the machine",
		"tmp/x": "what lies in a folder for what is temporary", "usr/bin/gauge": "", "srv/log": "", "var/lib/apt/lists/a": "caches of the package manager"} {
		kind, known := Known(path)
		require.Equal(t, want, kind.Name, path)
		require.Equal(t, want != "", known, path)
		if known {
			require.NotEmpty(t, kind.Cure)
		}
	}
	kind, _ := Known("root/.npm/_cacache/index-v5/a/b")
	require.Equal(t, "/root/.npm/_cacache", kind.Folder("/root/.npm/_cacache/index-v5/a/b"))
	kind, _ = Known("var/log/dpkg.log")
	require.Equal(t, "/var/log/dpkg.log", kind.Folder("/var/log/dpkg.log"))
	require.True(t, kind.Unlike)
	for i := range kinds {
		for _, p := range kinds[i].patterns {
			path := strings.TrimPrefix(strings.NewReplacer("**/", "", "*", "x").Replace(p), "/")
			if strings.HasSuffix(path, "/") {
				path += "x"
			}
			_, known := Known(path)
			require.True(t, known, "%s: its mark is missing", p)
		}
	}
}

// FuzzBetween: whatever two files hold, what differs is told, in bounds, and equal ones do not differ.
func FuzzBetween(f *testing.F) {
	for _, one := range [][]byte{gzipped("tide", early), tarOf(early, "a", "1"), zipOf(early, "a", "1"), arOf(early, "a"), pycOf(early, "x"), []byte("a\nb"), zstdOf([]byte("x")), []byte("%PDF-1 /ID"), []byte("\x7fELF\x02\x01\x01")} {
		f.Add("a.pyc", one, append([]byte{1}, one...))
		f.Add("a", one, append(bytes.Clone(one), 7))
	}
	f.Fuzz(func(t *testing.T, path string, was, now []byte) {
		all := Between(path, was, now, clues)
		require.LessOrEqual(t, len(all), mostTold)
		require.Equal(t, bytes.Equal(was, now), len(all) == 0, "%q %q", was, now)
		for _, d := range all {
			require.NotEmpty(t, d.Where)
			require.LessOrEqual(t, len(d.Was)+len(d.Now), 700)
		}
	})
}
