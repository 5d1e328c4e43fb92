package ops

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"fencepost/dnsname"
	"fencepost/internal/edit"
	"fencepost/server"
)

// signedWorkspace is a running service with one signed zone, and its zone's name.
func signedWorkspace(t *testing.T) (*Service, dnsname.Name) {
	t.Helper()
	dir := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(dir, "zones"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, zone := range []string{"tides", "buoys", "gulls", "dunes", "reeds"} {
		write("zones/"+zone+".example.zone", "$TTL 3600\n@ SOA ns1 hostmaster 2026112801 5400 1200 1209600 600\n@ NS ns1\n@ NS ns2.saltmarsh.example.\nns1 A 192.0.2.53\n")
	}
	write("fencepost.toml", "[serve]\nlisten = [\"127.0.0.1:0\"]\ncontrol = \"c\"\n[[zone]]\nname = \"tides.example\"\nsign = \"standard\"\n[policy.standard]\nkeys = \"single\"\n")
	sv, err := (&App{Files: edit.Files{Workspace: dir, Now: time.Now}}).NewService(nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	ready, ended := make(chan struct{}), make(chan error, 1)
	go func() { ended <- sv.Run(ctx, func(server.Start) { close(ready) }) }()
	t.Cleanup(func() {
		stop()
		if err := <-ended; err != nil {
			t.Error(err)
		}
	})
	select {
	case <-ready:
	case err := <-ended:
		ended <- nil
		t.Fatal(err)
	}
	return sv, dnsname.MustParse("tides.example.")
}

// Reloads from two sides, a signal and a command, and changes of keys come at the same
// time, and the reloads find more zones to sign: all is carried out, one after the other.
func TestChangesAtOnce(t *testing.T) {
	sv, zone := signedWorkspace(t)
	file := filepath.Join(sv.Config().Dir, "fencepost.toml")
	for _, more := range []string{"buoys", "gulls", "dunes", "reeds"} {
		text, err := os.ReadFile(file)
		if err == nil {
			err = os.WriteFile(file, append(text, "[[zone]]\nname = \""+more+".example\"\nsign = \"standard\"\n"...), 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
		var wg sync.WaitGroup
		begin := make(chan struct{})
		for range 4 {
			wg.Go(func() {
				<-begin
				if _, err := sv.Reload(t.Context(), ""); err != nil {
					t.Error(err)
				}
			})
		}
		wg.Go(func() {
			<-begin
			if _, err := sv.ChangeKeys(t.Context(), zone, KeyChange{Do: "new", Algorithm: "ECDSAP256SHA256", Role: "single"}, ""); err != nil {
				t.Error(err)
			}
			sv.Server.Status()
		})
		close(begin)
		wg.Wait()
	}
	if n := len(sv.Server.Status().Zones); n != 5 {
		t.Errorf("%d zones are served", n)
	}
	ring, _, err := sv.running.Load().Keys("tides.example", "")
	if err != nil || len(ring.Keys) != 5 {
		t.Errorf("%d keys, %v; one and four new ones were due", len(ring.Keys), err)
	}
}

// While somebody writes at fencepost.toml the server works with what it was told last.
func TestHalfEditedConfiguration(t *testing.T) {
	sv, zone := signedWorkspace(t)
	file := filepath.Join(sv.Config().Dir, "fencepost.toml")
	if err := os.WriteFile(file, []byte("[[zone]]\nname = \"tides.exa"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := sv.Reload(t.Context(), ""); err == nil {
		t.Error("half a configuration was taken")
	}
	v, err := sv.ChangeRoll(t.Context(), zone, RollChange{Do: "start", Fast: true}, "")
	if err != nil || v.State != "rolling" {
		t.Errorf("%+v %v", v, err)
	}
}
