package rr

import (
	"fmt"
	"strconv"
	"strings"
)

// Location is all of a LOC record (RFC 1876 §2).
var Location = &Kind{Description: "degrees [minutes [seconds]] N or S, the same with E or W, altitude in metres, then size and precisions in metres",
	parse: parseLocation, size: sizeLocation, print: printLocation}

const (
	locLength   = 16
	locEquator  = 1 << 31 // thousandths of a second of arc
	locBase     = 10000000
	locMaxCm    = 1<<32 - 1
	locLatitude = 90 * 3600 * 1000
)

// locDefaults are size 1 m, horizontal precision 10,000 m, vertical 10 m.
var locDefaults = [3]byte{0x12, 0x16, 0x13}

func sizeLocation(b []byte) int {
	if len(b) < locLength || b[0] != 0 {
		return -1
	}
	for _, c := range b[1:4] { // RFC 1876 §2: other values are undefined
		if c>>4 > 9 || c&15 > 9 || c>>4 == 0 && c&15 != 0 {
			return -1
		}
	}
	if arc(be32(b[4:])) > locLatitude || arc(be32(b[8:])) > 2*locLatitude {
		return -1
	}
	return locLength
}

// arc is the distance from the equator or the prime meridian.
func arc(v uint32) uint32 {
	if v >= locEquator {
		return v - locEquator
	}
	return locEquator - v
}

func parseLocation(p *Parser) *FieldError {
	at := len(p.out)
	p.out = append(p.out, make([]byte, locLength)...)
	lat, err := p.angle("latitude", "N", "S", 90)
	if err != nil {
		return err
	}
	lon, err := p.angle("longitude", "E", "W", 180)
	if err != nil {
		return err
	}
	if err := p.need(1, "altitude"); err != nil {
		return err
	}
	tok := p.next()
	alt, ok := centimetres(string(tok))
	if !ok || alt < -locBase || alt+locBase > locMaxCm {
		return p.failLast(RuleBadLocation, "%q is not an altitude from -100000m to 42849672.95m", clip(tok))
	}
	b := p.out[at:]
	copy(b[1:], locDefaults[:])
	for i := 0; i < 3 && p.i < len(p.tokens); i++ {
		tok := p.next()
		cm, ok := centimetres(string(tok))
		if !ok || cm < 0 || cm > 9000000000 {
			return p.failLast(RuleBadLocation, "%q is not a size or precision from 0m to 90000000m", clip(tok))
		}
		b[1+i] = powerOfTen(cm)
	}
	put32(b[4:], lat)
	put32(b[8:], lon)
	put32(b[12:], uint32(alt+locBase))
	return nil
}

func put32(b []byte, v uint32) {
	b[0], b[1], b[2], b[3] = byte(v>>24), byte(v>>16), byte(v>>8), byte(v)
}

// angle reads degrees, perhaps minutes, perhaps seconds, and the hemisphere.
func (p *Parser) angle(what, plus, minus string, most int64) (uint32, *FieldError) {
	var parts [3]int64 // degrees, minutes, thousandths of seconds
	for i := 0; ; i++ {
		if err := p.need(1, what); err != nil {
			return 0, err
		}
		tok := p.next()
		word := strings.ToUpper(string(tok))
		if i > 0 && (word == plus || word == minus) {
			sum := (parts[0]*60+parts[1])*60000 + parts[2]
			if sum > most*3600000 {
				return 0, p.failLast(RuleBadLocation, "the %s is over %d degrees", what, most)
			}
			if word == minus {
				sum = -sum
			}
			return uint32(locEquator + sum), nil
		}
		limits := [3]int64{most, 59, 59999}
		places := 0
		if i == 2 {
			places = 3
		}
		n, ok := int64(0), false
		if i < 3 {
			n, ok = decimal(word, places)
		}
		if !ok || n < 0 || n > limits[i] {
			err := p.failLast(RuleBadLocation, "%q is not a part of a %s", clip(tok), what)
			if meant := plainAngle(word, plus, minus); meant != "" {
				return 0, err.suggest("write %s", meant)
			}
			return 0, err.suggest("write degrees, minutes and seconds with %s or %s after them, such as 42 21 54 %s", plus, minus, plus)
		}
		parts[i] = n
	}
}

