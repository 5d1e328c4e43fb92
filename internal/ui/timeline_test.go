package ui

import (
	"bytes"
	"encoding/xml"
	"io"
	"strings"
	"testing"
	"time"
)

// The drawing is well-formed, whatever the words are, and its bars stand in time.
func TestTimelineSVG(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	line := Timeline{Title: `<zone> & "key"`, Now: now, Rows: []TimelineRow{
		{Title: "publish", Phase: "done", Begin: now.Add(-2 * time.Hour), Seen: now.Add(-time.Hour), End: now},
		{Title: "change the DS", Phase: "now", Begin: now, Seen: now.Add(time.Hour), End: now.Add(4 * time.Hour), Note: "harbour <away>"},
		{Title: "remove", Phase: "next", Begin: now.Add(4 * time.Hour), Seen: now.Add(4 * time.Hour), End: now.Add(4 * time.Hour)},
	}}
	var b bytes.Buffer
	if err := TimelineSVG(&b, line); err != nil {
		t.Fatal(err)
	}
	rects := 0
	d := xml.NewDecoder(strings.NewReader(b.String()))
	for {
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatalf("%v\n%s", err, b.String())
		}
		if s, ok := tok.(xml.StartElement); ok && s.Name.Local == "rect" {
			rects++
		}
	}
	if rects != 1+2*len(line.Rows) || strings.Contains(b.String(), "<away>") || !strings.Contains(b.String(), `role="img"`) || !strings.Contains(b.String(), "change the DS: under way, ") || !strings.Contains(b.String(), "now, 23 November 2026, 12:00") || !strings.Contains(b.String(), "to come, at the earliest 23 November 2026, 16:00") {
		t.Errorf("%d boxes:\n%s", rects, b.String())
	}
	if err := TimelineSVG(io.Discard, Timeline{Now: now}); err != nil {
		t.Error(err)
	}
}
