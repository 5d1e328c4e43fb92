package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"strings"
	"syscall"
)

// Client sends commands to the server behind a socket.
type Client struct {
	Path  string
	Kinds []Kind // those that the server was given
	// Trust is a user besides ourselves and root to whom commands may be given: whoever the
	// configuration belongs to; negative: nobody.
	Trust int
}

// ErrNotRunning means that nobody answers on the socket.
var ErrNotRunning = errors.New("no server is running on this workspace")

// ServerError is an error that the server reports. It is what its kind says.
type ServerError struct {
	Text string
	kind error
}

func (e *ServerError) Error() string { return e.Text }
func (e *ServerError) Unwrap() error { return e.kind }

// maxAnswer is the most octets of an answer that is no text.
const maxAnswer = 256 << 20

// Call sends a command and reads the result into result, if that is not nil.
func (c Client) Call(ctx context.Context, r Request, result any) error {
	resp, err := c.send(ctx, r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return c.read(resp, result)
}

// Read sends a command whose result is text, which read reads to its end.
func (c Client) Read(ctx context.Context, r Request, read func(io.Reader) error) error {
	resp, err := c.send(ctx, r)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if !strings.HasPrefix(resp.Header.Get("Content-Type"), "text/") {
		if err := c.read(resp, nil); err != nil {
			return err
		}
		return errors.New("the server's answer is not text")
	}
	if err := read(resp.Body); err != nil {
		return err
	}
	if why := resp.Trailer.Get(failedTrailer); why != "" {
		return &ServerError{Text: why}
	}
	return nil
}

func (c Client) read(resp *http.Response, result any) error {
	var out Response
	if err := json.NewDecoder(io.LimitReader(resp.Body, maxAnswer)).Decode(&out); err != nil {
		return fmt.Errorf("the server's answer cannot be read: %w", err)
	}
	if f := out.Error; f != nil {
		e := &ServerError{Text: f.Text}
		for _, k := range c.Kinds {
			if k.Name == f.Kind {
				e.kind = k.Err
			}
		}
		return e
	}
	if result == nil {
		return nil
	}
	return json.Unmarshal(out.Result, result)
}

func (c Client) send(ctx context.Context, r Request) (*http.Response, error) {
	if err := ours(c.Path, c.Trust); errors.Is(err, ErrForeign) { // private keys are sent there
		return nil, err
	}
	body, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	// The host is a name for the form's sake: there is one server at the socket.
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://fencepost/v1/"+r.Command, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	var d net.Dialer
	client := &http.Client{Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return d.DialContext(ctx, "unix", short(c.Path))
	}}}
	resp, err := client.Do(req)
	switch {
	case err == nil:
		return resp, nil
	case errors.Is(err, fs.ErrNotExist), errors.Is(err, syscall.ECONNREFUSED):
		return nil, ErrNotRunning
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.Is(err, io.EOF):
		return nil, errors.New("the server ended the connection without an answer; if you run many commands at once, try again in a moment")
	}
	return nil, errors.Unwrap(err) // without the URL, which says nothing
}
