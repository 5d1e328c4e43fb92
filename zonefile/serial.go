package zonefile

import (
	"time"

	"fencepost/rr"
)

// SerialStyle says how serials are made.
type SerialStyle string

// The styles.
const (
	SerialDate  SerialStyle = "date"  // YYYYMMDDnn
	SerialCount SerialStyle = "count" // one more than before
	SerialClock SerialStyle = "clock" // seconds since 1970
)

// NextSerial is the serial that follows current. It always moves forward by RFC
// 1982: where the date or clock would not, it is one more than before. 0 is left
// out, for some software takes it for "none".
func NextSerial(style SerialStyle, current uint32, now time.Time) uint32 {
	next := current
	switch style {
	case SerialDate:
		y, m, d := now.UTC().Date()
		next = uint32(y*1000000 + int(m)*10000 + d*100)
	case SerialClock:
		next = uint32(now.Unix())
	}
	if !rr.NewerSerial(next, current) {
		next = current + 1
	}
	if next == 0 {
		next = 1
	}
	return next
}
