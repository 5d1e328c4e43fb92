package rr

import (
	"encoding/base64"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"fencepost/diag"
)

// Params is the list of parameters of SVCB and HTTPS records (RFC 9460 §2.1,
// §2.2): key, key=value or key="value".
var Params = &Kind{Description: "key=value, none or more", parse: parseParams, size: sizeParams, print: printParams, optional: true, rest: true, quotable: true}

// Keys of service parameters (RFC 9460 §14.3.2, RFC 9461, RFC 9540).
const (
	ParamMandatory     = 0
	ParamALPN          = 1
	ParamNoDefaultALPN = 2
	ParamPort          = 3
	ParamIPv4Hint      = 4
	ParamECH           = 5
	ParamIPv6Hint      = 6
	ParamDoHPath       = 7
	ParamOHTTP         = 8
)

// param says how the value of a key is written. read turns the unescaped text
// into octets; check reports whether octets are such a value; write is the text
// before escaping.
type param struct {
	empty bool // it has no value at all
	read  func(value []byte) ([]byte, bool)
	check func(value []byte) bool
	write func(dst, value []byte) []byte
	want  string
}

// paramNames are the registered names of the keys, by number.
var paramNames = [...]string{ParamMandatory: "mandatory", ParamALPN: "alpn", ParamNoDefaultALPN: "no-default-alpn", ParamPort: "port",
	ParamIPv4Hint: "ipv4hint", ParamECH: "ech", ParamIPv6Hint: "ipv6hint", ParamDoHPath: "dohpath", ParamOHTTP: "ohttp"}

var params = [len(paramNames)]param{
	ParamMandatory:     {read: readKeys, check: checkKeys, write: writeKeys, want: "keys joined by commas, such as alpn,port"},
	ParamALPN:          {read: readALPN, check: checkALPN, write: writeALPN, want: "protocols joined by commas, such as h2,h3"},
	ParamNoDefaultALPN: {empty: true},
	ParamPort:          {read: readPort, check: func(v []byte) bool { return len(v) == 2 }, write: printU16, want: "a port, such as 8443"},
	ParamIPv4Hint:      {read: readHints(true), check: checkHints(4), write: writeHints(4), want: "IPv4 addresses joined by commas"},
	ParamECH:           {read: readBase64, check: func(v []byte) bool { return len(v) > 0 }, write: printBase64, want: "base64"},
	ParamIPv6Hint:      {read: readHints(false), check: checkHints(16), write: writeHints(16), want: "IPv6 addresses joined by commas"},
	ParamDoHPath:       {read: readPlain, check: func(v []byte) bool { return len(v) > 0 }, write: func(dst, v []byte) []byte { return append(dst, v...) }, want: "a path such as /q{?dns}"},
	ParamOHTTP:         {empty: true},
}

func lookupParam(key uint16) *param {
	if int(key) < len(params) {
		return &params[key]
	}
	return nil
}

// ParamNames are the registered keys, by number.
func ParamNames() []string { return paramNames[:] }

// Param is one service parameter.
type Param struct {
	Key   uint16
	Value []byte
}

// ParamName is the name of a key: a registered one, or keyNNNNN.
func ParamName(key uint16) string {
	if int(key) < len(paramNames) {
		return paramNames[key]
	}
	return "key" + strconv.Itoa(int(key))
}

// SplitParams takes the parameters of an SVCB or HTTPS record apart; data that
// are malformed yield what stands before the fault.
func SplitParams(b []byte) (out []Param) {
	for len(b) >= 4 && len(b) >= 4+int(be16(b[2:])) {
		n := 4 + int(be16(b[2:]))
		out = append(out, Param{be16(b), b[4:n]})
		b = b[n:]
	}
	return out
}

func sizeParams(b []byte) int {
	last, rest := -1, b
	var mandatory []byte
	var has [len(params)]bool
	present := func(key uint16) bool {
		if int(key) < len(has) {
			return has[key]
		}
		return slices.ContainsFunc(SplitParams(b), func(p Param) bool { return p.Key == key })
	}
	for len(rest) > 0 {
		if len(rest) < 4 || len(rest) < 4+int(be16(rest[2:])) {
			return -1
		}
		key, value := be16(rest), rest[4:4+int(be16(rest[2:]))]
		if int(key) <= last {
			return -1
		}
		last = int(key)
		if d := lookupParam(key); d != nil {
			has[key] = true
			if d.empty && len(value) > 0 || !d.empty && !d.check(value) {
				return -1
			}
		}
		if key == ParamMandatory {
			mandatory = value
		}
		rest = rest[4+len(value):]
	}
	for i := 0; i+1 < len(mandatory); i += 2 { // RFC 9460 §8
		if !present(be16(mandatory[i:])) {
			return -1
		}
	}
	return len(b)
}

