package report

import (
	"bytes"
	"fmt"
	"image/color"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// strategyColours are slate for what today's layers do, sea-green and grey for what they are compared with.
var strategyColours = []color.Color{color.RGBA{0x1f, 0x7a, 0x6d, 0xff}, color.RGBA{0x52, 0x66, 0x7a, 0xff}, color.RGBA{0xb4, 0xbf, 0xca, 0xff}}

// DrawReplays draws what replayed versions push, summed up over the versions, one below the other, as svg or png.
func DrawReplays(list []Replay, format string) ([]byte, error) {
	plots := make([][]*plot.Plot, len(list))
	for n, r := range list {
		p, err := drawReplay(r)
		if err != nil {
			return nil, fmt.Errorf("drawing %s: %w", r.Image, err)
		}
		plots[n] = []*plot.Plot{p}
	}
	const width, height = 9 * vg.Inch, 4.5 * vg.Inch
	canvas, err := draw.NewFormattedCanvas(width, height*vg.Length(max(1, len(list))), format)
	if err != nil {
		return nil, fmt.Errorf("drawing a chart: %w", err)
	}
	whole := draw.New(canvas)
	tiles := draw.Tiles{Rows: max(1, len(list)), Cols: 1, PadX: vg.Millimeter, PadY: 4 * vg.Millimeter, PadTop: 3 * vg.Millimeter, PadBottom: 3 * vg.Millimeter,
		PadLeft: 3 * vg.Millimeter, PadRight: 6 * vg.Millimeter}
	for n := range plots {
		plots[n][0].Draw(tiles.At(whole, 0, n))
	}
	var out bytes.Buffer
	_, err = canvas.WriteTo(&out)
	return out.Bytes(), err
}

func drawReplay(r Replay) (*plot.Plot, error) {
	p := plot.New()
	p.Title.Text = fmt.Sprintf("%s %s: pushed over %s", r.Image, r.Platform, Count(len(r.Versions), "version"))
	p.X.Label.Text, p.Y.Label.Text = "version", "MB, before compression"
	p.Legend.Top, p.Legend.Left = true, true
	p.Add(plotter.NewGrid())
	for n, name := range r.Names {
		points := plotter.XYs{{X: 0, Y: 0}}
		sum := 0.0
		for v, version := range r.Versions {
			sum += float64(version.Bytes[n].Pushed) / 1e6
			points = append(points, plotter.XY{X: float64(v + 1), Y: sum})
		}
		line, err := plotter.NewLine(points)
		if err != nil {
			return nil, err
		}
		line.StepStyle, line.Width, line.Color = plotter.PostStep, vg.Points(2), strategyColours[n%len(strategyColours)]
		p.Add(line)
		p.Legend.Add(name, line)
	}
	return p, nil
}
