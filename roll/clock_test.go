package roll

import (
	"reflect"
	"testing"
	"time"
)

// times calls f for every time that v holds, however deep.
func times(v reflect.Value, f func(reflect.Value)) {
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			times(v.Elem(), f)
		}
	case reflect.Slice:
		for i := range v.Len() {
			times(v.Index(i), f)
		}
	case reflect.Map:
		for _, k := range v.MapKeys() {
			if at, ok := v.MapIndex(k).Interface().(time.Time); ok {
				held := reflect.New(reflect.TypeOf(at)).Elem()
				held.Set(v.MapIndex(k))
				f(held)
				v.SetMapIndex(k, held)
			}
		}
	case reflect.Struct:
		if _, ok := v.Interface().(time.Time); ok {
			f(v)
			return
		}
		for i := range v.NumField() {
			times(v.Field(i), f)
		}
	}
}

// Every time that a ring holds is brought back to now if it is still to come, also those
// that are added to it one day; one that has passed, or that is not known, stays.
func TestNotAfter(t *testing.T) {
	now := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	for _, from := range []time.Time{now.AddDate(1, 0, 0), now.AddDate(-1, 0, 0), {}} {
		full := Rollover{States: make([]ServerState, 2), Passed: make([]Passed, 2)}
		last := Rollover{States: make([]ServerState, 1), Passed: make([]Passed, 1)}
		ring := &KeySet{Keys: []*Key{{Since: map[State]time.Time{Active: {}, Published: {}}}}, Roll: &full, Last: &last}
		ttls := make(TTLs, 2)
		count := 0
		for _, v := range []any{ring, &ttls} {
			times(reflect.ValueOf(v), func(at reflect.Value) { at.Set(reflect.ValueOf(from)); count++ })
		}
		ring.NotAfter(now)
		ttls.NotAfter(now)
		want := from
		if from.After(now) {
			want = now
		}
		for _, v := range []any{ring, &ttls} {
			times(reflect.ValueOf(v), func(at reflect.Value) {
				if got := at.Interface().(time.Time); !got.Equal(want) {
					t.Errorf("%s is %s afterwards, not %s", from, got, want)
				}
			})
		}
		if count < 30 {
			t.Errorf("only %d times were found", count)
		}
	}
}
