package keyring

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/roll"
)

// fill sets every field to something of its own.
func fill(v reflect.Value, n *int) {
	*n++
	switch v.Kind() {
	case reflect.Struct:
		if v.Type() == reflect.TypeFor[time.Time]() {
			v.Set(reflect.ValueOf(time.Unix(int64(1_700_000_000+*n), 0).UTC()))
			return
		}
		for i := range v.NumField() {
			fill(v.Field(i), n)
		}
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range v.Len() {
			fill(v.Index(i), n)
		}
	case reflect.String:
		v.SetString(strings.Repeat("x", *n))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int:
		v.SetInt(int64(*n))
	default:
		v.SetUint(uint64(*n))
	}
}

// Nothing of a rollover is lost in its file, whatever fields come to it.
func TestRolloverFile(t *testing.T) {
	var r roll.Rollover
	n := 0
	fill(reflect.ValueOf(&r).Elem(), &n)
	if back := fileOfRollover(&r).rollover(); !reflect.DeepEqual(back, &r) {
		t.Errorf("%+v\ncomes back as %+v", r, back)
	}
	var ttls roll.TTLs
	fill(reflect.ValueOf(&ttls).Elem(), &n)
	if back := ttlsOf(fileOfTTLs(ttls)); !reflect.DeepEqual(back, ttls) {
		t.Errorf("%+v comes back as %+v", ttls, back)
	}
}

// A file that a newer program wrote is not taken for what it may not be.
func TestNewerFormat(t *testing.T) {
	ring := &Ring{Zone: dnsname.MustParse("tides.example."), Roll: &roll.KeySet{}}
	text, err := ring.encode()
	if err != nil || !strings.Contains(string(text), "format = 1\n") {
		t.Fatalf("%v %s", err, text)
	}
	if err := ring.decode(text); err != nil {
		t.Error(err)
	}
	if err := ring.decode([]byte(strings.Replace(string(text), "format = 1", "format = 2", 1))); err == nil || !strings.Contains(err.Error(), "newer") {
		t.Errorf("a newer format: %v", err)
	}
}
