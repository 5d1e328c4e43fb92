package main

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"fencepost/dnsname"
	"fencepost/message"
	"fencepost/resolve"
	"fencepost/rr"
	"fencepost/tsig"
	"fencepost/update"
)

// updates measures changes that come as messages, beside what the disk and the curve do.
func (b *bench) updates() error {
	addr, err := freeAddr()
	if err != nil {
		return err
	}
	dir := b.path("updates")
	secret := base64.StdEncoding.EncodeToString([]byte("a secret of the benchmark"))
	signed := strings.ReplaceAll(string(b.zone), "bench.example", "signed.example")
	err = writeFiles(dir, map[string]string{
		"fencepost.toml": fmt.Sprintf("[serve]\nlisten = [%q]\n[policy.standard]\n[[zone]]\nname = \"bench.example\"\n[[zone]]\nname = \"signed.example\"\nsign = \"standard\"\n[[grant]]\nkey = \"bench\"\nzones = [\"bench.example\", \"signed.example\"]\n", addr),
		"secrets.toml":   fmt.Sprintf("[tsig.bench]\nsecret = %q\n", secret), "zones/bench.example.zone": string(b.zone), "zones/signed.example.zone": signed,
	})
	if err != nil {
		return err
	}
	server := exec.CommandContext(b.ctx, b.program, "serve", "--quiet", "--workspace", dir)
	if err := b.start(server); err != nil {
		return fmt.Errorf("the server does not start: %w", err)
	}
	defer server.Process.Kill() //nolint:errcheck // it may have ended
	key := &tsig.Key{Name: dnsname.MustParse("bench."), Algorithm: tsig.DefaultAlgorithm, Secret: []byte("a secret of the benchmark")}
	disk, err := syncs(dir)
	if err != nil {
		return err
	}
	curve := rate(signOnce())
	zones := []string{"bench.example.", "signed.example."}
	for _, zone := range zones {
		if err := b.awaitZone(addr, dnsname.MustParse(zone)); err != nil {
			return err
		}
	}
	for _, zone := range zones {
		apex := dnsname.MustParse(zone)
		for _, clients := range []int{1, 64} {
			got, err := changes(b.ctx, addr, apex, key, clients)
			if err != nil {
				return err
			}
			ceiling, against := fmt.Sprintf("fsync %.0f", disk), disk
			if zone == "signed.example." {
				const each = 4 // signatures: two names' NSEC, the record, the SOA
				ceiling, against = fmt.Sprintf("curve %.0f of 4 signatures", curve/each), curve/each
			}
			row(fmt.Sprintf("changes of %s, %d at once", strings.TrimSuffix(zone, "."), clients), fmt.Sprintf("%.0f a second", got), ceiling, got/against, "")
		}
	}
	return nil
}

// awaitZone waits until a zone is answered for.
func (b *bench) awaitZone(addr netip.AddrPort, apex dnsname.Name) error {
	for {
		resp, err := resolve.Ask(b.ctx, addr, resolve.Request{Name: apex, Type: rr.TypeSOA})
		if err == nil && resp.Rcode() == message.NoError {
			return nil
		}
		if b.ctx.Err() != nil {
			return b.ctx.Err()
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// changes is how many a second so many clients get done, each with one name after another.
func changes(ctx context.Context, addr netip.AddrPort, apex dnsname.Name, key *tsig.Key, clients int) (float64, error) {
	const lasts = 3 * time.Second
	var done atomic.Int64
	var failed atomic.Pointer[error]
	var wg sync.WaitGroup
	begin := time.Now()
	for c := range clients {
		wg.Go(func() {
			for i := 0; time.Since(begin) < lasts; i++ {
				owner, err := apex.Child(fmt.Sprintf("change-%d-%d-%d", clients, c, i))
				var resp *resolve.Response
				if err == nil {
					u := &update.Request{Zone: apex, Changes: []rr.Record{{Name: owner, Type: rr.TypeA, Class: rr.ClassIN, TTL: 60, Data: []byte{192, 0, 2, 1}}}}
					resp, err = resolve.Change(ctx, addr, u, resolve.Request{TSIG: key, Timeout: 10 * time.Second})
				}
				if err == nil && resp.Rcode() != message.NoError {
					err = fmt.Errorf("a change: %s", resp.Rcode())
				}
				if err != nil {
					failed.Store(&err)
					return
				}
				done.Add(1)
			}
		})
	}
	wg.Wait()
	if err := failed.Load(); err != nil {
		return 0, *err
	}
	return float64(done.Load()) / time.Since(begin).Seconds(), nil
}

// syncs is how often a second a page can be written to the disk for good.
func syncs(dir string) (float64, error) {
	f, err := os.Create(filepath.Join(dir, "sync"))
	if err != nil {
		return 0, err
	}
	defer f.Close()
	page := bytes.Repeat([]byte{1}, 4096)
	n, begin := 0, time.Now()
	for ; time.Since(begin) < time.Second; n++ {
		if _, err := f.WriteAt(page, 0); err != nil {
			return 0, err
		}
		if err := f.Sync(); err != nil {
			return 0, err
		}
	}
	return float64(n) / time.Since(begin).Seconds(), nil
}

// signOnce is one signature on P-256.
func signOnce() func() {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		panic(err)
	}
	var hash [32]byte
	return func() { _, _ = ecdsa.SignASN1(rand.Reader, key, hash[:]) }
}
