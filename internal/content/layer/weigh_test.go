package layer

import (
	"archive/tar"
	"bytes"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
)

// TestWeigh: whatever a layer is packed by, and however its bytes come, the weights of its entries are the whole blob, the same each time; and
// what cannot be packed weighs what it is.
func TestWeigh(t *testing.T) {
	noise := make([]byte, 3*weighBlock)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	m := sample()
	m.file("var/noise", 0o644, noise)
	blobs := map[string][]byte{"empty": tarOf(t), "twice": tarOf(t,
		&tar.Header{Name: "tides", Typeflag: tar.TypeReg, Size: 4000}, &tar.Header{Name: "moon", Typeflag: tar.TypeReg, Size: 9}, &tar.Header{Name: "tides", Typeflag: tar.TypeReg, Size: 700})}
	for _, c := range []Compression{"", "zstd", "none"} {
		blobs["packed "+string(c)], _ = m.packWith(t, Options{Compression: c})
	}
	for name, blob := range blobs {
		looked := 0
		indexed, weights, err := Weigh(bytes.NewReader(blob), func(e *tree.Entry, body io.Reader) error {
			looked++
			_, err := io.CopyN(io.Discard, body, min(e.Size, 10))
			return err
		})
		require.NoError(t, err, name)
		plain, err := Index(bytes.NewReader(blob))
		require.NoError(t, err, name)
		require.Equal(t, plain.Entries, indexed.Entries, name)
		require.Equal(t, plain.Unpacked, indexed.Unpacked, name)
		require.Empty(t, indexed.DiffID)
		sum, files := weights.Rest, len(weights.Doubled)
		for i, packed := range weights.Packed {
			require.GreaterOrEqual(t, packed, int64(0), "%s: %s", name, indexed.Entries[i].Path)
			if sum += packed; indexed.Entries[i].Kind == tree.File {
				files++
			}
			if indexed.Entries[i].Path == "var/noise" {
				require.InEpsilon(t, len(noise), packed, 0.02, name)
			}
		}
		for _, d := range weights.Doubled {
			sum += d.Packed
		}
		require.EqualValues(t, len(blob), sum, name)
		require.Equal(t, files, looked, name)
		again, slowly, err := Weigh(iotest.OneByteReader(bytes.NewReader(blob)), nil)
		require.NoError(t, err, name)
		require.Equal(t, indexed, again)
		require.Equal(t, weights, slowly, name)
		decoded, err := DecodeWeights(weights.Encode(), len(weights.Packed))
		require.NoError(t, err, name)
		require.Equal(t, weights.Encode(), decoded.Encode())
		require.Equal(t, weights.Doubled, decoded.Doubled)
		_, err = DecodeWeights(weights.Encode(), len(weights.Packed)+1)
		require.Error(t, err)
	}
	_, twice, err := Weigh(bytes.NewReader(blobs["twice"]), nil)
	require.NoError(t, err)
	require.Equal(t, []Doubled{{Path: "tides", Packed: 512 + 4096, Size: 4000}}, twice.Doubled)
	require.Equal(t, []int64{512 + 512, 512 + 1024 + 1024}, twice.Packed, "the end of the archive goes to the last")
}
