package layer

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os/exec"
	"runtime"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"
	"pgregory.net/rapid"

	"imbricat/internal/content/tree"
	"imbricat/internal/ground/digest"
)

// memory is a tree whose files' contents are in memory.
type memory struct {
	entries []tree.Entry
	bodies  map[string][]byte
}

func (m *memory) file(path string, mode uint32, body []byte) {
	m.entries = append(m.entries, tree.Entry{Path: path, Kind: tree.File, Mode: mode, Size: int64(len(body)), Content: digest.ContentBytes(body)})
	m.bodies[path] = body
}

func (m *memory) open(e *tree.Entry) (io.ReadCloser, error) {
	return io.NopCloser(bytes.NewReader(m.bodies[e.Path])), nil
}

func (m *memory) pack(t require.TestingT) ([]byte, Packed) { return m.packWith(t, Options{}) }

func (m *memory) packWith(t require.TestingT, o Options) ([]byte, Packed) {
	sort.Slice(m.entries, func(i, j int) bool { return m.entries[i].Path < m.entries[j].Path })
	var out bytes.Buffer
	packed, err := Pack(context.Background(), &out, m.entries, m.open, o)
	require.NoError(t, err)
	require.Equal(t, digest.FromBytes(out.Bytes()), packed.Descriptor.Digest)
	require.EqualValues(t, out.Len(), packed.Descriptor.Size)
	return out.Bytes(), packed
}

// sample has every kind of entry and enough bytes for many chunks.
func sample() *memory {
	m := &memory{bodies: map[string][]byte{}}
	m.entries = []tree.Entry{
		{Path: "srv", Kind: tree.Folder, Mode: 0o1777},
		{Path: "srv/latest", Kind: tree.Symlink, Mode: 0o777, Target: "a.txt"},
		{Path: "srv/same", Kind: tree.Hardlink, Target: "srv/a.txt"},
		{Path: "srv/gone", Kind: tree.Whiteout},
		{Path: "srv/hidden", Kind: tree.Opaque},
		{Path: "srv/tty", Kind: tree.CharDevice, Mode: 0o620, Major: 4, Minor: 1},
		{Path: "srv/pipe", Kind: tree.Fifo, Mode: 0o600},
		{Path: "srv/far", Kind: tree.Folder, Mode: 0o755, UID: 3_000_000, GID: 70_000},
	}
	m.file("srv/a.txt", 0o644, []byte("3.42 m"))
	m.file("srv/empty", 0o600, nil)
	m.file("srv/Flut-und-Ebbe-ünïcödé-潮汐.txt", 0o4755, []byte("tide"))
	m.file("srv/"+strings.Repeat("long/", 60)+"name", 0o644, []byte("deep"))
	random := rand.NewChaCha8([32]byte{1})
	for i := range 40 {
		body := make([]byte, 17*i*i*i)
		_, _ = random.Read(body)
		for j := range body {
			body[j] &= 0x1f
		}
		m.file(fmt.Sprintf("srv/%02d", i), 0o644, body)
	}
	m.entries[7].Xattrs = map[string]string{"user.tide": "high"}
	return m
}

// TestGolden holds the bytes of a layer. A change of these digests changes the digest of every image of every user:
// raise Format with it.
func TestGolden(t *testing.T) {
	_, packed := sample().pack(t)
	require.Equal(t, "imbricat-pack-2 gzip level=6 chunk=512KiB..1MiB", Gzip.Format())
	require.Equal(t, "sha256:01e25bef953abe6143bb10c0aeab5988656e07e1dbde22df9f9c268b9b1b2f91", string(packed.DiffID))
	require.Equal(t, "sha256:b8bffdd73b82bc7905931818cb71d18c1a190706f2515b3b30cfbd41e42da1f8", string(packed.Descriptor.Digest))
}

func TestOtherCompressions(t *testing.T) {
	_, gzipped := sample().pack(t)
	blob, packed := sample().packWith(t, Options{Compression: Zstd})
	require.Equal(t, "imbricat-pack-2 zstd level=2 chunk=512KiB..1MiB", Zstd.Format())
	require.Equal(t, "sha256:4b8e4d0a4a7e5f12a53fdef8e5bb8482c2cfe9c89f21a4ad76e6ca19a7e67af5", string(packed.Descriptor.Digest))
	require.Equal(t, gzipped.DiffID, packed.DiffID)
	indexed, err := Index(bytes.NewReader(blob))
	require.NoError(t, err)
	require.Equal(t, packed.DiffID, indexed.DiffID)
	_, packed = sample().packWith(t, Options{Compression: None})
	require.EqualValues(t, gzipped.DiffID, packed.Descriptor.Digest)
	require.Equal(t, gzipped.Unpacked, packed.Descriptor.Size)
}

