package main

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"

	"fencepost/diag"
	"fencepost/dnsname"
	"fencepost/dnssec"
	"fencepost/keyring"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/source"
	"fencepost/zone"
	"fencepost/zonefile"
)

// figure reads a number that a command printed as JSON.
func figure(out, field string) (n float64) {
	if i := strings.Index(out, `"`+field+`":`); i >= 0 {
		_, _ = fmt.Sscan(strings.TrimRight(strings.SplitN(out[i+len(field)+3:], ",", 2)[0], "}\n"), &n)
	}
	return n
}

// sign measures signing and proving beside what the curve alone costs on all
// processors.
func (b *bench) sign() error {
	key, err := dnssec.Generate(rr.ECDSAP256SHA256, dnssec.FlagZone, 0)
	if err != nil {
		return err
	}
	data := make([]byte, 100)
	sig, err := key.Sign(data)
	if err != nil {
		return err
	}
	if _, _, err := b.timed(1, "key", "new", "bench.example", "--keys", "k"); err != nil {
		return err
	}
	for _, denial := range []string{"nsec", "nsec3"} {
		signRate := rate(func() { _, _ = key.Sign(data) })
		took, out, err := b.timed(1, "sign", "zones/bench.example.zone", "--keys", "k", "-o", denial+".zone", "--denial", denial, "--format", "json")
		if err != nil {
			return err
		}
		n := figure(out, "signatures")
		signRate = (signRate + rate(func() { _, _ = key.Sign(data) })) / 2 // before and after: machines drift
		row("sign, P-256, "+strings.ToUpper(denial), fmt.Sprintf("%.2f s for %.0f", took.Seconds(), n), fmt.Sprintf("%.0f signatures/s: %.2f s", signRate, n/signRate), took.Seconds()*signRate/n, "<= 1.10")
		verifyRate := rate(func() { _ = key.Verify(data, sig) })
		if took, _, err = b.timed(1, "verify", denial+".zone"); err != nil {
			return err
		}
		verifyRate = (verifyRate + rate(func() { _ = key.Verify(data, sig) })) / 2
		row("verify, "+strings.ToUpper(denial), fmt.Sprintf("%.2f s", took.Seconds()), fmt.Sprintf("%.0f checks/s: %.2f s", verifyRate, n/verifyRate), took.Seconds()*verifyRate/n, "<= 1.10")
	}
	took, out, err := b.timed(1, "sign", "zones/bench.example.zone", "--keys", "k", "-o", "again.zone", "--previous", "nsec.zone", "--format", "json")
	if err != nil {
		return err
	}
	row("sign again, nothing changed", fmt.Sprintf("%.2f s", took.Seconds()), fmt.Sprintf("%.0f of %.0f kept", figure(out, "kept"), figure(out, "kept")+figure(out, "signatures")), figure(out, "kept")/(figure(out, "kept")+figure(out, "signatures")), "1.00")
	for _, denial := range []string{"nsec", "nsec3"} {
		if err := b.signChange(denial); err != nil {
			return err
		}
	}
	return nil
}

// load reads a zone of the bench into memory.
func (b *bench) load(name string) (*zone.Snapshot, error) {
	text, err := os.ReadFile(b.path(name))
	if err != nil {
		return nil, err
	}
	var set source.Set
	f, err := set.Add(name, text)
	if err != nil {
		return nil, err
	}
	z := zonefile.Load(f, zonefile.Options{Origin: dnsname.MustParse("bench.example.")}, &diag.List{})
	if z == nil {
		return nil, fmt.Errorf("%s is not a zone", name)
	}
	return z.Snapshot, nil
}

// signChange measures what one changed record costs in a signed zone.
func (b *bench) signChange(denial string) error {
	plain, err := b.load("zones/bench.example.zone")
	if err != nil {
		return err
	}
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	signed, err := b.load(denial + ".zone")
	if err != nil {
		return err
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	ring, err := keyring.Open(b.path("k"), plain.Apex())
	if err == nil {
		err = ring.Unlock(nil, nil)
	}
	if err != nil {
		return err
	}
	p := signer.Policy{Denial: signer.Denial{NSEC3: denial == "nsec3"}, CDS: signer.WantDS}
	const changes = 50
	var total time.Duration
	made := 0
	for i := range changes {
		name, err := dnsname.Parse(fmt.Sprintf("bench-change-%d", i), plain.Apex())
		if err != nil {
			return err
		}
		next, err := plain.Replace([]zone.Content{{Owner: name, Records: []rr.Record{{Type: rr.TypeA, TTL: 300, Data: []byte{192, 0, 2, byte(i)}}}}})
		if err != nil {
			return err
		}
		p.Serial = uint32(i) + plain.Serial() + 1
		start := time.Now()
		out, report, err := signer.Update(context.Background(), plain, next, signed, ring.Signers(), p, time.Now())
		if err != nil {
			return err
		}
		total += time.Since(start)
		made += report.Signatures
		plain, signed = next, out
	}
	ms := total.Seconds() * 1000 / changes
	row("one name added, "+strings.ToUpper(denial), fmt.Sprintf("%.2f ms", ms), fmt.Sprintf("%.1f signatures each", float64(made)/changes), ms/5, "<= 1.00 (5 ms)")
	heap := float64(after.HeapAlloc) - float64(before.HeapAlloc)
	row("memory, signed with "+strings.ToUpper(denial), fmt.Sprintf("%.0f octets a record", float64(signed.Octets())/float64(signed.Records())), fmt.Sprintf("%.0f with the text's positions", heap/float64(signed.Records())), float64(signed.Octets())/float64(signed.Records())/80, "")
	return nil
}