func parseParams(p *Parser) *FieldError {
	var list []Param
	seen := map[uint16]int{}
	for p.i < len(p.tokens) {
		first := p.i
		prm, err := p.param()
		if err != nil {
			return err
		}
		if _, twice := seen[prm.Key]; twice {
			return &FieldError{Token: first, Rule: RuleBadParam, Message: "the key " + ParamName(prm.Key) + " stands here a second time"}
		}
		seen[prm.Key] = first
		list = append(list, prm)
	}
	bad := func(key uint16, message string) *FieldError {
		return &FieldError{Token: seen[key], Rule: RuleBadParam, Message: message}
	}
	slices.SortFunc(list, func(a, b Param) int { return int(a.Key) - int(b.Key) })
	for _, prm := range list {
		if prm.Key != ParamMandatory {
			break
		}
		for i := 0; i < len(prm.Value); i += 2 {
			if k := be16(prm.Value[i:]); !hasKey(seen, k) {
				return bad(ParamMandatory, ParamName(k)+" is called mandatory and is not there")
			}
		}
	}
	if hasKey(seen, ParamNoDefaultALPN) && !hasKey(seen, ParamALPN) { // RFC 9460 §7.1.1
		return bad(ParamNoDefaultALPN, "no-default-alpn without alpn leaves no protocol at all")
	}
	for _, prm := range list {
		if len(prm.Value) > 65535 {
			return bad(prm.Key, "the value of "+ParamName(prm.Key)+" is longer than 65535 octets")
		}
		p.out = append(p.out, byte(prm.Key>>8), byte(prm.Key), byte(len(prm.Value)>>8), byte(len(prm.Value)))
		p.out = append(p.out, prm.Value...)
	}
	return nil
}

func hasKey(seen map[uint16]int, key uint16) bool { _, ok := seen[key]; return ok }

// param reads one parameter: key, key=value, or key= and a quoted value right
// behind it.
func (p *Parser) param() (Param, *FieldError) {
	if p.tokens[p.i].Quoted {
		return Param{}, p.fail(RuleBadParam, "a parameter begins with its key, not with a quote").suggest(`write key="value"`)
	}
	word := p.next()
	name, value, has := strings.Cut(string(word), "=")
	if has && value == "" && p.i < len(p.tokens) && p.tokens[p.i].Glued {
		value = string(p.next())
	}
	key, err := p.paramKey(name)
	if err != nil {
		return Param{}, err
	}
	raw, err := p.unescape(nil, []byte(value))
	if err != nil {
		return Param{}, err
	}
	d := lookupParam(key)
	switch {
	case d == nil:
		return Param{key, raw}, nil
	case d.empty && has:
		return Param{}, p.failLast(RuleBadParam, "%s has no value", name).suggest("write %s alone", name)
	case d.empty:
		return Param{Key: key}, nil
	case !has || len(raw) == 0:
		return Param{}, p.failLast(RuleBadParam, "%s has no value here and needs one", name).suggest("write %s=, then %s", name, d.want)
	}
	wire, ok := d.read(raw)
	if !ok {
		return Param{}, p.failLast(RuleBadParam, "%q is not a value for %s", clip(raw), name).suggest("write %s", d.want)
	}
	return Param{key, wire}, nil
}

func (p *Parser) paramKey(name string) (uint16, *FieldError) {
	if key, ok := keyNumber(name); ok {
		return key, nil
	}
	e := p.failLast(RuleBadParam, "%q is not a key of a service parameter", clip([]byte(name)))
	if meant := diag.Closest(name, paramNames[:]); meant != "" {
		return 0, e.suggest("did you mean %s?", meant)
	}
	return 0, e.suggest("write a registered key, or key and its number without zeros in front")
}

// keyNumber is the number of a registered key or of keyNNNNN.
func keyNumber(name string) (uint16, bool) {
	if i := slices.Index(paramNames[:], name); i >= 0 {
		return uint16(i), true
	}
	digits, ok := strings.CutPrefix(name, "key")
	n, isNumber := parseUint([]byte(digits), 65535)
	return uint16(n), ok && isNumber && (digits == "0" || digits[0] != '0')
}