// TestPackingAgainEqualsCold edits a random tree and packs it with the chunks of what it was: the bytes are those of a
// cold pack, whatever is changed, and what is unchanged is copied.
func TestPackingAgainEqualsCold(t *testing.T) {
	random := rand.NewChaCha8([32]byte{7})
	body := func(r *rapid.T) []byte {
		content := make([]byte, rapid.SampledFrom([]int{0, 10, 10, 5000, 5000, 70_000, 70_000, 70_000, 300_000, 2*maxPiece + 5}).Draw(r, "size"))
		_, _ = random.Read(content)
		for i := range content {
			content[i] &= 0x3f
		}
		return content
	}
	copied := false
	rapid.Check(t, func(r *rapid.T) {
		before, after := &memory{bodies: map[string][]byte{}}, &memory{bodies: map[string][]byte{}}
		for i := range rapid.IntRange(1, 12).Draw(r, "files") {
			path, content := fmt.Sprintf("d%d/f%d", i%3, i), body(r)
			edit := rapid.SampledFrom([]string{"", "", "", "", "", "change", "remove", "add", "mode"}).Draw(r, "edit")
			mode := uint32(0o644)
			if edit != "add" {
				before.file(path, mode, content)
			}
			switch edit {
			case "change":
				content = body(r)
			case "mode":
				mode = 0o755
			}
			if edit != "remove" {
				after.file(path, mode, content)
			}
		}
		o := Options{Compression: rapid.SampledFrom([]Compression{Gzip, Zstd, None}).Draw(r, "compression")}
		old, packed := before.packWith(r, o)
		want, cold := after.packWith(r, o)
		table, err := DecodeTable(packed.Table.Encode())
		require.NoError(r, err)
		o.Previous = &Previous{Table: table, Blob: bytes.NewReader(old)}
		got, again := after.packWith(r, o)
		require.True(r, bytes.Equal(want, got))
		require.Equal(r, cold.DiffID, again.DiffID)
		require.Equal(r, cold.Table, again.Table)
		require.Equal(r, cold.Unpacked, again.Unpacked)
		copied = copied || again.Copied > 0
		if bytes.Equal(old, want) {
			require.NotZero(r, again.Copied)
		}
		// A blob that is not what its table says is noticed, and its bytes go nowhere.
		damaged := bytes.Clone(old)
		damaged[len(damaged)/2] ^= 1
		o.Previous = &Previous{Table: table, Blob: bytes.NewReader(damaged)}
		var out bytes.Buffer
		if _, err := Pack(context.Background(), &out, after.entries, after.open, o); err == nil {
			require.True(r, bytes.Equal(want, out.Bytes()))
		} else {
			require.ErrorIs(r, err, ErrPrevious)
		}
	})
	require.True(t, copied)
}

func TestDamagedTablesAreRefused(t *testing.T) {
	_, packed := sample().pack(t)
	text := packed.Table.Encode()
	for _, i := range []int{0, 10, len(text) / 2, len(text) - 1} {
		damaged := bytes.Clone(text)
		damaged[i] ^= 1
		_, err := DecodeTable(damaged)
		require.ErrorIs(t, err, ErrPrevious)
	}
	for _, short := range [][]byte{nil, text[:40], text[:len(text)-1]} {
		_, err := DecodeTable(short)
		require.ErrorIs(t, err, ErrPrevious)
	}
}

func TestBytesAreFreeOfCores(t *testing.T) {
	want, _ := sample().pack(t)
	for _, cores := range []int{1, 2, 3, 16} {
		before := runtime.GOMAXPROCS(cores)
		got, _ := sample().pack(t)
		runtime.GOMAXPROCS(before)
		require.True(t, bytes.Equal(want, got), "%d cores give other bytes", cores)
	}
}

