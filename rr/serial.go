package rr

// SerialOrder is how two serials stand to each other (RFC 1982).
type SerialOrder int

// The orders. Serials of undefined order are exactly half the circle apart.
const (
	SerialUndefined SerialOrder = iota
	SerialEqual
	SerialLess
	SerialGreater
)

// CompareSerials compares a with b (RFC 1982 §3.2).
func CompareSerials(a, b uint32) SerialOrder {
	switch d := b - a; {
	case d == 0:
		return SerialEqual
	case d == 1<<31:
		return SerialUndefined
	case d < 1<<31:
		return SerialLess
	default:
		return SerialGreater
	}
}

// NextSerial is the serial after another; 0 is passed over, for it stands for none.
func NextSerial(serial uint32) uint32 {
	if serial++; serial == 0 {
		serial = 1
	}
	return serial
}

// NewerSerial reports whether a is greater than b.
func NewerSerial(a, b uint32) bool { return CompareSerials(a, b) == SerialGreater }
