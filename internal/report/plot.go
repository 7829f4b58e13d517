package report

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"

	"grainkeep/internal/chart"
	"grainkeep/internal/phrase"
)

// Plot is values over time.
type Plot struct {
	Title string
	Of    Quantity
	Lines []Line
}

// Quantity is what a plot shows.
type Quantity string

// What plots show.
const (
	Sizes     Quantity = "bytes"
	Durations Quantity = "seconds"
)

// Line is one of a plot.
type Line struct {
	Name   string
	Points []Point
}

// Point is a value at a time.
type Point struct {
	At    time.Time
	Value float64 // bytes, or seconds
}

// mostLines is how many lines a plot shows: more cannot be told apart.
const mostLines = 8

// hues tell lines apart, also for those who see colours otherwise.
var hues = []color.RGBA{{46, 96, 138, 255}, {213, 94, 0, 255}, {0, 130, 95, 255}, {165, 80, 140, 255}, {120, 120, 120, 255},
	{190, 150, 0, 255}, {70, 160, 210, 255}, {90, 60, 20, 255}}

func (p Plot) draw(w io.Writer, zone *time.Location) error {
	x := plot.New()
	x.Y.Min = 0
	x.X.Tick.Marker = days{zone}
	x.Add(plotter.NewGrid())
	top := 0.0
	for i, l := range p.shown() {
		points := make(plotter.XYs, len(l.Points))
		for j, at := range l.Points {
			points[j].X, points[j].Y = float64(at.At.Unix()), at.Value
			top = math.Max(top, at.Value)
		}
		line, dots, err := plotter.NewLinePoints(points)
		if err != nil {
			return err
		}
		line.Color, line.Width = hues[i], vg.Points(1.5)
		dots.Color, dots.Shape, dots.Radius = hues[i], draw.CircleGlyph{}, vg.Points(1.5)
		x.Add(line, dots)
	}
	x.Y.Max = math.Max(top*1.08, 1e-3)
	x.Y.Tick.Marker = chart.Bytes{}
	if p.Of == Durations {
		x.Y.Tick.Marker = seconds{}
	}
	out, err := x.WriterTo(18*vg.Centimeter, 8*vg.Centimeter, "svg")
	if err != nil {
		return err
	}
	_, err = out.WriteTo(w)
	return err
}

// shown are the lines that a plot has room for.
func (p Plot) shown() []Line { return p.Lines[:min(mostLines, len(p.Lines))] }

// hue is the colour of a line, as CSS has it.
func hue(i int) string { return fmt.Sprintf("#%02x%02x%02x", hues[i].R, hues[i].G, hues[i].B) }

// days mark times at round ones of a zone.
type days struct{ zone *time.Location }

// steps are the distances between such marks, in hours.
var steps = []int{1, 3, 6, 12, 24, 48, 7 * 24, 14 * 24, 28 * 24, 91 * 24, 365 * 24}

// Ticks implements plot.Ticker.
func (d days) Ticks(from, to float64) (ticks []plot.Tick) {
	const most = 5 * 3600 // seconds in five marks an hour apart
	step := steps[len(steps)-1]
	for _, s := range steps {
		if (to-from)/float64(s) <= most {
			step = s
			break
		}
	}
	at := time.Unix(int64(from), 0).In(d.zone)
	at = time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, d.zone)
	form := "2 Jan"
	if step < 24 {
		form = "2 Jan 15:04"
	} else if step > 91*24 {
		form = "Jan 2006"
	}
	for ; float64(at.Unix()) <= to; at = d.after(at, step) {
		if float64(at.Unix()) >= from {
			ticks = append(ticks, plot.Tick{Value: float64(at.Unix()), Label: at.Format(form)})
		}
	}
	return ticks
}

// after is the next mark: days are those of the calendar.
func (d days) after(at time.Time, hours int) time.Time {
	if hours < 24 {
		return at.Add(time.Duration(hours) * time.Hour)
	}
	return at.AddDate(0, 0, hours/24)
}

// seconds mark durations at round numbers.
type seconds struct{}

// Ticks implements plot.Ticker.
func (seconds) Ticks(_, to float64) (ticks []plot.Tick) {
	step := chart.Step(to, 60)
	if to > 2*3600 {
		step = math.Ceil(to/5/3600) * 3600
	}
	for v := 0.0; v <= to; v += step {
		ticks = append(ticks, plot.Tick{Value: v, Label: inShort(time.Duration(v * float64(time.Second)))})
	}
	return ticks
}

// inShort is a round duration without needless digits.
func inShort(d time.Duration) string {
	if d == 0 {
		return "0"
	}
	text := phrase.Duration(d)
	for _, rest := range []string{" 00 s", " 00 m"} {
		text = strings.TrimSuffix(text, rest)
	}
	return text
}
