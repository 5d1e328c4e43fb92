package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
)

// When nothing rolls, the parent may still lose the DS, get one that was typed wrong, or have an old one
// again from a backup: `roll`, `status`, `key list` and the log say it as an error with what to do, and
// a key that is still there is put back by one command.
func TestParentChangesByItself(t *testing.T) {
	t.Parallel()
	l := newLab(t, "keys = \"split\"")
	l.finish("signing")
	old := activeKSK(t, l.home.dir)
	oldDS := strings.Fields(strings.TrimSpace(ok(t, l.home.dir, "key", "export", "saltmarsh.example", old, "--as", "ds")))
	want(t, fp(t, l.home.dir, "key", "activate", "saltmarsh.example", old), 3, "is not in the caches of resolvers yet")
	ok(t, l.home.dir, "roll", "start", "saltmarsh.example", "--what", "ksk")
	l.finish("the rollover")
	now := activeKSK(t, l.home.dir)
	newDS := strings.Fields(strings.TrimSpace(ok(t, l.home.dir, "key", "export", "saltmarsh.example", now, "--as", "ds")))
	hour := func() {
		t.Helper()
		l.now = l.now.Add(time.Hour + time.Minute)
		ok(t, l.home.dir, "roll", "step", "saltmarsh.example", "--now", l.stamp())
	}
	parent := func(data ...string) {
		t.Helper()
		fp(t, l.registry.dir, "remove", "example", "saltmarsh", "DS") // there may be none
		if len(data) > 0 {
			ok(t, l.registry.dir, append([]string{"add", "example", "saltmarsh", "DS"}, data...)...)
		}
		ok(t, l.registry.dir, "reload")
		hour()
	}
	says := func(status int, words ...string) {
		t.Helper()
		want(t, fp(t, l.home.dir, "roll", "saltmarsh.example"), 0, append([]string{"error: the parent: registry"}, words...)...)
		want(t, fp(t, l.home.dir, "status"), status, append([]string{"the parent: registry"}, words...)...)
		log, err := os.ReadFile(l.home.log)
		if err != nil || !strings.Contains(string(log), words[0]) {
			t.Errorf("the log has nothing of %q: %v", words[0], err)
		}
	}
	handover := "next: have the parent's operator enter the DS of the keys in use: fencepost handover saltmarsh.example"
	hour()
	want(t, fp(t, l.home.dir, "status"), 0, "the parent has the DS of key "+now)

	parent()
	says(1, "it has no DS of key "+now+" any more", handover)
	want(t, fp(t, l.home.dir, "key", "list", "saltmarsh.example"), 0, "missing")

	data := newDS[len(newDS)-4:]
	wrong := strings.Repeat("AB", len(data[3])/2)
	parent(data[0], data[1], data[2], wrong)
	says(1, "tag and algorithm fit key "+now+", the digest does not", handover)

	old4 := oldDS[len(oldDS)-4:]
	parent(old4...)
	says(1, "it has a DS of key "+old+", which matches no key that signs here", fmt.Sprintf("put key %s back, which the parent names: fencepost key activate saltmarsh.example %s; then have the parent", old, old))
	want(t, fp(t, l.home.dir, "key", "activate", "saltmarsh.example", old), 0, "delete it: fencepost key delete saltmarsh.example "+old)
	l.inStep()
	fresh := &caches{t: t}
	if fresh.look(l); fresh.secure == 0 {
		t.Error("the zone is not validated with the key that was put back")
	}
	hour()
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", old), 3, "the parent's DS names key "+old)

	parent(data...)
	want(t, fp(t, l.home.dir, "status"), 0, "the parent has the DS of key "+now)
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", old), 3, "caches hold the parent's old DS")
	hour()
	want(t, fp(t, l.home.dir, "key", "delete", "saltmarsh.example", old), 0, "deleted key "+old)
}

// activeKSK is the tag of the key in use that signs the keys.
func activeKSK(t *testing.T, dir string) string {
	t.Helper()
	for _, k := range object(t, ok(t, dir, "key", "list", "saltmarsh.example", "--format", "json"))["keys"].([]any) {
		if k := k.(map[string]any); k["role"] == "ksk" && k["state"] == "active" {
			return fmt.Sprint(k["key_tag"])
		}
	}
	t.Fatal("no KSK is in use")
	return ""
}
