package ui

import (
	"io"
	"time"
)

// Timeline is a row of steps in time, to be drawn.
type Timeline struct {
	Title string
	Now   time.Time
	Rows  []TimelineRow
}

// TimelineRow is one step: from Begin to Seen it spreads, from Seen to End caches
// run out. Phase is done, now or next.
type TimelineRow struct {
	Title, Phase     string
	Begin, Seen, End time.Time
	Note             string
}

// Measures of the drawing in pixels.
const (
	svgWidth   = 1180
	svgLeft    = 40
	svgRow     = 76
	svgTop     = 96
	svgMinimum = 6 // of a bar, so that short steps can be seen
)

type svgBox struct {
	TimelineRow
	X1, X2, X3 int
	Y, Below   int // baselines of the text above the bar and below it
	W1, W2     int
	When       string
	Fill, Tail string
}

type svgTick struct {
	X    int
	Text string
}

type svgDrawing struct {
	Timeline
	Width, Height, NowX, Bottom int
	NowSide                     string // which end of the word stands at the line
	Boxes                       []svgBox
	Ticks                       []svgTick
}

// phaseFill are the colours of the two parts of a bar, readable on white.
var phaseFill = map[string][2]string{"done": {"#4a7c59", "#a9c9b2"}, "now": {"#b3541e", "#e8b58f"}, "next": {"#5b6b7b", "#c3ccd5"}}

// phaseWords say what the colours do.
var phaseWords = map[string]string{"done": "done, ", "now": "under way, ", "next": "to come, at the earliest "}

var timelineTemplate = parsed("timeline", `<svg xmlns="http://www.w3.org/2000/svg" width="{{.Width}}" height="{{.Height}}" viewBox="0 0 {{.Width}} {{.Height}}" font-family="sans-serif" font-size="14" role="img" aria-labelledby="title words">
<title id="title">{{.Title}}</title>
<desc id="words">{{range .Boxes}}{{.Title}}: {{.When}}. {{end}}Now is {{.Now.UTC.Format "2 January 2006, 15:04"}} UTC.</desc>
<rect width="{{.Width}}" height="{{.Height}}" fill="#ffffff"/>
<text x="40" y="36" font-size="20" font-weight="bold" fill="#1d2a35">{{.Title}}</text>
<text x="40" y="58" fill="#52616f">dark: until every server shows it; light: until caches have run out; times in UTC</text>
{{range .Ticks}}<line x1="{{.X}}" y1="84" x2="{{.X}}" y2="{{$.Bottom}}" stroke="#e3e8ec"/><text x="{{.X}}" y="80" text-anchor="middle" font-size="12" fill="#52616f">{{.Text}}</text>
{{end}}{{range .Boxes}}<rect x="{{.X1}}" y="{{.Y}}" transform="translate(0 8)" width="{{.W1}}" height="18" rx="2" fill="{{.Fill}}"/><rect x="{{.X2}}" y="{{.Y}}" transform="translate(0 8)" width="{{.W2}}" height="18" rx="2" fill="{{.Tail}}"/>
{{end}}<line x1="{{.NowX}}" y1="84" x2="{{.NowX}}" y2="{{.Bottom}}" stroke="#b3261e" stroke-width="2"/>
{{range .Boxes}}<text x="40" y="{{.Y}}" font-weight="bold" fill="#1d2a35" stroke="#ffffff" stroke-width="5" paint-order="stroke">{{.Title}}</text>
<text x="40" y="{{.Below}}" font-size="12" fill="#52616f" stroke="#ffffff" stroke-width="5" paint-order="stroke">{{.When}}{{if .Note}} · {{.Note}}{{end}}</text>
{{end}}<text x="{{.NowX}}" y="{{.Bottom}}" transform="translate(0 16)" text-anchor="{{.NowSide}}" fill="#b3261e" font-size="12">now, {{.Now.UTC.Format "2 January 2006, 15:04"}}</text>
</svg>
`)

// TimelineSVG draws a time line (SVG 1.1).
func TimelineSVG(w io.Writer, t Timeline) error {
	begin, end := t.Now, t.Now
	for _, r := range t.Rows {
		if r.Begin.Before(begin) {
			begin = r.Begin
		}
		if r.End.After(end) {
			end = r.End
		}
	}
	span := max(end.Sub(begin), time.Hour)
	x := func(at time.Time) int {
		return svgLeft + int(float64(svgWidth-2*svgLeft)*float64(at.Sub(begin))/float64(span))
	}
	d := svgDrawing{Timeline: t, Width: svgWidth, Height: svgTop + len(t.Rows)*svgRow + 40, NowX: x(t.Now), Bottom: svgTop + len(t.Rows)*svgRow}
	if d.NowSide = "start"; d.NowX > svgWidth/2 {
		d.NowSide = "end"
	}
	step := tickStep(span)
	for at := begin.UTC().Truncate(step).Add(step); at.Before(begin.Add(span)); at = at.Add(step) {
		format := "2 Jan, 15:04"
		if step >= 24*time.Hour {
			format = "2 Jan 2006"
		}
		d.Ticks = append(d.Ticks, svgTick{x(at), at.Format(format)})
	}
	for i, r := range t.Rows {
		b := svgBox{TimelineRow: r, X1: x(r.Begin), X2: x(r.Seen), X3: x(r.End), Y: svgTop + i*svgRow + 20, Fill: phaseFill[r.Phase][0], Tail: phaseFill[r.Phase][1]}
		b.Below = b.Y + 42
		b.W1 = max(b.X2-b.X1, svgMinimum)
		b.X2 = b.X1 + b.W1
		b.W2 = max(b.X3-b.X2, 0)
		b.When = phaseWords[r.Phase] + r.Begin.UTC().Format("2 January 2006, 15:04") + " to " + r.End.UTC().Format("2 January 2006, 15:04")
		d.Boxes = append(d.Boxes, b)
	}
	return timelineTemplate().Execute(w, d)
}

// tickStep is a round distance that gives about eight ticks.
func tickStep(span time.Duration) time.Duration {
	for _, s := range []time.Duration{10 * time.Minute, 30 * time.Minute, time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour} {
		if span/s <= 9 {
			return s
		}
	}
	return 30 * 24 * time.Hour
}
