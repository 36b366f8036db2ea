package report

import (
	"bytes"
	"fmt"
	"html"
	"path"
	"slices"
	"strings"

	"github.com/wcharczuk/go-chart/v2"
	"github.com/wcharczuk/go-chart/v2/drawing"

	"imbricat/internal/content/weight"
	"imbricat/internal/ground/printable"
)

// The width and height of a picture of where bytes are, in pixels.
const (
	mapWidth  = 1200
	mapHeight = 760
)

// shades are of folders by how deep they lie, from slate to sea-green.
var shades = []drawing.Color{drawing.ColorFromHex("e9eef1"), drawing.ColorFromHex("cddbe0"), drawing.ColorFromHex("a5c9c7"), drawing.ColorFromHex("6fb3aa"), drawing.ColorFromHex("3f9d90")}

var (
	inkColour  = drawing.ColorFromHex("22313d")
	lineColour = drawing.ColorFromHex("ffffff")
	darkColour = drawing.ColorFromHex("1f7a6d")
)

// picture is what is drawn on, as SVG or PNG.
type picture struct {
	chart.Renderer
	svg bool
}

// DrawWeighed draws the folders of an image as a map, each as large as what lies in it packed; of several images how large they are.
func DrawWeighed(list []*Weighed, png bool) ([]byte, error) {
	provider := chart.SVG
	if png {
		provider = chart.PNG
	}
	height := mapHeight
	if list = list[:min(len(list), mostBars)]; len(list) > 1 {
		height = 60 + len(list)*rowHeight + margin
	}
	r, err := provider(mapWidth, height)
	if err != nil {
		return nil, err
	}
	font, err := chart.GetDefaultFont()
	if err != nil {
		return nil, err
	}
	r.SetDPI(96)
	r.SetFont(font)
	p := picture{r, !png}
	p.rectangle(box{0, 0, mapWidth, float64(height)}, drawing.ColorWhite)
	if len(list) == 1 {
		p.folders(list[0])
	} else {
		p.bars(list)
	}
	var out bytes.Buffer
	if err := r.Save(&out); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// box is a part of a picture.
type box struct{ x, y, w, h float64 }

func (p picture) rectangle(b box, fill drawing.Color) {
	p.SetFillColor(fill)
	p.SetStrokeColor(lineColour)
	p.SetStrokeWidth(1)
	x, y, right, bottom := int(b.x), int(b.y), int(b.x+b.w), int(b.y+b.h)
	p.MoveTo(x, y)
	p.LineTo(right, y)
	p.LineTo(right, bottom)
	p.LineTo(x, bottom)
	p.LineTo(x, y)
	p.Close()
	p.FillStroke()
}

// label writes a text where there is room for it, or as much of it as there is.
func (p picture) label(text string, x, y, width, size float64, colour drawing.Color) {
	text = printable.Text(text) // names of files hold anything
	p.SetFontSize(size)
	p.SetFontColor(colour)
	for runes := []rune(text); float64(p.MeasureText(text).Width()) > width; text = string(runes) + "…" {
		if runes = runes[:max(0, len(runes)-1)]; len(runes) < 2 {
			return
		}
	}
	if p.svg {
		text = html.EscapeString(text)
	}
	p.Text(text, int(x), int(y))
}

const margin = 24

func (p picture) folders(one *Weighed) {
	p.label(fmt.Sprintf("%s  %s", one.Reference, one.Platform), margin, 34, mapWidth-2*margin, 14, inkColour)
	p.label(fmt.Sprintf("%s packed, %s unpacked; %s of it could go (%s)", Size(one.Total.Packed), Size(one.Total.Unpacked), share(one.Wasted.Packed, one.Total.Packed), Size(one.Wasted.Packed)), margin, 56, mapWidth-2*margin, 10, inkColour)
	for _, b := range MapOfFolders(one.Folders, mapWidth-2*margin, mapHeight-70-margin, mostMapped) {
		at := box{margin + b.X, 70 + b.Y, b.W, b.H}
		p.rectangle(at, shades[b.Depth])
		if b.named() {
			p.label(fmt.Sprintf("%s  %s", b.Short, Size(b.Bytes)), at.x+5, at.y+13, at.w-10, 8, inkColour)
		}
	}
}

// mostMapped bounds how many folders are drawn.
const mostMapped = 5000

// Boxes that are smaller are not divided, and have no name.
const (
	leastWidth  = 44
	leastHeight = 26
	headHeight  = 18
)

// MapBox is a folder in a map of folders.
type MapBox struct {
	X, Y, W, H  float64
	Depth       int // of the colour, from 0 to 4
	Name, Short string
	Bytes       int64 // packed
}

// named reports whether there is room for its name.
func (b MapBox) named() bool { return b.W >= leastWidth && b.H >= leastHeight }

// MapOfFolders divides a width and a height among folders, the largest first, whose first is the root: each is as large as what lies in it
// packed, and comes before those in it. Of more than so many boxes those that lie deep are left out.
func MapOfFolders(folders []weight.Share, width, height float64, most int) []MapBox {
	if len(folders) == 0 {
		return nil
	}
	below := map[string][]weight.Share{}
	for _, f := range folders {
		if f.Name != "/" {
			below[path.Dir(f.Name)] = append(below[path.Dir(f.Name)], f)
		}
	}
	all := []MapBox{{W: width, H: height, Name: folders[0].Name, Short: folders[0].Name, Bytes: folders[0].Packed}}
	shares := []weight.Share{folders[0]}
	inside := map[int][]int{}       // boxes in boxes
	for n := 0; n < len(all); n++ { // those that lie less deep come first
		at := all[n]
		if !at.named() {
			continue
		}
		parts := slices.DeleteFunc(slices.Clone(below[shares[n].Name]), func(s weight.Share) bool { return s.Packed <= 0 })
		left := shares[n].Packed
		sizes := make([]float64, 0, len(parts)+1)
		for _, part := range parts {
			left -= part.Packed
			sizes = append(sizes, float64(part.Packed))
		}
		if left > 0 { // the files of the folder itself stay as they are
			sizes = append(sizes, float64(left))
		}
		for i, b := range squarified(sizes, box{at.X + 3, at.Y + headHeight, at.W - 6, at.H - headHeight - 3}) {
			if i >= len(parts) || b.w*b.h < 30 || len(all) == most {
				continue
			}
			one := MapBox{X: b.x, Y: b.y, W: b.w, H: b.h, Depth: min(at.Depth+1, len(shades)-1), Name: parts[i].Name, Short: path.Base(parts[i].Name), Bytes: parts[i].Packed}
			if at.Name == "/" {
				one.Short = one.Name
			}
			inside[n] = append(inside[n], len(all))
			all, shares = append(all, one), append(shares, parts[i])
		}
	}
	return nested(all, inside, 0, nil)
}

// nested lists boxes with those in them behind them.
func nested(all []MapBox, inside map[int][]int, n int, out []MapBox) []MapBox {
	out = append(out, all[n])
	for _, m := range inside[n] {
		out = nested(all, inside, m, out)
	}
	return out
}

// squarified divides a box among sizes, the largest first, into boxes that are as square as can be: Bruls, Huizing and van Wijk, "Squarified
// Treemaps", 2000.
func squarified(sizes []float64, in box) []box {
	total := 0.0
	for _, s := range sizes {
		total += s
	}
	out := make([]box, 0, len(sizes))
	if total <= 0 || in.w <= 0 || in.h <= 0 {
		return out
	}
	scale := in.w * in.h / total
	for len(sizes) > 0 {
		side := min(in.w, in.h)
		// As many go into a row along the shorter side as make it better.
		n, sum := 1, sizes[0]*scale
		for best := worst(sizes[:1], scale, side); n < len(sizes); n++ {
			next := worst(sizes[:n+1], scale, side)
			if next > best {
				break
			}
			best, sum = next, sum+sizes[n]*scale
		}
		thick := sum / side
		at := 0.0
		for _, s := range sizes[:n] {
			long := s * scale / thick
			if in.w >= in.h {
				out = append(out, box{in.x, in.y + at, thick, long})
			} else {
				out = append(out, box{in.x + at, in.y, long, thick})
			}
			at += long
		}
		if in.w >= in.h {
			in = box{in.x + thick, in.y, in.w - thick, in.h}
		} else {
			in = box{in.x, in.y + thick, in.w, in.h - thick}
		}
		if sizes = sizes[n:]; in.w <= 0 || in.h <= 0 {
			break
		}
	}
	return out
}

// worst is the worst relation of sides in a row along a side.
func worst(row []float64, scale, side float64) float64 {
	sum, least, most := 0.0, row[0]*scale, row[0]*scale
	for _, s := range row {
		sum, least, most = sum+s*scale, min(least, s*scale), max(most, s*scale)
	}
	return max(side*side*most/(sum*sum), sum*sum/(side*side*max(least, 1e-9)))
}

// mostBars bounds how many images are drawn side by side, and a row is so many pixels high.
const (
	mostBars  = 200
	rowHeight = 36
)

func (p picture) bars(list []*Weighed) {
	p.label("Packed sizes", margin, 34, mapWidth-2*margin, 14, inkColour)
	most, names := int64(1), 0.0
	p.SetFontSize(10)
	for _, one := range list {
		most = max(most, one.Total.Packed)
		names = max(names, min(520, float64(p.MeasureText(one.Reference).Width())+16))
	}
	const numbers, row = 110, float64(rowHeight)
	for i, one := range list {
		y := 60 + float64(i)*row
		width := (mapWidth - 2*margin - names - numbers) * float64(one.Total.Packed) / float64(most)
		p.label(strings.TrimPrefix(one.Reference, "./"), margin, y+row*0.6, names-16, 10, inkColour)
		p.rectangle(box{margin + names, y + row*0.15, max(width, 1), row * 0.7}, darkColour)
		p.label(Size(one.Total.Packed), margin+names+width+8, y+row*0.6, numbers, 10, inkColour)
	}
}
