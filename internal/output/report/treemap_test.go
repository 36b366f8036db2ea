package report

import (
	"bytes"
	"encoding/xml"
	"image/png"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/weight"
)

// TestDrawWeighed: pictures are well formed, whatever files are called, and divide what there is.
func TestDrawWeighed(t *testing.T) {
	one := &Weighed{Reference: "gauge<script>", Platform: "linux/amd64", Image: &weight.Image{Total: weight.Bytes{Packed: 1000}, Folders: []weight.Share{
		{Name: "/", Bytes: weight.Bytes{Packed: 1000}}, {Name: "/usr", Bytes: weight.Bytes{Packed: 700}}, {Name: "/usr/share & more", Bytes: weight.Bytes{Packed: 400}}, {Name: "/a\x1b]0;x\a</text>", Bytes: weight.Bytes{Packed: 200}}, {Name: "/none"}}}}
	for _, list := range [][]*Weighed{{one}, {one, one, one}} {
		svg, err := DrawWeighed(list, false)
		require.NoError(t, err)
		require.Contains(t, string(svg), "gauge&lt;script&gt;")
		require.NotContains(t, string(svg), "\x1b")
		d := xml.NewDecoder(bytes.NewReader(svg))
		for err = nil; err == nil; {
			_, err = d.Token()
		}
		require.ErrorIs(t, err, io.EOF)
		picture, err := DrawWeighed(list, true)
		require.NoError(t, err)
		decoded, err := png.Decode(bytes.NewReader(picture))
		require.NoError(t, err)
		require.Equal(t, mapWidth, decoded.Bounds().Dx())
	}
	svg, err := DrawWeighed([]*Weighed{one}, false)
	require.NoError(t, err)
	require.Contains(t, string(svg), "share &amp; more")
}

// TestSquarified: boxes have the areas of their sizes, and none lies outside or in another one.
func TestSquarified(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 300 {
		in, total := box{10, 20, 1 + r.Float64()*900, 1 + r.Float64()*900}, 0.0
		sizes := make([]float64, 1+r.IntN(40))
		for i := range sizes {
			sizes[i] = 1 + r.Float64()*1000
			total += sizes[i]
		}
		boxes := squarified(sizes, in)
		require.Len(t, boxes, len(sizes))
		for i, b := range boxes {
			require.InEpsilon(t, sizes[i]/total, b.w*b.h/(in.w*in.h), 1e-6)
			require.True(t, b.x >= in.x-1e-6 && b.y >= in.y-1e-6 && b.x+b.w <= in.x+in.w+1e-6 && b.y+b.h <= in.y+in.h+1e-6)
			for _, other := range boxes[:i] {
				require.False(t, b.x+1e-6 < other.x+other.w && other.x+1e-6 < b.x+b.w && b.y+1e-6 < other.y+other.h && other.y+1e-6 < b.y+b.h)
			}
		}
	}
}