func printParams(dst, b []byte) []byte {
	for i, prm := range SplitParams(b) {
		if i > 0 {
			dst = append(dst, ' ')
		}
		dst = append(dst, ParamName(prm.Key)...)
		d := lookupParam(prm.Key)
		if d != nil && d.empty || len(prm.Value) == 0 {
			continue
		}
		dst = append(dst, '=')
		text := prm.Value
		if d != nil {
			text = d.write(nil, prm.Value)
		}
		if isPlain(text) {
			dst = append(dst, text...)
		} else {
			dst = AppendQuoted(dst, text)
		}
	}
	return dst
}

// isPlain reports whether text can stand in a master file without quotes.
func isPlain(text []byte) bool {
	for _, c := range text {
		if c <= ' ' || c >= 0x7f || strings.IndexByte(`"\;()@$`, c) >= 0 {
			return false
		}
	}
	return true
}

// ---- values ----

// splitList parts a value at its commas; \, and \\ stand for themselves
// (RFC 9460 App. A.1).
func splitList(v []byte) (items [][]byte, ok bool) {
	item := []byte{}
	for i := 0; i < len(v); i++ {
		switch {
		case v[i] == '\\' && i+1 < len(v) && (v[i+1] == ',' || v[i+1] == '\\'):
			i++
			item = append(item, v[i])
		case v[i] == '\\':
			return nil, false
		case v[i] == ',':
			items, item = append(items, item), []byte{}
		default:
			item = append(item, v[i])
		}
	}
	return append(items, item), true
}

func readALPN(v []byte) (out []byte, ok bool) {
	items, ok := splitList(v)
	for _, it := range items {
		ok = ok && len(it) > 0 && len(it) <= 255
		out = append(append(out, byte(len(it))), it...)
	}
	return out, ok
}

func checkALPN(v []byte) bool {
	all := len(v)
	for len(v) > 0 {
		if v[0] == 0 || 1+int(v[0]) > len(v) {
			return false
		}
		v = v[1+int(v[0]):]
	}
	return all > 0
}

func writeALPN(dst, v []byte) []byte {
	for i := 0; i < len(v); i += 1 + int(v[i]) {
		if i > 0 {
			dst = append(dst, ',')
		}
		for _, c := range v[i+1 : i+1+int(v[i])] {
			if c == ',' || c == '\\' {
				dst = append(dst, '\\')
			}
			dst = append(dst, c)
		}
	}
	return dst
}

func readKeys(v []byte) (out []byte, ok bool) {
	var keys []uint16
	for _, name := range strings.Split(string(v), ",") {
		key, known := keyNumber(name)
		if !known || key == ParamMandatory || slices.Contains(keys, key) {
			return nil, false
		}
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, k := range keys {
		out = append(out, byte(k>>8), byte(k))
	}
	return out, true
}

func checkKeys(v []byte) bool {
	last := ParamMandatory
	for i := 0; i+1 < len(v); i += 2 {
		k := int(be16(v[i:]))
		if k <= last {
			return false
		}
		last = k
	}
	return len(v) > 0 && len(v)%2 == 0
}

func writeKeys(dst, v []byte) []byte {
	for i := 0; i < len(v); i += 2 {
		if i > 0 {
			dst = append(dst, ',')
		}
		dst = append(dst, ParamName(be16(v[i:]))...)
	}
	return dst
}

func readPort(v []byte) ([]byte, bool) {
	n, ok := parseUint(v, 65535)
	return []byte{byte(n >> 8), byte(n)}, ok
}

func readHints(four bool) func([]byte) ([]byte, bool) {
	return func(v []byte) (out []byte, ok bool) {
		for _, s := range strings.Split(string(v), ",") {
			a, err := netip.ParseAddr(s)
			if err != nil || a.Is4() != four || a.Zone() != "" {
				return nil, false
			}
			out = append(out, a.AsSlice()...)
		}
		return out, true
	}
}

func checkHints(size int) func([]byte) bool {
	return func(v []byte) bool { return len(v) > 0 && len(v)%size == 0 }
}

func writeHints(size int) func(dst, v []byte) []byte {
	return func(dst, v []byte) []byte {
		for i := 0; i < len(v); i += size {
			if i > 0 {
				dst = append(dst, ',')
			}
			a, _ := netip.AddrFromSlice(v[i : i+size])
			dst = a.AppendTo(dst)
		}
		return dst
	}
}

func readBase64(v []byte) ([]byte, bool) {
	out, err := base64.StdEncoding.DecodeString(string(v))
	return out, err == nil && len(out) > 0
}

func readPlain(v []byte) ([]byte, bool) { return v, true }