func TestIndexReadsWhatPackWrites(t *testing.T) {
	m := sample()
	blob, packed := m.pack(t)
	indexed, err := Index(bytes.NewReader(blob))
	require.NoError(t, err)
	require.Equal(t, packed.DiffID, indexed.DiffID)
	require.Equal(t, packed.Unpacked, indexed.Unpacked)
	require.Len(t, indexed.Entries, len(m.entries))
	sort.SliceStable(m.entries, func(i, j int) bool { return m.entries[i].Path < m.entries[j].Path })
	require.Equal(t, m.entries, indexed.Entries)
}

// TestRandomTrees packs random trees: GNU tar lists the same paths, and two trees are equal iff their layers are.
func TestRandomTrees(t *testing.T) {
	if _, err := exec.LookPath("tar"); err != nil {
		t.Skip("tar is not installed")
	}
	name := rapid.SampledFrom([]string{"a", "b", "c c", "ü", "-d", "e\tf", "g\"h", strings.Repeat("x", 120)})
	seen := map[digest.DiffID]string{}
	rapid.Check(t, func(r *rapid.T) {
		m := &memory{bodies: map[string][]byte{}}
		used := map[string]bool{}
		for range rapid.IntRange(0, 12).Draw(r, "files") {
			path := strings.Join(rapid.SliceOfN(name, 1, 4).Draw(r, "path"), "/")
			clash := false
			for other := range used {
				clash = clash || other == path || strings.HasPrefix(other, path+"/") || strings.HasPrefix(path, other+"/")
			}
			if !clash {
				used[path] = true
				m.file(path, uint32(rapid.IntRange(0, 0o7777).Draw(r, "mode")), rapid.SliceOfN(rapid.Byte(), 0, 2000).Draw(r, "body"))
			}
		}
		for i := range m.entries {
			if m.entries[i].Kind == tree.File {
				m.entries[i].Time = rapid.SampledFrom([]int64{0, 0, 1, Epoch.Unix() + 1, 1772366400}).Draw(r, "time")
			}
		}
		blob, packed := m.pack(r)
		sorted := slices.Clone(m.entries)
		slices.SortFunc(sorted, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
		indexed, err := IndexTimed(bytes.NewReader(blob))
		require.NoError(r, err)
		require.Equal(r, KeyOf(sorted), KeyOf(indexed.Entries), "what was packed is told from what a layer holds")
		plain, err := Index(bytes.NewReader(blob))
		require.NoError(r, err)
		require.Equal(r, plain.Encode(), indexed.Untimed().Encode())
		lines := fmt.Sprintf("%+v", m.entries)
		if before, known := seen[packed.DiffID]; known {
			require.Equal(r, before, lines)
		}
		for id, other := range seen {
			if other == lines {
				require.Equal(r, id, packed.DiffID)
			}
		}
		seen[packed.DiffID] = lines
		list := exec.Command("tar", "-tzf", "-", "--quoting-style=literal")
		list.Stdin = bytes.NewReader(blob)
		out, err := list.CombinedOutput()
		require.NoError(r, err, string(out))
		var want strings.Builder
		for _, e := range m.entries {
			want.WriteString(e.Path + "\n")
		}
		require.Equal(r, want.String(), string(out))
	})
}

// TestIndexOnDisk: an index comes back as it was, names that are no UTF-8 too; a damaged one is refused.
func TestIndexOnDisk(t *testing.T) {
	m := sample()
	m.file("tide-\xff\xfe \"x\"\n", 0o644, []byte("x"))
	blob, _ := m.pack(t)
	indexed, err := Index(bytes.NewReader(blob))
	require.NoError(t, err)
	require.Equal(t, m.entries, indexed.Entries)
	text := indexed.Encode()
	again, err := DecodeIndex(text)
	require.NoError(t, err)
	require.Equal(t, indexed, again)
	for _, damaged := range []string{"", "x" + string(text), strings.Replace(string(text), "file", "fill", 1), string(text[:len(text)-5]), string(text) + "x"} {
		_, err := DecodeIndex([]byte(damaged))
		require.Error(t, err)
	}
}

func TestPackNoticesWhatChanges(t *testing.T) {
	m := sample()
	m.bodies["srv/a.txt"] = []byte("3.4")
	_, err := Pack(context.Background(), io.Discard, m.entries, m.open, Options{})
	require.ErrorIs(t, err, ErrChanged)

	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Pack(ctx, io.Discard, sample().entries, m.open, Options{})
	require.ErrorIs(t, err, context.Canceled)

	_, err = Pack(context.Background(), fullDisk{}, sample().entries, sample().open, Options{})
	require.ErrorIs(t, err, errFull)
}

var errFull = errors.New("full")

type fullDisk struct{}

func (fullDisk) Write([]byte) (int, error) { return 0, errFull }

func tarOf(t *testing.T, headers ...*tar.Header) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, h := range headers {
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write(make([]byte, h.Size))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.Bytes()
}

// TestHostileLayers holds that what could climb out, or means nothing, is refused.
func TestHostileLayers(t *testing.T) {
	for name, h := range map[string]*tar.Header{
		"climbs out":           {Name: "../etc/passwd", Typeflag: tar.TypeReg},
		"climbs out inside":    {Name: "a/../../etc/passwd", Typeflag: tar.TypeReg},
		"hard link climbs out": {Name: "a", Typeflag: tar.TypeLink, Linkname: "../../etc/passwd"},
		"unknown mark":         {Name: "a/.wh..wh.plnk", Typeflag: tar.TypeReg},
		"deletes nothing":      {Name: "a/.wh.", Typeflag: tar.TypeReg},
		"deletes above":        {Name: "a/.wh...", Typeflag: tar.TypeReg},
		"unknown type":         {Name: "a", Typeflag: 'Z'},
		"endless name":         {Name: strings.Repeat("x/", 3000) + "x", Typeflag: tar.TypeReg},
		"endless link":         {Name: "a", Typeflag: tar.TypeSymlink, Linkname: strings.Repeat("x", 5000)},
		"negative size":        {Name: "a", Typeflag: tar.TypeReg, Size: 5, Format: tar.FormatGNU, PAXRecords: nil, Uid: -1},
		"a mark of the root":   {Name: ".wh..", Typeflag: tar.TypeReg},
		"climbs out by a dot":  {Name: "./../a", Typeflag: tar.TypeDir},
		"long hard link":       {Name: "a", Typeflag: tar.TypeLink, Linkname: strings.Repeat("x/", 2500)},
		"hard link to a root":  {Name: "a", Typeflag: tar.TypeLink, Linkname: "../"},
		"a volume's name":      {Name: "a", Typeflag: 'V'},
		"a file continued":     {Name: "a", Typeflag: 'M'},
		"a sparse one of old":  {Name: "a", Typeflag: 'S'},
		"negative owner":       {Name: "a", Typeflag: tar.TypeReg, Uid: -5, Format: tar.FormatGNU},
	} {
		_, err := Index(bytes.NewReader(tarOf(t, h)))
		require.ErrorIs(t, err, ErrMalformed, name)
		t.Log("held: " + name)
	}
	_, err := Index(strings.NewReader("this is not a layer, and long enough to be read as a header of a tar archive" + strings.Repeat("!", 600)))
	require.ErrorIs(t, err, ErrMalformed)
	blob, _ := sample().pack(t)
	_, err = Index(bytes.NewReader(blob[:len(blob)/2]))
	require.Error(t, err)
}

// endless gives a head and then the same bytes for ever.
type endless struct {
	head io.Reader
	same []byte
	n    int // where in same it stands
}

func (e *endless) Read(p []byte) (int, error) {
	if n, err := e.head.Read(p); n > 0 || err != io.EOF {
		return n, err
	}
	n := copy(p, e.same[e.n:])
	e.n = (e.n + n) % len(e.same)
	return n, nil
}

// TestBounds: what has no end, or says that it has none, is refused in bounded time and memory.
func TestBounds(t *testing.T) {
	one := tarOf(t, &tar.Header{Name: "tide", Typeflag: tar.TypeReg})[:blockSize]
	_, err := Index(&endless{strings.NewReader(""), one, 0})
	require.ErrorContains(t, err, "more than 1000000 entries")

	huge := &tar.Header{Name: "tide", Typeflag: tar.TypeReg, Size: 1 << 60, Format: tar.FormatGNU}
	var out bytes.Buffer
	require.NoError(t, tar.NewWriter(&out).WriteHeader(huge))
	_, err = Index(&endless{&out, []byte{0}, 0})
	require.ErrorContains(t, err, "its files have more than")

	u := &unpacking{plain: zeros{}, closer: func() error { return nil }, packed: &counter{1 << 20}, n: bombSize}
	_, err = io.Copy(io.Discard, u)
	require.ErrorContains(t, err, "a layer that grows so much is refused")
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

// TestForeignLayers reads what other packers write: no parents, absolute names, a path twice, other compressions.
func TestForeignLayers(t *testing.T) {
	plain := tarOf(t, &tar.Header{Name: "/usr/./bin/tide", Typeflag: tar.TypeReg, Size: 5, Mode: 0o100755},
		&tar.Header{Name: "./usr/lib/", Typeflag: tar.TypeDir, Mode: 0o700}, &tar.Header{Name: "usr/lib", Typeflag: tar.TypeDir, Mode: 0o755},
		&tar.Header{Name: "etc/.wh.old", Typeflag: tar.TypeReg}, &tar.Header{Name: "var/.wh..wh..opq", Typeflag: tar.TypeReg})
	want := []tree.Entry{
		{Path: "etc/old", Kind: tree.Whiteout},
		{Path: "usr/bin/tide", Kind: tree.File, Mode: 0o755, Size: 5, Content: digest.ContentBytes(make([]byte, 5))},
		{Path: "usr/lib", Kind: tree.Folder, Mode: 0o755},
		{Path: "var", Kind: tree.Opaque},
	}
	var zipped, zstandard bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write(plain)
	require.NoError(t, z.Close())
	s, err := zstd.NewWriter(&zstandard)
	require.NoError(t, err)
	_, _ = s.Write(plain)
	require.NoError(t, s.Close())
	// Some packers put frames without content before and between those with.
	skippable := append([]byte{0x50, 0x2a, 0x4d, 0x18, 4, 0, 0, 0, 1, 2, 3, 4}, zstandard.Bytes()...)
	for name, blob := range map[string][]byte{"plain": plain, "gzip": zipped.Bytes(), "zstd": zstandard.Bytes(), "zstd with frames to skip": skippable} {
		indexed, err := Index(bytes.NewReader(blob))
		require.NoError(t, err, name)
		require.Equal(t, want, indexed.Entries, name)
		require.EqualValues(t, digest.FromBytes(plain), indexed.DiffID, name)
	}
}

// FuzzIndex: no bytes make the reader panic, every path that it accepts stays inside, and reading again gives the same.
func FuzzIndex(f *testing.F) {
	blob, _ := sample().pack(f)
	f.Add(blob)
	f.Add([]byte("\x1f\x8b"))
	f.Fuzz(func(t *testing.T, blob []byte) {
		indexed, err := Index(bytes.NewReader(blob))
		if err != nil {
			return
		}
		for i := range indexed.Entries {
			clean, err := tree.CleanPath(indexed.Entries[i].Path)
			require.NoError(t, err)
			require.Equal(t, indexed.Entries[i].Path, clean)
		}
		again, err := Index(bytes.NewReader(blob))
		require.NoError(t, err)
		require.Equal(t, indexed, again)
	})
}

func BenchmarkPack(b *testing.B) {
	m := sample()
	var total int64
	for _, body := range m.bodies {
		total += int64(len(body))
	}
	b.SetBytes(total)
	for b.Loop() {
		m.pack(b)
	}
}

// FuzzKept: an index and a table of chunks that are read are what would be written, and what is not is refused.
func FuzzKept(f *testing.F) {
	blob, packed := sample().pack(f)
	indexed, err := Index(bytes.NewReader(blob))
	require.NoError(f, err)
	f.Add(indexed.Encode())
	f.Add(packed.Table.Encode())
	f.Fuzz(func(t *testing.T, text []byte) {
		if i, err := DecodeIndex(text); err == nil {
			again, err := DecodeIndex(i.Encode())
			require.NoError(t, err)
			require.Equal(t, i, again)
			require.Equal(t, KeyOf(i.Entries), KeyOf(again.Entries))
		}
		if table, err := DecodeTable(text); err == nil {
			require.Equal(t, string(text), string(table.Encode()), "nothing else has its checksum")
		}
		// What a chance never hits: a body with a right checksum.
		sum := blake3.Sum256(text)
		if table, err := DecodeTable(append(bytes.Clone(text), sum[:]...)); err == nil {
			again, err := DecodeTable(table.Encode())
			require.NoError(t, err)
			require.Equal(t, table, again)
		} else {
			require.ErrorIs(t, err, ErrPrevious)
		}
	})
}
