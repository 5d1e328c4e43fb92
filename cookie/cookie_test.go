package cookie_test

import (
	"bytes"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"fencepost/cookie"
	"fencepost/internal/vectors"
)

// The cookies of RFC 9018 appendix A.
func TestVectors(t *testing.T) {
	var in struct {
		Cases []struct {
			Source       string
			IP           string `json:"client_ip"`
			Secret       string `json:"server_secret"`
			Client       string `json:"client_cookie"`
			Timestamp    int64
			Option       string `json:"cookie_option_hex"`
			VersionOctet string `json:"version_reserved"`
		}
	}
	vectors.Read(t, "cookies.json", &in)
	if len(in.Cases) < 3 {
		t.Fatalf("%d cases", len(in.Cases))
	}
	for _, c := range in.Cases {
		if c.Option == "" {
			continue
		}
		secrets := cookie.Secrets{cookie.Secret(vectors.Hex(t, c.Secret))}
		from, at, want := netip.MustParseAddr(c.IP), time.Unix(c.Timestamp, 0), vectors.Hex(t, c.Option)
		if !secrets.Valid(want, from, at) {
			t.Errorf("%s: it does not count", c.Source)
		}
		if got := secrets.Append(nil, want[:cookie.ClientSize], from, at); c.VersionOctet == "01000000" && !bytes.Equal(got, want) {
			t.Errorf("%s: %x, want %x", c.Source, got, want)
		}
	}
}

// What was made counts for an hour, five minutes before its time, for its client at its address,
// with either of two secrets; it is given back for half an hour, and then renewed (RFC 9018 §4.3, §5).
func TestLife(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2026))
	at := time.Unix(1<<32-1000, 0) // the time goes round within
	secret := func() (s cookie.Secret) {
		for i := range s {
			s[i] = byte(r.Uint32())
		}
		return s
	}
	old, new := secret(), secret()
	client := []byte("fencepos")
	for _, from := range []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8::7"), netip.MustParseAddr("::ffff:198.51.100.7")} {
		made := cookie.Secrets{old}.Append(nil, client, from, at)
		for after, want := range map[time.Duration][2]bool{ // it counts; it is given back
			-301 * time.Second: {false, false}, -300 * time.Second: {true, true}, 0: {true, true}, 1800 * time.Second: {true, true},
			1801 * time.Second: {true, false}, time.Hour: {true, false}, 3601 * time.Second: {false, false}, 24 * time.Hour: {false, false},
		} {
			now := at.Add(after)
			if got := (cookie.Secrets{old}).Valid(made, from, now); got != want[0] {
				t.Errorf("%s after %s: it counts: %v", from, after, got)
			}
			again := cookie.Secrets{old}.Append(nil, made, from, now)
			if bytes.Equal(again, made) != want[1] || !(cookie.Secrets{old}).Valid(again, from, now) || len(again) != 24 {
				t.Errorf("%s after %s: given back %x for %x", from, after, again, made)
			}
		}
		both := cookie.Secrets{new, old}
		if !both.Valid(made, from, at) || (cookie.Secrets{new}).Valid(made, from, at) || bytes.Equal(both.Append(nil, made, from, at), made) {
			t.Error("a change of the secret goes wrong")
		}
		for i := range made {
			wrong := bytes.Clone(made)
			wrong[i] ^= 1 << r.IntN(8)
			if (cookie.Secrets{old}).Valid(wrong, from, at) {
				t.Errorf("with octet %d changed it counts", i)
			}
		}
		for n := range 41 {
			if (cookie.Secrets{old}).Valid(append(bytes.Clone(made), make([]byte, 20)...)[:n], from, at) != (n == 24) {
				t.Errorf("%d octets", n)
			}
		}
		if (cookie.Secrets{old}).Valid(made, netip.MustParseAddr("198.51.100.8"), at) {
			t.Error("it counts for another address")
		}
	}
}

func BenchmarkAppend(b *testing.B) {
	s := cookie.Secrets{cookie.Secret{1}}
	from, now := netip.MustParseAddr("198.51.100.7"), time.Unix(1800000000, 0)
	made := s.Append(nil, []byte("fencepos"), from, now)
	dst := make([]byte, 0, 64)
	b.ReportAllocs()
	for b.Loop() {
		dst = s.Append(dst[:0], made, from, now)
	}
}
