package report

import (
	"bytes"
	"fmt"
	"math"

	"github.com/wcharczuk/go-chart/v2"
	"github.com/wcharczuk/go-chart/v2/drawing"
)

// strategyColours are sea-green for what today's layers do, slate and grey for what they are compared with.
var strategyColours = []drawing.Color{drawing.ColorFromHex("1f7a6d"), drawing.ColorFromHex("52667a"), drawing.ColorFromHex("b4bfca")}

// The width and height of the chart of one image, in pixels.
const (
	chartWidth  = 960
	chartHeight = 480
)

// mostTicks bounds how many numbers stand at an axis.
const mostTicks = 12

// DrawReplays draws what replayed versions push, summed up over the versions, one image below the other, as SVG.
func DrawReplays(list []Replay) ([]byte, error) {
	out := fmt.Appendf(nil, "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%d\" height=\"%d\">\n", chartWidth, chartHeight*len(list))
	for n, r := range list {
		var one bytes.Buffer
		if err := drawReplay(r).Render(chart.SVG, &one); err != nil {
			return nil, fmt.Errorf("drawing %s: %w", r.Image, err)
		}
		sized := bytes.Replace(one.Bytes(), []byte("<svg "), fmt.Appendf(nil, "<svg width=\"%d\" height=\"%d\" ", chartWidth, chartHeight), 1)
		out = fmt.Appendf(out, "<g transform=\"translate(0,%d)\">%s</g>\n", n*chartHeight, sized)
	}
	return append(out, "</svg>\n"...), nil
}

func drawReplay(r Replay) *chart.Chart {
	last := float64(len(r.Versions)) + 0.5 // so that what the last version pushes is seen
	c := &chart.Chart{
		Title: fmt.Sprintf("%s %s: pushed over %s", r.Image, r.Platform, Count(len(r.Versions), "version")),
		Width: chartWidth, Height: chartHeight,
		TitleStyle: chart.Style{FontSize: 13, Padding: chart.Box{Top: 12}},
		Background: chart.Style{Padding: chart.Box{Top: 50, Left: 24, Right: 24, Bottom: 24}},
	}
	most := 0.0
	for n, name := range r.Names {
		// The sum stays what it was until the next version is pushed.
		xs, ys, sum := []float64{0}, []float64{0}, 0.0
		for v, version := range r.Versions {
			xs, ys = append(xs, float64(v+1)), append(ys, sum)
			sum += float64(version.Bytes[n].Pushed) / 1e6
			xs, ys = append(xs, float64(v+1)), append(ys, sum)
		}
		most = max(most, sum)
		c.Series = append(c.Series, chart.ContinuousSeries{Name: name, XValues: append(xs, last), YValues: append(ys, sum),
			Style: chart.Style{StrokeColor: strategyColours[n%len(strategyColours)], StrokeWidth: 2.5}})
	}
	grid := chart.Style{StrokeColor: drawing.ColorFromHex("e3e7eb"), StrokeWidth: 1}
	c.XAxis = chart.XAxis{Name: "version", Range: &chart.ContinuousRange{Max: last}, Ticks: ticks(last, 1)}
	c.YAxis = chart.YAxis{Name: "MB, before compression", Range: &chart.ContinuousRange{Max: max(most*1.05, 0.001)}, Ticks: ticks(max(most*1.05, 0.001), 0), GridMajorStyle: grid, GridMinorStyle: grid}
	c.Elements = []chart.Renderable{chart.Legend(c)}
	return c
}

// ticks are round numbers from 0 to most, at least so far apart.
func ticks(most, apart float64) (all []chart.Tick) {
	step := math.Pow(10, math.Floor(math.Log10(most/mostTicks)))
	for _, factor := range []float64{2, 2.5, 2} {
		if most/step <= mostTicks {
			break
		}
		step *= factor
	}
	step = max(step, apart)
	for at := 0.0; at <= most; at += step {
		all = append(all, chart.Tick{Value: at, Label: fmt.Sprintf("%.4g", at)})
	}
	return append(all, chart.Tick{Value: most}) // the axis ends with the last one
}
