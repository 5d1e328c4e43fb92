package roll

import (
	"fmt"
	"time"
)

// RefusedError says what an early step would break, and when it is safe.
type RefusedError struct {
	Breaks string
	Safe   time.Time // zero: not known yet
	Until  string    // in words, where Safe is zero
}

func (e *RefusedError) Error() string {
	when := e.Until
	if !e.Safe.IsZero() {
		when = "it is safe from " + e.Safe.UTC().Format("2006-01-02 15:04:05 UTC") + " on"
	}
	return e.Breaks + "; " + when
}

// others are the keys besides k that do what k does.
func (r *KeySet) others(k *Key, does func(*Key) bool) bool {
	for _, o := range r.Keys {
		if o != k && !o.Foreign && !o.Revoked && o.Algorithm == k.Algorithm && does(o) {
			return true
		}
	}
	return false
}

// MayRetire tells why a key must not be taken out of use now; nil if it may. ds
// reports whether the parent's servers show its DS; nil asks what was last seen.
// Retiring the key of another operator withdraws nothing but the wish for its DS:
// what is needed is a key of our own that has one, and then CDS asks for that alone
// (RFC 8901 §8).
func (r *KeySet) MayRetire(k *Key, ds *bool) error {
	if k.Foreign {
		if !r.others(k, func(o *Key) bool { return o.SignKeys && o.DS && !o.Seen.IsZero() }) {
			return &RefusedError{Breaks: fmt.Sprintf("no key of ours takes the place of key %d at the parent: the chain of trust would end", k.Tag),
				Until: "it is safe when one of ours that signs the zone's keys has its DS there"}
		}
		return nil
	}
	if k.SignZone && !r.others(k, func(o *Key) bool { return o.SignZone }) {
		return &RefusedError{Breaks: fmt.Sprintf("key %d is the last that signs the zone: resolvers would reject every answer once its signatures expire", k.Tag),
			Until: "it is safe when another has taken its place"}
	}
	if k.SignKeys && !r.others(k, func(o *Key) bool { return o.SignKeys && o.Publish }) {
		return &RefusedError{Breaks: fmt.Sprintf("key %d is the last that signs the zone's keys: the chain of trust would end", k.Tag),
			Until: "it is safe when another has taken its place"}
	}
	return r.named(k, ds)
}

// named refuses while the parent names a key.
func (r *KeySet) named(k *Key, ds *bool) error {
	shows := k.DS || !k.Seen.IsZero() && k.Gone.IsZero()
	if ds != nil {
		shows = *ds
	}
	if k.entryPoint() && shows {
		return &RefusedError{Breaks: fmt.Sprintf("the parent's DS names key %d: without it resolvers would reject the whole zone", k.Tag),
			Until: "it is safe when the parent has another DS and the old one has left the caches"}
	}
	return nil
}

// MayRemove tells why a key's DNSKEY record must not leave the zone now; nil if it
// may.
func (r *KeySet) MayRemove(k *Key, now time.Time, ds *bool, t *Timing) error {
	if !k.Publish && !k.SignZone && !k.SignKeys {
		return r.named(k, ds)
	}
	if k.State != Published && k.State != Ready {
		if err := r.MayRetire(k, ds); err != nil {
			return err
		}
	}
	if err := r.named(k, ds); err != nil { // whoever signs with it, and whatever became of it here
		return err
	}
	if at, ok := k.Since[Revoked]; ok && k.Revoked {
		if safe := at.Add(t.forget() + t.Margin); now.Before(safe) {
			return &RefusedError{Breaks: fmt.Sprintf("key %d was revoked on %s: resolvers that use it as a trust anchor have to see that", k.Tag, at.UTC().Format("2006-01-02 15:04 UTC")), Safe: safe}
		}
	}
	if k.SignZone {
		return &RefusedError{Breaks: fmt.Sprintf("key %d signs the zone: caches hold its signatures, which need it", k.Tag),
			Until: "it is safe some time after it was retired"}
	}
	if at, ok := k.Since[Retired]; ok && k.signsZone() {
		if safe := t.after(dataInCache, at); now.Before(safe) {
			return &RefusedError{Breaks: fmt.Sprintf("caches hold signatures of key %d, which was retired on %s: resolvers that fetch the keys anew would reject them", k.Tag, at.UTC().Format("2006-01-02 15:04 UTC")), Safe: safe}
		}
	}
	if gone, named := k.dsGone(now); named {
		if safe := t.after(dsInCache, gone); now.Before(safe) {
			return &RefusedError{Breaks: fmt.Sprintf("caches hold the parent's old DS, which names key %d", k.Tag), Safe: safe}
		}
	}
	return nil
}

// dsGone is since when the parent has no DS of a key that it is not seen to have now; named is false
// for one that it never had as far as is known. Where the parent was not looked at in between, it may
// be gone only just now.
func (k *Key) dsGone(now time.Time) (since time.Time, named bool) {
	retired, given := k.Since[Retired]
	switch {
	case !k.Gone.IsZero():
		return k.Gone, true
	case !k.Seen.IsZero():
		return now, true
	case k.Foreign && given && k.entryPoint():
		return retired, true
	}
	return now, false
}
