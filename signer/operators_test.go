package signer_test

import (
	"testing"
	"time"

	"fencepost/dnssec"
	"fencepost/rr"
	"fencepost/signer"
	"fencepost/validate"
	"fencepost/zone"
)

// recordsAt are the records of a set with its signatures, as an answer has them.
func recordsAt(s *zone.Snapshot, owner string, t rr.Type) (out []rr.Record) {
	name := rec(owner, t, "").Name
	var n zone.Node
	if !s.GetName(name, &n) {
		return nil
	}
	set, sigs, _ := n.FindWithSig(t)
	for data := range set.Data {
		out = append(out, rr.Record{Name: name, Type: t, TTL: set.TTL, Data: data})
	}
	for data := range sigs.Data {
		out = append(out, rr.Record{Name: name, Type: rr.TypeRRSIG, TTL: sigs.TTL, Data: data})
	}
	return out
}

// Two operators sign one zone with keys of their own and publish each other's
// (RFC 8901 §2.1.2): whichever of them a resolver asks for what, the answer is secure;
// also where they deny in different ways (§5).
func TestTwoOperators(t *testing.T) {
	type operator struct{ ksk, zsk signer.Key }
	var ops [2]operator
	for i := range ops {
		ops[i] = operator{newKey(t, rr.ED25519, signer.KSK), newKey(t, rr.ED25519, signer.ZSK)}
	}
	foreign := func(k signer.Key) signer.Key {
		return signer.Key{PublicKey: k.PublicKey, Publish: true, DS: k.Flags&dnssec.FlagSEP != 0}
	}
	var served [2]*zone.Snapshot
	for i, p := range []signer.Policy{{CDS: signer.WantDS}, {CDS: signer.WantDS, Denial: signer.Denial{NSEC3: true}}} {
		other := ops[1-i]
		served[i] = sign(t, sample(t, 3), []signer.Key{ops[i].ksk, ops[i].zsk, foreign(other.ksk), foreign(other.zsk)}, p)
		if proof := verify(t, served[i], at); proof.Total > 0 {
			t.Fatalf("operator %d: %s", i, proof.Findings[0].Message)
		}
	}
	var anchors []rr.Record
	for _, o := range ops {
		anchors = append(anchors, rec("example.", rr.TypeDS, string(dnssec.DS(apex, o.ksk.Data, 2))))
	}
	for i, keys := range served {
		for j, data := range served {
			p := validate.NewRRsets(recordsAt(keys, "example.", rr.TypeDNSKEY), recordsAt(data, "host1.example.", rr.TypeA))
			if v := p.Validate(anchors, rec("host1.example.", rr.TypeA, "").Name, rr.TypeA, at); v.Status != validate.Secure {
				t.Errorf("keys of operator %d, data of %d: %s (%s)", i, j, v.Status, v.Reason)
			}
		}
	}
	for _, typ := range []rr.Type{rr.TypeCDS, rr.TypeCDNSKEY} { // the same at both (RFC 8901 §8)
		var sets [2]zone.RRset
		for i, s := range served {
			var n zone.Node
			s.ApexNode(&n)
			sets[i], _ = n.Find(typ)
		}
		if sets[0].N != 2 || !sets[0].Equal(sets[1]) {
			t.Errorf("%s: %d and %d records", typ, sets[0].N, sets[1].N)
		}
	}
	// Without the other's ZSK its data is not believed: that is what the exchange is for.
	lonely := sign(t, sample(t, 3), []signer.Key{ops[0].ksk, ops[0].zsk}, signer.Policy{})
	p := validate.NewRRsets(recordsAt(lonely, "example.", rr.TypeDNSKEY), recordsAt(served[1], "host1.example.", rr.TypeA))
	if v := p.Validate(anchors, rec("host1.example.", rr.TypeA, "").Name, rr.TypeA, at); v.Status != validate.Bogus {
		t.Errorf("a ZSK that was not exchanged: %s", v.Status)
	}
}

