package control_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"fencepost/internal/control"
)

var errMisuse = errors.New("wrong use")

var kinds = []control.Kind{{Name: "usage", Err: errMisuse, Status: 400}}

func client(path string) control.Client { return control.Client{Path: path, Kinds: kinds, Trust: -1} }

func start(t *testing.T, path string) {
	t.Helper()
	l, err := control.Listen(path)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		control.Serve(ctx, l, control.Errors{Kinds: kinds}, nil, func(ctx context.Context, r control.Request) (any, error) {
			switch r.Command {
			case "fail":
				return nil, errors.New("it does not work")
			case "who":
				return control.Caller(ctx), nil
			case "misuse":
				return nil, fmt.Errorf("the zone %s: %w", r.Zone, errMisuse)
			case "text":
				return control.Text(func(w io.Writer) error {
					_, _ = io.WriteString(w, strings.Repeat("line\n", 100000))
					if r.Zone == "broken." {
						return errors.New("the rest\ncannot be read")
					}
					return nil
				}), nil
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
	if err := client(path).Call(ctx, control.Request{}, nil); !errors.Is(err, control.ErrNotRunning) {
		t.Errorf("nobody there: %v", err)
	}
	start(t, path)
	var got map[string]string
	if err := client(path).Call(ctx, control.Request{Command: "refresh", Zone: "a."}, &got); err != nil || got["you said"] != "refresh a." {
		t.Errorf("%v, %v", got, err)
	}
	var said *control.ServerError
	if err := client(path).Call(ctx, control.Request{Command: "fail"}, nil); !errors.As(err, &said) || said.Text != "it does not work" {
		t.Errorf("a failing command: %v", err)
	}
	var who string
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	if err := client(path).Call(ctx, control.Request{Command: "who"}, &who); err != nil || runtime.GOOS == "linux" && who != me.Username {
		t.Errorf("a command of %q, not of %q; %v", who, me.Username, err)
	}
	if err := client(path).Call(ctx, control.Request{Command: "misuse", Zone: "b."}, nil); !errors.Is(err, errMisuse) || err.Error() != "the zone b.: wrong use" {
		t.Errorf("an error of a kind: %v", err)
	}
	for zone, want := range map[string]string{"a.": "", "broken.": "the rest cannot be read"} {
		n := 0
		err := client(path).Read(ctx, control.Request{Command: "text", Zone: zone}, func(r io.Reader) error {
			text, err := io.ReadAll(r)
			n = len(text)
			return err
		})
		if n != 500000 || (err == nil) != (want == "") || err != nil && err.Error() != want {
			t.Errorf("text of %s: %d octets, %v", zone, n, err)
		}
	}
	if err := client(path).Read(ctx, control.Request{Command: "misuse"}, nil); !errors.Is(err, errMisuse) {
		t.Errorf("an error in place of text: %v", err)
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
	if err := client(path).Call(ctx, control.Request{Command: "status"}, nil); err != nil {
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
	if err := client(path).Call(t.Context(), control.Request{}, nil); !errors.Is(err, control.ErrNotRunning) {
		t.Errorf("a dead socket: %v", err)
	}
	start(t, path)
	if err := client(path).Call(t.Context(), control.Request{Command: "status"}, nil); err != nil {
		t.Error(err)
	}
}
