package tsig_test

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/vectors"
	"fencepost/message"
	"fencepost/tsig"
)

type vector struct {
	Name       string
	Message    string `json:"message_hex"`
	MAC        string `json:"mac_hex"`
	Algorithm  string
	Time       int64  `json:"time_signed"`
	RequestMAC string `json:"request_mac_hex"`
	Unsigned   string `json:"unsigned_hex"`
	Error      int
}

type file struct {
	KeyName string `json:"key_name"`
	KeyHex  string `json:"key_hex"`
	Cases   []vector
	Signed  stream `json:"axfr_stream_all_signed"`
	Middle  stream `json:"axfr_stream_middle_unsigned"`
	Rules   map[string]struct {
		Full     int
		Smallest int `json:"smallest_allowed"`
		FormErr  []int
	} `json:"mac_size_rules"`
}

type stream struct {
	Request  string `json:"request_hex"`
	Messages []struct {
		Message string `json:"message_hex"`
	}
}

func read(t *testing.T) (*file, func(algorithm string) *tsig.Key) {
	t.Helper()
	var f file
	vectors.Read(t, "tsig.json", &f)
	return &f, func(algorithm string) *tsig.Key {
		return &tsig.Key{Name: dnsname.MustParse(f.KeyName), Algorithm: algorithm, Secret: vectors.Hex(t, f.KeyHex)}
	}
}

func offset(t *testing.T, msg []byte) int {
	t.Helper()
	off, err := message.FindTSIG(msg)
	if err != nil || off == 0 {
		t.Fatalf("no TSIG found: %v", err)
	}
	return off
}

// TestVectors signs and checks each request and response of the vectors, in all
// algorithms.
func TestVectors(t *testing.T) {
	f, key := read(t)
	var request []byte
	for _, c := range f.Cases {
		msg := vectors.Hex(t, c.Message)
		if c.RequestMAC == "" {
			request = msg
		}
		if c.Error != 0 || c.Algorithm == "" {
			continue
		}
		s := tsig.NewStream(key(c.Algorithm))
		now := time.Unix(c.Time, 0)
		if c.RequestMAC != "" { // a response: the request comes first
			if _, err := s.Verify(request, offset(t, request), now); err != nil {
				t.Errorf("%s: the request: %v", c.Name, err)
				continue
			}
		}
		plain, err := s.Verify(msg, offset(t, msg), now)
		if err != nil {
			t.Errorf("%s: %v", c.Name, err)
			continue
		}
		if c.Unsigned == "" {
			continue
		}
		if !bytes.Equal(plain, vectors.Hex(t, c.Unsigned)) {
			t.Errorf("%s: without TSIG it is %x", c.Name, plain)
		}
		s = tsig.NewStream(key(c.Algorithm))
		if c.RequestMAC != "" {
			_, _ = s.Verify(request, offset(t, request), now)
		}
		if len(c.MAC)/2 >= 20 && c.Name != "request with MAC truncated to 16 octets" {
			if got := s.Sign(vectors.Hex(t, c.Unsigned), now); !bytes.Equal(got, msg) {
				t.Errorf("%s: signed it is\n%x\nwant\n%x", c.Name, got, msg)
			}
		}
	}
}

func TestStreams(t *testing.T) {
	f, key := read(t)
	for what, st := range map[string]stream{"all signed": f.Signed, "the middle unsigned": f.Middle} {
		request := vectors.Hex(t, st.Request)
		s := tsig.NewStream(key("hmac-sha256"))
		now := time.Unix(1735689601, 0)
		if _, err := s.Verify(request, offset(t, request), now); err != nil {
			t.Fatalf("%s: %v", what, err)
		}
		for i, m := range st.Messages {
			msg := vectors.Hex(t, m.Message)
			off, err := message.FindTSIG(msg)
			if err != nil {
				t.Fatal(err)
			}
			if off == 0 {
				err = s.Unsigned(msg)
			} else {
				_, err = s.Verify(msg, off, now)
			}
			if err != nil || s.Last != (off != 0) {
				t.Errorf("%s: message %d: %v; it counts as signed: %v", what, i, err, s.Last)
			}
		}
		if !s.Last {
			t.Errorf("%s: the last message counts as unsigned", what)
		}
	}
	// Without the first signature nothing is believed; nor after too many without.
	s := tsig.NewStream(key("hmac-sha256"))
	_ = s.Sign(make([]byte, 12), time.Unix(1, 0))
	if err := s.Unsigned(make([]byte, 12)); err == nil {
		t.Error("a transfer may begin unsigned")
	}
	request := vectors.Hex(t, f.Signed.Request)
	s = tsig.NewStream(key("hmac-sha256"))
	_, _ = s.Verify(request, offset(t, request), time.Unix(1735689601, 0))
	first := vectors.Hex(t, f.Signed.Messages[0].Message)
	_, _ = s.Verify(first, offset(t, first), time.Unix(1735689601, 0))
	var err error
	n := 0
	for ; err == nil; n++ {
		err = s.Unsigned(make([]byte, 12))
	}
	if n != 100 {
		t.Errorf("the unsigned message number %d is refused, not 100", n)
	}
}

