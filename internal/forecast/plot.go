package forecast

import (
	"fmt"
	"image/color"
	"io"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"grainkeep/internal/chart"
)

// Draw writes the space over the year as a picture, "png" or "svg".
func (o Outlook) Draw(w io.Writer, format, title string, room int64) error {
	p := plot.New()
	p.Title.Text, p.Title.Padding = title, vg.Points(10)
	p.Y.Min = 0
	p.X.Tick.Marker = plot.TimeTicks{Format: "Jan 2006"}
	points := make(plotter.XYs, len(o.Days))
	top := 0.0
	for i, d := range o.Days {
		points[i].X, points[i].Y = float64(d.At.Unix()), float64(d.Bytes)
		top = max(top, points[i].Y)
	}
	line, err := plotter.NewLine(points)
	if err != nil {
		return err
	}
	line.Color, line.Width = color.RGBA{R: 46, G: 96, B: 138, A: 255}, vg.Points(2)
	line.FillColor = color.RGBA{R: 214, G: 228, B: 240, A: 255}
	p.Add(line, plotter.NewGrid())
	p.Legend.Add("dumps", line)
	if room > 0 && float64(room) < 3*top {
		limit, err := plotter.NewLine(plotter.XYs{{X: points[0].X, Y: float64(room)}, {X: points[len(points)-1].X,
			Y: float64(room)}})
		if err != nil {
			return err
		}
		limit.Color, limit.Width, limit.Dashes = color.RGBA{R: 179, G: 38, B: 30, A: 255}, vg.Points(1.5),
			[]vg.Length{vg.Points(6), vg.Points(4)}
		p.Add(limit)
		p.Legend.Add("floor reached", limit)
		top = max(top, float64(room))
	}
	p.Legend.Top, p.Legend.Left = true, true
	p.Y.Max = top * 1.15
	p.Y.Tick.Marker = chart.Bytes{}
	out, err := p.WriterTo(24*vg.Centimeter, 12*vg.Centimeter, format)
	if err != nil {
		return err
	}
	_, err = out.WriteTo(w)
	return err
}

const blocks = " ▁▂▃▄▅▆▇█"

// Chart is the space over the year for a terminal, as lines of at most some characters.
func (o Outlook) Chart(width, height int) []string {
	if len(o.Days) == 0 || width < 30 || height < 2 {
		return nil
	}
	var top int64 = 1
	for _, d := range o.Days {
		top = max(top, d.Bytes)
	}
	labels := make([]string, height)
	labels[0], labels[height-1] = chart.Label(float64(top)), chart.Label(0)
	pad := len(labels[0])
	columns := min(width-pad-2, len(o.Days))
	var lines []string
	for row := range height {
		var b strings.Builder
		fmt.Fprintf(&b, "%*s ", pad, labels[row])
		for c := range columns {
			d := o.Days[c*(len(o.Days)-1)/max(1, columns-1)]
			eighths := int(float64(d.Bytes)/float64(top)*float64(8*height)+0.5) - 8*(height-1-row)
			b.WriteRune([]rune(blocks)[min(8, max(0, eighths))])
		}
		lines = append(lines, strings.TrimRight(b.String(), " "))
	}
	first, last := o.Days[0].At.Format("2 Jan 2006"), o.Days[len(o.Days)-1].At.Format("2 Jan 2006")
	gap := max(1, columns-len(first)-len(last))
	return append(lines, strings.Repeat(" ", pad+1)+first+strings.Repeat(" ", gap)+last)
}
