package resolve_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"fencepost/answer"
	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// zones answer for several zones.
type zones map[string]*zone.Snapshot

func (z zones) Find(name []byte, above bool) (*zone.Snapshot, answer.State) {
	n, err := dnsname.FromWire(name)
	if above {
		n = n.Parent()
	}
	for ; err == nil && !n.IsZero(); n = n.Parent() {
		if s := z[n.Key()]; s != nil {
			return s, answer.Served
		}
		if n.Labels() == 0 {
			break
		}
	}
	return nil, answer.NotServed
}

// start serves zones over UDP on loopback.
func start(t *testing.T, texts map[string]string) netip.AddrPort {
	t.Helper()
	src := zones{}
	for name, text := range texts {
		var set source.Set
		f, err := set.Add(name, []byte("$TTL 60\n@ SOA ns h 1 7200 900 1209600 300\n"+text))
		if err != nil {
			t.Fatal(err)
		}
		apex := dnsname.MustParse(name)
		src[apex.Key()] = zonefile.Load(f, zonefile.Options{Origin: apex}, &diag.List{}).Snapshot
	}
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close() })
	go func() {
		var q message.Query
		var r answer.Responder
		buf := make([]byte, 4096)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			if v, _ := message.ParseQuery(buf[:n], &q); v == message.Answer {
				_, _ = conn.WriteToUDPAddrPort(r.Respond(nil, &q, src, answer.Options{Limit: 1232, UDPSize: 1232}), from)
			}
		}
	}()
	return conn.LocalAddr().(*net.UDPAddr).AddrPort()
}

// A walk follows the delegations, over servers that answer for one zone and such that
// answer for parent and child, and stops where these lead nowhere.
func TestWalk(t *testing.T) {
	leaf := start(t, map[string]string{"harbour.example.": "@ NS ns\nns A 192.0.2.3\nwww A 192.0.2.9\nalias CNAME www\n"})
	loop := start(t, map[string]string{"loop.example.": "@ NS ns\nns A 192.0.2.5\n"})
	top := start(t, map[string]string{"example.": "@ NS ns\nns A 192.0.2.1\nharbour NS ns.harbour\nns.harbour A 192.0.2.3\nloop NS ns.loop\nns.loop A 192.0.2.4\ngone NS ns.elsewhere.test.\n"})
	reached := 0
	w := resolve.Walker{Asker: resolve.Asker{Timeout: time.Second}, Roots: []netip.AddrPort{top}, Start: dnsname.MustParse("example."),
		Reach: func(_ context.Context, host dnsname.Name, glue [][]byte) ([]netip.AddrPort, error) {
			reached++
			switch host.String() {
			case "ns.harbour.example.":
				if len(glue) != 1 || string(glue[0]) != "\xc0\x00\x02\x03" {
					t.Errorf("glue %x", glue)
				}
				return []netip.AddrPort{leaf}, nil
			case "ns.loop.example.":
				return []netip.AddrPort{loop}, nil
			}
			return nil, errors.New("nobody knows it")
		}}
	ctx := context.Background()
	records, err := w.Collect(ctx, dnsname.MustParse("www.harbour.example."), rr.TypeA)
	if err != nil || reached != 1 {
		t.Fatalf("%v, %d servers", err, reached)
	}
	found := false
	for _, r := range records {
		found = found || r.Type == rr.TypeA && r.Name.String() == "www.harbour.example." && string(r.Data) == "\xc0\x00\x02\x09"
	}
	if !found {
		t.Errorf("the address is not among %d records", len(records))
	}
	for name, want := range map[string]string{"x.gone.example.": "no server of gone.example. has an address", "www.elsewhere.": "answers"} {
		if _, err := w.Collect(ctx, dnsname.MustParse(name), rr.TypeA); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := w.Collect(ctx, dnsname.MustParse("nosuch.example."), rr.TypeA); err != nil {
		t.Errorf("a name that does not exist: %v", err)
	}
	silent := w
	silent.Roots = []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:1")}
	if _, err := silent.Collect(ctx, dnsname.MustParse("www.example."), rr.TypeA); err == nil {
		t.Error("nobody answers, and it goes on")
	}
}

// Servers that are lame for everything are asked only so often.
func TestWalkEnds(t *testing.T) {
	lame := start(t, map[string]string{"other.": "@ NS ns\n"})
	many := make([]netip.AddrPort, 100)
	for i := range many {
		many[i] = lame
	}
	w := resolve.Walker{Asker: resolve.Asker{Timeout: time.Second}, Roots: many, Start: dnsname.MustParse("example.")}
	if _, err := w.Collect(context.Background(), dnsname.MustParse("www.example."), rr.TypeA); !errors.Is(err, resolve.ErrWalk) {
		t.Errorf("a hundred lame servers: %v", err)
	}
}
