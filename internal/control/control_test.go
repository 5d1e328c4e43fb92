package control_test

import (
	"context"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"fencepost/internal/control"
)

func start(t *testing.T, path string) {
	t.Helper()
	l, err := control.Listen(path)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		control.Serve(ctx, l, func(_ context.Context, r control.Request) (any, error) {
			if r.Command == "fail" {
				return nil, errors.New("it does not work")
			}
			return map[string]string{"you said": r.Command + " " + r.Zone}, nil
		})
		close(done)
	}()
	t.Cleanup(func() { cancel(); <-done })
}

func TestCall(t *testing.T) {
	path := filepath.Join(t.TempDir(), "state", "control.sock")
	ctx := context.Background()
	if err := control.Call(ctx, path, control.Request{}, nil); !errors.Is(err, control.ErrNotRunning) {
		t.Errorf("nobody there: %v", err)
	}
	start(t, path)
	var got map[string]string
	if err := control.Call(ctx, path, control.Request{Command: "refresh", Zone: "a."}, &got); err != nil || got["you said"] != "refresh a." {
		t.Errorf("%v, %v", got, err)
	}
	var said *control.ServerError
	if err := control.Call(ctx, path, control.Request{Command: "fail"}, nil); !errors.As(err, &said) || said.Text != "it does not work" {
		t.Errorf("a failing command: %v", err)
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm()&0o077 != 0 {
		t.Errorf("others can reach the socket: %v", info.Mode())
	}
	if _, err := control.Listen(path); err == nil || !strings.Contains(err.Error(), "another fencepost") {
		t.Errorf("a second server: %v", err)
	}
	// What is no request harms nobody.
	for _, text := range []string{"\n", "not json\n", strings.Repeat("x", 100000)} {
		c, err := net.Dial("unix", path)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = c.Write([]byte(text))
		c.Close()
	}
	if err := control.Call(ctx, path, control.Request{Command: "status"}, nil); err != nil {
		t.Errorf("after garbage: %v", err)
	}
}

// A socket that a killed server left behind is replaced.
func TestLeftover(t *testing.T) {
	path := filepath.Join(t.TempDir(), "control.sock")
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: path})
	if err != nil {
		t.Fatal(err)
	}
	l.SetUnlinkOnClose(false)
	l.Close()
	if err := control.Call(context.Background(), path, control.Request{}, nil); !errors.Is(err, control.ErrNotRunning) {
		t.Errorf("a dead socket: %v", err)
	}
	start(t, path)
	if err := control.Call(context.Background(), path, control.Request{Command: "status"}, nil); err != nil {
		t.Error(err)
	}
}
