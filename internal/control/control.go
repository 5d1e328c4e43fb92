// Package control is the way in to a running server: a socket in the
// workspace's state folder that only its owner can reach. A request is one line
// of JSON, and so is the answer.
package control

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// Request is one command to a running server.
type Request struct {
	Command string `json:"command"`
	Zone    string `json:"zone,omitempty"`
	// Args is what else a command takes, as JSON of its own.
	Args json.RawMessage `json:"args,omitempty"`
}

// Args is v as Request.Args.
func Args(v any) json.RawMessage {
	text, err := json.Marshal(v)
	if err != nil { // only for what JSON cannot say, which no command takes
		return nil
	}
	return text
}

// Response is the answer: a result, or an error in words.
type Response struct {
	Error  string          `json:"error,omitempty"`
	Result json.RawMessage `json:"result,omitempty"`
}

// Limits of the socket.
const (
	maxLine   = 256 << 10
	readLimit = 5 * time.Second
	maxAnswer = 64 << 20
)

// Handler carries out a command.
type Handler func(ctx context.Context, r Request) (any, error)

// ErrForeign means that something else than our socket stands in its place.
var ErrForeign = errors.New("is not the control socket of a server of ours")

// ours tells whether path is a socket, and of somebody we trust with what is said there
// (private keys among it): ourselves, root, or, for root, whoever the folder belongs to.
func ours(path string) error {
	info, err := os.Lstat(path)
	if err != nil {
		return err
	}
	foreign := func(what string) error { return fmt.Errorf("%s %w: it is %s", path, ErrForeign, what) }
	if info.Mode().Type() != fs.ModeSocket {
		return foreign("no socket; name another place in [serve] control")
	}
	folder, err := os.Stat(filepath.Dir(path))
	if err != nil {
		return err
	}
	me, owner, of := os.Geteuid(), info.Sys().(*syscall.Stat_t).Uid, folder.Sys().(*syscall.Stat_t).Uid
	if trusted(me, int(owner), int(of)) {
		return nil
	}
	return foreign(fmt.Sprintf("a socket of the user with number %d; run this as that user", owner))
}

// trusted tells whether the user me may speak to a socket of owner in a folder of the
// user folder.
func trusted(me, owner, folder int) bool {
	return owner == me || owner == 0 || me == 0 && owner == folder
}

// Listen opens the socket at path. A socket left over from a server that was
// killed is replaced; one that is answered is an error, and so is anything else that
// stands there: it is never removed.
func Listen(path string) (net.Listener, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	switch err := ours(path); {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return nil, err
	default:
		if c, err := net.DialTimeout("unix", short(path), time.Second); err == nil {
			c.Close()
			return nil, fmt.Errorf("%s: another fencepost is running on this workspace", path)
		}
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
	}
	old := syscall.Umask(0o177) // from the first moment on the owner's only
	defer syscall.Umask(old)
	return net.Listen("unix", short(path))
}

// short is the path in the shortest way it can be written: socket names are
// limited to about 100 octets.
func short(path string) string {
	const limit = 100
	if len(path) < limit {
		return path
	}
	if wd, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(wd, path); err == nil && len(rel) < len(path) {
			return rel
		}
	}
	return path
}

// Serve answers commands until ctx is done.
func Serve(ctx context.Context, l net.Listener, h Handler) {
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		conn, err := l.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			time.Sleep(50 * time.Millisecond)
			continue
		}
		go serveConn(ctx, conn, h)
	}
}

func serveConn(ctx context.Context, conn net.Conn, h Handler) {
	defer conn.Close()
	_ = conn.SetReadDeadline(time.Now().Add(readLimit))
	in := bufio.NewScanner(conn)
	in.Buffer(nil, maxLine)
	if !in.Scan() {
		return
	}
	var req Request
	var resp Response
	if err := json.Unmarshal(in.Bytes(), &req); err != nil {
		resp.Error = "the request is no JSON"
	} else if result, err := h(ctx, req); err != nil {
		resp.Error = err.Error()
	} else if resp.Result, err = json.Marshal(result); err != nil {
		resp.Error = err.Error()
	}
	_ = conn.SetWriteDeadline(time.Now().Add(readLimit))
	_ = json.NewEncoder(conn).Encode(resp)
}

// ErrNotRunning means that nobody answers on the socket.
var ErrNotRunning = errors.New("no server is running on this workspace; start one with: fencepost serve")

// ServerError is an error that the server reports.
type ServerError struct{ Text string }

func (e *ServerError) Error() string { return e.Text }

// Call sends a command and reads the result into result.
func Call(ctx context.Context, path string, r Request, result any) error {
	if err := ours(path); errors.Is(err, ErrForeign) { // private keys are sent there
		return err
	}
	var d net.Dialer
	conn, err := d.DialContext(ctx, "unix", short(path))
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ECONNREFUSED) {
			return ErrNotRunning
		}
		return err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if err := json.NewEncoder(conn).Encode(r); err != nil {
		return err
	}
	in := bufio.NewScanner(conn)
	in.Buffer(nil, maxAnswer)
	if !in.Scan() {
		return errors.New("the server ended the connection without an answer")
	}
	var resp Response
	if err := json.Unmarshal(in.Bytes(), &resp); err != nil {
		return err
	}
	if resp.Error != "" {
		return &ServerError{resp.Error}
	}
	if result == nil {
		return nil
	}
	return json.Unmarshal(resp.Result, result)
}