// plainAngle is an angle that was written with signs, as a record wants it: with ° ' "
// or as degrees with a fraction, + or - in front. Empty if it is neither.
func plainAngle(word, plus, minus string) string {
	side := plus + " or " + minus
	if parts := strings.FieldsFunc(word, func(r rune) bool { return strings.ContainsRune("°º'′\"″’”", r) }); len(parts) > 1 || len(parts) == 1 && parts[0] != word {
		if last := parts[len(parts)-1]; last == plus || last == minus {
			return strings.Join(parts, " ")
		}
		return strings.Join(parts, " ") + " and " + side
	}
	number := strings.TrimLeft(word, "+-")
	degrees, err := strconv.ParseFloat(strings.TrimRight(number, plus+minus), 64)
	if err != nil || degrees < 0 || degrees > 180 {
		return ""
	}
	switch {
	case strings.HasSuffix(word, plus), strings.HasPrefix(word, "+"):
		side = plus
	case strings.HasSuffix(word, minus), strings.HasPrefix(word, "-"):
		side = minus
	case !strings.Contains(number, "."):
		return ""
	}
	whole := int(degrees)
	minutes := (degrees - float64(whole)) * 60
	seconds := (minutes - float64(int(minutes))) * 60
	if side != plus && side != minus {
		side = "and " + side
	}
	return fmt.Sprintf("%d %d %.3f %s", whole, int(minutes), seconds, side)
}

// decimal reads a number with up to so many places after the point, as a whole
// number of the last place.
func decimal(s string, places int) (int64, bool) {
	neg := strings.HasPrefix(s, "-")
	whole, frac, point := strings.Cut(strings.TrimPrefix(s, "-"), ".")
	if len(whole) > 10 || len(frac) > places || whole == "" || point && frac == "" {
		return 0, false
	}
	frac += strings.Repeat("0", places-len(frac))
	n, ok := parseUint([]byte(whole), 1<<40)
	m, ok2 := parseUint([]byte("0"+frac), 1<<40)
	if !ok || !ok2 {
		return 0, false
	}
	for range places {
		n *= 10
	}
	v := int64(n + m)
	if neg {
		v = -v
	}
	return v, true
}

// centimetres reads metres with up to two places, m after them or not.
func centimetres(s string) (int64, bool) {
	return decimal(strings.TrimSuffix(strings.TrimSuffix(s, "m"), "M"), 2)
}

// powerOfTen keeps the first digit of cm and how many zeros follow.
func powerOfTen(cm int64) byte {
	e := byte(0)
	for cm > 9 {
		cm /= 10
		e++
	}
	return byte(cm)<<4 | e
}

func printLocation(dst, b []byte) []byte {
	dst = appendAngle(dst, be32(b[4:]), 'N', 'S')
	dst = append(appendAngle(append(dst, ' '), be32(b[8:]), 'E', 'W'), ' ')
	dst = appendMetres(dst, int64(be32(b[12:]))-locBase, 2)
	for _, c := range b[1:4] {
		cm := int64(c >> 4)
		for range c & 15 {
			cm *= 10
		}
		dst = appendMetres(append(dst, ' '), cm, 0)
	}
	return dst
}

func appendAngle(dst []byte, v uint32, plus, minus byte) []byte {
	a := arc(v)
	dst = append(strconv.AppendUint(dst, uint64(a/3600000), 10), ' ')
	dst = append(strconv.AppendUint(dst, uint64(a/60000%60), 10), ' ')
	dst = append(strconv.AppendUint(dst, uint64(a/1000%60), 10), '.', byte('0'+a/100%10), byte('0'+a/10%10), byte('0'+a%10), ' ')
	if v < locEquator {
		return append(dst, minus)
	}
	return append(dst, plus)
}

// appendMetres writes centimetres as metres, with places even when they are zero.
func appendMetres(dst []byte, cm int64, places int) []byte {
	if cm < 0 {
		dst, cm = append(dst, '-'), -cm
	}
	dst = strconv.AppendInt(dst, cm/100, 10)
	if places > 0 || cm%100 != 0 {
		dst = append(dst, '.', byte('0'+cm/10%10), byte('0'+cm%10))
	}
	return append(dst, 'm')
}