func code(err error) uint16 {
	var e *tsig.Error
	if errors.As(err, &e) {
		return e.Code
	}
	return 0xffff
}

// dnsNameLen is how many octets the name at the beginning of a record has.
func dnsNameLen(t *testing.T, b []byte) int {
	t.Helper()
	n, err := dnsname.WireLen(b)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestRefusals(t *testing.T) {
	f, key := read(t)
	var msg []byte
	var at int64
	for _, c := range f.Cases {
		if c.Name == "request SOA, hmac-sha256" {
			msg, at = vectors.Hex(t, c.Message), c.Time
		}
	}
	off := offset(t, msg)
	check := func(what string, k *tsig.Key, msg []byte, now int64, want uint16) {
		t.Helper()
		if _, err := tsig.NewStream(k).Verify(msg, offset(t, msg), time.Unix(now, 0)); code(err) != want {
			t.Errorf("%s: %v", what, err)
		}
	}
	good := key("hmac-sha256")
	check("fudge seconds late", good, msg, at+300, 0xffff)
	check("a second later", good, msg, at+301, tsig.BadTime)
	check("fudge seconds early", good, msg, at-300, 0xffff)
	check("far too early", good, msg, at-301, tsig.BadTime)
	head := off + dnsNameLen(t, msg[off:]) // of the record behind its name
	for what, octet := range map[string]int{"the class": head + 3, "the TTL": head + 7, "the first octet of the TTL": head + 4} {
		bad := bytes.Clone(msg)
		bad[octet] ^= 1
		check("another value of "+what, good, bad, at, 0) // FORMERR (RFC 8945 §4.2)
	}
	other := *good
	other.Secret = []byte("another secret")
	check("another secret", &other, msg, at, tsig.BadSig)
	check("another algorithm", key("hmac-sha512"), msg, at, tsig.BadKey)
	named := *good
	named.Name = dnsname.MustParse("other.key.")
	check("another name", &named, msg, at, tsig.BadKey)
	for i := 12; i < off; i += 5 {
		bad := bytes.Clone(msg)
		bad[i] ^= 0x10
		if o, err := message.FindTSIG(bad); err != nil || o == 0 {
			continue
		}
		if _, err := tsig.NewStream(good).Verify(bad, off, time.Unix(at, 0)); err == nil {
			t.Errorf("octet %d may be changed", i)
		}
	}
	for n := off; n < len(msg); n++ {
		if _, err := tsig.NewStream(good).Verify(msg[:n], off, time.Unix(at, 0)); code(err) != 0 {
			t.Errorf("cut to %d octets: %v", n, err)
		}
	}
}

// The answers that report an error are those of RFC 8945 §5.3.2.
func TestRefuse(t *testing.T) {
	f, key := read(t)
	var request []byte
	for _, c := range f.Cases {
		if c.Name == "request SOA, hmac-sha256" {
			request = vectors.Hex(t, c.Message)
		}
	}
	client := func() *tsig.Stream {
		s := tsig.NewStream(key("hmac-sha256"))
		plain := bytes.Clone(request[:offset(t, request)])
		plain[11]--
		s.Sign(plain, time.Unix(1735689600, 0))
		return s
	}
	head := func() []byte {
		m := bytes.Clone(request[:offset(t, request)])
		m[2], m[3], m[11] = 0x80, 9, 0
		return m
	}
	for _, c := range []struct {
		code uint16
		now  int64
	}{{tsig.BadKey, 1735689600}, {tsig.BadSig, 1735689600}, {tsig.BadTime, 1735699600}} {
		server := tsig.NewStream(key("hmac-sha256"))
		_, _ = server.Verify(request, offset(t, request), time.Unix(c.now, 0))
		out := tsig.Refuse(head(), request, offset(t, request), c.code, server, time.Unix(c.now, 0))
		_, err := client().Verify(out, offset(t, out), time.Unix(1735689600, 0))
		if !errors.Is(err, tsig.ErrPeer) {
			t.Errorf("error %d reaches the client as: %v", c.code, err)
		}
		alone := tsig.Refuse(head(), request, offset(t, request), c.code, nil, time.Unix(c.now, 0))
		if signed := len(out) != len(alone); signed != (c.code == tsig.BadTime) { // only a right MAC is answered with one
			t.Errorf("error %d: the answer has %d octets, without a MAC %d", c.code, len(out), len(alone))
		}
	}
	if n, err := tsig.KeyName(request, offset(t, request)); err != nil || n.String() != f.KeyName {
		t.Errorf("the key is named %s, %v", n, err)
	}
	if !tsig.Supported(tsig.DefaultAlgorithm) || tsig.Supported("hmac-md5.sig-alg.reg.int") {
		t.Error("the wrong algorithms are supported")
	}
}

func FuzzVerify(f *testing.F) {
	f.Add([]byte("\x12\x34\x00\x00\x00\x01\x00\x00\x00\x00\x00\x01\x07example\x00\x00\x06\x00\x01\x01k\x00\x00\xfa\x00\xff\x00\x00\x00\x00\x00\x10"))
	f.Fuzz(func(t *testing.T, msg []byte) {
		off, err := message.FindTSIG(msg)
		if err != nil || off == 0 {
			return
		}
		k := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha256", Secret: []byte("s")}
		if _, err := tsig.NewStream(k).Verify(msg, off, time.Unix(1735689600, 0)); err == nil {
			t.Fatalf("%x was accepted", msg)
		}
		tsig.Refuse(make([]byte, 12), msg, off, tsig.BadSig, nil, time.Unix(1, 0))
	})
}

// A MAC may be cut off, but not below ten octets nor below half of its length (RFC
// 8945 §5.2.2.1).
func TestMACSizes(t *testing.T) {
	f, key := read(t)
	if len(f.Rules) == 0 {
		t.Fatal("the vectors have lost the rules")
	}
	now := time.Unix(1735689600, 0)
	for algorithm, rule := range f.Rules {
		k := key(algorithm)
		msg := tsig.NewStream(k).Sign(message.AppendQuery(nil, dnsname.MustParse("example."), 6, message.QueryOptions{}), now)
		off := offset(t, msg)
		length := off + len(k.Name.Wire()) + 8      // of the data
		size := length + 2 + len(algorithm) + 2 + 8 // of the MAC
		for n := 0; n <= rule.Full; n++ {
			cut := bytes.Clone(msg[:size+2+n])
			cut = append(cut, msg[size+2+rule.Full:]...)
			cut[length], cut[length+1] = byte((len(cut)-length-2)>>8), byte(len(cut)-length-2)
			cut[size], cut[size+1] = byte(n>>8), byte(n)
			_, err := tsig.NewStream(k).Verify(cut, off, now)
			if good := n >= rule.Smallest; (err == nil) != good || !good && code(err) != 0 {
				t.Errorf("%s with %d of %d octets: %v", algorithm, n, rule.Full, err)
			}
		}
	}
}

// The MAC of a report that the clocks differ is over all of RFC 8945 §4.3.3, with the
// server's time as other data (§5.2.3), put together here by hand.
func TestBadTimeMAC(t *testing.T) {
	f, key := read(t)
	var request, requestMAC []byte
	for _, c := range f.Cases {
		if c.Name == "request SOA, hmac-sha256" {
			request, requestMAC = vectors.Hex(t, c.Message), vectors.Hex(t, c.MAC)
		}
	}
	const now = 1735699600
	server := tsig.NewStream(key("hmac-sha256"))
	_, _ = server.Verify(request, offset(t, request), time.Unix(now, 0))
	head := bytes.Clone(request[:offset(t, request)])
	head[2], head[3], head[11] = 0x80, 9, 0
	out := tsig.Refuse(bytes.Clone(head), request, offset(t, request), tsig.BadTime, server, time.Unix(now, 0))
	name, alg := dnsname.MustParse(f.KeyName).Key(), dnsname.MustParse("hmac-sha256.").Key()
	signed := binary.BigEndian.AppendUint16(nil, uint16(len(requestMAC)))
	signed = append(append(signed, requestMAC...), head...)
	signed = append(signed, name+"\x00\xff\x00\x00\x00\x00"+alg...)
	tail := []byte("\x00\x00\x67\x74\x85\x80\x01\x2c\x00\x12\x00\x06\x00\x00") // the request's time (1735689600), 300 s, BADTIME, six octets:
	tail = binary.BigEndian.AppendUint32(tail, now)                            // ours
	mac := hmac.New(sha256.New, vectors.Hex(t, f.KeyHex))
	mac.Write(append(signed, tail...))
	if want := mac.Sum(nil); !bytes.Contains(out[len(head):], append([]byte("\x00\x20"), want...)) || !bytes.HasSuffix(out, binary.BigEndian.AppendUint32([]byte("\x00\x12\x00\x06\x00\x00"), now)) {
		t.Errorf("the MAC is not %x in\n%x", want, out[len(head):])
	}
}

// Times are 48 bits wide: those after 2106 are signed and checked like others (RFC 8945
// §4.2).
func TestLateTimes(t *testing.T) {
	k := &tsig.Key{Name: dnsname.MustParse("k."), Algorithm: "hmac-sha256", Secret: []byte("0123456789abcdef0123456789abcdef")}
	for _, seconds := range []int64{1<<32 - 1, 1 << 32, 1<<32 + 1e9, 1<<48 - 400} {
		at := time.Unix(seconds, 0)
		msg := tsig.NewStream(k).Sign(message.AppendQuery(nil, dnsname.MustParse("example."), 6, message.QueryOptions{}), at)
		off, err := message.FindTSIG(msg)
		if err != nil || off == 0 {
			t.Fatal(err)
		}
		for late, good := range map[time.Duration]bool{0: true, 300 * time.Second: true, 301 * time.Second: false, -1 << 32 * time.Second: false} {
			if _, err := tsig.NewStream(k).Verify(msg, off, at.Add(late)); (err == nil) != good {
				t.Errorf("signed at %d, looked at %s later: %v", seconds, late, err)
			}
		}
	}
}
