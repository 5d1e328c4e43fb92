package keymanager_test

import (
	"context"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keymanager"
	"fencepost/rr"
	"fencepost/zone"
)

// Signatures of a large zone fall due evenly, in the first round and in those after it: each
// renewal is a small part of the zone, whatever its names are like.
func TestRenewalsAreSpread(t *testing.T) {
	const names = 2000
	for what, name := range map[string]string{"counted": "h%d.tides.example.", "counted at the end": "host-in-the-harbour-%04d.tides.example."} {
		now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
		apex := dnsname.MustParse("tides.example.")
		b := zone.NewBuilder(apex, false)
		add := func(owner string, t2 rr.Type, data string) {
			if err := b.AddRecord(rr.Record{Name: dnsname.MustParse(owner), Type: t2, Class: rr.ClassIN, TTL: 300, Data: []byte(data)}); err != nil {
				t.Fatal(err)
			}
		}
		host := "\x02ns\x05tides\x07example\x00"
		add("tides.example.", rr.TypeSOA, host+host+"\x00\x00\x00\x01\x00\x00\x0e\x10\x00\x00\x02\x58\x00\x01\x51\x80\x00\x00\x01\x2c")
		add("tides.example.", rr.TypeNS, host)
		for i := range names {
			add(fmt.Sprintf(name, i), rr.TypeA, "\xc6\x33\x64\x07")
		}
		source := b.Build().Snapshot
		policy := keymanager.DefaultPolicy()
		policy.Algorithm = rr.ED25519
		m := &keymanager.Manager{Env: keymanager.Env{Now: func() time.Time { return now }, Log: slog.New(slog.DiscardHandler)}, Zone: keymanager.Zone{Name: apex, Dir: t.TempDir(), Policy: policy}}
		var last keymanager.Signed
		begin, total, most, rounds := now, 0, 0, 0
		for now.Sub(begin) < 40*24*time.Hour {
			job := keymanager.Job{Source: source, Signed: last.Zone, Serial: uint32(rounds + 1), Now: now}
			out, err := m.Sign(context.Background(), job)
			if err != nil {
				t.Fatal(err)
			}
			made, all := signedAt(t, out.Zone, now)
			if rounds > 0 {
				most = max(most, made)
			}
			total, last, rounds = all, out, rounds+1
			now = out.Renew
		}
		if most == 0 || most > total/6 || rounds < 8 {
			t.Errorf("%s: %d renewals in 40 days, the largest of %d of %d signatures", what, rounds-1, most, total)
		}
	}
}

// signedAt counts the signatures made at a time, and all.
func signedAt(t *testing.T, z *zone.Snapshot, at time.Time) (made, all int) {
	t.Helper()
	for n := range z.Nodes {
		for set := range n.RRsets {
			sigs, _ := n.FindSig(set.Type)
			for data := range sigs.Data {
				s, err := dnssec.ParseRRSIG(data)
				if err != nil {
					t.Fatal(err)
				}
				if all++; s.Inception == uint32(at.Add(-time.Hour).Unix()) {
					made++
				}
			}
		}
	}
	return made, all
}