// A zone goes from NSEC to NSEC3, to other parameters and back: each version is proved,
// and no signature over data is made anew for it (RFC 5155 §10.4).
func TestChangeOfDenial(t *testing.T) {
	keys := []signer.Key{newKey(t, rr.ED25519, signer.Single)}
	z := sample(t, 50)
	s := sign(t, z, keys, signer.Policy{})
	for i, p := range []signer.Policy{nsec3(false, "", 0), nsec3(false, "\x01", 0), nsec3(true, "", 0), {}} {
		p.Previous, p.Serial = s, uint32(100+i)
		next := sign(t, z, keys, p)
		if proof := verify(t, next, at); proof.Total > 0 {
			t.Fatalf("change %d: %s", i, proof.Findings[0].Message)
		}
		if (next.NSEC3() != nil) != p.Denial.NSEC3 {
			t.Errorf("change %d: NSEC3 records: %v", i, next.NSEC3() != nil)
		}
		var a, b zone.Node
		s.GetName(rec("host7.example.", 1, "").Name, &a)
		next.GetName(rec("host7.example.", 1, "").Name, &b)
		was, _ := a.FindSig(rr.TypeA)
		is, _ := b.FindSig(rr.TypeA)
		if !was.Equal(is) {
			t.Errorf("change %d: the signature over an address is new", i)
		}
		s = next
	}
	if late := verify(t, s, at.Add(29*24*time.Hour)); late.Total == 0 {
		t.Error("expired signatures are proved")
	}
}

// While the algorithm of keys changes, CDS and CDNSKEY have a signature of each algorithm that the
// zone has, as all sets do: caches may hold the DNSKEY set of the step before, or of the next
// (RFC 4035 §2.2, RFC 6781 §4.1.4). One is by a key that the parent knows (RFC 7344 §4.1).
func TestRequestsHaveAllAlgorithms(t *testing.T) {
	const a, b = rr.ECDSAP256SHA256, rr.ED25519
	oldKSK, oldZSK, newKSK, newZSK := newKey(t, a, signer.KSK), newKey(t, a, signer.ZSK), newKey(t, b, signer.KSK), newKey(t, b, signer.ZSK)
	quiet := func(k signer.Key) signer.Key { k.Publish, k.SignKeys, k.DS = false, false, false; return k }
	for what, keys := range map[string][]signer.Key{
		"the new one signs, and is not there": {oldKSK, oldZSK, quiet(newKSK), quiet(newZSK)},
		"both are there":                      {oldKSK, oldZSK, newKSK, newZSK},
		"the old one is gone, and signs":      {quiet(oldKSK), quiet(oldZSK), newKSK, newZSK},
	} {
		for i := range keys {
			keys[i].SignZone = keys[i].SignZone || keys[i].Tag == oldZSK.Tag || keys[i].Tag == newZSK.Tag
		}
		z := sign(t, sample(t, 3), keys, signer.Policy{CDS: signer.WantDS})
		for _, typ := range []rr.Type{rr.TypeCDS, rr.TypeCDNSKEY, rr.TypeSOA} {
			algorithms, byEntry := map[rr.AlgorithmNumber]bool{}, false
			for _, r := range recordsAt(z, z.Apex().String(), typ) {
				if r.Type != rr.TypeRRSIG {
					continue
				}
				s, err := dnssec.ParseRRSIG(r.Data)
				if err != nil {
					t.Fatal(err)
				}
				algorithms[s.Algorithm] = true
				byEntry = byEntry || s.KeyTag == oldKSK.Tag || s.KeyTag == newKSK.Tag
			}
			if len(algorithms) != 2 || !byEntry && typ != rr.TypeSOA {
				t.Errorf("%s: %s is signed with %v, by a key that the parent knows: %v", what, typ, algorithms, byEntry)
			}
		}
	}
}
